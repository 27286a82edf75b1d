package sim

import (
	"fmt"
	"math"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// FollowPlan sends one message through a topology at no load.
type FollowPlan struct {
	Node    string
	Subject string
	Type    string
	Data    any
	Size    int64
	Deleted bool           // the event of a deletion, into a bucket
	Fail    map[string]int // runs that fail, by node: the first n, or all where negative
	Start   time.Time
}

// Step is one thing that happened to a followed message.
type Step struct {
	ID     int            `json:"id"`
	Parent int            `json:"parent"` // 0: none
	T      float64        `json:"t_s"`
	Node   string         `json:"node"`
	Link   string         `json:"link,omitempty"`
	What   string         `json:"what"`
	Why    string         `json:"why,omitempty"`
	Try    int            `json:"try,omitempty"`
	Fate   string         `json:"fate,omitempty"`
	Event  map[string]any `json:"event,omitempty"`
}

// Trace is what happened to a followed message.
type Trace struct {
	Steps   []Step
	Fates   map[string]int64 // of all its copies
	Stopped string           // why it was cut short; empty: it was not
}

// MaxSteps bounds a trace: a message that goes round for ever is cut off.
const MaxSteps = 400

// followLength is long enough for every retention to end.
const followLength = 100 * 24 * time.Hour

// Follow sends one message through, with typical times and no failures but
// the forced ones, and tells each decision.
func Follow(g *graph.Graph, plan FollowPlan) (*Trace, error) {
	id := g.NodeID(plan.Node)
	if id == graph.None {
		return nil, fmt.Errorf("no node %q%s", plan.Node, model.DidYouMean(plan.Node, g.Topology.NodeNames()))
	}
	for name := range plan.Fail {
		if g.NodeID(name) == graph.None {
			return nil, fmt.Errorf("no node %q to fail%s", name, model.DidYouMean(name, g.Topology.NodeNames()))
		}
	}
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = followLength, true
	if !plan.Start.IsZero() {
		s.Start = plan.Start
	}
	e, err := newEngine(&Plan{Graph: g, Scenario: s, follow: &plan})
	if err != nil {
		return nil, err
	}
	n := &e.nodes[id]
	if n.kind == model.Schedule {
		e.fireNow(n)
	} else {
		con := e.newContent()
		c := &e.contents[con]
		c.subject = append(c.subject, plan.Subject...)
		c.kind, c.data, c.size = plan.Type, plan.Data, plan.Size
		if plan.Deleted && n.objects != nil {
			n.objects.byKey[plan.Subject] = object{}
		}
		e.trace.entering = copyFlags(0)
		if plan.Deleted {
			e.trace.entering = deletion
		}
		e.tally.entered++
		m := message{journey: e.newJourney(int32(id)), content: con, node: -1}
		e.deliver(n.outWay, &m, con, e.trace.entering)
		e.dropContent(con)
	}
	if err := e.loop(); err != nil {
		return nil, err
	}
	t := &Trace{Steps: e.trace.steps, Fates: map[string]int64{}, Stopped: e.stopped}
	for i := range e.nodes {
		for f, count := range e.nodes[i].fates {
			if count > 0 {
				t.Fates[Fate(f).String()] += count
			}
		}
	}
	if e.live > 0 {
		t.Fates["waiting"] = int64(e.live)
	}
	return t, nil
}

// tracer writes down what happens. It exists only in Follow.
type tracer struct {
	plan     *FollowPlan
	steps    []Step
	ofCopy   map[uint32]int
	ofRun    map[uint32]int
	cause    int // the step that the next copy comes from
	failed   map[string]int
	entering copyFlags
}

func newTracer(plan *FollowPlan) *tracer {
	return &tracer{plan: plan, ofCopy: map[uint32]int{}, ofRun: map[uint32]int{}, failed: map[string]int{}}
}

func typical(d model.Distribution) sampler { return sampler{shape: constant, a: d.Typical()} }

func (t *tracer) add(e *engine, s Step) int {
	s.ID = len(t.steps) + 1
	s.T = math.Round(float64(e.now)/1e3) / 1e6
	t.steps = append(t.steps, s)
	if len(t.steps) >= MaxSteps && e.stopped == "" {
		e.stopped = fmt.Sprintf("after %d steps; the message still goes on", MaxSteps)
	}
	return s.ID
}

// forced tells whether the next run of a node is to fail.
func (t *tracer) forced(n *node) bool {
	for name, count := range t.plan.Fail {
		if n.name == name {
			t.failed[name]++
			return count < 0 || t.failed[name] <= count
		}
	}
	return false
}

func (t *tracer) comes(e *engine, i uint32, m *message) {
	what := "held"
	parent := t.cause
	if m.node < 0 {
		what, parent = "enters", 0
	}
	c := &e.copies[i]
	s := Step{Parent: parent, Node: e.nodes[c.node].name, What: what, Event: e.describe(c)}
	if via := e.deliveries[c.via].link; via >= 0 {
		s.Link = e.g.Links[via].Link.ID()
	}
	t.ofCopy[i] = t.add(e, s)
}

// describe gives a message as a CloudEvent.
func (e *engine) describe(c *copyRecord) map[string]any {
	con := &e.contents[c.content]
	out := map[string]any{"specversion": "1.0", "id": fmt.Sprintf("%d", e.journeys[c.journey].id), "source": "outside", "type": con.kind,
		"time": e.instant(con.made).UTC().Format(time.RFC3339Nano)}
	var from *graph.Node
	if via := e.deliveries[c.via].link; via >= 0 {
		from = &e.g.Nodes[e.g.Links[via].From]
	}
	if con.source >= 0 {
		out["source"] = e.nodes[con.source].name
	}
	if con.kind == "" {
		out["type"] = kindOfEvent(from, c.flags)
	}
	if len(con.subject) > 0 {
		out["subject"] = string(con.subject)
	}
	if con.data != nil {
		out["data"] = con.data
	}
	return out
}

func (t *tracer) offered(e *engine, i uint32, l *graph.Link, why string) {
	t.decide(e, t.ofCopy[i], e.nodes[l.From].name, l, why)
}

func (t *tracer) offeredCopy(e *engine, c *copyRecord, l *graph.Link, why string) {
	for i, step := range t.ofCopy {
		if &e.copies[i] == c {
			t.decide(e, step, e.nodes[l.From].name, l, why)
			return
		}
	}
}

func (t *tracer) offeredResult(e *engine, n *node, l *graph.Link, why string) {
	t.decide(e, t.cause, n.name, l, why)
}

func (t *tracer) decide(e *engine, parent int, node string, l *graph.Link, why string) {
	s := Step{Parent: parent, Node: node, Link: l.Link.ID(), What: "offered", Why: "it takes everything"}
	switch {
	case why != "":
		s.What, s.Why = "declined", why
	case !l.Filter.Everything:
		s.Why = "its filter matches"
	}
	t.cause = t.add(e, s)
}

func (t *tracer) sendsDead(e *engine, i uint32, to int32) {
	t.cause = t.add(e, Step{Parent: t.ofCopy[i], Node: e.nodes[e.copies[i].node].name, What: "sends", Why: "to its dead-letter, " + e.nodes[to].name})
}

func (t *tracer) runs(e *engine, i uint32) {
	r := &e.runs[i]
	s := Step{Node: e.nodes[r.node].name, What: "runs"}
	switch {
	case r.batch != 0:
		first := e.batches[r.batch].entries[0]
		s.Parent, s.Try = t.ofCopy[first.copy], int(first.token)
		if n := len(e.batches[r.batch].entries); n > 1 {
			s.Why = fmt.Sprintf("a batch of %d", n)
		}
	case r.copy != 0:
		s.Parent, s.Try = t.ofCopy[r.copy], int(e.copies[r.copy].tries)
	default:
		s.Parent = t.cause
	}
	if r.work > 0 {
		s.Why = join(s.Why, "for "+model.FormatDuration(time.Duration(r.work).Round(time.Microsecond)))
	}
	t.ofRun[i] = t.add(e, s)
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

func (t *tracer) sends(e *engine, i uint32, l *graph.Link) {
	s := Step{Parent: t.ofRun[i], Node: e.nodes[l.From].name, Link: l.Link.ID(), What: "sends"}
	if l.Chance < 1 {
		s.Why = fmt.Sprintf("happens to %g%% of messages", l.Chance*100)
	}
	t.cause = t.add(e, s)
}

func (t *tracer) calls(e *engine, i uint32, l *graph.Link) {
	t.cause = t.add(e, Step{Parent: t.ofRun[i], Node: e.nodes[l.From].name, Link: l.Link.ID(), What: "calls", Why: "and waits", Try: int(e.runs[i].tries)})
}

func (t *tracer) skipped(e *engine, l *graph.Link, why string, err error) {
	if err != nil {
		why = err.Error()
	}
	t.add(e, Step{Parent: t.cause, Node: e.nodes[l.From].name, Link: l.Link.ID(), What: "declined", Why: why})
}

func (t *tracer) ends(e *engine, i uint32, failure int16) {
	r := &e.runs[i]
	s := Step{Parent: t.ofRun[i], Node: e.nodes[r.node].name, What: "ends", Why: "succeeded"}
	switch failure {
	case noError:
	case errFails:
		s.Why = "failed"
	default:
		s.Why = "failed: " + e.errors[failure]
	}
	t.cause = t.add(e, s)
}

func (t *tracer) waits(e *engine, i uint32, wait int64, cause Fate) {
	c := &e.copies[i]
	why := fmt.Sprintf("%s before try %d", model.FormatDuration(time.Duration(wait)), c.tries+1)
	if cause == Throttled {
		why = model.FormatDuration(time.Duration(wait)) + ", since it was throttled"
	}
	t.add(e, Step{Parent: t.ofCopy[i], Node: e.nodes[c.node].name, What: "waits", Why: why, Try: int(c.tries)})
}

func (t *tracer) answers(e *engine, i uint32, status int16) {
	t.add(e, Step{Parent: t.ofCopy[i], Node: e.nodes[e.copies[i].node].name, What: "returned", Why: fmt.Sprintf("answered %d", status)})
}

// fate notes what became of a copy at the step with which it came.
func (t *tracer) fate(e *engine, i uint32, f Fate) {
	step := t.ofCopy[i]
	if step == 0 {
		return
	}
	t.steps[step-1].Fate = f.String()
	s := Step{Parent: step, Node: e.nodes[e.copies[i].node].name, Fate: f.String()}
	switch {
	case f == Parked:
		s.What, s.Why = "parked", "it rests here; nothing leaves "+s.Node
	case f.Loss():
		s.What, s.Why = "lost", lossWords[f]
	default:
		return
	}
	t.add(e, s)
}

// lossWords say in a few words what a cause of loss means.
var lossWords = map[Fate]string{
	Expired:      "its retention ended before it was consumed",
	Exhausted:    "its tries are used up and it has nowhere to go",
	GivenUp:      "it is older than `give-up` and has nowhere to go",
	Refused:      "the target's `callers` do not name the sender",
	Throttled:    "rejected for want of concurrency or rate",
	Overflow:     "the queue is full",
	TooLarge:     "it is over the payload limit",
	Rejected:     "the write failed",
	Unsubscribed: "the topic has no links",
	HopLimit:     "it has passed through more functions than the hop limit allows",
	Disabled:     "switched off",
}

// LossWords says in a few words what a cause of loss means.
func LossWords(f Fate) string { return lossWords[f] }

// Outcome sums a trace up: complete, damaged (something was lost, parked or
// returned), or open (something is still under way).
func (t *Trace) Outcome() string {
	bad := t.Fates[Parked.String()] + t.Fates[Returned.String()]
	for _, f := range Fates() {
		if f.Loss() {
			bad += t.Fates[f.String()]
		}
	}
	switch {
	case bad > 0:
		return "damaged"
	case t.Fates["waiting"] > 0:
		return "open"
	}
	return "complete"
}
