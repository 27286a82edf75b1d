// Package isolation answers requests in processes of their own, so that what a
// request makes of memory and time ends that process and nothing else.
package isolation

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Errors of requests whose process was ended.
var (
	ErrTime   = errors.New("it took too long")
	ErrMemory = errors.New("it needed too much memory")
	ErrEnded  = errors.New("it ended the process that worked on it")
)

// How a process that is worked hard is treated.
const (
	politeAfter = time.Second      // from then on it yields to all others
	restAfter   = 2 * time.Second  // one that worked longer is not used again
	spare       = 2                // processes that wait for requests, at most
	polite      = 15               // nice value of a process that has worked for politeAfter
	usual       = 5                // nice value of a process before
	lastWords   = 4 << 10          // bytes of standard error that are kept
	dataLimit   = "IRONWEIR_CHILD" // carries the memory limit to the process
	spareMemory = 256 << 20        // bytes above which a process is not used again
)

// Pool keeps processes that each answer one request at a time.
type Pool struct {
	// Program starts a process: a path and its arguments, the name first. The program
	// calls Run.
	Program []string
	// Memory is how much a process may hold, in bytes.
	Memory int64
	Log    *slog.Logger

	mu     sync.Mutex
	idle   []*process
	busy   map[*process]bool
	closed bool
}

// process is one that answers requests on a connection.
type process struct {
	cmd   *exec.Cmd
	conn  net.Conn
	from  *bufio.Reader // reads conn
	said  tail
	ended chan struct{} // closed once it has ended
}

// Serve has a request answered within a time, and copies the answer. An error means that
// nothing has been written.
func (p *Pool) Serve(w http.ResponseWriter, r *http.Request, within time.Duration) error {
	worker, err := p.take()
	if err != nil {
		return err
	}
	began := time.Now()
	ctx, cancel := context.WithTimeoutCause(r.Context(), within, ErrTime)
	defer cancel()
	yields := time.AfterFunc(politeAfter, func() { renice(worker.cmd.Process.Pid, polite) })
	defer yields.Stop()

	gone := context.AfterFunc(ctx, worker.kill)
	defer gone()
	fit, err := worker.answer(w, r)
	if err == nil {
		if fit && time.Since(began) < restAfter && resident(worker.cmd.Process.Pid) < spareMemory && gone() {
			p.giveBack(worker)
		} else {
			p.end(worker)
		}
		return nil
	}
	p.end(worker)
	switch {
	case errors.Is(context.Cause(ctx), ErrTime):
		return ErrTime
	case ctx.Err() != nil:
		return ctx.Err()
	case worker.said.holds("out of memory") || worker.said.holds("cannot allocate memory") ||
		mostResident(worker.cmd.ProcessState) > p.Memory/2: // whatever it was that failed first
		return ErrMemory
	}
	p.Log.Error("a process that worked on a request has ended", "error", err, "said", worker.said.String())
	return ErrEnded
}

// answer sends a request and copies the answer; fit: the process can answer another one.
// An error means that nothing has been written.
func (w *process) answer(to http.ResponseWriter, r *http.Request) (fit bool, err error) {
	inner := r.Clone(r.Context())
	inner.URL.Scheme, inner.URL.Host = "http", "isolated"
	inner.Close = false
	for _, name := range []string{"Authorization", "Cookie", "Connection", "Upgrade", "Expect"} { // not for the process
		inner.Header.Del(name)
	}
	sent := make(chan error, 1)
	go func() { sent <- inner.Write(w.conn) }()
	answer, err := http.ReadResponse(w.from, inner)
	if err != nil {
		w.kill() // which ends the sending too
		<-sent
		return false, err
	}
	to.Header().Set("Content-Type", answer.Header.Get("Content-Type"))
	to.WriteHeader(answer.StatusCode)
	_, err = io.Copy(to, answer.Body)
	if err != nil || answer.Close { // what is written cannot be taken back
		w.kill()
		<-sent
		return false, nil
	}
	return <-sent == nil, nil
}

// Warm makes a process ready, so that the first request does not wait for it.
func (p *Pool) Warm() {
	if worker, err := p.take(); err == nil {
		p.giveBack(worker)
	}
}

// Close ends all processes.
func (p *Pool) Close() {
	p.mu.Lock()
	p.closed = true
	all := p.idle
	p.idle = nil
	for worker := range p.busy {
		all = append(all, worker)
	}
	p.mu.Unlock()
	for _, worker := range all {
		worker.kill()
	}
}

// Count gives the number of processes.
func (p *Pool) Count() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.idle) + len(p.busy)
}

