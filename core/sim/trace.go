package sim

import (
	"fmt"
	"math"
	"slices"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

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

// tracer writes down what happens to the journeys that it is asked for. It only
// looks: a run with it gives the same result as one without.
type tracer struct {
	follow *FollowPlan
	failed map[string]int  // forced so far, by node
	wanted map[uint64]bool // journeys; nil: all
	trails map[uint64]*trail
	order  []uint64 // of the trails, as they began

	from, until int64 // the time of the bad ends that are asked for; until 0: from on

	found     *search // the journeys that a condition picks; nil: none is asked for
	coldStart int64   // of the run that begins now; 0: it finds a warm instance
}

// trail is what has been written down of one journey: its first MaxSteps steps, and, beyond them, the first few with
// which a copy ended badly, each with the steps just before it.
type trail struct {
	steps  []Step
	late   []Step         // beyond the first
	recent []Step         // the last steps, not written down yet
	ends   int            // bad ones among the late steps
	count  int            // of all steps
	ofCopy map[uint32]int // the step at which a copy came
	ofRun  map[uint32]int
	cause  int // the step that the next copy comes from
}

// Bounds of what is written down of a journey beyond its first steps.
const (
	lateEnds = 12 // steps with which a copy ends badly
	leadUp   = 12 // steps before each
)

func newTracer(follow *FollowPlan, wanted map[uint64]bool) *tracer {
	return &tracer{follow: follow, failed: map[string]int{}, wanted: wanted, trails: map[uint64]*trail{}}
}

// single gives the one trail of a followed message.
func (t *tracer) single() *trail {
	for _, one := range t.trails {
		return one
	}
	return &trail{}
}

// of gives the trail of a journey; nil: nobody asked for it.
func (t *tracer) of(e *engine, journey uint32) *trail {
	id := e.journeys.At(journey).id()
	if t.wanted != nil && !t.wanted[id] {
		return nil
	}
	one := t.trails[id]
	if one == nil {
		one = &trail{ofCopy: map[uint32]int{}, ofRun: map[uint32]int{}}
		t.trails[id] = one
		t.order = append(t.order, id)
	}
	return one
}

// add writes a step down, at least for as long as it is a recent one, and returns its number.
func (r *trail) add(e *engine, s Step) int {
	r.count++
	s.ID = r.count
	s.T = math.Round(float64(e.Now)/1e3) / 1e6
	switch {
	case s.ID <= MaxSteps:
		r.steps = append(r.steps, s)
	case e.plan.follow != nil:
		if e.stopped == "" {
			e.stopped = fmt.Sprintf("after %d steps; the message still goes on", MaxSteps)
		}
	default:
		r.addLate(e, s)
	}
	return s.ID
}

func (r *trail) addLate(e *engine, s Step) {
	if r.ends == lateEnds {
		return
	}
	if len(r.recent) > leadUp {
		r.recent = append(r.recent[:0], r.recent[1:]...)
	}
	r.recent = append(r.recent, s)
	if s.Bad() && e.Now >= e.trace.from && (e.trace.until == 0 || e.Now < e.trace.until) {
		r.late = append(r.late, r.recent...)
		r.recent = r.recent[:0]
		r.ends++
	}
}

// Bad reports whether a copy ends badly with a step: lost, parked or returned.
func (s *Step) Bad() bool { return s.What == "lost" || s.What == "parked" || s.What == "returned" }

// stepOf gives a step of a list by its number; nil: it is not there.
func stepOf(list []Step, id int) *Step {
	k, found := slices.BinarySearchFunc(list, id, func(s Step, id int) int { return s.ID - id })
	if !found {
		return nil
	}
	return &list[k]
}

// step gives a step by its number; nil: it is not written down.
func (r *trail) step(id int) *Step {
	for _, list := range [][]Step{r.steps, r.late, r.recent} {
		if s := stepOf(list, id); s != nil {
			return s
		}
	}
	return nil
}

// written gives what is written down, in order. What a step comes from is 0 where that was left out.
func (r *trail) written() []Step {
	r.recent = nil
	all := append(r.steps[:len(r.steps):len(r.steps)], r.late...)
	for i := len(r.steps); i < len(all); i++ {
		if r.step(all[i].Parent) == nil {
			all[i].Parent = 0
		}
	}
	return all
}

func (t *tracer) comes(e *engine, i uint32, m *message) {
	if t.found != nil {
		t.found.consider(e, i)
		return
	}
	r := t.of(e, m.journey)
	if r == nil {
		return
	}
	what, parent := "held", r.cause
	if m.node < 0 {
		what, parent = "enters", 0
	}
	c := e.copies.At(i)
	s := Step{Parent: parent, Node: e.nodes[c.node].name, What: what, Event: e.describe(c)}
	if via := e.deliveries[c.via].link; via >= 0 {
		s.Link = e.g.Links[via].Link.ID()
	}
	switch {
	case c.flags&duplicate != 0:
		s.Why = "duplicate delivery"
	case c.flags&deletion != 0 && s.Link == "":
		s.Why = "deletion at the end of the object's life"
	}
	r.ofCopy[i] = r.add(e, s)
}

// describe gives a copy as a CloudEvent.
func (e *engine) describe(c *copyRecord) map[string]any {
	m := e.messageOf(c)
	return e.eventOut(&m, kindOfEvent(e.senderOf(c), c.flags))
}

// senderOf returns the node whose link delivered a copy; nil: it came from outside, or
// as a dead letter.
func (e *engine) senderOf(c *copyRecord) *graph.Node {
	if via := e.deliveries[c.via].link; via >= 0 {
		return &e.g.Nodes[e.g.Links[via].From]
	}
	return nil
}

// offered notes a link's decision about a copy; why is empty where it takes it.
func (t *tracer) offered(e *engine, i uint32, l *graph.Link, why string) {
	if r := t.of(e, e.copies.At(i).journey); r != nil {
		r.decide(e, r.ofCopy[i], e.nodes[l.From].name, l, why)
	}
}

func (t *tracer) offeredResult(e *engine, journey uint32, n *node, l *graph.Link, why string) {
	if r := t.of(e, journey); r != nil {
		r.decide(e, r.cause, n.name, l, why)
	}
}

func (r *trail) decide(e *engine, parent int, node string, l *graph.Link, why string) {
	s := Step{Parent: parent, Node: node, Link: l.Link.ID(), What: "offered", Why: "no filter"}
	switch {
	case why != "":
		s.What, s.Why = "declined", why
	case !l.Filter.Everything:
		s.Why = "filter matches"
	}
	r.cause = r.add(e, s)
}

func (t *tracer) sendsDead(e *engine, i uint32, to int32) {
	if r := t.of(e, e.copies.At(i).journey); r != nil {
		r.cause = r.add(
			e,
			Step{
				Parent: r.ofCopy[i],
				Node:   e.nodes[e.copies.At(i).node].name,
				What:   "sends",
				Why:    "to its dead-letter, " + e.nodes[to].name,
			},
		)
	}
}

// each visits the trails of the journeys that a run works on, with the copy
// through which it does, or 0.
func (t *tracer) each(e *engine, i uint32, visit func(r *trail, copy uint32, try int)) {
	run := &e.runs[i]
	switch {
	case run.batch != 0:
		for _, entry := range e.batches[run.batch].entries {
			if r := t.of(e, e.copies.At(entry.copy).journey); r != nil {
				visit(r, entry.copy, int(entry.token))
			}
		}
	case run.copy != 0:
		if r := t.of(e, e.copies.At(run.copy).journey); r != nil {
			visit(r, run.copy, int(e.copies.At(run.copy).tries))
		}
	default:
		if r := t.of(e, run.own.journey); r != nil {
			visit(r, 0, 0)
		}
	}
}

func (t *tracer) runs(e *engine, i uint32) {
	seen := map[*trail]bool{}
	t.each(e, i, func(r *trail, copy uint32, try int) {
		if seen[r] {
			return
		}
		seen[r] = true
		run := &e.runs[i]
		s := Step{Node: e.nodes[run.node].name, What: "runs", Parent: r.cause, Try: try}
		switch {
		case copy != 0:
			s.Parent = r.ofCopy[copy]
		case run.why == forCall && e.runs[run.caller].why == forMove: // an outside system that takes from a queue
			s.Parent = r.ofRun[run.caller]
		}
		if run.batch != 0 {
			if n := len(e.batches[run.batch].entries); n > 1 {
				s.Why = fmt.Sprintf("a batch of %d", n)
			}
		}
		if run.work > 0 {
			s.Why = join(s.Why, "for "+model.FormatDuration(time.Duration(run.work).Round(time.Microsecond)))
		}
		if t.coldStart > 0 {
			s.Why += ", of which " + model.FormatDuration(
				time.Duration(t.coldStart).Round(time.Microsecond),
			) + " is its cold start"
		}
		r.ofRun[i] = r.add(e, s)
	})
	t.coldStart = 0
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

func (t *tracer) ends(e *engine, i uint32, failure int16) {
	seen := map[*trail]bool{}
	t.each(e, i, func(r *trail, copy uint32, _ int) {
		if seen[r] {
			return
		}
		seen[r] = true
		run := &e.runs[i]
		why := "succeeded"
		switch failure {
		case noError:
			if run.batch != 0 {
				for _, entry := range e.batches[run.batch].entries {
					if entry.copy == copy && entry.failure != noError {
						why = "failed by itself: " + e.errors[entry.failure]
					}
				}
			}
		case errFails:
			why = "failed"
		default:
			why = "failed: " + e.errors[failure]
		}
		if failure == errAccepts {
			why += ": " + e.misfit(run)
		}
		r.cause = r.add(e, Step{Parent: r.ofRun[i], Node: e.nodes[run.node].name, What: "ends", Why: why})
	})
}

func (t *tracer) sends(e *engine, i uint32, journey uint32, l *graph.Link) {
	r := t.of(e, journey)
	if r == nil {
		return
	}
	s := Step{Parent: r.ofRun[i], Node: e.nodes[l.From].name, Link: l.Link.ID(), What: "sends"}
	if l.Chance < 1 {
		s.Why = fmt.Sprintf("happens to %g%% of messages", l.Chance*100)
	}
	r.cause = r.add(e, s)
}

// calls notes a waiting call with what it carries, or, where the callee turns it away,
// the reason.
func (t *tracer) calls(e *engine, i uint32, m *message, l *graph.Link, try int, away int16) {
	r := t.of(e, m.journey)
	if r == nil {
		return
	}
	s := Step{
		Parent: r.ofRun[i],
		Node:   e.nodes[l.From].name,
		Link:   l.Link.ID(),
		What:   "calls",
		Why:    "and waits",
		Try:    try,
	}
	switch away {
	case noError:
		s.Event = e.eventOut(m, "message")
	case errRefused:
		s.Why = "failed: refused: " + e.notNamed(l)
	default:
		s.Why = "failed: " + e.errors[away]
	}
	r.cause = r.add(e, s)
}

// notNamed says why a link may not send or call.
func (e *engine) notNamed(l *graph.Link) string {
	return fmt.Sprintf("the `callers` of %s do not name %s", e.nodes[l.To].name, e.nodes[l.From].name)
}

// misfit says where the payloads of a run do not fit what its node accepts.
func (e *engine) misfit(run *run) string {
	n := &e.nodes[run.node]
	for k := 0; k < e.messages(run); k++ {
		m, _ := e.message(run, k)
		if err := n.accepts.Fits(e.eventOfMessage(&m, "message").Data); err != nil {
			return err.Error()
		}
	}
	return ""
}

func (t *tracer) skipped(e *engine, journey uint32, l *graph.Link, why string, err error) {
	r := t.of(e, journey)
	if r == nil {
		return
	}
	if err != nil {
		why = err.Error()
	}
	r.add(e, Step{Parent: r.cause, Node: e.nodes[l.From].name, Link: l.Link.ID(), What: "declined", Why: why})
}

// waits notes that a copy waits, for its next try where it has one left: tries is the
// most that it may have, 0 any number.
func (t *tracer) waits(e *engine, i uint32, wait int64, cause Fate, tries int) {
	c := e.copies.At(i)
	r := t.of(e, c.journey)
	if r == nil {
		return
	}
	why := model.FormatDuration(time.Duration(wait))
	switch {
	case cause == Throttled:
		why += ", since it was throttled"
	case tries > 0 && int(c.tries) >= tries:
		why += "; no try is left"
	default:
		why += fmt.Sprintf(" before try %d", c.tries+1)
	}
	r.add(e, Step{Parent: r.ofCopy[i], Node: e.nodes[c.node].name, What: "waits", Why: why, Try: int(c.tries)})
}

// answers notes the answer to a request, and what an answer of 400 and above is due to.
func (t *tracer) answers(e *engine, i uint32, failure, status int16) {
	c := e.copies.At(i)
	r := t.of(e, c.journey)
	if r == nil {
		return
	}
	n := &e.nodes[c.node]
	why := ""
	switch {
	case failure == noError:
	case failure == errAccepts:
		m := e.messageOf(c)
		why = n.accepts.Fits(e.eventOfMessage(&m, "request").Data).Error()
	case failure == errRefused:
		why = e.notNamed(&e.g.Links[e.deliveries[c.via].link])
	case status == 404:
		why = "no link of " + n.name + " accepts the request"
	default:
		why = e.errors[failure]
	}
	if why != "" {
		why = ": " + why
	}
	r.add(e, Step{Parent: r.ofCopy[i], Node: n.name, What: "returned", Why: fmt.Sprintf("answered %d%s", status, why)})
}

// fate notes what became of a copy at the step with which it came.
func (t *tracer) fate(e *engine, i uint32, f Fate) {
	r := t.of(e, e.copies.At(i).journey)
	if r == nil {
		return
	}
	came := r.ofCopy[i]
	if came == 0 {
		return
	}
	if step := r.step(came); step != nil {
		step.Fate = f.String()
	}
	s := Step{Parent: came, Node: e.nodes[e.copies.At(i).node].name, Fate: f.String()}
	switch {
	case f == Parked:
		s.What, s.Why = "parked", "it stays here: nothing reads "+s.Node
	case f.Loss():
		s.What, s.Why = "lost", lossWords[f]
		if via := e.deliveries[e.copies.At(i).via].link; f == Refused && via >= 0 {
			s.Why = e.notNamed(&e.g.Links[via])
		}
	default:
		return
	}
	r.add(e, s)
}

// task notes a step of a workflow, with its payload at that moment.
func (t *tracer) task(e *engine, th *thread, what, why string) {
	run := &e.runs[th.run]
	m, _ := e.message(run, int(run.index))
	r := t.of(e, m.journey)
	if r == nil {
		return
	}
	s := Step{Parent: r.ofRun[th.run], Node: e.nodes[run.node].name, What: what, Why: why}
	if th.data != nil {
		s.Event = map[string]any{"data": th.data}
	}
	r.cause = r.add(e, s)
}
