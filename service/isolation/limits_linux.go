package isolation

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Supported reports whether computations can be done in processes of their own here.
const Supported = true

// apart starts a process that Ctrl-C does not reach: it is the service's to answer.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }

// pair gives the two ends of a connection between processes.
func pair() (ours, theirs *os.File, err error) {
	ends, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	return os.NewFile(uintptr(ends[0]), "service"), os.NewFile(uintptr(ends[1]), "process"), nil
}

// confine limits this process: it holds so many bytes at most, opens and writes no more files
// than its bounds say, leaves no core, and gains no rights.
func confine(memory int64, b bounds) error {
	for _, l := range []struct {
		what int
		most uint64
	}{
		{unix.RLIMIT_DATA, uint64(memory)},
		{unix.RLIMIT_FSIZE, b.fileBytes},
		{unix.RLIMIT_NOFILE, b.files},
		{unix.RLIMIT_CORE, 0},
	} {
		if err := syscall.Setrlimit(l.what, &syscall.Rlimit{Cur: l.most, Max: l.most}); err != nil {
			return err
		}
	}
	return unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
}

// renice makes all threads of a process yield to others; those that it starts later do so too.
func renice(pid, nice int) {
	tasks, err := os.ReadDir(fmt.Sprintf("/proc/%d/task", pid))
	if err != nil {
		return // it has ended
	}
	for _, t := range tasks {
		if tid, err := strconv.Atoi(t.Name()); err == nil {
			syscall.Setpriority(syscall.PRIO_PROCESS, tid, nice)
		}
	}
}

// expendable has the system end a process before the service and its database, should the
// memory of the whole machine run out.
func expendable(pid int) {
	os.WriteFile(fmt.Sprintf("/proc/%d/oom_score_adj", pid), []byte("500"), 0) // without it, the largest is ended
}

// resident gives the bytes of memory that a process holds; 0: not known.
func resident(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return 0
	}
	pages, _ := strconv.ParseInt(fields[1], 10, 64)
	return pages * int64(os.Getpagesize())
}

// mostResident gives the most bytes of memory that a process which has ended has held.
func mostResident(s *os.ProcessState) int64 {
	if used, is := s.SysUsage().(*syscall.Rusage); is {
		return used.Maxrss << 10
	}
	return 0
}

// MachineMemory gives the bytes that this process may hold in all, by the machine and by
// its control group; 0: not known.
func MachineMemory() int64 {
	var info unix.Sysinfo_t
	if err := unix.Sysinfo(&info); err != nil {
		return 0
	}
	most := int64(info.Totalram) * int64(info.Unit)
	if text, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if limit, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil {
			most = min(most, limit)
		}
	}
	return most
}
