package verify

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// windows bounds the instants at which a fault is tried for a witness.
const windows = 12

// slowness is the factor by which a node is slowed to show what its slowness does.
const slowness = 1_000.0

// Witness is a scenario whose run shows what a guarantee denies.
type Witness struct {
	Scenario *model.Scenario
	// Journeys has the message that it happens to; of an order that is not kept, the one that
	// is overtaken and the one that overtakes it.
	Journeys []sim.Journey
}

// The statements of a guarantee that deny something.
const (
	Lost      = "lost"
	Repeated  = "repeated"
	Overtaken = "overtaken"
)

// Statement is one of them: of a guarantee's losses or repetitions, the one at a place.
type Statement struct {
	What string
	At   int
}

// StatementsOf lists what a guarantee denies.
func StatementsOf(q *guarantees.Guarantee) []Statement {
	var out []Statement
	for k := range q.Losses {
		out = append(out, Statement{Lost, k})
	}
	for k := range q.Repeats {
		out = append(out, Statement{Repeated, k})
	}
	if !q.Order.Kept {
		out = append(out, Statement{Overtaken, 0})
	}
	return out
}

// Witnesses looks for scenarios that show what guarantees say.
type Witnesses struct {
	v      *verifier
	normal *model.Scenario
	run    []sim.Journey            // of the normal scenario
	ways   map[pair][]instant       // of one message from its entry to its effect; to "", to its end
	usual  map[pair]map[string]bool // by which lineages effects come without a fault
}

// instant is a step of a message: when, in seconds, and where.
type instant struct {
	at   float64
	node string
}

// NewWitnesses runs a model without a fault, which shows the ways of its messages. Entries
// that state no rate get one message a minute.
func NewWitnesses(g *graph.Graph, o Options) (*Witnesses, error) {
	v := newGuaranteeVerifier(g, o)
	for _, name := range slices.Sorted(maps.Keys(v.a.Entries)) {
		if v.rates[name] == 0 && !v.schedule[name] {
			v.rates[name] = 1.0 / 60
			v.base.Traffic = append(v.base.Traffic,
				&model.Traffic{Name: "to-" + name, Into: name, Arrivals: "even", Rate: v.rates[name]})
		}
	}
	w := &Witnesses{v: v, normal: v.scenario(v.base.Length, v.drained), ways: map[pair][]instant{},
		usual: map[pair]map[string]bool{}}
	var err error
	if w.run, err = v.journeys(w.normal); err != nil {
		return nil, err
	}
	for k := range w.run {
		j := &w.run[k]
		if p := (pair{j.Entry, ""}); w.ways[p] == nil {
			w.ways[p] = instantsBefore(j, math.Inf(1))
		}
		for _, x := range effectsOf(g, j) {
			p := pair{x.entry, x.node}
			if w.ways[p] == nil {
				w.ways[p], w.usual[p] = instantsBefore(j, x.at), map[string]bool{}
			}
			w.usual[p][x.lineage] = true
		}
	}
	return w, nil
}

// Find returns a witness of a statement, or nil where the scenarios that are tried do not
// show it.
func (w *Witnesses) Find(q *guarantees.Guarantee, s Statement) (found *Witness, err error) {
	switch s.What {
	case Lost:
		found, err = w.loss(q, &q.Losses[s.At])
	case Repeated:
		found, err = w.repetition(q, &q.Repeats[s.At])
	default:
		found, err = w.overtaking(q)
	}
	if found != nil {
		named := *found.Scenario
		named.Name = strings.ReplaceAll(fmt.Sprintf("%s-%s-%s-%d", q.From, q.To, s.What, s.At+1), "/", "-")
		found.Scenario = &named
	}
	return found, err
}

// wayOf returns the way of a message to its effect, or where none has it, to its end.
func (w *Witnesses) wayOf(q *guarantees.Guarantee) []instant {
	if way := w.ways[pair{q.From, q.To}]; way != nil {
		return way
	}
	return w.ways[pair{q.From, ""}]
}

// instantsBefore lists the steps of a journey up to a time, one of each instant.
func instantsBefore(j *sim.Journey, until float64) []instant {
	var out []instant
	for k := range j.Steps {
		if s := &j.Steps[k]; s.T <= until && (len(out) == 0 || s.T > out[len(out)-1].at) {
			out = append(out, instant{s.T, s.Node})
		}
	}
	return out
}

// shown finds, among the messages of a run, those that show something; none: the run does
// not show it.
type shown func(run []sim.Journey) []sim.Journey

