//go:build unix && !linux

package isolation

import (
	"os"
	"syscall"
)

// Supported reports whether computations can be done in processes of their own here.
const Supported = true

// apart starts a process that Ctrl-C does not reach: it is the service's to answer.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// pair gives the two ends of a connection between processes.
func pair() (ours, theirs *os.File, err error) {
	ends, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		return nil, nil, err
	}
	for _, end := range ends {
		syscall.CloseOnExec(end)
	}
	return os.NewFile(uintptr(ends[0]), "service"), os.NewFile(uintptr(ends[1]), "process"), nil
}

// confine leaves the process as it is: only the time of a request is limited here.
func confine(int64, bounds) error { return nil }

func renice(int, int) {}

func expendable(int) {}

func resident(int) int64 { return 0 }

func mostResident(*os.ProcessState) int64 { return 0 }

// MachineMemory is not known here.
func MachineMemory() int64 { return 0 }
