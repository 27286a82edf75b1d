package verify

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"ironweir/core/check/guarantees"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// trial is a run without the fault that is looked for, which shows the ways of messages and what they usually do.
type trial struct {
	v       *verifier
	entry   string // the only one that sends; empty: all do
	failing string // the node that fails all the time; empty: none does
	normal  *model.Scenario
	run     []sim.Journey
	ways    map[string][]way            // by entry, in the order in which they were gone first
	usual   map[usually]map[string]bool // by which lineages effects come
}

// way is how a message of a sort went without a fault.
type way struct {
	sort    string
	steps   []instant
	reaches map[string]float64 // by destination: when it had its first effect there, in seconds
}

// instant is a step of a message: when, in seconds, and where.
type instant struct {
	at         float64
	node, link string
}

// usually is the fate of messages of a sort between an entry and a destination.
type usually struct {
	pair
	sort string
}

// newTrial runs the model without a fault, or while one node fails.
func newTrial(v *verifier, entry, failing string) (*trial, error) {
	w := &trial{v: v, entry: entry, failing: failing, ways: map[string][]way{}, usual: map[usually]map[string]bool{}}
	w.normal = w.scenario(v.base.Length, v.drained)
	var err error
	if w.run, err = v.journeys(w.normal); err != nil {
		return nil, err
	}
	gone := map[string]bool{}
	for k := range w.run {
		j := &w.run[k]
		one := way{sortOf(j), instantsOf(j), map[string]float64{}}
		for _, x := range effectsOf(v.g, j) {
			if _, is := one.reaches[x.node]; !is {
				one.reaches[x.node] = x.at
			}
			u := usually{pair{x.entry, x.node}, one.sort}
			if w.usual[u] == nil {
				w.usual[u] = map[string]bool{}
			}
			w.usual[u][x.lineage] = true
		}
		if id := one.identity(j.Entry); !gone[id] {
			gone[id] = true
			w.ways[j.Entry] = append(w.ways[j.Entry], one)
		}
	}
	return w, nil
}

// scenario returns the traffic of a trial for so long, with a fault.
func (w *trial) scenario(traffic, length time.Duration, incidents ...*model.Incident) *model.Scenario {
	if w.failing != "" {
		always := w.v.incident(w.failing, 0, 0)
		always.Name = "always"
		incidents = append(incidents, always)
	}
	s := w.v.scenario(traffic, length, incidents...)
	if w.entry != "" {
		w.only(s, w.entry)
	}
	return s
}

// only leaves out what other entries send.
func (w *trial) only(s *model.Scenario, entry string) {
	s.Traffic = slices.DeleteFunc(s.Traffic, func(t *model.Traffic) bool { return t.Into != entry })
	for _, x := range s.Incidents { // those that end the schedules
		if x.Enabled != nil && w.v.schedule[x.Node] && x.Node != entry {
			x.At = 0
		}
	}
}

// identity names a way by its entry, its sort of message and the places that it leads to.
func (w *way) identity(entry string) string {
	places := map[string]bool{}
	for _, s := range w.steps {
		places[s.node+" "+s.link] = true
	}
	return fmt.Sprint(entry, "\n", w.sort, "\n", slices.Sorted(maps.Keys(places)))
}

// waysOf returns the ways on which faults are tried for a statement, the best first: those of messages that have the
// effect and come to the place of the breach, if it has one.
func (w *trial) waysOf(q *guarantees.Guarantee, b *guarantees.Breach) []way {
	worth := func(x *way) (out int) {
		if _, is := x.reaches[q.To]; is {
			out++
		}
		if b != nil && x.passes(b.Node) {
			out += 2
		}
		return out
	}
	out := slices.Clone(w.ways[q.From])
	slices.SortStableFunc(out, func(x, y way) int { return worth(&y) - worth(&x) })
	return out[:min(len(out), waysTried)]
}

