// Package rehearsal runs a simulation at the pace of the clock, or a multiple,
// while people watch and interfere: events come in by HTTP, nodes are failed and
// healed, messages at rest are moved, time is stopped, stepped and set back. The
// simulation itself is core/sim's; this package gives it a clock, people and
// outside handlers, and writes down what it was given, so that the same can be had
// again.
package rehearsal

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"sync"
	"time"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// Plan says what is rehearsed.
type Plan struct {
	Graph    *graph.Graph
	Scenario *model.Scenario // nil: the only traffic is what is posted and what schedules send
	Text     []byte          // of the scenario, as written
	Inputs   sim.Inputs
	Head     document.Head // of the result
	Pace     float64       // simulated seconds for each of the clock; 0: 1
	Paused   bool          // time stands at the start
	Hooks    bool          // functions with a `hook` are answered by it
	Folder   string        // for what is written down; empty: the system's
	Log      *slog.Logger
	Memory   int64         // bytes that messages and runs may take; 0: 1 GB
	Turns    Turns         // shared with other rehearsals; nil: it need not share
	Idle     time.Duration // it ends when nobody has watched or done anything for so long; 0: never
}

// Turns let several rehearsals take turns on the processors: each holds a place while its
// time goes on, for some milliseconds at a time.
type Turns chan struct{}

// NewTurns makes turns for so many rehearsals at one instant.
func NewTurns(n int) Turns { return make(Turns, max(n, 1)) }

// take waits for a turn; the function that it returns ends it.
func (t Turns) take() (end func()) {
	if t == nil {
		return func() {}
	}
	t <- struct{}{}
	return func() { <-t }
}

// Bounds of a rehearsal.
const (
	MinPace   = 0.001
	MaxPace   = 100_000.0
	copyLimit = 1_000_000 // messages at once
	byteLimit = 1 << 30   // of memory, where the plan says nothing
)

// ErrOver says that a rehearsal has been ended.
var ErrOver = errors.New("the rehearsal has been ended")

// ErrBusy says that time is being set back just now.
var ErrBusy = errors.New("the time is being rewound just now; try again in a moment")

// Rehearsal is one live simulation. It is safe for any number of goroutines.
type Rehearsal struct {
	plan     Plan
	scenario *model.Scenario
	journal  *journal
	hooks    *hooks
	Observed Observed

	wake chan struct{}
	done chan struct{} // closed when it has been ended
	end  context.CancelFunc

	mu       sync.Mutex
	live     *sim.Live
	replay   *reading // what was put in later than now, after time was set back; nil: nothing
	pace     float64
	running  bool
	busy     bool
	over     bool
	fault    error
	anchor   time.Time     // of the clock …
	from     time.Duration // … when the run stood here
	behind   bool          // the machine does not keep the pace
	named    int           // incidents put in
	active   []activeIncident
	waiters  map[uint64]chan sim.Answered // of requests, by journey
	acts     acts
	watchers map[*watcher]struct{}
	pointers map[string]Pointer // by who points
	frames   uint64
	touched  time.Time // when somebody last did or watched something
}

// activeIncident is an incident by a user that has not ended.
type activeIncident struct {
	name string
	spec *model.Incident
}

// Start starts a rehearsal.
func Start(p Plan) (*Rehearsal, error) {
	if p.Pace == 0 {
		p.Pace = 1
	}
	if err := checkPace(p.Pace); err != nil {
		return nil, err
	}
	if p.Log == nil {
		p.Log = slog.New(slog.DiscardHandler)
	}
	r := &Rehearsal{
		plan:     p,
		scenario: p.Scenario,
		pace:     p.Pace,
		running:  !p.Paused,
		wake:     make(chan struct{}, 1),
		done:     make(chan struct{}),
		waiters:  map[uint64]chan sim.Answered{},
		watchers: map[*watcher]struct{}{},
		pointers: map[string]Pointer{},
		touched:  time.Now(),
		anchor:   time.Now(),
	}
	if r.scenario == nil {
		r.scenario = model.DefaultScenario()
		r.scenario.Name, r.scenario.TrafficGiven = "rehearsal", true
	}
	var err error
	if r.live, err = r.newLive(0); err != nil {
		return nil, err
	}
	if r.journal, err = newJournal(p.Folder); err != nil {
		return nil, err
	}
	r.Observed.graph = p.Graph
	ctx, cancel := context.WithCancel(context.Background())
	r.end = cancel
	r.hooks = newHooks(ctx, r)
	go r.run(ctx)
	return r, nil
}

