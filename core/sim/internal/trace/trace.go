// Package trace records journeys: which ones, and what happened to them step by step.
package trace

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
)

// MaxSteps bounds a trace: a message that circulates is cut off.
const MaxSteps = 400

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

// Tracer writes down what happens to the journeys that it is asked for. It only
// looks: a run with it gives the same result as one without.
type Tracer struct {
	*engine.Engine
	wanted map[uint64]bool // journeys; nil: all
	trails map[uint64]*trail
	ended  map[uint64]note // of those

	limits JourneyLimits // of them the time of the bad ends that are asked for

	coldStart int64 // of the run that begins now; 0: it finds a warm instance
}

// note is how a journey ended, or stands.
type note struct {
	entry   int32
	born    int64
	copies  int32
	outcome string
}

// noteOf sums a journey up as it stands.
func noteOf(j *engine.Journey) note {
	n := note{j.Entry(), j.Born, j.Copies, "complete"}
	switch {
	case j.Failed:
		n.outcome = "failed"
	case j.Open > 0:
		n.outcome = "in_flight"
	}
	return n
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

// New makes a tracer of the journeys that are wanted; nil: of all.
func New(e *engine.Engine, wanted map[uint64]bool) *Tracer {
	return &Tracer{Engine: e, wanted: wanted, trails: map[uint64]*trail{}, ended: map[uint64]note{}}
}

// Want has a journey recorded from now on.
func (e *Tracer) Want(id uint64) { e.wanted[id] = true }

// Forget drops a journey.
func (e *Tracer) Forget(id uint64) {
	delete(e.wanted, id)
	delete(e.trails, id)
	delete(e.ended, id)
}

// Within says of which time bad ends are recorded, where a journey has more steps than that.
func (e *Tracer) Within(limits JourneyLimits) { e.limits = limits }

// JourneyFails notes nothing: how a journey ends says it.
func (e *Tracer) JourneyFails(*engine.Journey) {}

// JourneyEnds notes how a journey ends, if it is recorded.
func (e *Tracer) JourneyEnds(j *engine.Journey) {
	if e.wanted[j.ID()] {
		e.ended[j.ID()] = noteOf(j)
	}
}

// Journey gives a journey as far as it has come; false: it is not recorded.
func (e *Tracer) Journey(id uint64) (Journey, bool) {
	r := e.trails[id]
	if r == nil {
		return Journey{}, false
	}
	n, ended := e.ended[id]
	if !ended {
		for i := range e.Journeys.Count {
			if j := e.Journeys.At(i); j.ID() == id && j.Refs > 0 {
				n = noteOf(j)
			}
		}
	}
	j := Journey{
		ID:      id,
		Entry:   e.Graph.Nodes[n.entry].Name,
		Began:   time.Duration(n.born).Seconds(),
		Outcome: n.outcome,
		Copies:  int(n.copies),
		Steps:   r.written(),
	}
	j.More = r.count - len(j.Steps)
	if len(r.steps) > 0 {
		j.Key, _ = r.steps[0].Event["subject"].(string)
	}
	return j, true
}

// Recorded gives all journeys that are recorded, in the order of their numbers.
func (e *Tracer) Recorded() []Journey {
	var out []Journey
	for _, id := range slices.Sorted(maps.Keys(e.trails)) {
		j, _ := e.Journey(id)
		out = append(out, j)
	}
	return out
}

// Steps gives those of the one message that is followed.
func (e *Tracer) Steps() []Step {
	for _, one := range e.trails {
		return one.steps
	}
	return nil
}

// of gives the trail of a journey; nil: it is not recorded.
func (e *Tracer) of(journey uint32) *trail {
	id := e.Journeys.At(journey).ID()
	if e.wanted != nil && !e.wanted[id] {
		return nil
	}
	one := e.trails[id]
	if one == nil {
		one = &trail{ofCopy: map[uint32]int{}, ofRun: map[uint32]int{}}
		e.trails[id] = one
	}
	return one
}

// add writes a step down, at least for as long as it is a recent one, and returns its number.
func (r *trail) add(e *Tracer, s Step) int {
	r.count++
	s.ID = r.count
	s.T = math.Round(float64(e.Now)/1e3) / 1e6
	switch {
	case s.ID <= MaxSteps:
		r.steps = append(r.steps, s)
	case e.Follows():
		if e.Stopped == "" {
			e.Stopped = fmt.Sprintf("after %d steps; the message still goes on", MaxSteps)
		}
	default:
		r.addLate(e, s)
	}
	return s.ID
}

func (r *trail) addLate(e *Tracer, s Step) {
	if r.ends == lateEnds {
		return
	}
	if len(r.recent) > leadUp {
		r.recent = append(r.recent[:0], r.recent[1:]...)
	}
	r.recent = append(r.recent, s)
	if s.Bad() && e.limits.include(e.Now) {
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

func (e *Tracer) Comes(i uint32, m engine.Message) {
	r := e.of(m.Journey)
	if r == nil {
		return
	}
	what, parent := "held", r.cause
	if m.Node < 0 {
		what, parent = "enters", 0
	}
	c := e.Copies.At(i)
	s := Step{Parent: parent, Node: e.Nodes[c.Node].Name, What: what, Event: e.Describe(c)}
	if via := e.Deliveries[c.Via].Link; via >= 0 {
		s.Link = e.Graph.Links[via].Link.ID()
	}
	switch {
	case c.Flags&engine.Duplicate != 0:
		s.Why = "duplicate delivery"
	case c.Flags&engine.Deletion != 0 && s.Link == "":
		s.Why = "deletion at the end of the object's life"
	}
	r.ofCopy[i] = r.add(e, s)
}

// ColdStart notes how long the cold start of the run that begins now takes; 0: it finds a warm instance.
func (e *Tracer) ColdStart(time int64) { e.coldStart = time }

// Offered notes a link's decision about a copy; why is empty where it takes it.
func (e *Tracer) Offered(i uint32, l *graph.Link, why string) {
	if r := e.of(e.Copies.At(i).Journey); r != nil {
		r.decide(e, r.ofCopy[i], e.Nodes[l.From].Name, l, why)
	}
}

func (e *Tracer) OfferedResult(journey uint32, n *engine.Node, l *graph.Link, why string) {
	if r := e.of(journey); r != nil {
		r.decide(e, r.cause, n.Name, l, why)
	}
}

func (r *trail) decide(e *Tracer, parent int, node string, l *graph.Link, why string) {
	s := Step{Parent: parent, Node: node, Link: l.Link.ID(), What: "offered", Why: "no filter"}
	switch {
	case why != "":
		s.What, s.Why = "declined", why
	case !l.Filter.Everything:
		s.Why = "filter matches"
	}
	r.cause = r.add(e, s)
}

func (e *Tracer) Dead(i uint32, to int32) {
	if r := e.of(e.Copies.At(i).Journey); r != nil {
		r.cause = r.add(
			e,
			Step{
				Parent: r.ofCopy[i],
				Node:   e.Nodes[e.Copies.At(i).Node].Name,
				What:   "sends",
				Why:    "to its dead-letter, " + e.Nodes[to].Name,
			},
		)
	}
}

// each visits the trails of the journeys that a run works on, with the copy
// through which it does, or 0.
func (e *Tracer) each(i uint32, visit func(r *trail, copy uint32, try int)) {
	run := &e.Runs[i]
	switch {
	case run.Batch != 0:
		for _, entry := range e.Batches[run.Batch].Entries {
			if r := e.of(e.Copies.At(entry.Copy).Journey); r != nil {
				visit(r, entry.Copy, int(entry.Token))
			}
		}
	case run.Copy != 0:
		if r := e.of(e.Copies.At(run.Copy).Journey); r != nil {
			visit(r, run.Copy, int(e.Copies.At(run.Copy).Tries))
		}
	default:
		if r := e.of(run.Own.Journey); r != nil {
			visit(r, 0, 0)
		}
	}
}

func (e *Tracer) Begins(i uint32) {
	seen := map[*trail]bool{}
	e.each(i, func(r *trail, copy uint32, try int) {
		if seen[r] {
			return
		}
		seen[r] = true
		run := &e.Runs[i]
		s := Step{Node: e.Nodes[run.Node].Name, What: "runs", Parent: r.cause, Try: try}
		switch {
		case copy != 0:
			s.Parent = r.ofCopy[copy]
		case run.Why == engine.ForCall && e.Runs[run.Caller].Why == engine.ForMove:
			// an outside system that takes from a queue
			s.Parent = r.ofRun[run.Caller]
		}
		if run.Batch != 0 {
			if n := len(e.Batches[run.Batch].Entries); n > 1 {
				s.Why = fmt.Sprintf("a batch of %d", n)
			}
		}
		if run.Work > 0 {
			s.Why = join(s.Why, "for "+model.FormatDuration(time.Duration(run.Work).Round(time.Microsecond)))
		}
		if e.coldStart > 0 {
			s.Why += ", of which " + model.FormatDuration(
				time.Duration(e.coldStart).Round(time.Microsecond),
			) + " is its cold start"
		}
		r.ofRun[i] = r.add(e, s)
	})
	e.coldStart = 0
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + ", " + b
}

func (e *Tracer) Ends(i uint32, failure int16) {
	seen := map[*trail]bool{}
	e.each(i, func(r *trail, copy uint32, _ int) {
		if seen[r] {
			return
		}
		seen[r] = true
		run := &e.Runs[i]
		why := "succeeded"
		switch failure {
		case engine.NoError:
			if run.Batch != 0 {
				for _, entry := range e.Batches[run.Batch].Entries {
					if entry.Copy == copy && entry.Failure != engine.NoError {
						why = "failed by itself: " + e.Errors[entry.Failure]
					}
				}
			}
		case engine.ErrFails:
			why = "failed"
		default:
			why = "failed: " + e.Errors[failure]
		}
		if failure == engine.ErrAccepts {
			why += ": " + e.misfit(run)
		}
		r.cause = r.add(e, Step{Parent: r.ofRun[i], Node: e.Nodes[run.Node].Name, What: "ends", Why: why})
	})
}

func (e *Tracer) Sends(i uint32, journey uint32, l *graph.Link) {
	r := e.of(journey)
	if r == nil {
		return
	}
	s := Step{Parent: r.ofRun[i], Node: e.Nodes[l.From].Name, Link: l.Link.ID(), What: "sends"}
	if l.Chance < 1 {
		s.Why = fmt.Sprintf("happens to %g%% of messages", l.Chance*100)
	}
	r.cause = r.add(e, s)
}

// Calls notes a waiting call with what it carries, or, where the callee turns it away,
// the reason.
func (e *Tracer) Calls(i uint32, m engine.Message, l *graph.Link, try int, away int16) {
	r := e.of(m.Journey)
	if r == nil {
		return
	}
	s := Step{
		Parent: r.ofRun[i],
		Node:   e.Nodes[l.From].Name,
		Link:   l.Link.ID(),
		What:   "calls",
		Why:    "and waits",
		Try:    try,
	}
	switch away {
	case engine.NoError:
		s.Event = e.EventOut(&m, "message")
	case engine.ErrRefused:
		s.Why = "failed: refused: " + e.notNamed(l)
	default:
		s.Why = "failed: " + e.Errors[away]
	}
	r.cause = r.add(e, s)
}

// notNamed says why a link may not send or call.
func (e *Tracer) notNamed(l *graph.Link) string {
	return fmt.Sprintf("the `callers` of %s do not name %s", e.Nodes[l.To].Name, e.Nodes[l.From].Name)
}

// misfit says where the payloads of a run do not fit what its node accepts.
func (e *Tracer) misfit(run *engine.Run) string {
	n := &e.Nodes[run.Node]
	for k := 0; k < e.Messages(run); k++ {
		m, _ := e.Message(run, k)
		if err := n.Accepts.Fits(e.EventOfMessage(&m, "message").Data); err != nil {
			return err.Error()
		}
	}
	return ""
}

func (e *Tracer) Skips(journey uint32, l *graph.Link, why string, err error) {
	r := e.of(journey)
	if r == nil {
		return
	}
	if err != nil {
		why = err.Error()
	}
	r.add(e, Step{Parent: r.cause, Node: e.Nodes[l.From].Name, Link: l.Link.ID(), What: "declined", Why: why})
}

// Waits notes that a copy waits, for its next try where it has one left: tries is the
// most that it may have, 0 any number.
func (e *Tracer) Waits(i uint32, wait int64, cause engine.Fate, tries int) {
	c := e.Copies.At(i)
	r := e.of(c.Journey)
	if r == nil {
		return
	}
	why := model.FormatDuration(time.Duration(wait))
	switch {
	case cause == engine.Throttled:
		why += ", since it was throttled"
	case tries > 0 && int(c.Tries) >= tries:
		why += "; no try is left"
	default:
		why += fmt.Sprintf(" before try %d", c.Tries+1)
	}
	r.add(e, Step{Parent: r.ofCopy[i], Node: e.Nodes[c.Node].Name, What: "waits", Why: why, Try: int(c.Tries)})
}

// Answers notes the answer to a request, and what an answer of 400 and above is due to.
func (e *Tracer) Answers(i uint32, failure, status int16) {
	c := e.Copies.At(i)
	r := e.of(c.Journey)
	if r == nil {
		return
	}
	n := &e.Nodes[c.Node]
	why := ""
	switch {
	case failure == engine.NoError:
	case failure == engine.ErrAccepts:
		m := e.MessageOf(c)
		why = n.Accepts.Fits(e.EventOfMessage(&m, "request").Data).Error()
	case failure == engine.ErrRefused:
		why = e.notNamed(&e.Graph.Links[e.Deliveries[c.Via].Link])
	case status == 404:
		why = "no link of " + n.Name + " accepts the request"
	default:
		why = e.Errors[failure]
	}
	if why != "" {
		why = ": " + why
	}
	r.add(e, Step{Parent: r.ofCopy[i], Node: n.Name, What: "returned", Why: fmt.Sprintf("answered %d%s", status, why)})
}

// Fate notes what became of a copy at the step with which it came.
func (e *Tracer) Fate(i uint32, f engine.Fate) {
	r := e.of(e.Copies.At(i).Journey)
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
	s := Step{Parent: came, Node: e.Nodes[e.Copies.At(i).Node].Name, Fate: f.String()}
	switch {
	case f == engine.Parked:
		s.What, s.Why = "parked", "it stays here: nothing reads "+s.Node
	case f.Loss():
		s.What, s.Why = "lost", engine.LossWords(f)
		if via := e.Deliveries[e.Copies.At(i).Via].Link; f == engine.Refused && via >= 0 {
			s.Why = e.notNamed(&e.Graph.Links[via])
		}
	default:
		return
	}
	r.add(e, s)
}

// Task notes a step of a workflow, with its payload at that moment.
func (e *Tracer) Task(i uint32, data any, what, why string) {
	run := &e.Runs[i]
	m, _ := e.Message(run, int(run.Index))
	r := e.of(m.Journey)
	if r == nil {
		return
	}
	s := Step{Parent: r.ofRun[i], Node: e.Nodes[run.Node].Name, What: what, Why: why}
	if data != nil {
		s.Event = map[string]any{"data": data}
	}
	r.cause = r.add(e, s)
}
