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

// None reports whether nothing differs.
func (d *Drift) None() bool {
	return len(d.Unmodelled.Nodes)+len(d.Unmodelled.Links)+len(d.Unobserved.Nodes)+len(
		d.Unobserved.Links,
	)+len(d.Different) == 0
}

// leastSeen is how many observations a number needs to be compared.
const leastSeen = 20

// Drift compares a model with what was observed.
func (o *Observed) Drift(t *model.Topology) *Drift {
	names := o.Names(t)
	d := &Drift{
		Unmodelled: Names{Nodes: []string{}, Links: []string{}},
		Unobserved: Names{Nodes: []string{}, Links: []string{}},
		Different:  []Difference{},
	}
	seen, seenLinks := map[string]bool{}, map[[2]string]bool{}
	for _, n := range o.ordered() {
		name := names[n.Name]
		seen[name] = true
		m := t.Node(name)
		if m == nil {
			d.Unmodelled.Nodes = append(d.Unmodelled.Nodes, n.Name)
			continue
		}
		if m.Kind.Runs() {
			d.compare(m, n)
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

func (d *Drift) compare(m *model.Node, n *Node) {
	if len(n.Times) >= leastSeen && len(m.Cases) == 0 {
		mean, in := MeanInterval(n.Times)
		want := m.Takes.Expected()
		if !in.holds(want) && math.Abs(mean-want) > 0.01*want {
			d.Different = append(d.Different, Difference{m.Name, "takes_mean_s", want, mean, in, len(n.Times)})
		}
	}
	if n.Runs >= leastSeen && len(m.Cases) == 0 {
		share, in := ShareInterval(n.Failures, n.Runs)
		if want := m.Fails.EachTry; m.Fails.ForGood == 0 && !in.holds(want) {
			d.Different = append(d.Different, Difference{m.Name, "fails", want, share, in, n.Runs})
		}
	}
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
