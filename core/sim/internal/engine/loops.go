package engine

import (
	"slices"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// loopTally counts the passes of messages at one node of a component of the topology.
// Every cycle of a component leads through at least one such node, so that no message
// circulates unseen.
type loopTally struct {
	component int32
	Members   []int // of the component
	At        int
	shift     uint8 // of its count among the bits of a message's passes
	Limit     uint16
	Arrivals  int64 // at the node
	Fresh     int64 // of them, of messages that had not been there before
	Most      int64 // passes of one message, at most limit
}

// mostCounted bounds the nodes of a component at which passes are counted: a message
// has 16 bits for them, and a count needs two.
const mostCounted = 8

// setUpLoops finds the components of the topology, waiting calls included, and the
// nodes of each at which passes are counted.
func (e *Engine) setUpLoops() {
	e.passesAt, e.InLoop = make([]int32, len(e.Nodes)), make([]int32, len(e.Nodes))
	for i := range e.passesAt {
		e.passesAt[i], e.InLoop[i] = -1, -1
	}
	edges := e.Graph.Edges(true)
	for k, members := range e.Graph.Components(edges) {
		for _, m := range members {
			e.InLoop[m] = int32(k)
		}
		first := len(e.Loops)
		e.countPassesOf(int32(k), members, edges)
		counted := e.Loops[first:]
		if len(counted) == 0 {
			continue
		}
		bits := 16 / len(counted)
		for i := range counted {
			counted[i].shift, counted[i].Limit = uint8(i*bits), uint16(1<<bits-1)
		}
	}
	for i := len(e.Graph.Nodes); i < len(e.Nodes); i++ { // a feed is part of the loops of what it reads
		e.InLoop[i] = e.InLoop[e.Nodes[i].Home.ID]
	}
}

// countPassesOf chooses the nodes of a component at which passes are counted, until the
// rest of it has no cycle. The first is the one nearest to where messages enter.
func (e *Engine) countPassesOf(component int32, members []int, edges []graph.Edge) {
	var rest []graph.Edge // not yet led through a node that counts
	entered := make([]bool, len(e.Nodes))
	for _, t := range e.Scenario.Traffic {
		entered[e.Graph.NodeID(t.Into)] = true
	}
	for _, edge := range edges {
		switch in := e.InLoop[edge.To] == component; {
		case in && e.InLoop[edge.From] == component:
			rest = append(rest, edge)
		case in:
			entered[edge.To] = true
		}
	}
	chosen := 0
	for _, part := range e.Graph.Components(rest) {
		for work := [][]int{part}; len(work) > 0 && chosen < mostCounted; {
			part, work = work[0], work[1:]
			at := e.counts(part, entered, rest)
			if at == graph.None {
				continue // nothing arrives: its cycles lead through reads
			}
			e.passesAt[at] = int32(len(e.Loops))
			e.Loops = append(e.Loops, loopTally{component: component, Members: members, At: at})
			chosen++
			var left, inside []graph.Edge
			in := map[int]bool{}
			for _, m := range part {
				in[m] = true
			}
			for _, edge := range rest {
				if edge.To == at && e.arrives(edge) {
					continue
				}
				left = append(left, edge)
				if in[edge.From] && in[edge.To] {
					inside = append(inside, edge)
				}
			}
			rest = left
			work = append(work, e.Graph.Components(inside)...)
		}
	}
}

// arrives reports whether a message or call on an edge is seen to arrive at its end. One
// that a reader takes from a channel stays the channel's, unless it is moved to another;
// and a run that reads a table writes nothing into it.
func (e *Engine) arrives(edge graph.Edge) bool {
	l := &e.Graph.Links[edge.Link]
	return edge.Dead || l.Op != "read" && l.Relation != model.PolledRun && l.Relation != model.PolledPush
}

// counts chooses the node of a part of a component at which passes are counted: nearest
// downstream of where messages enter, the first that holds messages one by one (not a
// channel that passes them on at once, where a filter may end the pass); where there is
// none, the first at which a message or a call arrives; None: there is none of either.
func (e *Engine) counts(part []int, entered []bool, edges []graph.Edge) int {
	in, arrives, held := map[int]bool{}, map[int]bool{}, map[int]bool{}
	for _, m := range part {
		in[m] = true
	}
	for _, edge := range edges {
		if in[edge.From] && in[edge.To] && e.arrives(edge) {
			arrives[edge.To] = true
			held[edge.To] = held[edge.To] || edge.Dead || e.Graph.Links[edge.Link].Relation != model.WaitingCall
		}
	}
	start := part[0]
	for _, m := range part {
		if entered[m] || e.Graph.Nodes[m].Rate > 0 {
			start = m
			break
		}
	}
	unseen := func(i int) bool { // runs begin here that no arrival announces
		return slices.ContainsFunc(e.Graph.Nodes[i].In, func(id int) bool { return !e.arrives(graph.Edge{Link: id}) })
	}
	called, fallback := graph.None, graph.None
	seen := map[int]bool{start: true}
	for frontier := []int{start}; len(frontier) > 0; frontier = frontier[1:] {
		i := frontier[0]
		switch k := e.Nodes[i].Kind; {
		case !arrives[i]:
		case k.Leases(), k.Runs() && held[i] && !unseen(i):
			return i
		case called == graph.None && !unseen(i):
			called = i
		case fallback == graph.None:
			fallback = i
		}
		for _, edge := range edges {
			if edge.From == i && in[edge.To] && !seen[edge.To] {
				seen[edge.To] = true
				frontier = append(frontier, edge.To)
			}
		}
	}
	if called != graph.None {
		return called
	}
	return fallback
}

// countPass counts a message or call that arrives at a node of a component from another
// node, or from outside (-1). It returns the message's passes with this one.
func (e *Engine) countPass(n *Node, from int32, passes uint16) uint16 {
	if from < 0 || e.InLoop[from] != e.InLoop[n.ID] {
		passes = 0 // it enters the component
	}
	k := e.passesAt[n.ID]
	if k < 0 {
		return passes
	}
	t := &e.Loops[k]
	t.Arrivals++
	count := passes >> t.shift & t.Limit
	if count == 0 {
		t.Fresh++
	}
	if count < t.Limit {
		count++
		passes += 1 << t.shift
	}
	t.Most = max(t.Most, int64(count))
	return passes
}

// CountCall counts a call that a run at a node makes for a message. What the message
// carries may count the passes of another component: that of the channel it was read from.
func (e *Engine) CountCall(callee *Node, caller int32, m *Message) uint16 {
	passes := m.Passes
	if m.Node >= 0 && e.InLoop[m.Node] != e.InLoop[caller] {
		passes = 0
	}
	return e.countPass(callee, caller, passes)
}
