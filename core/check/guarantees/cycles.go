package guarantees

import (
	"slices"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
)

// cycles are the strongly connected components of the states over some edges in which a message comes to a state
// again.
type cycles struct {
	of      []int32 // by state: the number of its cycle; graph.None: it is on none
	members [][]int // states by cycle
}

// findCycles finds the cycles over the edges that are of a sort.
func (q *guarantor) findCycles(of func(*flow.Edge) bool) *cycles {
	places := make([]int, len(q.g.All))
	for s := range places {
		places[s] = s
	}
	return q.cyclesOf(places, len(places), of)
}

// findRounds finds the cycles as they would be without hop limits, which let a message round them a few times only: the
// states of one that differ by the functions passed are one there. It returns nil where no hops are counted.
func (q *guarantor) findRounds(of func(*flow.Edge) bool) *cycles {
	counted := func(s flow.State) bool { _, counted := s.Unhopped(); return counted }
	if !slices.ContainsFunc(q.g.All, counted) {
		return nil
	}
	number, places := map[flow.State]int{}, make([]int, len(q.g.All))
	for s := range q.g.All {
		one, _ := q.g.All[s].Unhopped()
		if _, known := number[one]; !known {
			number[one] = len(number)
		}
		places[s] = number[one]
	}
	return q.cyclesOf(places, len(number), of)
}

// cyclesOf finds the cycles over the edges that are of a sort, where each state stands at one of so many places.
func (q *guarantor) cyclesOf(places []int, count int, of func(*flow.Edge) bool) *cycles {
	var edges []graph.Edge
	for k := range q.g.Edges {
		if e := &q.g.Edges[k]; of(e) {
			edges = append(edges, graph.Edge{From: places[e.From], To: places[e.To]})
		}
	}
	loops, on := graph.Loops(count, edges), make([]int32, count)
	for k := range on {
		on[k] = graph.None
	}
	for k, loop := range loops {
		for _, place := range loop {
			on[place] = int32(k)
		}
	}
	c := &cycles{make([]int32, len(places)), make([][]int, len(loops))}
	for s := range c.of {
		if c.of[s] = on[places[s]]; c.of[s] != graph.None {
			c.members[c.of[s]] = append(c.members[c.of[s]], s)
		}
	}
	return c
}

// on reports whether a state is on a cycle.
func (c *cycles) on(s int32) bool { return c.of[s] != graph.None }

// joins reports whether an edge is a part of a cycle.
func (c *cycles) joins(e *flow.Edge) bool {
	return c.of[e.From] != graph.None && c.of[e.From] == c.of[e.To]
}

// states lists the states of the cycle on which a state is.
func (c *cycles) states(s int32) []int { return c.members[c.of[s]] }

// taken reports whether a message ever takes an edge: one that a run sends when it has succeeded is never sent where no
// run does, as when all fail or exceed their timeout.
func taken(e *flow.Edge) bool {
	return e.Verdict != expr.Impossible && (e.Kind != flow.Sends || e.Mean.High > 0)
}

// normally reports whether a message takes an edge with nothing broken: what is given up only under a fault does not.
func normally(e *flow.Edge) bool {
	return taken(e) && (e.Kind != flow.GaveUp && e.Kind != flow.Result || e.Mean.High >= flow.Negligible)
}

// closedBy names the fault under which messages take the edges that close the cycle of a state; of several, the
// first by name. Empty: they take all of them in normal operation.
func (q *guarantor) closedBy(c *cycles, s int32) (fault string) {
	for _, u := range c.states(s) {
		for _, e := range q.g.Leaving(u) {
			if !taken(&e) || normally(&e) || !c.joins(&e) {
				continue
			}
			if by := q.givesUpBy(&e); fault == "" || by < fault {
				fault = by
			}
		}
	}
	return fault
}

// givesUpBy names the node whose failure makes messages take an edge that they take only under a fault.
func (q *guarantor) givesUpBy(e *flow.Edge) string {
	if e.Kind == flow.GaveUp && e.Link != graph.None {
		return q.a.Node(q.a.Link(e.Link).To).Name
	}
	return q.a.Node(q.g.All[e.From].Node).Name
}

// circulates says whether messages come to some places again and again: in normal operation (0), only under a fault
// (1), which is named, or never (negative).
func (p *passage) circulates(at []int) (m int, fault string) {
	m = -1
	for _, k := range at {
		switch s := p.way[k]; {
		case p.q.cycles[0].on(s) || p.roundsAgain(0, s):
			return 0, ""
		case p.q.cycles[1].on(s):
			if by := p.q.closedBy(p.q.cycles[1], s); m < 0 || by < fault {
				m, fault = 1, by
			}
		case p.roundsAgain(1, s):
			if by := p.q.closedBy(p.q.rounds[1], s); m < 0 || by < fault {
				m, fault = 1, by
			}
		}
	}
	return m, fault
}

// roundsAgain reports whether messages come to a state again within a hop limit: having passed other numbers of
// functions, in normal operation (0) or at all (1).
func (p *passage) roundsAgain(m int, s int32) bool {
	rounds := p.q.rounds[m]
	if rounds == nil || !rounds.on(s) {
		return false
	}
	one, _ := p.q.g.All[s].Unhopped()
	for _, t := range rounds.states(s) {
		if other, _ := p.q.g.All[t].Unhopped(); t != int(s) && other == one && p.at(t) >= 0 {
			return true
		}
	}
	return false
}