func (p *Pool) take() (*process, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.busy == nil {
		p.busy = map[*process]bool{}
	}
	for len(p.idle) > 0 {
		worker := p.idle[len(p.idle)-1]
		p.idle = p.idle[:len(p.idle)-1]
		select {
		case <-worker.ended: // somebody outside has ended it
		default:
			p.busy[worker] = true
			return worker, nil
		}
	}
	if p.closed {
		return nil, errors.New("the service is stopping")
	}
	worker, err := p.start()
	if err != nil {
		return nil, fmt.Errorf("starting a process for a request: %w", err)
	}
	p.busy[worker] = true
	return worker, nil
}

func (p *Pool) giveBack(worker *process) {
	p.mu.Lock()
	delete(p.busy, worker)
	keep := !p.closed && len(p.idle) < spare
	if keep {
		p.idle = append(p.idle, worker)
	}
	p.mu.Unlock()
	if !keep {
		worker.kill()
	}
}

func (p *Pool) end(worker *process) {
	p.mu.Lock()
	delete(p.busy, worker)
	p.mu.Unlock()
	worker.kill()
}

// start starts a process, which sees nothing of the service but its end of a connection.
func (p *Pool) start() (*process, error) {
	ours, theirs, err := pair()
	if err != nil {
		return nil, err
	}
	defer theirs.Close()
	conn, err := net.FileConn(ours)
	ours.Close() // FileConn has made a copy
	if err != nil {
		return nil, err
	}
	worker := &process{conn: conn, from: bufio.NewReader(conn), ended: make(chan struct{})}
	worker.cmd = &exec.Cmd{
		Path:        p.Program[0],
		Args:        p.Program[1:],
		Env:         environment(p.Memory),
		Dir:         os.TempDir(),
		Stderr:      &worker.said,
		ExtraFiles:  []*os.File{theirs},
		SysProcAttr: apart(),
	}
	if err := worker.cmd.Start(); err != nil {
		conn.Close()
		return nil, err
	}
	renice(worker.cmd.Process.Pid, usual)
	go func() {
		worker.cmd.Wait()
		conn.Close()
		close(worker.ended)
	}()
	return worker, nil
}

// kill ends a process, and waits until it has ended.
func (w *process) kill() {
	w.cmd.Process.Kill()
	<-w.ended
}

// environment is that of a process: nothing of the environment of the service, such as the
// database's password.
func environment(memory int64) []string {
	out := []string{
		dataLimit + "=" + strconv.FormatInt(memory, 10),
		"GOMEMLIMIT=" + strconv.FormatInt(memory/10*8, 10),
	}
	for _, name := range []string{"PATH", "TZ", "ZONEINFO", "LANG", "HOME", "TMPDIR", "GOMAXPROCS", "GOCOVERDIR"} {
		if value, ok := os.LookupEnv(name); ok {
			out = append(out, name+"="+value)
		}
	}
	return out
}

// IsChild reports whether this process was started by a pool.
func IsChild() bool { return os.Getenv(dataLimit) != "" }

// Run answers requests in a process that a pool has started, until the pool has gone.
func Run(handler http.Handler) error {
	memory, err := strconv.ParseInt(os.Getenv(dataLimit), 10, 64)
	if err != nil {
		return errors.New("this is for the service to start")
	}
	if err := confine(memory); err != nil {
		return fmt.Errorf("limiting the process: %w", err)
	}
	file := os.NewFile(3, "connection")
	conn, err := net.FileConn(file)
	if err != nil {
		return err
	}
	file.Close()
	l := &single{conn: make(chan net.Conn, 1), done: make(chan struct{})}
	l.conn <- conn
	gone := func() { os.Exit(0) } // whatever is still computed, nobody waits for it
	server := &http.Server{
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			answered := context.AfterFunc(r.Context(), gone)
			defer answered()
			handler.ServeHTTP(w, r)
		}),
		ConnState: func(_ net.Conn, s http.ConnState) {
			if s == http.StateClosed {
				gone()
			}
		},
	}
	return server.Serve(l)
}

// single is a listener of one connection.
type single struct {
	conn chan net.Conn
	done chan struct{}
}

func (l *single) Accept() (net.Conn, error) {
	select {
	case c := <-l.conn:
		return c, nil
	case <-l.done:
		return nil, net.ErrClosed
	}
}

func (l *single) Close() error   { close(l.done); return nil }
func (l *single) Addr() net.Addr { return &net.UnixAddr{} }

// tail keeps the first of what is written.
type tail struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (t *tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if room := lastWords - t.text.Len(); room > 0 {
		t.text.Write(b[:min(room, len(b))])
	}
	return len(b), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.text.String()
}

func (t *tail) holds(words string) bool { return strings.Contains(t.String(), words) }
