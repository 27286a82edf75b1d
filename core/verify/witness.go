package verify

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

const (
	// windows bounds the instants at which a fault is tried on a way, for a witness.
	windows = 12
	// waysTried bounds the ways of messages on which it is tried.
	waysTried = 2
	// leastSent is how many messages of an entry are sent at least, while a witness is looked for.
	leastSent = 20
	// slowness is the factor by which a node is slowed to show what its slowness does.
	slowness = 1_000.0
)

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
	if !q.Order.Kept && !q.Order.Unused {
		out = append(out, Statement{Overtaken, 0})
	}
	return out
}

// Witnesses looks for scenarios that show what guarantees say.
type Witnesses struct {
	v      *verifier
	alone  map[[2]string]*trial // by entry, and the node that fails: only its messages are sent
	beside *trial               // all entries send, and nothing fails
}

// NewWitnesses looks for witnesses of what is said of a model. Entries that state no rate, keys
// or types get messages of each sort that the model distinguishes, one a minute.
func NewWitnesses(g *graph.Graph, o Options) (*Witnesses, error) {
	o.Events = cmp.Or(o.Events, mostRecorded)
	v := newRuns(g, o)
	for _, name := range slices.Sorted(maps.Keys(flow.Analyse(g, nil).Entries)) {
		if v.schedule[name] || o.Scenario != nil && v.rates[name] > 0 {
			continue
		}
		for _, t := range samples(g, g.NodeID(name)) {
			known := slices.ContainsFunc(v.base.Traffic, func(own *model.Traffic) bool {
				return own.Into == name && sortOfKey(own.Key) == sortOfKey(t.Key) && own.Type == t.Type
			})
			if !known {
				v.base.Traffic = append(v.base.Traffic, t)
				v.rates[name] += t.Rate
			}
		}
	}
	beside, err := newTrial(v, "", "")
	return &Witnesses{v, map[[2]string]*trial{}, beside}, err
}

// trials are those in which a statement is looked for: the entry's messages alone, and beside
// all others. Where none of them has the effect, what a guarantee denies without a fault is
// looked for while one node fails, so that they have it.
func (w *Witnesses) trials(q *guarantees.Guarantee, s Statement) ([]*trial, error) {
	alone, err := w.trialOf(q.From, "")
	if err != nil {
		return nil, err
	}
	out := []*trial{alone}
	if len(w.beside.ways) > 1 {
		out = append(out, w.beside)
	}
	faultless := s.What == Overtaken || s.What == Repeated && q.Repeats[s.At].Fault == ""
	if alone.has(q) || w.beside.has(q) || !faultless {
		return out, nil
	}
	for _, failing := range alone.places(q.From) {
		if failing == q.To || failing == q.From || w.v.o.Stop != nil && w.v.o.Stop() {
			continue
		}
		one, err := w.trialOf(q.From, failing)
		if err != nil {
			return nil, err
		}
		if one.has(q) {
			return []*trial{one}, nil
		}
	}
	return out, nil
}

// trialOf returns the trial of an entry alone while a node fails, if one does.
func (w *Witnesses) trialOf(entry, failing string) (*trial, error) {
	if known := w.alone[[2]string{entry, failing}]; known != nil {
		return known, nil
	}
	one, err := newTrial(w.v, entry, failing)
	w.alone[[2]string{entry, failing}] = one
	return one, err
}

// Find returns a witness of a statement, or nil where the scenarios that are tried do not
// show it.
func (w *Witnesses) Find(q *guarantees.Guarantee, s Statement) (*Witness, error) {
	trials, err := w.trials(q, s)
	if err != nil {
		return nil, err
	}
	for _, one := range trials {
		if found, err := one.named(q, s); found != nil || err != nil {
			return found, err
		}
	}
	if forced, err := w.leadingTo(q, s, trials); forced != nil || err != nil {
		if err != nil {
			return nil, err
		}
		return forced.named(q, s)
	}
	return nil, nil
}

// leadingTo returns a trial in which one node fails, so that messages come to the place of a statement to which none
// comes by itself, or nil.
func (w *Witnesses) leadingTo(q *guarantees.Guarantee, s Statement, trials []*trial) (*trial, error) {
	b := s.breach(q)
	if b == nil || slices.ContainsFunc(trials, func(one *trial) bool { return one.comesTo(q, b) }) {
		return nil, nil
	}
	for _, failing := range trials[0].places(q.From) {
		if failing == q.From || failing == b.Fault || w.v.o.Stop != nil && w.v.o.Stop() {
			continue
		}
		one, err := w.trialOf(q.From, failing)
		if err != nil || one.comesTo(q, b) {
			return one, err
		}
	}
	return nil, nil
}

// breach returns the reason that a statement gives; nil: it is of the order.
func (s Statement) breach(q *guarantees.Guarantee) *guarantees.Breach {
	switch s.What {
	case Lost:
		return &q.Losses[s.At]
	case Repeated:
		return &q.Repeats[s.At]
	}
	return nil
}

// named finds a witness and names its scenario after the statement.
func (w *trial) named(q *guarantees.Guarantee, s Statement) (*Witness, error) {
	found, err := w.find(q, s)
	if found != nil {
		named := *found.Scenario
		named.Name = strings.ReplaceAll(fmt.Sprintf("%s-%s-%s-%d", q.From, q.To, s.What, s.At+1), "/", "-")
		found.Scenario = &named
	}
	return found, err
}

func (w *trial) find(q *guarantees.Guarantee, s Statement) (*Witness, error) {
	switch s.What {
	case Lost:
		return w.loss(q, &q.Losses[s.At])
	case Repeated:
		return w.repetition(q, &q.Repeats[s.At])
	}
	return w.overtaking(q)
}

