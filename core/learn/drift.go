package learn

import (
	"fmt"
	"math"
	"sort"

	"ironweir/core/model"
)

// Drift is where a model and what was observed differ.
type Drift struct {
	Unmodelled Names        `json:"not_modelled"` // observed, and not in the model
	Unobserved Names        `json:"not_observed"` // in the model, and not observed
	Different  []Difference `json:"different"`    // beyond chance
}

// Names lists nodes, and links as FROM:TO.
type Names struct {
	Nodes []string `json:"nodes"`
	Links []string `json:"links"`
}

// Difference is a number of the model that lies outside the 99% interval of what
// was observed.
type Difference struct {
	Node     string   `json:"node"`
	What     string   `json:"what"` // takes_mean_s or fails
	Model    float64  `json:"model"`
	Observed float64  `json:"observed"`
	Interval Interval `json:"interval"`
	Seen     int      `json:"seen"` // observations
}

// NoDrift is a drift in which nothing differs.
func NoDrift() *Drift {
	return &Drift{
		Unmodelled: Names{Nodes: []string{}, Links: []string{}},
		Unobserved: Names{Nodes: []string{}, Links: []string{}},
		Different:  []Difference{},
	}
}

// None reports whether nothing differs.
func (d *Drift) None() bool {
	return len(d.Unmodelled.Nodes)+len(d.Unmodelled.Links)+len(d.Unobserved.Nodes)+len(
		d.Unobserved.Links,
	)+len(d.Different) == 0
}

// String says how the number differs, in its own unit.
func (d *Difference) String() string {
	if d.What == "fails" {
		return fmt.Sprintf("%s fails in %.3g%% of its runs (%.3g%% to %.3g%%), in %.3g%% by the model",
			d.Node, 100*d.Observed, 100*d.Interval[0], 100*d.Interval[1], 100*d.Model)
	}
	return fmt.Sprintf("%s takes %s on average (%s to %s), %s by the model", d.Node,
		duration(d.Observed), duration(max(d.Interval[0], 0)), duration(d.Interval[1]), duration(d.Model))
}

// leastSeen is how many observations a number needs to be compared, and leastSure how many for what must be sure: the
// mean of few long-tailed times is not normal far from its middle.
const (
	leastSeen = 20
	leastSure = 100
)

// Number is a number of the model beside what was observed of it.
type Number struct {
	Difference
	Differs bool `json:"differs"` // the model's lies outside the interval, and not by less than 1% of a time
}

// Drift lists where a model and what was observed differ: of each number by itself, in 99% of cases rightly.
func (o *Observed) Drift(t *model.Topology) *Drift {
	return o.drift(t, o.Numbers(t))
}

// SureDrift is Drift for reports that are sent: in 99.9% of cases all numbers that it lists
// differ (Bonferroni's bound).
func (o *Observed) SureDrift(t *model.Topology) *Drift {
	many := len(o.numbers(t, 0.99, leastSure))
	return o.drift(t, o.numbers(t, 1-0.001/float64(max(many, 1)), leastSure))
}

// Numbers compares every number of a model of which there are enough observations, by its 99% interval.
func (o *Observed) Numbers(t *model.Topology) []Number { return o.numbers(t, 0.99, leastSeen) }

func (o *Observed) numbers(t *model.Topology, confidence float64, least int) []Number {
	names, out := o.Names(t), []Number{}
	for _, n := range o.ordered() {
		m := t.Node(names[n.Name])
		if m == nil || !m.Kind.Runs() || len(m.Cases) > 0 {
			continue
		}
		if n.Timed.Count >= least {
			want, mean, in := m.Takes.Expected(), n.Timed.Mean(), n.timeInterval(confidence)
			also := Interval{in[0], in[1] + n.Handover.Mean} // a model may count the hand-over in, or not
			differs := !also.holds(want) && math.Abs(mean-want) > 0.01*want
			out = append(out, Number{Difference{m.Name, "takes_mean_s", want, mean, in, n.Timed.Count}, differs})
		}
		if n.Runs >= least && m.Fails.ForGood == 0 {
			want, share, in := m.Fails.EachTry, float64(n.Failures)/float64(n.Runs), n.shareInterval(confidence)
			out = append(out, Number{Difference{m.Name, "fails", want, share, in, n.Runs}, !in.holds(want)})
		}
	}
	return out
}

// timeInterval is the interval of the mean time of a run, as wide as hours differ where there are enough of them.
func (n *Node) timeInterval(confidence float64) Interval {
	in := n.Timed.interval(quantileOf(confidence))
	var sums, counts []float64
	for _, b := range n.batches {
		if b.timed.Count > 0 {
			sums, counts = append(sums, b.timed.Sum), append(counts, float64(b.timed.Count))
		}
	}
	if by, ok := batchInterval(sums, counts, confidence); ok {
		in = in.wider(by)
	}
	return in
}

// shareInterval is the interval of the share of failed runs, as wide as hours differ where there are enough of them.
func (n *Node) shareInterval(confidence float64) Interval {
	_, in := scoreInterval(n.Failures, n.Runs, quantileOf(confidence))
	var failures, runs []float64
	for _, b := range n.batches {
		failures, runs = append(failures, float64(b.failures)), append(runs, float64(b.runs))
	}
	if by, ok := batchInterval(failures, runs, confidence); ok {
		in = in.wider(Interval{max(by[0], 0), min(by[1], 1)})
	}
	return in
}

