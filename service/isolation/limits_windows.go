package isolation

import (
	"errors"
	"os"
	"syscall"
)

// Supported reports whether computations can be done in processes of their own here.
const Supported = false

// pair has nothing to give: a process cannot be handed one end of a connection here.
func pair() (ours, theirs *os.File, err error) { return nil, nil, errors.ErrUnsupported }

func confine(int64, bounds) error { return nil }

func renice(int, int) {}

func expendable(int) {}

func resident(int) int64 { return 0 }

func mostResident(*os.ProcessState) int64 { return 0 }

// apart starts a process that Ctrl-C does not reach.
func apart() *syscall.SysProcAttr {
	return &syscall.SysProcAttr{CreationFlags: syscall.CREATE_NEW_PROCESS_GROUP}
}

// MachineMemory is not known here.
func MachineMemory() int64 { return 0 }
