package check

import (
	"math"

	"gonum.org/v1/gonum/mat"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Loop is a way on which messages come back to where they were.
type Loop struct {
	Nodes     []string       `json:"nodes"`   // of its shortest cycle from the entry, then the rest
	Links     []string       `json:"links"`   // of its shortest cycle
	Verdict   string         `json:"verdict"` // certain possible broken
	Gain      *[2]*float64   `json:"gain"`    // null where it is broken; an end is null where it has no bound
	Unbounded bool           `json:"unbounded"`
	Trend     string         `json:"trend"` // dies-out sustains grows could-grow, or empty where it is broken
	Doubling  document.State `json:"doubling"`
	BrokenBy  *string        `json:"broken_by"`

	nodes  []int
	states []int
	cycle  []graph.Edge
	calls  bool // only waiting calls go round
}

func edgeName(g *graph.Graph, e graph.Edge) string {
	l := &g.Links[e.Link]
	if e.Dead {
		return l.Link.ID() + "→" + g.Nodes[e.To].Name
	}
	return l.Link.ID()
}

// stateGraph is the graph of what can be where: its nodes are states at nodes,
// so that a filter that lets some keys through and not others is told apart.
type stateGraph struct {
	at    []int // node, by state
	index map[int]map[state]int
	edges []stateEdge
	graph graph.Graph // only for its components
}

type stateEdge struct {
	graph.Edge // over nodes
	from, to   int
	verdict    reach
}

func (a *Analysis) stateGraph() *stateGraph {
	index := map[int]map[state]int{}
	sg := &stateGraph{index: index}
	for i := range a.At {
		index[i] = map[state]int{}
		for _, s := range a.At[i].states() {
			index[i][s] = len(sg.at)
			sg.at = append(sg.at, i)
		}
	}
	for _, e := range a.Graph.Edges(true) {
		for _, s := range a.At[e.From].states() {
			best := map[int]reach{}
			var order []int
			for _, next := range a.passOn(e, s) {
				cover, ok := a.At[e.To].cover(next.state)
				if !ok {
					continue
				}
				to := index[e.To][cover]
				if _, seen := best[to]; !seen {
					order = append(order, to)
				}
				best[to] = max(best[to], next.verdict)
			}
			for _, to := range order {
				sg.edges = append(sg.edges, stateEdge{Edge: e, from: index[e.From][s], to: to, verdict: best[to]})
			}
		}
	}
	sg.graph.Nodes = make([]graph.Node, len(sg.at))
	return sg
}

// components gives the components that loop, as sets of states.
func (sg *stateGraph) components() [][]int {
	plain := make([]graph.Edge, len(sg.edges))
	for i, e := range sg.edges {
		plain[i] = graph.Edge{From: e.from, To: e.to}
	}
	return sg.graph.Components(plain)
}

func (a *Analysis) findLoops() {
	a.Loops = []Loop{}
	a.states = a.stateGraph()
	sg := a.states
	offsprings := a.offsprings()
	looped := map[[2]int]bool{} // link and whether by dead-letter, of edges that do loop
	for _, members := range sg.components() {
		a.Loops = append(a.Loops, a.judgeLoop(sg, members, offsprings, looped))
	}
	a.findBroken(looped)
}

func edgeKey(e graph.Edge) [2]int {
	if e.Dead {
		return [2]int{e.Link, 1}
	}
	return [2]int{e.Link, 0}
}

// judgeLoop works out what is known of one component.
func (a *Analysis) judgeLoop(sg *stateGraph, members []int, offsprings []offspring, looped map[[2]int]bool) Loop {
	inside := map[int]bool{}
	for _, m := range members {
		inside[m] = true
	}
	byLink := map[[2]int]offspring{}
	for _, o := range offsprings {
		byLink[o.edge()] = o
	}
	var inner []stateEdge
	var rows []offspring
	for _, e := range sg.edges {
		if !inside[e.from] || !inside[e.to] {
			continue
		}
		inner = append(inner, e)
		looped[edgeKey(e.Edge)] = true
		o := byLink[edgeKey(e.Edge)]
		o.from, o.to = e.from, e.to
		if e.verdict == expr.Certain && o.mean.low == 0 { // others may not take it; what is here does
			o.mean.low = o.mean.high
			if l := a.link(e.Link); l.CountExpr != nil || l.ForEach != nil || a.node(l.From).Kind == model.Queue && len(a.node(l.From).Out) > 1 {
				o.mean.low = 0
			}
		}
		rows = append(rows, o)
	}
	entry := a.entryOf(sg, members, inside)
	cycle := shortestCycle(entry, inner)
	l := Loop{Verdict: "certain", Doubling: document.Never, states: members, calls: true}
	on := map[int]bool{}
	for _, e := range cycle {
		l.cycle = append(l.cycle, e.Edge)
		l.nodes = append(l.nodes, e.From)
		on[e.From] = true
		l.Links = append(l.Links, edgeName(a.Graph, e.Edge))
		l.calls = l.calls && !e.Dead && a.link(e.Link).Relation == model.WaitingCall
		if e.verdict != expr.Certain {
			l.Verdict = "possible"
		}
	}
	for _, m := range members {
		if n := sg.at[m]; !on[n] {
			on[n] = true
			l.nodes = append(l.nodes, n)
		}
	}
	for _, n := range l.nodes {
		l.Nodes = append(l.Nodes, a.node(n).Name)
	}
	low, unboundedLow := firstReturn(entry, members, rows, func(o offspring) float64 { return o.mean.low })
	high, unbounded := firstReturn(entry, members, rows, func(o offspring) float64 { return o.mean.high })
	ends := [2]*float64{&low, &high}
	if unboundedLow {
		ends[0] = nil
	}
	if unbounded || math.IsInf(high, 0) {
		ends[1] = nil
		high = math.Inf(1)
	}
	l.Gain, l.Unbounded = &ends, unbounded
	l.Trend = trend(low, high, unboundedLow)
	switch l.Trend {
	case "grows":
		l.Doubling = doubling(members, rows)
	case "could-grow":
		l.Doubling = document.Unknown
	}
	return l
}

const gainTolerance = 1e-6

func trend(low, high float64, unboundedLow bool) string {
	switch {
	case unboundedLow || low > 1+gainTolerance:
		return "grows"
	case high < 1-gainTolerance:
		return "dies-out"
	case low > 1-gainTolerance && high < 1+gainTolerance:
		return "sustains"
	case high <= 1+gainTolerance:
		return "sustains" // at most: what may go round for ever
	}
	return "could-grow"
}

// entryOf gives the state of a component where messages from outside first
// come in.
func (a *Analysis) entryOf(sg *stateGraph, members []int, inside map[int]bool) int {
	for _, i := range a.entries {
		for _, m := range members {
			if sg.at[m] == i {
				return m
			}
		}
	}
	for _, e := range sg.edges {
		if inside[e.to] && !inside[e.from] {
			return e.to
		}
	}
	return members[0]
}

// shortestCycle finds the fewest edges from a state back to itself.
func shortestCycle(start int, edges []stateEdge) []stateEdge {
	out := map[int][]graph.Edge{}
	for k, e := range edges {
		out[e.from] = append(out[e.from], graph.Edge{From: e.from, To: e.to, Link: k})
	}
	var cycle []stateEdge
	for _, e := range shortestWay(start, start, out) {
		cycle = append(cycle, edges[e.Link])
	}
	return cycle
}

// shortestWay finds the fewest edges, at least one, from a node to another.
func shortestWay(from, to int, out map[int][]graph.Edge) []graph.Edge {
	came := map[int]graph.Edge{}
	frontier := []int{from}
	for len(frontier) > 0 {
		i := frontier[0]
		frontier = frontier[1:]
		for _, e := range out[i] {
			if _, seen := came[e.To]; seen {
				continue
			}
			came[e.To] = e
			if e.To == to {
				var way []graph.Edge
				for {
					way = append([]graph.Edge{e}, way...)
					if e.From == from {
						return way
					}
					e = came[e.From]
				}
			}
			frontier = append(frontier, e.To)
		}
	}
	return nil
}

// firstReturn gives the mean number of messages that come back to the entry for
// one that goes in, counted at first return: R = M_ee + M_eo (I − M_oo)⁻¹ M_oe,
// where o are the other nodes. Without bound when they grow among themselves.
func firstReturn(entry int, members []int, offsprings []offspring, of func(offspring) float64) (gain float64, unbounded bool) {
	index := map[int]int{}
	for _, m := range members {
		if m != entry {
			index[m] = len(index)
		}
	}
	n := len(index)
	direct := 0.0
	out, back := make([]float64, n), make([]float64, n)
	inner := map[[2]int]float64{}
	for _, o := range offsprings {
		i, fromOther := index[o.from]
		j, toOther := index[o.to]
		if !(fromOther || o.from == entry) || !(toOther || o.to == entry) {
			continue
		}
		v := of(o)
		if math.IsInf(v, 1) {
			return v, false
		}
		switch {
		case o.from == entry && o.to == entry:
			direct += v
		case o.from == entry:
			out[j] += v
		case o.to == entry:
			back[i] += v
		default:
			inner[[2]int{i, j}] += v
		}
	}
	if n == 0 {
		return direct, false
	}
	if n > 600 {
		return firstReturnSparse(direct, out, back, inner)
	}
	if spectralRadius(n, inner) >= 1-1e-12 {
		return 0, true
	}
	system := mat.NewDense(n, n, nil)
	for i := 0; i < n; i++ {
		system.Set(i, i, 1)
	}
	for at, v := range inner { // x = (I − M_oo)⁻¹ M_oe
		system.Set(at[0], at[1], system.At(at[0], at[1])-v)
	}
	var x mat.VecDense
	if err := x.SolveVec(system, mat.NewVecDense(n, back)); err != nil {
		return 0, true
	}
	for i := range out {
		direct += out[i] * x.AtVec(i)
	}
	return direct, false
}

// firstReturnSparse sums the series M_oo^k M_oe for components too large for a
// dense solution; it stops when a term no longer counts.
func firstReturnSparse(gain float64, out, back []float64, inner map[[2]int]float64) (float64, bool) {
	x := append([]float64(nil), back...)
	for range 100_000 {
		size := 0.0
		for i := range x {
			gain += out[i] * x[i]
			size = max(size, x[i])
		}
		if size < 1e-12 {
			return gain, false
		}
		if size > 1e12 {
			return 0, true
		}
		next := make([]float64, len(x))
		for at, v := range inner {
			next[at[0]] += v * x[at[1]]
		}
		x = next
	}
	return gain, true
}

// spectralRadius finds the largest eigenvalue of a matrix without negative
// entries by power iteration on M + I, which has no other of its size.
func spectralRadius(n int, m map[[2]int]float64) float64 {
	x := make([]float64, n)
	for i := range x {
		x[i] = 1
	}
	radius := 0.0
	for k := 0; k < 5000; k++ {
		y := append([]float64(nil), x...)
		for at, v := range m {
			y[at[0]] += v * x[at[1]]
		}
		norm := 0.0
		for _, v := range y {
			norm = max(norm, v)
		}
		if norm == 0 || math.IsInf(norm, 0) || math.IsNaN(norm) {
			return norm
		}
		for i := range y {
			y[i] /= norm
		}
		x = y
		if k > 50 && math.Abs(norm-1-radius) < 1e-13 {
			return norm - 1
		}
		radius = norm - 1
	}
	return radius
}

// doubling gives the time in which a growing loop doubles: ln 2 / s, where s
// makes the spectral radius of M_ij e^(−s t_ij) equal to 1.
func doubling(members []int, offsprings []offspring) document.State {
	index := map[int]int{}
	for k, m := range members {
		index[m] = k
	}
	radius := func(s float64) float64 {
		m := map[[2]int]float64{}
		for _, o := range offsprings {
			i, ok1 := index[o.from]
			j, ok2 := index[o.to]
			if ok1 && ok2 {
				m[[2]int{i, j}] += o.mean.low * math.Exp(-s*o.delay)
			}
		}
		return spectralRadius(len(members), m)
	}
	low, high := 0.0, 1.0
	for radius(high) > 1 {
		if high *= 2; high > 1e9 {
			return document.At(0) // it takes no time to go round
		}
	}
	for range 60 {
		if mid := (low + high) / 2; radius(mid) > 1 {
			low = mid
		} else {
			high = mid
		}
	}
	return document.At(math.Ln2 / high)
}

// findBroken lists the cycles over links that only a filter breaks: a link
// that declines everything another one of the cycle brings to it.
func (a *Analysis) findBroken(looped map[[2]int]bool) {
	edges := a.Graph.Edges(true)
	component := make([]int, len(a.Graph.Nodes))
	for k, members := range a.Graph.Components(edges) {
		for _, m := range members {
			component[m] = k + 1
		}
	}
	out := map[int][]graph.Edge{}
	into := map[int][]graph.Edge{}
	for _, e := range edges {
		if component[e.From] != 0 && component[e.From] == component[e.To] {
			into[e.To] = append(into[e.To], e)
			if e.Dead || a.Reach[e.Link] != expr.Impossible {
				out[e.From] = append(out[e.From], e)
			}
		}
	}
	for _, e := range edges {
		if e.Dead || component[e.From] == 0 || component[e.From] != component[e.To] || a.link(e.Link).Filter.Everything {
			continue
		}
		for _, before := range into[e.From] {
			if looped[edgeKey(before)] && looped[edgeKey(e)] || !a.declinesAll(e, before) {
				continue
			}
			way := shortestWay(e.To, before.From, out)
			if way == nil && e.To != before.From {
				continue
			}
			if e.To == before.From {
				way = nil
			}
			cycle := append([]graph.Edge{e}, way...)
			if before != e {
				cycle = append(cycle, before)
			}
			a.Loops = append(a.Loops, a.brokenLoop(cycle, edgeName(a.Graph, e)))
			break
		}
	}
}

// declinesAll tells whether a link's filter takes nothing of what an edge
// brings to its source.
func (a *Analysis) declinesAll(e, before graph.Edge) bool {
	any := false
	for _, s := range a.At[before.From].states() {
		for _, next := range a.passOn(before, s) {
			any = true
			if a.filterVerdict(a.link(e.Link), next.state) != expr.Impossible {
				return false
			}
		}
	}
	return any
}

func (a *Analysis) brokenLoop(cycle []graph.Edge, by string) Loop {
	l := Loop{Verdict: "broken", Doubling: document.Never, BrokenBy: &by, cycle: cycle}
	for _, e := range cycle {
		l.nodes = append(l.nodes, e.From)
		l.Nodes = append(l.Nodes, a.node(e.From).Name)
		l.Links = append(l.Links, edgeName(a.Graph, e))
	}
	return l
}
