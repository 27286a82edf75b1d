// Package jobs runs the simulations that the service was asked for, one after
// another, and tells who listens how far they are.
package jobs

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/store"
)

// Update is how far a run is.
type Update struct {
	Run      int64   `json:"run"`
	State    string  `json:"state"`
	Progress float64 `json:"progress"`
	Left     float64 `json:"left_s"` // time left, as far as one can tell; 0: unknown
	Error    string  `json:"error,omitempty"`
}

// Ended tells whether nothing follows.
func (u Update) Ended() bool {
	return u.State == store.Done || u.State == store.Failed || u.State == store.Cancelled
}

// Runner takes waiting runs and simulates them.
type Runner struct {
	store   *store.Store
	log     *slog.Logger
	wake    chan struct{}
	mu      sync.Mutex
	current int64
	cancel  *atomic.Bool
	asked   map[int64]bool // runs to cancel that have been taken, but not begun
	heard   map[int64]map[chan Update]bool
	Limits  sim.Limits
}

// New makes a runner; Run starts it.
func New(s *store.Store, log *slog.Logger) *Runner {
	return &Runner{store: s, log: log, wake: make(chan struct{}, 1), heard: map[int64]map[chan Update]bool{}, asked: map[int64]bool{}, Limits: sim.Limits{Events: 500_000_000, Copies: 4_000_000}}
}

// Wake says that a run waits.
func (r *Runner) Wake() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Listen gives the updates of a run until stop is called. A slow listener
// misses updates, never the last.
func (r *Runner) Listen(run int64) (updates chan Update, stop func()) {
	updates = make(chan Update, 16)
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.heard[run] == nil {
		r.heard[run] = map[chan Update]bool{}
	}
	r.heard[run][updates] = true
	return updates, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		delete(r.heard[run], updates)
		if len(r.heard[run]) == 0 {
			delete(r.heard, run)
		}
	}
}

func (r *Runner) tell(u Update) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for ch := range r.heard[u.Run] {
		select {
		case ch <- u:
		default:
			if u.Ended() { // make room: the last one must come through
				select {
				case <-ch:
				default:
				}
				ch <- u
			}
		}
	}
}

// Cancel ends a run: at once where it waits, soon where it is under way.
func (r *Runner) Cancel(ctx context.Context, run int64) error {
	done, err := r.store.CancelQueued(ctx, run)
	if err != nil {
		return err
	}
	if done {
		r.tell(Update{Run: run, State: store.Cancelled})
		return nil
	}
	// It has been taken: it is under way, or about to be, or has ended.
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.current == run {
		r.cancel.Store(true)
	} else {
		r.asked[run] = true
	}
	return nil
}

// Run works until ctx ends. While the database is away it waits for it.
func (r *Runner) Run(ctx context.Context) {
	for r.retry(ctx, func() error { return r.store.RequeueRuns(ctx) }); ctx.Err() == nil; {
		run, err := r.store.TakeRun(ctx)
		switch {
		case err == nil:
			r.work(ctx, run)
			continue
		case !errors.Is(err, store.ErrNotFound):
			r.log.Warn("no run could be taken", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-r.wake:
		case <-time.After(time.Second):
		}
	}
}

// retry does what must be done, waiting for the database where it is away.
func (r *Runner) retry(ctx context.Context, do func() error) {
	for wait := 100 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		err := do()
		if err == nil || ctx.Err() != nil || !errors.Is(err, store.ErrDown) {
			if err != nil && ctx.Err() == nil {
				r.log.Error("a record could not be kept", "error", err)
			}
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
	}
}

// work simulates one run and keeps its end.
func (r *Runner) work(ctx context.Context, run *store.Run) {
	cancelled := &atomic.Bool{}
	r.mu.Lock()
	r.current, r.cancel = run.ID, cancelled
	cancelled.Store(r.asked[run.ID])
	clear(r.asked) // runs are taken one at a time: what else was asked for has ended
	r.mu.Unlock()
	r.tell(Update{Run: run.ID, State: store.Running})
	result, err := r.simulate(ctx, run, cancelled)
	if ctx.Err() != nil {
		return // it stays under way and is taken again at the next start
	}
	state, message := store.Done, ""
	switch {
	case cancelled.Load():
		state = store.Cancelled
	case err != nil:
		state, message = store.Failed, err.Error()
	}
	r.retry(ctx, func() error { return r.store.FinishRun(ctx, run.ID, state, message, result) })
	r.log.Info("run ended", "run", run.ID, "model", run.Model, "scenario", run.Scenario, "state", state)
	r.mu.Lock()
	r.current = 0
	r.mu.Unlock()
	r.tell(Update{Run: run.ID, State: state, Progress: 1, Error: message})
}

func (r *Runner) simulate(ctx context.Context, run *store.Run, cancelled *atomic.Bool) (result []byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			r.log.Error("a fault of the engine", "run", run.ID, "fault", fmt.Sprint(p))
			err = fmt.Errorf("a fault of the engine: %v", p)
		}
	}()
	var revision *store.Revision
	r.retry(ctx, func() error {
		var err error
		revision, err = r.store.Revision(ctx, run.Model, run.Revision)
		return err
	})
	if revision == nil || revision.Text == "" {
		return nil, fmt.Errorf("revision %d is gone", run.Revision)
	}
	t, err := model.Parse(run.Model+".yaml", []byte(revision.Text), model.Options{})
	if err != nil {
		return nil, err
	}
	g, err := graph.Compile(t)
	if err != nil {
		return nil, err
	}
	s, err := model.ParseScenario(run.Scenario+".yaml", []byte(run.Text), t)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	var last atomic.Int64
	doc, err := study.Run(study.Plan{Graph: g, Scenario: s, Head: document.NewHead("run", t.Name, "", document.Digest(revision.Text)), Workers: runtime.GOMAXPROCS(0), Limits: r.Limits,
		Stop: func() string {
			if cancelled.Load() || ctx.Err() != nil {
				return "an interruption"
			}
			return ""
		},
		Progress: func(share float64) {
			now := time.Now().UnixMilli()
			if before := last.Load(); now-before < 100 || !last.CompareAndSwap(before, now) {
				return
			}
			u := Update{Run: run.ID, State: store.Running, Progress: share}
			if share > 0.01 {
				u.Left = time.Since(began).Seconds() * (1 - share) / share
			}
			r.tell(u)
			_ = r.store.SetProgress(ctx, run.ID, share) // told to listeners; kept as well where that works
		}})
	if err != nil {
		return nil, err
	}
	doc.Engine.WallTime = time.Since(began).Seconds()
	doc.Engine.PerSecond = float64(doc.Engine.Events) / max(doc.Engine.WallTime, 1e-9)
	return json.Marshal(doc)
}