// repetition returns a witness of an effect that happens again, as a breach says, or nil
// where the scenarios that are tried do not show it. The fault begins at instants on the way
// of a message that has the effect without a fault, and ends a little after its effect.
func (w *Witnesses) repetition(q *guarantees.Guarantee, b *guarantees.Breach) (*Witness, error) {
	repeats := func(run []sim.Journey) []sim.Journey {
		for k := range run {
			if _, is := repeatedOf(effectsOf(w.v.g, &run[k]))[pair{q.From, q.To}]; is {
				return run[k : k+1]
			}
		}
		return nil
	}
	if b.Fault == "" && b.Shows == "" {
		return w.withoutFault(q, repeats)
	}
	for _, fault := range faultsIn(b) {
		found, err := w.search(q, repeats, func(at, end time.Duration) *model.Incident {
			return w.v.shows(b, fault, at, end-at+5*time.Second)
		})
		if found != nil || err != nil {
			return found, err
		}
	}
	return nil, nil
}

// loss returns a witness of a message that is lost as a breach says and has no effect, or of a request that is answered
// as failed, or nil. The fault lasts to the end.
func (w *Witnesses) loss(q *guarantees.Guarantee, b *guarantees.Breach) (*Witness, error) {
	loses := func(run []sim.Journey) []sim.Journey {
		for k := range run {
			if run[k].Entry == q.From && w.lacks(q, b, &run[k]) {
				return run[k : k+1]
			}
		}
		return nil
	}
	faults := faultsIn(b)
	if b.Fault == "" {
		if found, err := w.withoutFault(q, loses); found != nil || err != nil {
			return found, err
		}
		faults = []string{b.Node} // what seldom happens by itself is shown by what makes it happen
	}
	for _, fault := range faults {
		found, err := w.search(q, loses, func(at, _ time.Duration) *model.Incident {
			return w.v.shows(b, fault, at, 0)
		})
		if found != nil || err != nil {
			return found, err
		}
	}
	return nil, nil
}

// lacks reports whether a journey lacks an effect for the reason of a breach: it has none, or none by a way that leads
// through the place of the loss.
func (w *Witnesses) lacks(q *guarantees.Guarantee, b *guarantees.Breach, j *sim.Journey) bool {
	if q.Answer {
		return slices.ContainsFunc(j.Steps, func(s sim.Step) bool { return answered(&s) >= failedRequest })
	}
	if !w.lostAt(j, b) {
		return false
	}
	came := map[string]bool{}
	for _, x := range effectsOf(w.v.g, j) {
		if x.node == q.To {
			came[x.lineage] = true
		}
	}
	if len(came) == 0 {
		return true
	}
	for lineage := range w.usual[pair{q.From, q.To}] {
		if !came[lineage] && w.leadsThrough(lineage, b) {
			return true
		}
	}
	return false
}

// leadsThrough reports whether a lineage leads over the link of a breach, or over one that joins its node.
func (w *Witnesses) leadsThrough(lineage string, b *guarantees.Breach) bool {
	for _, hop := range strings.Fields(lineage) {
		link, _, _ := strings.Cut(hop, "#")
		id := w.v.g.LinkID(link)
		if id < 0 {
			continue
		}
		l := &w.v.g.Links[id]
		if link == b.Link || w.v.g.Nodes[l.From].Name == b.Node || w.v.g.Nodes[l.To].Name == b.Node {
			return true
		}
	}
	return false
}

// lostAt reports whether a journey that is over lost something where a breach says.
func (w *Witnesses) lostAt(j *sim.Journey, b *guarantees.Breach) bool {
	if j.More > 0 || j.Outcome == "in_flight" {
		return false
	}
	from, to, _ := strings.Cut(b.Link, ":")
	return slices.ContainsFunc(j.Steps, func(s sim.Step) bool {
		return s.What == "lost" &&
			(s.Node == b.Node || b.Link != "" && (s.Link == b.Link || s.Node == from || s.Node == to))
	})
}

// overtaking returns a witness of two messages of one key, or of any where no two have the
// same, of which the later has its effect before the earlier, or nil. Those that enter are
// half a second apart, at least. Where runs alone do not show it, the nodes on the way fail
// for a moment, one after the other, so that a message waits there for its next try.
func (w *Witnesses) overtaking(q *guarantees.Guarantee) (*Witness, error) {
	if found := w.overtaken(q, w.run); found != nil {
		return &Witness{w.normal, found}, nil
	}
	incidents := []*model.Incident{nil}
	tried := map[string]bool{}
	for _, on := range w.wayOf(q) {
		i := w.v.g.NodeID(on.node)
		if i >= 0 && !tried[on.node] && !w.v.g.Nodes[i].Kind.Channel() {
			tried[on.node] = true
			at := time.Duration(on.at*float64(time.Second)) + 10*time.Second
			incidents = append(incidents, w.v.incident(on.node, at, 2*time.Second))
			if factor := slowness; w.v.g.Nodes[i].Kind.Runs() { // one that is slow is overtaken by the next
				incidents = append(incidents,
					&model.Incident{Name: "slow", At: at, For: time.Second, Node: on.node, Slow: &factor})
			}
		}
	}
	for _, x := range incidents {
		if w.v.o.Stop != nil && w.v.o.Stop() {
			return nil, nil
		}
		s := w.dense(q.From, x)
		run, err := w.v.journeys(s)
		if err != nil {
			return nil, err
		}
		if found := w.overtaken(q, run); found != nil {
			return &Witness{s, found}, nil
		}
	}
	return nil, nil
}