func checkPace(pace float64) error {
	if math.IsNaN(pace) || pace < MinPace || pace > MaxPace {
		return fmt.Errorf("the pace is %g to %g simulated seconds per real second", MinPace, MaxPace)
	}
	return nil
}

// newLive makes the run as it stands at its start; of a length, if it is not 0.
func (r *Rehearsal) newLive(length time.Duration) (*sim.Live, error) {
	s := *r.scenario
	s.Replications = 1
	if length > 0 {
		s.Length, s.WarmUp = length, 0
	}
	return sim.NewLive(
		sim.LivePlan{
			Plan: sim.Plan{
				Graph:    r.plan.Graph,
				Scenario: &s,
				Inputs:   r.plan.Inputs,
				Limits:   sim.Limits{Copies: copyLimit, Memory: cmp.Or(r.plan.Memory, byteLimit)},
			},
			Endless: length == 0 && r.plan.Scenario == nil,
			Hooked:  r.hooked(),
		},
	)
}

// hooked are the functions that a hook answers for.
func (r *Rehearsal) hooked() map[string]bool {
	out := map[string]bool{}
	if r.plan.Hooks {
		for _, n := range r.plan.Graph.Topology.Nodes {
			if n.Hook != "" {
				out[n.Name] = true
			}
		}
	}
	return out
}

// End ends the rehearsal; what waits for it is told.
func (r *Rehearsal) End() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.over {
		return
	}
	r.over = true
	r.end()
	r.dropWaiters()
	close(r.done)
	r.journal.close()
}

// Done is closed when the rehearsal has been ended.
func (r *Rehearsal) Done() <-chan struct{} { return r.done }

// Over reports whether it has been ended.
func (r *Rehearsal) Over() bool {
	select {
	case <-r.done:
		return true
	default:
		return false
	}
}

func (r *Rehearsal) dropWaiters() {
	for id, ch := range r.waiters {
		close(ch)
		delete(r.waiters, id)
	}
}

// nudge lets the loop look at once.
func (r *Rehearsal) nudge() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

const (
	atOnce      = 4000 // events that are handled before others get a turn
	longestNap  = 50 * time.Millisecond
	shortestNap = time.Millisecond
	frameEvery  = 200 * time.Millisecond
)

// run lets time pass until the rehearsal is ended.
func (r *Rehearsal) run(ctx context.Context) {
	timer := time.NewTimer(0)
	defer timer.Stop()
	lastFrame := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-r.wake:
		case <-timer.C:
		}
		end := r.plan.Turns.take()
		r.mu.Lock()
		nap := longestNap
		if !r.busy && r.fault == nil {
			there := r.catchUp()
			nap = r.untilNext()
			if !there {
				nap = 0
			}
			r.hooks.dispatch()
		}
		if time.Since(lastFrame) >= frameEvery {
			r.broadcast()
			lastFrame = time.Now()
		}
		alone := len(r.watchers) == 0 && r.plan.Idle > 0 && time.Since(r.touched) > r.plan.Idle
		r.mu.Unlock()
		end()
		if alone {
			r.End()
			return
		}
		timer.Reset(nap)
	}
}

// target is where the run should stand by the clock.
func (r *Rehearsal) target() time.Duration {
	ahead := float64(time.Since(r.anchor)) * r.pace
	if ahead > float64(r.live.End()-r.from) {
		return r.live.End()
	}
	return r.from + time.Duration(ahead)
}

// setAnchor lets time pass on from here.
func (r *Rehearsal) setAnchor() { r.anchor, r.from = time.Now(), r.live.Now() }

