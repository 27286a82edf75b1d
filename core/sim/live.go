package sim

import (
	"fmt"
	"math"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/trace"
)

// Live is one replication that goes only as far as it is told, and into which
// things are put on the way. The same plan with the same inputs at the same
// instants does the same, to the byte, however it is paced. It is not for several
// goroutines at once.
type Live struct {
	e       *replication
	handled int64           // the last instant of which something has been handled, -1: none
	last    int64           // the last instant at which something was put in, -1: nothing was
	named   map[string]int  // incidents by name, of those put in
	waiting map[uint64]bool // journeys whose answer a caller waits for
	answers []Answered
	tracer  *trace.Tracer
	traced  []uint64 // journeys that it records, the oldest first
	askers
}

// Answered is a request's answer.
type Answered struct {
	Journey uint64
	Status  int
	After   time.Duration // since it came in
}

// Input is one thing that is put into a live run: exactly one of its parts.
type Input struct {
	At       time.Duration   `json:"at"` // since the start; each later than the one before
	By       string          `json:"by,omitempty"`
	Event    *InputEvent     `json:"event,omitempty"`
	Incident *model.Incident `json:"incident,omitempty"` // starts; its At and For do not count
	End      []string        `json:"end,omitempty"`      // names of incidents put in before
	Move     *Move           `json:"move,omitempty"`
	Reply    *HookReply      `json:"reply,omitempty"`
}

// Move takes a message out of where it lies.
type Move struct {
	Message uint64 `json:"message"`
	To      string `json:"to,omitempty"` // a node; empty: it is removed
}

// Outcome says what an input did at once.
type Outcome struct {
	Journey  uint64 // of an event
	Cause    Fate   // why it was rejected at once; where Rejected is set
	Rejected bool
}

// MaxTraced bounds the journeys that a live run records step by step: the latest.
const MaxTraced = 100

// endless is the length of a live run without an end of its own.
const endless = 365 * 24 * time.Hour

// LivePlan says what is run live.
type LivePlan struct {
	Plan
	Endless bool            // the scenario's length does not end it
	Hooked  map[string]bool // functions that a hook answers for
}

// NewLive makes a live run that stands at its start.
func NewLive(plan LivePlan) (*Live, error) {
	if plan.Endless {
		s := *plan.Scenario
		s.Length = endless
		plan.Scenario = &s
	}
	if plan.Limits.Events == 0 {
		plan.Limits.Events = math.MaxInt64
	}
	e, err := newReplication(&plan.Plan)
	if err != nil {
		return nil, err
	}
	e.FreeWhenUnused()
	t := trace.New(e.Engine, map[uint64]bool{})
	e.Observe(t)
	l := &Live{
		e:       e,
		handled: -1,
		last:    -1,
		named:   map[string]int{},
		waiting: map[uint64]bool{},
		tracer:  t,
	}
	e.Observer, e.Sampler = l, t
	l.setUpHooks(plan.Hooked)
	return l, nil
}

// Now is the instant at which the run stands, since its start.
func (l *Live) Now() time.Duration { return time.Duration(l.e.Now) }

// End is the instant at which it ends.
func (l *Live) End() time.Duration { return time.Duration(l.e.End) }

// Length is how long a run is that holds all that has happened: the end is not
// part of a run, so what was put in at this very instant takes one more.
func (l *Live) Length() time.Duration { return time.Duration(max(l.e.Now, l.last+1)) }

// Stopped says why the run has ended early; empty: it has not.
func (l *Live) Stopped() string { return l.e.Stopped }

// Next is the instant of the next event; false: nothing will happen by itself.
func (l *Live) Next() (time.Duration, bool) {
	if at := l.e.Upcoming().At; l.e.Waiting() || at < uint64(l.e.End) {
		return time.Duration(at), true
	}
	return 0, false
}

// Advance lets everything happen that is due before an instant, but at most so
// many events, and reports whether it got there.
func (l *Live) Advance(to time.Duration, most int64) (bool, error) {
	until := min(int64(to), l.e.End)
	if err := l.proceed(until, most); err != nil {
		return false, err
	}
	if next, ok := l.Next(); l.e.Stopped != "" || ok && int64(next) < until {
		return false, nil
	}
	l.e.Now = max(l.e.Now, until)
	return true, nil
}

func (l *Live) proceed(until, most int64) error {
	if l.e.Stopped != "" {
		return nil
	}
	before := l.e.Tally.Events
	err := l.e.Proceed(until, most)
	if l.e.Tally.Events > before {
		l.handled = l.e.Now
	}
	return err
}

// Step lets the next event happen and says what it was; empty: nothing will happen by itself any more.
func (l *Live) Step() (string, error) {
	e := l.e
	if !e.happens() {
		return "", nil
	}
	for e.Stopped == "" {
		effect, said := e.EffectOf(e.Upcoming()), e.nextInWords()
		if err := l.proceed(e.End, 1); err != nil || effect == engine.Changes {
			return said, err
		}
	}
	return "", nil
}

