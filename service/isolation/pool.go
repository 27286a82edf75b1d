package isolation

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"sync"
	"time"
)

// How a process that is worked hard is treated.
const (
	politeAfter = time.Second     // from then on it yields to all others
	restAfter   = 2 * time.Second // one that worked longer is not used again
	spare       = 2               // processes that wait for requests, at most
	spareMemory = 256 << 20       // bytes above which a process is not used again
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
	idle   []*worker
	busy   map[*worker]bool
	closed bool
}

// worker is a process that answers one request after another on its connection.
type worker struct {
	*process
	from *bufio.Reader // reads its connection
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
	case worker.outgrew(p.Memory):
		return ErrMemory
	}
	p.Log.Error("a process that worked on a request has ended", "error", err, "said", worker.said.String())
	return ErrEnded
}

// answer sends a request and copies the answer; fit: the process can answer another one.
// An error means that nothing has been written.
func (w *worker) answer(to http.ResponseWriter, r *http.Request) (fit bool, err error) {
	inner := r.Clone(r.Context())
	forProcess(inner)
	inner.Close = false
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

func (p *Pool) take() (*worker, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.busy == nil {
		p.busy = map[*worker]bool{}
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
	started, err := start(p.Program, p.Memory, p.Memory/10*8, usual)
	if err != nil {
		return nil, fmt.Errorf("starting a process for a request: %w", err)
	}
	worker := &worker{started, bufio.NewReader(started.conn)}
	p.busy[worker] = true
	return worker, nil
}

func (p *Pool) giveBack(worker *worker) {
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

func (p *Pool) end(worker *worker) {
	p.mu.Lock()
	delete(p.busy, worker)
	p.mu.Unlock()
	worker.kill()
}