// catchUp lets the run come to where it should stand, and reports whether it did:
// a run that has much to do gives others a turn in between.
func (r *Rehearsal) catchUp() bool {
	if !r.running {
		return true
	}
	to := r.target()
	for r.replay != nil {
		next, err := r.replay.peek()
		if err != nil {
			r.fail(err)
			return true
		}
		if next == nil {
			r.replay = nil
			break
		}
		if next.At > to {
			break
		}
		if !r.advance(next.At) {
			return false
		}
		if _, err := r.live.Put(next); err != nil {
			r.fail(err)
			return true
		}
		r.note(next, false)
		r.replay.pass()
	}
	if r.advance(to) {
		r.behind = false
		return true
	}
	if r.live.Stopped() != "" {
		r.running = false
		return true
	}
	if r.running && to-r.live.Now() > time.Duration(r.pace*float64(time.Second)) {
		r.behind = true // it goes as fast as it can
		r.setAnchor()
	}
	return false
}

func (r *Rehearsal) advance(to time.Duration) bool {
	there, err := r.live.Advance(to, atOnce)
	if err != nil {
		r.fail(err)
		return true
	}
	r.tellWaiters()
	if r.live.Now() >= r.live.End() {
		r.running = false
		r.setAnchor()
	}
	return there
}

func (r *Rehearsal) fail(err error) {
	r.fault, r.running = err, false
	r.plan.Log.Error("a rehearsal has failed", "error", err)
}

// tellWaiters hands answers to the requests that wait for them.
func (r *Rehearsal) tellWaiters() {
	for _, a := range r.live.Answers() {
		if ch := r.waiters[a.Journey]; ch != nil {
			ch <- a // it holds one
			delete(r.waiters, a.Journey)
		}
	}
}

// untilNext is how long nothing will happen.
func (r *Rehearsal) untilNext() time.Duration {
	if !r.running {
		return longestNap
	}
	next, ok := r.live.Next()
	if r.replay != nil {
		if in, err := r.replay.peek(); err == nil && in != nil && (!ok || in.At < next) {
			next, ok = in.At, true
		}
	}
	if !ok {
		return longestNap
	}
	due := time.Duration(float64(next-r.from)/r.pace) - time.Since(r.anchor)
	return min(max(due, shortestNap), longestNap)
}

// ready locks the rehearsal for something to be done, at the instant that the
// clock says; the caller unlocks it.
func (r *Rehearsal) ready() error {
	r.mu.Lock()
	err := r.fault
	switch {
	case r.over:
		err = ErrOver
	case r.busy:
		err = ErrBusy
	}
	if err != nil {
		r.mu.Unlock()
		return err
	}
	r.touched = time.Now()
	r.catchUp()
	return nil
}

// put puts something in now. What had been put in later than now, before time
// was set back, is forgotten.
func (r *Rehearsal) put(in *sim.Input) (sim.Outcome, error) {
	in.At = r.live.Now()
	forgotten := r.replay
	out, err := r.live.Put(in)
	if err != nil {
		return out, err
	}
	if forgotten != nil {
		r.journal.cut(forgotten.place, forgotten.count)
		r.replay = nil
	}
	if err := r.journal.add(in); err != nil {
		r.plan.Log.Error("a rehearsal", "error", err)
		return out, err
	}
	r.note(in, true)
	if !r.running {
		r.setAnchor()
	}
	return out, nil
}

// note keeps track of what was put in.
func (r *Rehearsal) note(in *sim.Input, fresh bool) {
	switch {
	case in.Incident != nil:
		r.named++
		if !in.Incident.Crash { // which is over as it begins
			r.active = append(r.active, activeIncident{in.Incident.Name, in.Incident})
		}
	case in.End != nil:
		for _, name := range in.End {
			for k := range r.active {
				if r.active[k].name == name {
					r.active = append(r.active[:k], r.active[k+1:]...)
					break
				}
			}
		}
	}
	if fresh || in.By != "" {
		r.acts.add(in, r.live.Now())
	}
}