// dense returns a scenario in which a minute of messages enters at one node, two a second
// at least.
func (w *Witnesses) dense(entry string, incident *model.Incident) *model.Scenario {
	const minute = time.Minute
	s := w.v.scenario(minute, minute+w.v.drained-w.v.base.Length)
	s.Traffic = slices.DeleteFunc(s.Traffic, func(t *model.Traffic) bool { return t.Into != entry })
	for _, t := range s.Traffic {
		t.Rate = max(t.Rate, 2/float64(len(s.Traffic)))
		t.Max = int64(t.Rate * minute.Seconds())
	}
	if incident != nil {
		s.Incidents = append(s.Incidents, incident)
	}
	return s
}

// overtaken finds two messages of a run of which the later took effect first.
func (w *Witnesses) overtaken(q *guarantees.Guarantee, run []sim.Journey) []sim.Journey {
	var list []effect
	byID := map[uint64]int{}
	for k := range run {
		byID[run[k].ID] = k
		list = append(list, effectsOf(w.v.g, &run[k])...)
	}
	for _, key := range []func(*effect) string{
		func(x *effect) string { return x.key + " " + x.lineage },
		func(x *effect) string { return x.lineage },
	} {
		if x, before := overtaking(q, list, key); x != nil {
			return []sim.Journey{run[byID[x.journey]], run[byID[before.journey]]}
		}
	}
	return nil
}

// withoutFault looks at the run without a fault, and then at a longer one in which only the
// messages of the entry are sent, until there are as many as are recorded.
func (w *Witnesses) withoutFault(q *guarantees.Guarantee, of shown) (*Witness, error) {
	if found := of(w.run); found != nil {
		return &Witness{w.normal, found}, nil
	}
	s := w.long(q.From)
	run, err := w.v.journeys(s)
	if err != nil {
		return nil, err
	}
	if found := of(run); found != nil {
		return &Witness{s, found}, nil
	}
	return nil, nil
}

// long returns a scenario in which only one entry is used, as often as its rate says, over
// so long that many messages come.
func (w *Witnesses) long(entry string) *model.Scenario {
	const most = 100 * 24 * time.Hour
	length := most
	if rate := w.v.rates[entry]; rate > 0 {
		length = min(most, time.Duration(recorded/rate*float64(time.Second)))
	}
	s := w.v.scenario(length, length+w.v.drained-w.v.base.Length)
	s.Traffic = slices.DeleteFunc(s.Traffic, func(t *model.Traffic) bool { return t.Into != entry })
	for _, x := range s.Incidents { // those that end the schedules
		if x.Node != entry {
			x.At = 0
		}
	}
	return s
}

// search tries an incident at instants on the way of a message: at first before its whole
// way, then before later and later parts of it.
func (w *Witnesses) search(
	q *guarantees.Guarantee,
	of shown,
	incident func(at, end time.Duration) *model.Incident,
) (*Witness, error) {
	v, way := w.v, w.wayOf(q)
	if len(way) == 0 {
		return nil, nil
	}
	duration := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	end := duration(way[len(way)-1].at)
	traffic, tried := end+time.Minute, -1
	for k := range windows {
		i := k * len(way) / windows
		if i == tried {
			continue
		}
		tried = i
		if v.o.Stop != nil && v.o.Stop() {
			return nil, nil
		}
		at := max(duration(way[i].at)-time.Millisecond, 0) // before it comes
		if i > 0 {
			at = duration((way[i-1].at + way[i].at) / 2)
		}
		s := v.scenario(traffic, traffic+v.drained-v.base.Length, incident(at, end))
		run, err := v.journeys(s)
		if err != nil {
			return nil, err
		}
		if found := of(run); found != nil {
			return &Witness{s, found}, nil
		}
	}
	return nil, nil
}

// faultsIn lists the faults of a breach, of which any one will do; one that is empty stands
// for slowness, or for a node that fails by itself.
func faultsIn(b *guarantees.Breach) []string { return strings.Split(b.Fault, ", ") }

// shows makes happen what a breach needs; a length of 0 lasts to the end.
func (v *verifier) shows(b *guarantees.Breach, fault string, at, length time.Duration) *model.Incident {
	node, crash := strings.CutSuffix(fault, "/crash")
	switch {
	case crash:
		return &model.Incident{Name: "crash", At: at, Node: node, Crash: true}
	case fault != "":
		return v.incident(fault, at, length)
	case b.Slow:
		factor := slowness
		return &model.Incident{Name: "slow", At: at, For: length, Node: b.Shows, Slow: &factor}
	}
	return v.incident(b.Shows, at, length)
}
