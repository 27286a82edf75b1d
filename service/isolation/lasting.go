package isolation

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"sync/atomic"
	"time"
)

// Lasting is a process that answers any number of requests at a time, until it is ended or
// ends by itself. It yields to all others.
type Lasting struct {
	*process
	Memory    int64 // bytes that it may hold
	transport *http.Transport
	asked     atomic.Bool // to end
	failure   error
	over      chan struct{}
}

// mostConnections bounds the requests that a lasting process answers at a time; others wait.
const mostConnections = 200

// garbage lets a lasting process, whose memory is bounded anyway, collect it seldom: it has
// little else, and would collect many times a second.
const garbage = "GOGC=400"

// memoryTime is how often it is looked what a lasting process holds.
const memoryTime = time.Second

// StartLasting starts a process that may hold so many bytes of memory; for a second, and in
// what it maps, twice as many. The program calls RunUntil.
func StartLasting(program []string, memory int64) (*Lasting, error) {
	started, err := start(program, 2*memory, memory/10*8, polite, lastsMark+"=1", garbage)
	if err != nil {
		return nil, fmt.Errorf("starting a process: %w", err)
	}
	p := &Lasting{process: started, Memory: memory, over: make(chan struct{})}
	control, _ := started.conn.(*net.UnixConn) // as pair makes it
	p.transport = &http.Transport{
		DisableCompression:  true, // it would be undone at once
		MaxConnsPerHost:     mostConnections,
		MaxIdleConnsPerHost: mostConnections / 4,
		IdleConnTimeout:     time.Minute,
		DialContext:         func(context.Context, string, string) (net.Conn, error) { return connect(control) },
	}
	go p.await()
	return p, nil
}

// await looks what memory the process holds, and notes how it ends.
func (p *Lasting) await() {
	look := time.NewTicker(memoryTime)
	defer look.Stop()
	for going := true; going; {
		select {
		case <-p.ended:
			p.transport.CloseIdleConnections()
			going = false
		case <-look.C:
			if resident(p.cmd.Process.Pid) > p.Memory {
				p.kill()
			}
		}
	}
	switch {
	case p.asked.Load() || p.cmd.ProcessState.Success():
	case p.outgrew(2 * p.Memory):
		p.failure = ErrMemory
	default:
		p.failure = fmt.Errorf("%w: %s", ErrEnded, p.said.String())
	}
	close(p.over)
}

// RoundTrip has a request answered. It is shown no credentials.
func (p *Lasting) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	forProcess(r)
	answer, err := p.transport.RoundTrip(r)
	if err == nil || r.Context().Err() != nil {
		return answer, err
	}
	select {
	case <-p.over:
		return nil, errors.Join(ErrEnded, p.failure)
	default:
		return nil, err
	}
}

// Done is closed when the process has ended.
func (p *Lasting) Done() <-chan struct{} { return p.over }

// Failure says why a process that is done has ended by itself, if it was a fault: ErrMemory
// or ErrEnded.
func (p *Lasting) Failure() error {
	select {
	case <-p.over:
		return p.failure
	default:
		return nil
	}
}

// Wait waits until the process has ended, for so long at most, and gives its Failure.
func (p *Lasting) Wait(most time.Duration) error {
	select {
	case <-p.over:
	case <-time.After(most):
	}
	return p.Failure()
}

// Kill ends the process, and waits until it has ended.
func (p *Lasting) Kill() {
	p.asked.Store(true)
	p.kill()
	<-p.over
}
