package check

import (
	"slices"
	"sort"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// reach tells whether what comes to a link's source can take it.
type reach = expr.Verdict

// state is a kind of message at a node: a shape of keys, and a type ("" where
// it states none, anyType where nobody says).
type state struct {
	key  expr.KeyShape
	kind string
}

const anyType = "*"

// flow is what can come to a node.
type flow map[string]expr.Shapes // shapes of keys by type

func (f flow) add(s state) bool {
	shapes, changed := f[s.kind].Add(s.key)
	f[s.kind] = shapes
	return changed
}

// states lists what can come to a node, in a settled order.
func (f flow) states() []state {
	kinds := make([]string, 0, len(f))
	for k := range f {
		kinds = append(kinds, k)
	}
	sort.Strings(kinds)
	var out []state
	for _, kind := range kinds {
		for _, key := range f[kind] {
			out = append(out, state{key, kind})
		}
	}
	return out
}

// cover gives the member of a flow that a state is part of.
func (f flow) cover(s state) (state, bool) {
	for _, key := range f[s.kind] {
		if same, changed := (expr.Shapes{key}).Add(s.key); !changed && len(same) == 1 {
			return state{key, s.kind}, true
		}
	}
	return state{}, false
}

// covers gives the members of a flow that states are part of.
func (f flow) covers(states []state) []state {
	var out []state
	for _, s := range states {
		if c, ok := f.cover(s); ok && !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
}

// flowKeys sends states round until nothing changes.
func (a *Analysis) flowKeys(s *model.Scenario) {
	a.At = make([]flow, len(a.Graph.Nodes))
	for i := range a.At {
		a.At[i] = flow{}
	}
	var work []int
	queued := make([]bool, len(a.Graph.Nodes))
	touch := func(i int, changed bool) {
		if changed && !queued[i] {
			queued[i] = true
			work = append(work, i)
		}
	}
	for _, i := range a.entries {
		for _, brought := range a.brings(i, s) {
			touch(i, a.At[i].add(brought))
		}
	}
	out := make([][]graph.Edge, len(a.Graph.Nodes))
	for _, e := range a.Graph.Edges(true) {
		out[e.From] = append(out[e.From], e)
	}
	for len(work) > 0 {
		i := work[0]
		work = work[1:]
		queued[i] = false
		for _, e := range out[i] {
			for _, from := range a.At[i].states() {
				for _, next := range a.passOn(e, from) {
					touch(e.To, a.At[e.To].add(next.state))
				}
			}
		}
	}
	a.Reach = make([]reach, len(a.Graph.Links))
	for i := range a.Graph.Links {
		a.Reach[i] = a.linkReach(a.link(i))
	}
}

// brings lists what outsiders send to an entry.
func (a *Analysis) brings(i int, s *model.Scenario) []state {
	n := a.node(i)
	if n.Kind == model.Schedule {
		return []state{{expr.ExactKey(n.Name), ""}}
	}
	var out []state
	if s != nil {
		for _, t := range s.Traffic {
			if t.Into == n.Name && (t.Key != "" || len(n.Keys) == 0) {
				out = append(out, state{templateShape(t.Key), t.Type})
			}
		}
	}
	kind := anyType // nobody says what types outsiders send
	if n.Kind == model.Bucket || len(out) > 0 {
		kind = ""
	}
	for _, k := range n.Node.Keys {
		out = append(out, state{templateShape(k), kind})
	}
	if len(out) == 0 {
		out = append(out, state{expr.AnyKey, kind})
	}
	return out
}

// templateShape gives what is known of the keys that a template makes; of an
// empty one, nothing.
func templateShape(template string) expr.KeyShape {
	if t, err := expr.ParseTemplate(template, true); err == nil && template != "" {
		return t.Shape(expr.AnyKey)
	}
	return expr.AnyKey
}

// passed is what an edge makes of a state, and how surely.
type passed struct {
	state
	verdict reach
}

// passOn sends a state over an edge.
func (a *Analysis) passOn(e graph.Edge, from state) []passed {
	if e.Dead {
		return []passed{{from, expr.Possible}}
	}
	l := a.link(e.Link)
	verdict := a.sendVerdict(l)
	if verdict == expr.Impossible || l.Op == "read" {
		return nil
	}
	kind := from.kind
	switch {
	case l.Type != "":
		kind = l.Type
	case l.When != model.OfRun:
		kind = string(l.When)
	}
	shape := func(k expr.KeyShape) expr.KeyShape {
		if l.Key != nil {
			return l.Key.Shape(k)
		}
		return k
	}
	if l.Filter.Everything {
		return []passed{{state{shape(from.key), kind}, verdict}}
	}
	var out []passed
	for i := range l.Filter.Clauses {
		c := &l.Filter.Clauses[i]
		v := min(verdict, a.clauseVerdict(l, c, from))
		if v == expr.Impossible {
			continue
		}
		for _, p := range orEmpty(c.Prefix) {
			for _, suffix := range orEmpty(c.Suffix) {
				if from.key.HasPrefix(p) != expr.Impossible && from.key.HasSuffix(suffix) != expr.Impossible {
					out = append(out, passed{state{shape(from.key.Narrow(p, suffix)), kind}, v})
				}
			}
		}
	}
	return out
}

func orEmpty(list []string) []string {
	if len(list) == 0 {
		return []string{""}
	}
	return list
}

// sendVerdict judges what does not depend on the message: a link's own
// condition, and whether it carries failures.
func (a *Analysis) sendVerdict(l *graph.Link) reach {
	switch {
	case l.Chance == 0:
		return expr.Impossible
	case l.When == model.Failure:
		return expr.Possible
	case l.If == nil:
		return expr.Certain
	}
	switch v, constant := l.If.Constant(); {
	case !constant:
		return expr.Possible
	case v == false:
		return expr.Impossible
	}
	return expr.Certain
}

// clauseVerdict judges one clause of a filter for one state.
func (a *Analysis) clauseVerdict(l *graph.Link, c *graph.Clause, s state) reach {
	verdict := expr.Certain
	judge := func(list []string, one func(string) reach) {
		if list == nil {
			return
		}
		best := expr.Impossible
		for _, want := range list {
			best = max(best, one(want))
		}
		verdict = min(verdict, best)
	}
	judge(c.Prefix, s.key.HasPrefix)
	judge(c.Suffix, s.key.HasSuffix)
	judge(c.Type, func(want string) reach { return a.typeVerdict(l, s.kind, want) })
	judge(c.Source, func(want string) reach {
		if want == "outside" || a.Graph.NodeID(want) != graph.None {
			return expr.Possible
		}
		return expr.Impossible
	})
	if c.If != nil {
		switch v, constant := c.If.Constant(); {
		case !constant:
			verdict = min(verdict, expr.Possible)
		case v == false:
			return expr.Impossible
		}
	}
	return verdict
}

func (a *Analysis) typeVerdict(l *graph.Link, kind, want string) reach {
	switch {
	case kind == anyType:
		return expr.Possible
	case kind == want, kind == "" && want == graph.DefaultType(a.node(l.From).Kind):
		return expr.Certain
	case kind == "" && want == "deleted" && a.node(l.From).Kind == model.Bucket:
		return expr.Possible
	}
	return expr.Impossible
}

// filterVerdict judges a link's filter for one state: the best of its clauses.
func (a *Analysis) filterVerdict(l *graph.Link, s state) reach {
	most := a.changeVerdict(l)
	if l.Filter.Everything {
		return most
	}
	best := expr.Impossible
	for i := range l.Filter.Clauses {
		best = max(best, a.clauseVerdict(l, &l.Filter.Clauses[i], s))
	}
	return min(best, most)
}

// changeVerdict judges whether what is written to a bucket or table is among the
// changes that a link takes: whether a row is new, the rows decide; whether
// anything is deleted, what leads there.
func (a *Analysis) changeVerdict(l *graph.Link) reach {
	from := a.node(l.From)
	if !from.Kind.Keeps() || len(l.Changes) == 0 {
		return expr.Certain
	}
	writes := !slices.Contains(l.Changes, "written")
	if from.Kind == model.Table {
		writes = !slices.Contains(l.Changes, "inserted") || !slices.Contains(l.Changes, "updated")
	}
	switch {
	case !writes:
		return expr.Certain
	case from.Kind == model.Table && (slices.Contains(l.Changes, "inserted") || slices.Contains(l.Changes, "updated")):
		return expr.Possible
	case from.ObjectLife > 0:
		return expr.Possible
	}
	for _, id := range from.In {
		if a.link(id).Op == "delete" {
			return expr.Possible
		}
	}
	return expr.Impossible
}

// linkReach judges a link over everything that can come to its source.
func (a *Analysis) linkReach(l *graph.Link) reach {
	states := a.At[l.From].states()
	if len(states) == 0 {
		states = []state{{expr.AnyKey, anyType}} // nothing is known to come here
	}
	least, most := expr.Certain, expr.Impossible
	for _, s := range states {
		v := a.filterVerdict(l, s)
		least, most = min(least, v), max(most, v)
	}
	if most != expr.Impossible && least != expr.Certain {
		most = expr.Possible
	}
	return min(most, a.sendVerdict(l))
}