// drift compares a model with what was observed, its numbers as they were compared.
func (o *Observed) drift(t *model.Topology, numbers []Number) *Drift {
	names := o.Names(t)
	d := NoDrift()
	seen, seenLinks := map[string]bool{}, map[[2]string]bool{}
	for _, n := range o.ordered() {
		name := names[n.Name]
		seen[name] = true
		m := t.Node(name)
		if m == nil {
			d.Unmodelled.Nodes = append(d.Unmodelled.Nodes, n.Name)
		}
	}
	for _, n := range numbers {
		if n.Differs {
			d.Different = append(d.Different, n.Difference)
		}
	}
	for key := range o.Links {
		seenLinks[[2]string{names[key.From], names[key.To]}] = true
	}
	for channel, dead := range o.DeadLetters {
		seenLinks[[2]string{names[channel], names[dead]}] = true
	}
	has := map[[2]string]bool{}
	for _, n := range t.Nodes {
		if !seen[n.Name] {
			d.Unobserved.Nodes = append(d.Unobserved.Nodes, n.Name)
		}
		for _, l := range n.Links {
			has[[2]string{n.Name, l.To}] = true
			if seen[n.Name] && seen[l.To] && !seenLinks[[2]string{n.Name, l.To}] && l.Op != "read" {
				d.Unobserved.Links = append(d.Unobserved.Links, l.ID())
			}
		}
	}
	for link := range seenLinks {
		dead := o.DeadLetters[o.observedName(names, link[0])]
		if !has[link] && t.Node(link[0]) != nil && t.Node(link[1]) != nil && names[dead] != link[1] {
			d.Unmodelled.Links = append(d.Unmodelled.Links, link[0]+":"+link[1])
		}
	}
	sort.Strings(d.Unmodelled.Links)
	return d
}

func (o *Observed) observedName(names map[string]string, of string) string {
	for observed, name := range names {
		if name == of {
			return observed
		}
	}
	return ""
}

// Update gives a merge patch over a model that brings in what drifted: what is
// missing from it, and the numbers that differ beyond chance, as measured. What was
// not observed stays: it may only not have happened.
func (o *Observed) Update(t *model.Topology, drift *Drift) (patch *model.Value, comments []string) {
	patch, comments = o.Into(t)
	names := o.Names(t)
	d := o.drafter(names, t)
	nodes := patch.Get("nodes")
	for _, n := range o.ordered() {
		for _, differs := range drift.Different {
			field := map[string]string{"takes_mean_s": "takes", "fails": "fails"}[differs.What]
			measured := d.node(n).Get(field)
			if differs.Node != names[n.Name] {
				continue
			}
			if measured == nil { // it never failed
				measured = text("0")
			}
			change := nodes.Get(differs.Node)
			if change == nil {
				change = model.MapValue()
				nodes.Add(differs.Node, change)
			}
			change.Add(field, measured)
			comments = append(
				comments,
				fmt.Sprintf(
					"%s.%s: %.4g in the model, %.4g observed (99%% interval %.4g to %.4g, %d seen)",
					differs.Node,
					field,
					differs.Model,
					differs.Observed,
					differs.Interval[0],
					differs.Interval[1],
					differs.Seen,
				),
			)
		}
	}
	return patch, comments
}

// Into gives what was observed and is not in a model as a merge patch over it:
// new nodes whole, and new links of nodes that are there. What people wrote
// stays.
func (o *Observed) Into(t *model.Topology) (patch *model.Value, comments []string) {
	names := o.Names(t)
	d := o.drafter(names, t)
	nodes := model.MapValue()
	for _, n := range o.ordered() {
		v := d.node(n)
		m := t.Node(names[n.Name])
		if m == nil {
			nodes.Add(names[n.Name], v)
			comments = append(comments, names[n.Name]+": "+d.evidence(n))
			continue
		}
		links := model.MapValue()
		if v.Get("links") != nil {
			for _, l := range v.Get("links").Fields {
				to := l.Key
				if f := l.Value.Get("to"); f != nil {
					to = f.Scalar
				}
				known := m.Link(l.Key) != nil
				for _, have := range m.Links {
					known = known || have.To == to
				}
				if !known {
					links.Add(l.Key, l.Value)
					comments = append(comments, m.Name+":"+l.Key+": seen, and not in the model")
				}
			}
		}
		if len(links.Fields) > 0 {
			nodes.Add(m.Name, model.MapValue().Add("links", links))
		}
	}
	for _, f := range d.added.Fields { // those of links that the model does not have
		if mentions(nodes, f.Key) {
			nodes.Add(f.Key, f.Value)
			comments = append(comments, f.Key+": "+d.Comments["nodes."+f.Key])
		}
	}
	return model.MapValue().Add("nodes", nodes), comments
}

// mentions reports whether a text stands anywhere in a value.
func mentions(v *model.Value, scalar string) bool {
	if v == nil {
		return false
	}
	for _, f := range v.Fields {
		if mentions(f.Value, scalar) {
			return true
		}
	}
	for _, item := range v.Items {
		if mentions(item, scalar) {
			return true
		}
	}
	return v.Scalar == scalar
}