// shown finds, among the messages of a run, those that show something; none: the run does
// not show it.
type shown func(run []sim.Journey) []sim.Journey

// repetition returns a witness of an effect that happens again, as a breach says, or nil
// where the scenarios that are tried do not show it. The fault begins at instants on the way
// of a message that has the effect without a fault, and ends a little after its effect, or lasts.
func (w *trial) repetition(q *guarantees.Guarantee, b *guarantees.Breach) (*Witness, error) {
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
	brief := func(*model.Incident) {}
	lasting := func(x *model.Incident) { x.For = 0 } // until the tries are exhausted, and what is given up comes again
	halfOf := func(x *model.Incident) {              // of two writes at one instant, the later may fail alone
		if share := 0.5; x.Fails != nil {
			x.Fails, x.For = &share, 0
		}
	}
	for _, change := range []func(*model.Incident){brief, lasting, halfOf} {
		for _, fault := range faultsIn(b) {
			found, err := w.search(q, b, repeats, func(at, end time.Duration) *model.Incident {
				x := w.v.shows(b, fault, at, end-at+5*time.Second)
				change(x)
				return x
			})
			if found != nil || err != nil {
				return found, err
			}
		}
	}
	return nil, nil
}

// loss returns a witness of a message that is lost as a breach says and has no effect, or of a request that is answered
// as failed, or nil. The fault lasts to the end.
func (w *trial) loss(q *guarantees.Guarantee, b *guarantees.Breach) (*Witness, error) {
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
		found, err := w.search(q, b, loses, func(at, end time.Duration) *model.Incident {
			length := time.Duration(0)
			if b.Why == "overflow" { // by all that is delivered together when it is over
				length = max(end-at, w.untilFull(q, b))
			}
			return w.v.shows(b, fault, at, length)
		})
		if found != nil || err != nil {
			return found, err
		}
	}
	return nil, nil
}

// lacks reports whether a journey lacks an effect for the reason of a breach: it has none, or none by a way that leads
// through the place of the loss.
func (w *trial) lacks(q *guarantees.Guarantee, b *guarantees.Breach, j *sim.Journey) bool {
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
	usual := w.usual[usually{pair{q.From, q.To}, sortOf(j)}]
	if len(came) == 0 {
		return len(usual) > 0 || !w.has(q)
	}
	for lineage := range usual {
		if !came[lineage] && w.leadsThrough(lineage, b) {
			return true
		}
	}
	return false
}

// leadsThrough reports whether a lineage leads over the link of a breach, or over one that joins its node.
func (w *trial) leadsThrough(lineage string, b *guarantees.Breach) bool {
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
func (w *trial) lostAt(j *sim.Journey, b *guarantees.Breach) bool {
	if j.More > 0 || j.Outcome == "in_flight" {
		return false
	}
	from, to, _ := strings.Cut(b.Link, ":")
	return slices.ContainsFunc(j.Steps, func(s sim.Step) bool {
		return s.What == "lost" &&
			(s.Node == b.Node || b.Link != "" && (s.Link == b.Link || s.Node == from || s.Node == to))
	})
}

// withoutFault looks at the run without a fault, and then at a longer one in which only the
// messages of the entry are sent, until there are as many as are recorded.
func (w *trial) withoutFault(q *guarantees.Guarantee, of shown) (*Witness, error) {
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

// search tries an incident at instants on the way of a message: at first before its whole
// way, then before later and later parts of it.
func (w *trial) search(
	q *guarantees.Guarantee,
	b *guarantees.Breach,
	of shown,
	incident func(at, end time.Duration) *model.Incident,
) (*Witness, error) {
	for _, one := range w.waysOf(q, b) {
		found, err := w.searchOn(one.moments(q.To), q, b, of, incident)
		if found != nil || err != nil {
			return found, err
		}
	}
	return nil, nil
}

// searchOn tries it at instants on one way.
func (w *trial) searchOn(
	way []instant,
	q *guarantees.Guarantee,
	b *guarantees.Breach,
	of shown,
	incident func(at, end time.Duration) *model.Incident,
) (*Witness, error) {
	v := w.v
	duration := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
	end := duration(way[len(way)-1].at)
	traffic, tried := end+time.Minute, -1
	if rate := w.rateOf(q); rate > 0 {
		traffic = max(traffic, min(duration(leastSent/rate), v.base.Length), w.untilFull(q, b))
	}
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
		s := w.scenario(traffic, traffic+v.drained-v.base.Length, incident(at, end))
		run, err := v.journeys(s)
		if err != nil {
			return nil, err
		}
		if found := of(run); found != nil {
			return w.plain(&Witness{s, found}, of)
		}
	}
	return nil, nil
}

// plain leaves the samples out that a witness does not need.
func (w *trial) plain(x *Witness, of shown) (*Witness, error) {
	s := *x.Scenario
	s.Traffic = nil
	for _, t := range x.Scenario.Traffic {
		needed := slices.ContainsFunc(x.Journeys, func(j sim.Journey) bool {
			return t.Into == j.Entry && sends(t, sortOf(&j))
		})
		if needed || !isSample(t) {
			s.Traffic = append(s.Traffic, t)
		}
	}
	if len(s.Traffic) == len(x.Scenario.Traffic) {
		return x, nil
	}
	run, err := w.v.journeys(&s)
	if err != nil {
		return nil, err
	}
	if found := of(run); found != nil {
		return &Witness{&s, found}, nil
	}
	return x, nil
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
