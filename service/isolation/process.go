// Package isolation answers requests in processes of their own, so that one that takes too
// much memory or time ends its process and nothing else: a Pool has processes for single
// requests, a Lasting one answers all requests about one thing until that has ended.
package isolation

import (
	"bytes"
	"errors"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
)

// Errors of requests whose process was ended.
var (
	ErrTime   = errors.New("it took too long")
	ErrMemory = errors.New("it needed too much memory")
	ErrEnded  = errors.New("it ended the process that worked on it")
)

const (
	usual     = 5                      // nice value of a process
	polite    = 15                     // nice value of one that works for long
	lastWords = 4 << 10                // bytes of standard error that are kept
	dataLimit = "IRONWEIR_CHILD"       // carries the memory limit to the process
	lastsMark = "IRONWEIR_CHILD_LASTS" // is set for a lasting process
)

// process is a running process with the service's end of the connection to it.
type process struct {
	cmd   *exec.Cmd
	conn  net.Conn
	said  tail
	ended chan struct{} // closed once it has ended
}

// start starts a process that may map and should hold so many bytes of memory at most. It sees
// nothing of the service but its end of the connection.
func start(program []string, most, soft int64, nice int, also ...string) (*process, error) {
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
	p := &process{conn: conn, ended: make(chan struct{})}
	p.cmd = &exec.Cmd{
		Path:        program[0],
		Args:        program[1:],
		Env:         append(environment(most, soft), also...),
		Dir:         os.TempDir(),
		Stderr:      &p.said,
		ExtraFiles:  []*os.File{theirs},
		SysProcAttr: apart(),
	}
	if err := p.cmd.Start(); err != nil {
		conn.Close()
		return nil, err
	}
	renice(p.cmd.Process.Pid, nice)
	expendable(p.cmd.Process.Pid)
	go func() {
		p.cmd.Wait()
		conn.Close()
		close(p.ended)
	}()
	return p, nil
}

// kill ends a process, and waits until it has ended.
func (p *process) kill() {
	p.cmd.Process.Kill()
	<-p.ended
}

// outgrew reports whether a process that has ended did so for want of memory, whatever it was
// that failed first.
func (p *process) outgrew(memory int64) bool {
	return p.said.holds("out of memory") || p.said.holds("cannot allocate memory") ||
		mostResident(p.cmd.ProcessState) > memory/2
}

// forProcess makes a request one for a process, which is shown no credentials.
func forProcess(r *http.Request) {
	r.URL.Scheme, r.URL.Host = "http", "isolated"
	for _, name := range []string{"Authorization", "Cookie", "Connection", "Upgrade", "Expect"} {
		r.Header.Del(name)
	}
}

// environment is that of a process: nothing of the environment of the service, such as the
// database's password.
func environment(most, soft int64) []string {
	out := []string{dataLimit + "=" + strconv.FormatInt(most, 10), "GOMEMLIMIT=" + strconv.FormatInt(soft, 10)}
	for _, name := range []string{"PATH", "TZ", "ZONEINFO", "LANG", "HOME", "TMPDIR", "GOMAXPROCS", "GOCOVERDIR"} {
		if value, ok := os.LookupEnv(name); ok {
			out = append(out, name+"="+value)
		}
	}
	return out
}

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
