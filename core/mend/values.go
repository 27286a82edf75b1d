package mend

import (
	"fmt"
	"maps"
	"slices"

	"ironweir/core/check/remedy"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/study"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// further lists the changes by which a candidate may come nearer to what is expected:
// doubled values where its runs show what falls short, then the remedies of its warnings
// and notes.
func (s *search) further(c *candidate) []remedy.Remedy {
	var out []remedy.Remedy
	add := func(r remedy.Remedy) {
		if !slices.ContainsFunc(out, func(old remedy.Remedy) bool { return old.Say == r.Say }) {
			out = append(out, r)
		}
	}
	for _, doc := range c.results {
		for _, name := range sortedKeys(doc.Nodes) {
			n := doc.Nodes[name]
			for _, r := range valuesFor(c.graph, c.graph.NodeID(name), &n) {
				add(r)
			}
		}
	}
	hot := suffering(c)
	for i := range c.check.Findings {
		f := &c.check.Findings[i]
		about := len(hot) == 0 || slices.ContainsFunc(f.Nodes, func(n string) bool { return hot[n] })
		if f.Accepted == nil && about {
			for _, r := range f.Remedies {
				add(r)
			}
		}
	}
	return out
}

// suffering returns the nodes at which the runs of a candidate lose or park messages, or
// turn them away, with those next to them.
func suffering(c *candidate) map[string]bool {
	hot := map[string]bool{}
	for _, doc := range c.results {
		for name, n := range doc.Nodes {
			if n.Lost["total"]+n.Parked+n.Throttled+n.Timeouts > 0 {
				hot[name] = true
			}
		}
	}
	out := maps.Clone(hot)
	for k := range c.graph.Links {
		l := c.graph.Links[k].Link
		if hot[l.From] || hot[l.To] {
			out[l.From], out[l.To] = true, true
		}
	}
	return out
}

// busy is the utilisation from which on a limit is raised.
const busy = 0.7

// valuesFor doubles the values of a node that a run shows to be too small.
func valuesFor(g *graph.Graph, id int, counted *study.Node) []remedy.Remedy {
	n := &g.Nodes[id]
	var out []remedy.Remedy
	field := func(name string, from, to any) {
		out = append(out, remedy.Remedy{
			Say:   fmt.Sprintf("Raise `%s` of `%s` from %v to %v", name, n.Name, from, to),
			Patch: map[string]any{"nodes": map[string]any{n.Name: map[string]any{name: to}}},
		})
	}
	onLink := func(l *graph.Link, group, name string, from, to any) {
		patch := map[string]any{l.Link.Name: map[string]any{group: map[string]any{name: to}}}
		out = append(out, remedy.Remedy{
			Say:   fmt.Sprintf("Raise `%s.%s` of `%s` from %v to %v", group, name, l.Link.ID(), from, to),
			Patch: map[string]any{"nodes": map[string]any{l.Link.From: map[string]any{"links": patch}}},
		})
	}
	tries := func(l *graph.Link) {
		if from := l.Policy.Tries; from > 0 {
			for _, times := range []int{2, 4} {
				onLink(l, "retry", "tries", from, from*times)
			}
		}
	}
	if counted.Lost["expired"] > 0 {
		field("retention", model.FormatDuration(n.Retention), model.FormatDuration(2*n.Retention))
	}
	if counted.Lost["overflow"] > 0 && n.Capacity > 0 {
		field("capacity", n.Capacity, 2*n.Capacity)
	}
	if n.Concurrency > 0 && (counted.Throttled > 0 || counted.Utilisation != nil && *counted.Utilisation > busy) {
		field("concurrency", n.Concurrency, 2*n.Concurrency)
	}
	if n.Kind == model.Stream && counted.Depth.Max > 100 {
		field("partitions", n.Partitions, 2*n.Partitions)
	}
	for k := range g.Links {
		l := &g.Links[k]
		switch {
		case l.DeadLetter == id && counted.Parked > 0: // what was given up too soon
			tries(l)
		case (l.From == id || l.To == id) && counted.Lost["exhausted"]+counted.Lost["given_up"] > 0:
			tries(l)
		}
		if l.From == id && n.Kind.Leases() && l.Relation.Polls() && counted.Depth.Max > 20 {
			onLink(l, "read", "parallel", l.Read.Parallel, 2*l.Read.Parallel)
		}
	}
	return out
}
