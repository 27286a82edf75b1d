package sim

import (
	"fmt"
	"math"
	"runtime"
	"time"

	"ironweir/core/sim/internal/arena"

	"ironweir/core/model"
)

// Live is one replication that goes only as far as it is told, and into which
// things are put on the way. The same plan with the same inputs at the same
// instants does the same, to the byte, however it is paced. It is not for several
// goroutines at once.
type Live struct {
	e       *engine
	handled int64            // the last instant of which something has been handled, -1: none
	last    int64            // the last instant at which something was put in, -1: nothing was
	sources map[int32]uint32 // traffic that stands for what is put in, by node
	named   map[string]int   // incidents by name, of those put in
	waiting map[uint64]bool  // journeys whose answer somebody waits for
	answers []Answered
	traced  []uint64 // journeys that are told step by step, the oldest first
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

// InputEvent is an event that comes in at a node, or that a hook returns.
type InputEvent struct {
	Node        string                        `json:"node,omitempty"`
	Link        string                        `json:"link,omitempty"` // of what a hook returns: the name of the link that it goes by
	Type        string                        `json:"type,omitempty"`
	Subject     string                        `json:"subject,omitempty"`
	Data        any                           `json:"data,omitempty"`
	Size        int64                         `json:"size,omitempty"`   // bytes
	Wanted      bool                          `json:"wanted,omitempty"` // somebody waits for the answer to this request
	*Attributes `json:"attributes,omitempty"` // nil: it has none of its own
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
	Hooked  map[string]bool // functions that somebody answers for
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
	e, err := newEngine(&plan.Plan)
	if err != nil {
		return nil, err
	}
	runtime.AddCleanup(e, (*arena.Space).Free, e.space)
	e.observe(newTracer(nil, map[uint64]bool{}))
	e.sampled = &journeySample{wanted: e.trace.wanted, ends: map[uint64]journeyNote{}}
	l := &Live{
		e:       e,
		handled: -1,
		last:    -1,
		sources: map[int32]uint32{},
		named:   map[string]int{},
		waiting: map[uint64]bool{},
	}
	e.observer = l
	l.setUpHooks(plan.Hooked)
	return l, nil
}

// Now is the instant at which the run stands, since its start.
func (l *Live) Now() time.Duration { return time.Duration(l.e.Now) }

// End is the instant at which it ends.
func (l *Live) End() time.Duration { return time.Duration(l.e.end) }

// Length is how long a run is that holds all that has happened: the end is not
// part of a run, so what was put in at this very instant takes one more.
func (l *Live) Length() time.Duration { return time.Duration(max(l.e.Now, l.last+1)) }

// Stopped says why the run has ended early; empty: it has not.
func (l *Live) Stopped() string { return l.e.stopped }

// Next is the instant of the next event; false: nothing will happen by itself.
func (l *Live) Next() (time.Duration, bool) {
	if at := l.e.Upcoming().At; l.e.Waiting() || at < uint64(l.e.end) {
		return time.Duration(at), true
	}
	return 0, false
}

// Advance lets everything happen that is due before an instant, but at most so
// many events, and reports whether it got there.
func (l *Live) Advance(to time.Duration, most int64) (bool, error) {
	until := min(int64(to), l.e.end)
	if err := l.proceed(until, most); err != nil {
		return false, err
	}
	if next, ok := l.Next(); l.e.stopped != "" || ok && int64(next) < until {
		return false, nil
	}
	l.e.Now = max(l.e.Now, until)
	return true, nil
}

func (l *Live) proceed(until, most int64) error {
	if l.e.stopped != "" {
		return nil
	}
	before := l.e.tally.events
	err := l.e.proceed(until, most)
	if l.e.tally.events > before {
		l.handled = l.e.Now
	}
	return err
}

// Step lets the next event happen and says what it was; empty: nothing is left.
func (l *Live) Step() (string, error) {
	e := l.e
	for l.e.stopped == "" {
		looks := !e.Waiting() && e.Upcoming().Kind() == evSample
		if _, ok := l.Next(); !ok || looks && e.Pending() == 1 {
			break // what only looks is nothing that happens
		}
		said := e.nextInWords()
		if err := l.proceed(e.end, 1); err != nil || !looks {
			return said, err
		}
	}
	return "", nil
}

// Put puts something in, at its instant or as soon after as can be, and gives
// the instant. What is wrong with it is said before it has changed anything.
func (l *Live) Put(in *Input) (Outcome, error) {
	if err := l.check(in); err != nil {
		return Outcome{}, err
	}
	at := max(int64(in.At), l.handled+1, l.last+1, l.e.Now)
	if at >= l.e.end {
		return Outcome{}, fmt.Errorf("the scenario is over: it lasts %s", model.FormatDuration(l.End()))
	}
	if err := l.proceed(at, math.MaxInt64); err != nil {
		return Outcome{}, err
	}
	if l.e.stopped != "" {
		return Outcome{}, fmt.Errorf("the run was ended by %s", l.e.stopped)
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

func (l *Live) node(name string) (*node, error) {
	id := l.e.g.NodeID(name)
	if id < 0 {
		return nil, l.e.g.NoNode(name)
	}
	return &l.e.nodes[id], nil
}

func (l *Live) apply(in *Input) Outcome {
	switch {
	case in.Event != nil:
		return l.bring(in.Event)
	case in.Incident != nil:
		l.begin(in.Incident)
	case in.End != nil:
		for _, name := range in.End {
			if k := l.named[name]; l.e.incidents[k].on { // a crash is over as it begins
				l.e.incidentTurns(k)
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
	id := int32(e.g.NodeID(ev.Node))
	at, there := l.sources[id]
	if !there {
		at = uint32(len(e.traffic))
		spec := &model.Traffic{Name: ev.Node, Into: ev.Node, Arrivals: "replay"}
		t, err := e.newTraffic(spec)
		if err != nil { // the node is there, and so its keys parse
			panic(err)
		}
		e.traffic = append(e.traffic, t)
		l.sources[id] = at
	}
	n := &e.nodes[id]
	before := n.fates
	t := &e.traffic[at]
	t.replay = append(
		t.replay,
		Arrival{
			At:         e.instant(e.Now),
			Type:       ev.Type,
			Subject:    ev.Subject,
			Data:       ev.Data,
			Size:       ev.Size,
			Attributes: ev.Attributes,
		},
	)
	out := Outcome{Journey: e.nextJour + 1}
	l.Tell(out.Journey)
	if ev.Wanted {
		l.waiting[out.Journey] = true
	}
	if n.schedule != nil {
		e.traffic[at].replay = nil
		e.fireNow(n)
		return out
	}
	e.arriveAgain(at)
	for f := Expired; f < fates; f++ {
		if n.fates[f] > before[f] {
			out.Cause, out.Rejected = f, true
		}
	}
	return out
}

// Tell has a journey told step by step; the oldest of too many is forgotten.
func (l *Live) Tell(id uint64) {
	t := l.e.trace
	if len(l.traced) == MaxTraced {
		old := l.traced[0]
		l.traced = append(l.traced[:0], l.traced[1:]...)
		delete(t.wanted, old)
		delete(t.trails, old)
		delete(l.e.sampled.ends, old)
	}
	t.order = t.order[:0] // that is of retelling
	t.wanted[id] = true
	l.traced = append(l.traced, id)
}

// Trail returns a journey as far as it has come; false: it is not among those that
// are told.
func (l *Live) Trail(id uint64) (Journey, bool) {
	r := l.e.trace.trails[id]
	if r == nil {
		return Journey{}, false
	}
	n, ended := l.e.sampled.ends[id]
	if !ended {
		for i := range l.e.journeys.Count {
			if j := l.e.journeys.At(i); j.id() == id && j.refs > 0 {
				n = noteOf(j)
			}
		}
	}
	return l.e.journeyOf(id, r, n), true
}

// begin starts an incident. Of two that bear on one field the later one holds.
func (l *Live) begin(spec *model.Incident) {
	e := l.e
	in := e.newIncident(spec, len(e.incidents))
	l.named[spec.Name] = len(e.incidents)
	e.incidents = append(e.incidents, in)
	e.incidentTurns(len(e.incidents) - 1)
}

// Answers gives the answers that have come since it was last asked.
func (l *Live) Answers() []Answered {
	out := l.answers
	l.answers = nil
	return out
}

// answered notes the answer to a request that somebody waits for.
func (l *Live) answered(c *copyRecord, status int16) {
	id := l.e.journeys.At(c.journey).id()
	if l.waiting[id] {
		delete(l.waiting, id)
		l.answers = append(l.answers, Answered{id, int(status), time.Duration(l.e.Now - c.born)})
	}
}

// Result counts what has happened until now, as a run of this length does. The
// live run is over then.
func (l *Live) Result() (*Result, error) { return l.e.result() }
