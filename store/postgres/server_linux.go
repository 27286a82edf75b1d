package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Server is a running server.
type Server struct {
	URL    string // for pgx and GORM
	socket string
	cmd    *exec.Cmd
	done   chan struct{}
	log    *os.File
	bin    string
	dir    string
	cred   *syscall.Credential
}

// credential gives who the server runs as: PostgreSQL refuses to run as root.
func credential() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("as root the server runs as user postgres, which does not exist: %w", err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Start starts a server on dir, which is made (and a database set up in it)
// when it does not exist. It ends with its parent.
func Start(ctx context.Context, dir string) (*Server, error) {
	bin, err := binaries()
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	cred, err := credential()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("the data directory: %w", err)
	}
	socket, err := os.MkdirTemp("", "ironweir-pg-")
	if err != nil {
		return nil, err
	}
	s := &Server{socket: socket, bin: bin, dir: dir}
	fail := func(err error) (*Server, error) {
		os.RemoveAll(socket)
		return nil, err
	}
	if cred != nil {
		for _, d := range []string{dir, socket} {
			if err := os.Chown(d, int(cred.Uid), int(cred.Gid)); err != nil {
				return fail(err)
			}
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "PG_VERSION")); errors.Is(err, os.ErrNotExist) {
		cmd := exec.CommandContext(
			ctx,
			filepath.Join(bin, "initdb"),
			"-D",
			dir,
			"-U",
			"ironweir",
			"-A",
			"trust",
			"-E",
			"UTF8",
			"--locale=C.UTF-8",
			"--no-sync",
		)
		cmd.SysProcAttr, cmd.Dir = &syscall.SysProcAttr{Credential: cred}, "/"
		if out, err := cmd.CombinedOutput(); err != nil {
			return fail(fmt.Errorf("setting up the database in %s: %w: %s", dir, err, lastLine(string(out))))
		}
	}
	if pid := runningPID(dir); pid != 0 {
		return fail(fmt.Errorf("another server (process %d) already runs on %s", pid, dir))
	}
	if s.log, err = os.OpenFile(filepath.Join(socket, "server.log"), os.O_CREATE|os.O_WRONLY|os.O_APPEND,
		0o600); err != nil {
		return fail(err)
	}
	s.cred = cred
	if err := s.launch(); err != nil {
		return fail(err)
	}
	s.URL = (&url.URL{Scheme: "postgres", User: url.User("ironweir"), Path: "/postgres", RawQuery: url.Values{"host": {socket}, "sslmode": {"disable"}}.Encode()}).String()
	if err := s.waitReady(ctx); err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// launch starts the server's process.
func (s *Server) launch() error {
	s.cmd = exec.Command(
		filepath.Join(s.bin, "postgres"),
		"-D",
		s.dir,
		"-k",
		s.socket,
		"-c",
		"listen_addresses=",
		"-c",
		"unix_socket_permissions=0700",
		"-c",
		"max_connections=100",
		"-c",
		"logging_collector=off",
	)
	s.cmd.SysProcAttr, s.cmd.Dir = &syscall.SysProcAttr{
		Credential: s.cred,
		Pdeathsig:  syscall.SIGINT,
		Setpgid:    true,
	}, "/"
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	s.done = make(chan struct{})
	started := make(chan error)
	done := s.done
	cmd := s.cmd
	go func() {
		// The parent-death signal is tied to the thread that started the child.
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			cmd.Wait()
		}
		close(done)
	}()
	return <-started
}

// Pause stops the server's process; Resume starts it again on the same data and
// address. Tests use them to take a database away.
func (s *Server) Pause() error {
	if err := s.cmd.Process.Signal(syscall.SIGINT); err != nil {
		return err
	}
	<-s.done
	return nil
}

// Resume starts a paused server again.
func (s *Server) Resume(ctx context.Context) error {
	if err := s.launch(); err != nil {
		return err
	}
	return s.waitReady(ctx)
}

// Supervise starts the server again whenever it has ended by itself (killed for
// want of memory, its disk full), until ctx ends or it is stopped; report says what
// happens. It must not be used together with Pause.
func (s *Server) Supervise(ctx context.Context, report func(what string, err error)) {
	for wait := time.Second; ; {
		select {
		case <-ctx.Done():
			return
		case <-s.done:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(wait):
		}
		report("the database has ended and is started again", nil)
		if err := s.launch(); err != nil {
			report("the database cannot be started", err)
			wait = min(2*wait, 10*time.Second)
			continue
		}
		if err := s.waitReady(ctx); err != nil {
			report("the database did not come up", err)
			wait = min(2*wait, 10*time.Second)
			continue
		}
		wait = time.Second
	}
}

func (s *Server) waitReady(ctx context.Context) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		attempt, cancel := context.WithTimeout(ctx, 2*time.Second)
		c, err := pgx.Connect(attempt, s.URL)
		cancel()
		if err == nil {
			c.Close(ctx)
			return nil
		}
		select {
		case <-s.done:
			text, _ := os.ReadFile(filepath.Join(s.socket, "server.log"))
			return fmt.Errorf("PostgreSQL on %s did not start: %s", s.dir, lastLine(string(text)))
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL on %s did not answer within a minute: %w", s.dir, err)
		}
	}
}

// Stop stops the server and waits until it has ended.
func (s *Server) Stop() {
	s.cmd.Process.Signal(syscall.SIGINT) // fast shutdown
	select {
	case <-s.done:
	case <-time.After(30 * time.Second):
		s.cmd.Process.Kill()
		<-s.done
	}
	s.log.Close()
	os.RemoveAll(s.socket)
}

// runningPID gives the process that runs a server on a directory, or 0.
func runningPID(dir string) int {
	text, err := os.ReadFile(filepath.Join(dir, "postmaster.pid"))
	if err != nil {
		return 0
	}
	pid, _ := strconv.Atoi(strings.SplitN(string(text), "\n", 2)[0])
	if pid > 0 && syscall.Kill(pid, 0) == nil {
		return pid
	}
	return 0
}

// Freeze stops the server's processes where they are: connections stay open, and nothing answers; Thaw lets them go
// on. Measurements use them for a database that hangs.
func (s *Server) Freeze() error { return s.signalAll(syscall.SIGSTOP) }

// Thaw lets a frozen server go on.
func (s *Server) Thaw() error { return s.signalAll(syscall.SIGCONT) }

// signalAll signals the server and all that it has started, which form a process group and sessions of their own.
func (s *Server) signalAll(signal syscall.Signal) error {
	parent := s.cmd.Process.Pid
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", parent, parent))
	if err != nil {
		return err
	}
	for _, field := range append([]string{strconv.Itoa(parent)}, strings.Fields(string(text))...) {
		pid, err := strconv.Atoi(field)
		if err != nil {
			return err
		}
		if err := syscall.Kill(pid, signal); err != nil && err != syscall.ESRCH { // a child may have ended
			return err
		}
	}
	return nil
}

// Ended reports whether the server's process has ended.
func (s *Server) Ended() bool {
	select {
	case <-s.done:
		return true
	default:
		return false
	}
}