// happens reports whether something will happen by itself before the end.
func (e *replication) happens() bool {
	pending := e.Clone()
	pending.GoUntil(e.End)
	for !pending.Waiting() {
		next, ok := pending.Pop()
		if !ok {
			return false
		}
		if e.EffectOf(next) != engine.NoEffect {
			return true
		}
	}
	return true
}

// Put puts something in, at its instant or as soon after as can be, and gives
// the instant. What is wrong with it is said before it has changed anything.
func (l *Live) Put(in *Input) (Outcome, error) {
	if err := l.check(in); err != nil {
		return Outcome{}, err
	}
	at := max(int64(in.At), l.handled+1, l.last+1, l.e.Now)
	if at >= l.e.End {
		return Outcome{}, fmt.Errorf("the scenario is over: it lasts %s", model.FormatDuration(l.End()))
	}
	if err := l.proceed(at, math.MaxInt64); err != nil {
		return Outcome{}, err
	}
	if l.e.Stopped != "" {
		return Outcome{}, fmt.Errorf("the run was ended by %s", l.e.Stopped)
	}
	if in.Move != nil { // what it names may have gone on meanwhile
		if _, err := l.movable(in.Move.Message); err != nil {
			return Outcome{}, err
		}
	}
	l.e.Now, l.last = at, at
	in.At = time.Duration(at)
	return l.apply(in), nil
}

func (l *Live) check(in *Input) error {
	switch {
	case in.Event != nil:
		_, err := l.node(in.Event.Node)
		return err
	case in.Incident != nil:
		if in.Incident.Rewind != nil {
			return fmt.Errorf(
				"a reader cannot be rewound in a rehearsal: what it has read is not kept; rewind the time instead",
			)
		}
		return nil // the model has checked it
	case in.End != nil:
		for _, name := range in.End {
			if _, there := l.named[name]; !there {
				return fmt.Errorf("no active incident is named %q", name)
			}
		}
	case in.Move != nil:
		if in.Move.To != "" {
			if _, err := l.node(in.Move.To); err != nil {
				return err
			}
		}
	case in.Reply != nil:
	default:
		return fmt.Errorf("nothing to put in")
	}
	return nil
}

func (l *Live) node(name string) (*engine.Node, error) {
	id := l.e.Graph.NodeID(name)
	if id < 0 {
		return nil, l.e.Graph.NoNode(name)
	}
	return &l.e.Nodes[id], nil
}

func (l *Live) apply(in *Input) Outcome {
	switch {
	case in.Event != nil:
		return l.bring(in.Event)
	case in.Incident != nil:
		l.begin(in.Incident)
	case in.End != nil:
		for _, name := range in.End {
			if k := l.named[name]; l.e.incidents.Active(k) { // a crash is over as it begins
				l.e.incidents.Turn(k)
			}
			delete(l.named, name)
		}
	case in.Move != nil:
		l.move(in.Move)
	case in.Reply != nil:
		l.reply(in.Reply)
	}
	return Outcome{}
}

// bring lets an event come in, as a replay file would.
func (l *Live) bring(ev *InputEvent) Outcome {
	e := l.e
	n := &e.Nodes[e.Graph.NodeID(ev.Node)]
	before := n.Fates
	out := Outcome{Journey: e.NextJour + 1}
	l.Record(out.Journey)
	if ev.Wanted {
		l.waiting[out.Journey] = true
	}
	if n.Kind.Fires() {
		e.sources.FireNow(n)
		return out
	}
	e.sources.Bring(n, Arrival{
		At:         e.Instant(e.Now),
		Type:       ev.Type,
		Subject:    ev.Subject,
		Data:       ev.Data,
		Size:       ev.Size,
		Attributes: ev.Attributes,
	})
	for f := engine.Expired; f < engine.FateCount; f++ {
		if n.Fates[f] > before[f] {
			out.Cause, out.Rejected = f, true
		}
	}
	return out
}

// Record has a journey recorded step by step; the oldest of too many is forgotten.
func (l *Live) Record(id uint64) {
	if len(l.traced) == MaxTraced {
		l.tracer.Forget(l.traced[0])
		l.traced = append(l.traced[:0], l.traced[1:]...)
	}
	l.tracer.Want(id)
	l.traced = append(l.traced, id)
}

// Trail returns a journey as far as it has come; false: it is not among those that
// are recorded.
func (l *Live) Trail(id uint64) (Journey, bool) { return l.tracer.Journey(id) }

// begin starts an incident. Of two that bear on one field the later one holds.
func (l *Live) begin(spec *model.Incident) {
	l.named[spec.Name] = l.e.incidents.Begin(spec)
}

// Answers gives the answers that have come since it was last asked.
func (l *Live) Answers() []Answered {
	out := l.answers
	l.answers = nil
	return out
}

// Answered notes the answer to a request that a caller waits for.
func (l *Live) Answered(c *engine.Copy, status int16) {
	id := l.e.Journeys.At(c.Journey).ID()
	if l.waiting[id] {
		delete(l.waiting, id)
		l.answers = append(l.answers, Answered{id, int(status), time.Duration(l.e.Now - c.Born)})
	}
}

// Result counts what has happened until now, as a run of this length does. The
// live run is over then.
func (l *Live) Result() (*Result, error) { return l.e.result() }