// places lists the nodes to which messages of an entry come, in the order in which they do first.
func (w *trial) places(entry string) []string {
	var out []string
	for _, x := range w.ways[entry] {
		for _, s := range x.steps {
			if !slices.Contains(out, s.node) {
				out = append(out, s.node)
			}
		}
	}
	return out
}

// instantsOf lists the steps of a journey.
func instantsOf(j *sim.Journey) []instant {
	var out []instant
	for k := range j.Steps {
		s := &j.Steps[k]
		out = append(out, instant{s.T, s.Node, s.Link})
	}
	return out
}

// moments returns the instants up to a destination, or of the whole way where it does not lead there, each once.
func (w *way) moments(to string) []instant {
	until, reaches := w.reaches[to]
	var out []instant
	for _, s := range w.steps {
		if (!reaches || s.at <= until) && (len(out) == 0 || s.at > out[len(out)-1].at) {
			out = append(out, s)
		}
	}
	return out
}

// comesTo reports whether messages of an entry come to the place of a breach.
func (w *trial) comesTo(q *guarantees.Guarantee, b *guarantees.Breach) bool {
	return slices.ContainsFunc(w.ways[q.From], func(x way) bool { return x.passes(b.Node) })
}

func (w *way) passes(node string) bool {
	return slices.ContainsFunc(w.steps, func(s instant) bool { return s.node == node })
}

// untilFull gives how long it takes until so many messages have entered as a breach by overflow needs; 0: it is none.
func (w *trial) untilFull(q *guarantees.Guarantee, b *guarantees.Breach) time.Duration {
	rate := w.rateOf(q)
	if i := w.v.g.NodeID(b.Node); b.Why == "overflow" && i >= 0 && rate > 0 {
		return min(time.Duration(2*float64(w.v.g.Nodes[i].Capacity)/rate*float64(time.Second)), 30*w.v.base.Length)
	}
	return 0
}

// rateOf gives the rate, per second, of the messages of an entry that have the effect.
func (w *trial) rateOf(q *guarantees.Guarantee) (rate float64) {
	for _, t := range w.v.base.Traffic {
		if t.Into == q.From && w.reached(q, t) {
			rate += t.Rate
		}
	}
	return rate
}

// has reports whether any message of an entry has an effect without a fault.
func (w *trial) has(q *guarantees.Guarantee) bool {
	return slices.ContainsFunc(w.ways[q.From], func(x way) bool { _, is := x.reaches[q.To]; return is })
}

// spacing gives the longest time between two messages of an entry that follow each other.
func (w *trial) spacing(entry string) time.Duration {
	var began []float64
	for k := range w.run {
		if w.run[k].Entry == entry {
			began = append(began, w.run[k].Began)
		}
	}
	slices.Sort(began)
	longest := time.Minute.Seconds()
	for k := 1; k < len(began); k++ {
		longest = max(longest, began[k]-began[k-1])
	}
	return time.Duration(longest * float64(time.Second))
}

// knows reports whether the sort of the messages of traffic is known.
func (w *trial) knows(t *model.Traffic) bool {
	return slices.ContainsFunc(w.ways[t.Into], func(x way) bool { return sends(t, x.sort) })
}

// reached reports whether the messages of traffic have an effect without a fault; where none have, and of traffic whose
// sort is not known, all may.
func (w *trial) reached(q *guarantees.Guarantee, t *model.Traffic) bool {
	return !w.has(q) || !isSample(t) && !w.knows(t) || slices.ContainsFunc(w.ways[q.From], func(x way) bool {
		_, is := x.reaches[q.To]
		return is && sends(t, x.sort)
	})
}

// long returns a scenario in which only one entry is used, as often as its rate says, over
// so long that many messages come.
func (w *trial) long(entry string) *model.Scenario {
	const most = 100 * 24 * time.Hour
	length := most
	if rate := w.v.rates[entry]; rate > 0 {
		length = min(most, time.Duration(recorded/rate*float64(time.Second)))
	}
	s := w.scenario(length, length+w.v.drained-w.v.base.Length)
	w.only(s, entry)
	return s
}
