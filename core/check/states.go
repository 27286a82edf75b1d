package check

import (
	"cmp"
	"math"
	"slices"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// manner is how a message comes to a node that runs: its tries (0: without end),
// whether nobody waits for the run, and where it goes when the tries are used
// up (a node, or None). What a run sends depends on it.
type manner struct {
	tries int
	async bool
	dead  int
}

// anyManner is the manner of everything at a node that does not run.
var anyManner = manner{tries: 1, dead: graph.None}

// ownManner is the manner of what comes to a node by no link, or as a dead letter.
func (a *Analysis) ownManner(i int) manner {
	n := a.node(i)
	if !n.Kind.Runs() {
		return anyManner
	}
	return manner{n.Intake.Tries, true, n.DeadLetter}
}

// mannerOf is the manner of what comes over an edge.
func (a *Analysis) mannerOf(e graph.Edge) manner {
	if !a.node(e.To).Kind.Runs() {
		return anyManner
	}
	if e.Dead {
		return a.ownManner(e.To)
	}
	l := a.link(e.Link)
	w := manner{l.Policy.Tries, l.Relation.Asynchronous(), l.DeadLetter}
	switch {
	case l.Relation.Polls():
		w.dead = graph.None // the channel holds it, and sets it aside
	case l.Relation == model.WaitingCall:
		w.tries, w.dead = 1, graph.None // each call counts
	}
	return w
}

// spot is a kind of message at a node, come there in some manner.
type spot struct {
	node   int
	state  state
	manner manner
}

// stateGraph is the graph of what can be where: its nodes are spots, so that a
// filter that lets some keys through and not others is told apart, and so are
// messages that are tried differently.
type stateGraph struct {
	spots []spot
	index map[spot]int
	from  []int32 // edges of spot i are edges[from[i]:from[i+1]]
	edges []stateEdge
	of    [][]int32 // spots by node
}

// stateEdge is one entry of the mean-offspring matrix: for one message at from,
// the mean number that reaches to, and how long it takes.
type stateEdge struct {
	graph.Edge // over nodes
	from, to   int
	verdict    reach
	mean       span    // surely between
	expected   float64 // what the traffic equations use
	delay      float64 // seconds, mean
}

// discount gives E[e^(−s·delay)]: what a message that comes later counts in a
// population that grows at s. The node's own time varies as it says, what else
// there is to wait for counts with its mean.
func (a *Analysis) discount(e *stateEdge, s float64) float64 {
	own := a.ownTime(a.node(a.states.spots[e.from].node))
	if e.Dead || own.Dist == "" {
		return math.Exp(-s * e.delay)
	}
	return own.Laplace(s) * math.Exp(-s*max(e.delay-own.Expected(), 0))
}

// ownTime is the random part of the time that a message spends at a node; none
// has an empty distribution.
func (a *Analysis) ownTime(n *graph.Node) model.Distribution {
	switch {
	case n.Kind == model.Bucket:
		return n.Notice
	case n.Kind.Runs() && !n.Takes.IsZero():
		return n.Takes
	}
	return model.Distribution{}
}

// leaving gives the edges of a spot.
func (sg *stateGraph) leaving(i int) []stateEdge { return sg.edges[sg.from[i]:sg.from[i+1]] }

// findStates follows everything that outsiders send in, spot by spot.
func (a *Analysis) findStates() {
	sg := &stateGraph{index: map[spot]int{}}
	a.states = sg
	out := make([][]graph.Edge, len(a.Graph.Nodes))
	for _, e := range a.Graph.Edges(true) {
		out[e.From] = append(out[e.From], e)
	}
	var found []spot
	see := func(s spot) int {
		k, seen := sg.index[s]
		if !seen {
			k = len(found)
			sg.index[s] = k
			found = append(found, s)
		}
		return k
	}
	for _, i := range a.entries {
		for _, s := range a.At[i].covers(a.brings(i, a.scenario)) {
			see(spot{i, s, a.ownManner(i)})
		}
	}
	first := []int{0} // of sg.edges, by spot as found
	for k := 0; k < len(found); k++ {
		at := found[k]
		for _, e := range out[at.node] {
			if e.Dead && at.manner.dead != e.To && a.node(e.From).Kind.Runs() {
				continue
			}
			of := len(sg.edges)
			for _, next := range a.passOn(e, at.state) {
				cover, ok := a.At[e.To].cover(next.state)
				if !ok {
					continue
				}
				to := see(spot{e.To, cover, a.mannerOf(e)})
				if same := slices.IndexFunc(sg.edges[of:], func(s stateEdge) bool { return s.to == to }); same >= 0 {
					sg.edges[of+same].verdict = max(sg.edges[of+same].verdict, next.verdict)
					continue
				}
				sg.edges = append(sg.edges, stateEdge{Edge: e, from: k, to: to, verdict: next.verdict})
			}
		}
		first = append(first, len(sg.edges))
	}
	a.settle(found, first)
	for k := range sg.edges {
		a.weigh(&sg.edges[k])
	}
}

// settle numbers the spots by node, then in the order of what can come there,
// and puts the edges in that order; first gives the edges of each spot as found.
func (a *Analysis) settle(found []spot, first []int) {
	sg := a.states
	byNode := make([][]int, len(a.Graph.Nodes))
	for k := range found {
		byNode[found[k].node] = append(byNode[found[k].node], k)
	}
	sg.of = make([][]int32, len(a.Graph.Nodes))
	number := make([]int, len(found)) // by spot as found
	var order []int
	for i, spots := range byNode {
		if len(spots) > 1 {
			rank := map[state]int{}
			for k, s := range a.At[i].states() {
				rank[s] = k
			}
			slices.SortFunc(spots, func(x, y int) int {
				s, t := &found[x], &found[y]
				return cmp.Or(cmp.Compare(rank[s.state], rank[t.state]), cmp.Compare(s.manner.tries, t.manner.tries), cmp.Compare(s.manner.dead, t.manner.dead))
			})
		}
		for _, k := range spots {
			number[k] = len(order)
			sg.of[i] = append(sg.of[i], int32(len(order)))
			order = append(order, k)
		}
	}
	edges := make([]stateEdge, 0, len(sg.edges))
	for _, k := range order {
		sg.spots = append(sg.spots, found[k])
		sg.index[found[k]] = number[k]
		sg.from = append(sg.from, int32(len(edges)))
		for _, e := range sg.edges[first[k]:first[k+1]] {
			e.from, e.to = number[e.from], number[e.to]
			edges = append(edges, e)
		}
	}
	sg.from = append(sg.from, int32(len(edges)))
	sg.edges = edges
}

// components gives the components that loop over some edges, as sets of spots.
func (sg *stateGraph) components(of func(*stateEdge) bool) [][]int {
	plain := make([]graph.Edge, 0, len(sg.edges))
	for i := range sg.edges {
		if e := &sg.edges[i]; of(e) {
			plain = append(plain, graph.Edge{From: e.from, To: e.to})
		}
	}
	return componentsOf(len(sg.spots), plain)
}

// componentsOf gives the components that loop of a graph that is only edges.
func componentsOf(nodes int, edges []graph.Edge) [][]int {
	only := graph.Graph{Nodes: make([]graph.Node, nodes)}
	return only.Components(edges)
}

// weigh fills in how many messages an edge makes of one that is at its start,
// and after how long.
func (a *Analysis) weigh(e *stateEdge) {
	at := a.states.spots[e.from]
	n := a.node(at.node)
	if e.Dead {
		share, wait := a.setAside(n, at, e.To)
		e.mean, e.expected, e.delay = exactly(share), share, wait
		return
	}
	l := a.link(e.Link)
	e.delay = a.holdingTime(n)
	switch {
	case l.Op == "read":
	case n.Kind.Runs():
		e.mean, e.expected = a.sentByRun(n, l, at.manner)
		if e.verdict == expr.Possible && l.When != model.Failure {
			e.mean.low = 0
		}
	case n.Kind == model.Queue:
		takers := 0
		for _, id := range n.Out {
			if a.filterVerdict(a.link(id), at.state) != expr.Impossible {
				takers++
			}
		}
		e.mean, e.expected = span{0, 1}, 1/float64(max(takers, 1))
		if takers == 1 && e.verdict == expr.Certain {
			e.mean = exactly(1)
		}
	default:
		e.mean, e.expected = exactly(1), 1
		if e.verdict == expr.Possible {
			e.mean.low = 0
		}
	}
}

// setAside gives the share of the messages at a spot that go to a dead-letter
// target, and the time from the first try to the last, in seconds.
func (a *Analysis) setAside(n *graph.Node, at spot, to int) (share, wait float64) {
	if n.Kind.Runs() { // an intake or a push
		for _, id := range n.In {
			if l := a.link(id); !l.Relation.Polls() && l.DeadLetter == to && l.Policy.Tries == at.manner.tries {
				wait = triesSpan(&l.Policy).Seconds()
				break
			}
		}
		return a.exhausted(n, at.manner.tries), wait
	}
	takers := 0
	for _, id := range n.Out {
		l := a.link(id)
		if a.filterVerdict(l, at.state) == expr.Impossible {
			continue
		}
		takers++
		if l.DeadLetter == to && l.Relation.Polls() && a.node(l.To).Kind.Runs() {
			share += a.exhausted(a.node(l.To), l.Policy.Tries)
			wait = max(wait, triesSpan(&l.Policy).Seconds())
		}
	}
	if n.Kind == model.Queue && takers > 0 { // the links compete
		share /= float64(takers)
	}
	return share, wait
}

// sentByRun gives how many messages a link makes of one that comes to a node
// that runs.
func (a *Analysis) sentByRun(n *graph.Node, l *graph.Link, w manner) (mean span, expected float64) {
	results := w.async || n.ResultsAll
	var times float64
	switch {
	case l.When != model.OfRun && !results:
		return exactly(0), 0
	case l.When == model.Failure:
		share := a.exhausted(n, w.tries)
		return exactly(share), share
	case l.Relation == model.WaitingCall:
		times = a.meanTries(n, w.tries) * a.reachesCall(n, l) * a.meanTries(a.node(l.To), max(l.Policy.Tries, 1))
	case l.AtStart:
		times = a.meanTries(n, w.tries)
	default:
		times = 1 - a.exhausted(n, w.tries)
	}
	count := exactly(l.Count.Dist.Expected())
	expected = count.high
	if l.CountExpr != nil || l.ForEach != nil {
		count = span{0, math.Inf(1)} // the payload says how many
	}
	if l.Sometimes || l.InCatch { // the tasks of a workflow decide
		count.low = 0
	}
	if l.InCatch {
		expected = 0 // where nothing goes wrong
	}
	return exactly(times * l.Chance).times(count), times * l.Chance * expected
}
