package flow

import (
	"maps"
	"math"
	"slices"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
)

// Outage is how long a node can be down before messages suffer.
type Outage struct {
	Parks       document.State `json:"parks"`   // until the first message is parked
	Loses       document.State `json:"loses"`   // until the first message is lost
	Limit       string         `json:"limit"`   // the field that sets the earlier of the two
	Backlog     *float64       `json:"backlog"` // messages by then, at the known rates; null: no rate is known
	Drain       document.State `json:"drain"`   // how long the backlog takes afterwards
	ParksRange  *[2]*float64   `json:"parks_range,omitempty"`
	LosesRange  *[2]*float64   `json:"loses_range,omitempty"`
	Basis       Basis          `json:"basis,omitempty"`
	Assumptions []string       `json:"assumptions,omitempty"`
}

// tolerance is the earliest moment at which something happens to messages.
type tolerance struct {
	Moment
	limit string
	known bool
}

func (t *tolerance) earlier(m Moment, limit string) {
	switch {
	case !t.known:
		t.Moment, t.limit, t.known = m, limit, true
	case m.At < t.At:
		t.limit = limit
		t.Moment = Moment{m.At, min(m.low, t.low), min(m.high, t.high)}
	default:
		t.Moment = Moment{t.At, min(m.low, t.low), min(m.high, t.high)}
	}
}

// outageWork bounds the deliveries that are looked at behind others, in a large model.
const outageWork = 400_000

// findOutages works out the outage tolerance of every function, workflow and outside
// system: the first message parked and the first lost, over all that reaches them.
func (a *Analysis) findOutages() {
	a.Outages = map[string]Outage{}
	n := len(a.Graph.Nodes)
	parks, loses := make([]tolerance, n), make([]tolerance, n)
	runs := func(f int) bool { return f < n && a.Node(f).Kind.Runs() }
	each := func(faults []int, do func(int)) {
		for _, f := range faults {
			if runs(f) {
				do(f)
			}
		}
	}
	redirected := map[int][]*delivery{} // by state: what goes there under a fault
	for k := range a.faults.deliveries {
		d := &a.faults.deliveries[k]
		each(d.members, func(f int) {
			if d.to == graph.None {
				loses[f].earlier(d.after, d.limit)
			} else {
				parks[f].earlier(d.after, d.limit)
			}
		})
		if d.to != graph.None {
			redirected[d.to] = append(redirected[d.to], d)
		}
	}
	// What goes another way under a fault may be lost there by the same fault.
	work := 0
	for _, to := range slices.Sorted(maps.Keys(redirected)) {
		list := redirected[to]
		x := a.downstream(to)
		if work += len(x) * len(list); work > outageWork {
			break
		}
		for _, s := range x {
			for _, k := range a.faults.at[s] {
				last := &a.faults.deliveries[k]
				if last.to != graph.None {
					continue
				}
				for _, d := range list {
					if !d.faults.meets(last.faults) {
						continue
					}
					common, _ := d.faults.both(last.faults)
					each(common.list(), func(f int) { loses[f].earlier(d.after.plus(last.after), last.limit) })
				}
			}
		}
	}
	for i := range a.Graph.Nodes {
		if node := a.Node(i); node.Kind.Runs() {
			a.Outages[node.Name] = a.outageOf(i, &parks[i], &loses[i])
		}
	}
}

// downstream returns a state and those that its messages reach, a few of them.
func (a *Analysis) downstream(s int) []int {
	seen := map[int]bool{s: true}
	out := []int{s}
	for k := 0; k < len(out) && k < 60; k++ {
		for _, e := range a.States.Leaving(out[k]) {
			if e.Mean.High >= Negligible && !seen[e.To] {
				seen[e.To] = true
				out = append(out, e.To)
			}
		}
	}
	return out
}

// rangeOf returns the bounds of a moment in seconds, nil where it is within 5%.
func rangeOf(m Moment) *[2]*float64 {
	if m.high <= m.At*1.05+1e-9 && m.low >= m.At/1.05-1e-9 {
		return nil
	}
	low, high := m.low, &m.high
	if math.IsInf(m.high, 1) {
		high = nil
	}
	return &[2]*float64{&low, high}
}

func (a *Analysis) outageOf(i int, parks, loses *tolerance) Outage {
	o := Outage{Parks: document.Never, Loses: document.Never, Drain: document.Unknown, Basis: Basis{}}
	first := tolerance{}
	note := func(t *tolerance, state *document.State, between **[2]*float64, field string) {
		if !t.known {
			return
		}
		*state = document.At(t.At)
		if *between = rangeOf(t.Moment); *between != nil {
			o.Basis[field] = Estimate
		}
		if !first.known || t.At < first.At {
			first = *t
		}
	}
	note(parks, &o.Parks, &o.ParksRange, "parks")
	note(loses, &o.Loses, &o.LosesRange, "loses")
	o.Limit = first.limit
	if !first.known || first.At <= 0 || a.Boundless[i] || a.Rates[i] <= 0 {
		return o
	}
	backlog := a.Rates[i] * first.At
	o.Backlog = &backlog
	o.Basis["backlog"] = Estimate
	if most := a.mostInto(i); !math.IsInf(most, 1) {
		o.Drain = document.Never
		if spare := most - a.Rates[i]; spare > 0 {
			o.Drain = document.At(backlog / spare)
			o.Basis["drain"] = Estimate
		}
	}
	return o
}

// mostInto returns the messages per second that a node can take at most: by its
// concurrent runs, its rate limit, and the readers that bring them; infinite where
// nothing bounds it.
func (a *Analysis) mostInto(i int) float64 {
	n := a.Node(i)
	most, readers, batch := math.Inf(1), 0.0, 1
	for _, id := range n.In {
		l := a.Link(id)
		if a.Reach[id] == expr.Impossible {
			continue
		}
		r, polled := a.Readings[id]
		if !polled || r.Most == 0 {
			readers = math.Inf(1)
			continue
		}
		readers += r.Most
		batch = max(batch, l.Read.UpTo)
	}
	if readers > 0 {
		most = readers
	}
	if n.Concurrency > 0 {
		most = min(most, float64(n.Concurrency*batch)/max(a.meanRun(i), 1e-9))
	}
	if n.RateLimit > 0 {
		most = min(most, n.RateLimit*float64(batch))
	}
	return most
}
