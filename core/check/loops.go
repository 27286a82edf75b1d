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
	Limit     *Limit         `json:"limit"`     // of what grows or sustains itself
	BrokenBy  *string        `json:"broken_by"` // the filter that keeps it from going round, or the hop limit that ends it

	nodes []int
	spots []int
	inner []stateEdge // between them
	cycle []graph.Edge
	ended *graph.Node // whose hop limit ends it
	calls bool        // only waiting calls go round
	rate  float64     // of growth, per second
}

func edgeName(g *graph.Graph, e graph.Edge) string {
	l := &g.Links[e.Link]
	if e.Dead {
		return l.Link.ID() + "→" + g.Nodes[e.To].Name
	}
	return l.Link.ID()
}

func (a *Analysis) findLoops() {
	a.Loops = []Loop{}
	looped := map[[2]int]bool{} // link and whether by dead-letter, of edges that do loop
	all := func(*stateEdge) bool { return true }
	for _, members := range a.states.components(all) {
		if l := a.judgeLoop(members, looped, all); !l.calls {
			a.Loops = append(a.Loops, l)
		}
	}
	for _, members := range a.states.components(a.isCall) { // also within a larger loop
		a.Loops = append(a.Loops, a.judgeLoop(members, looped, a.isCall))
	}
	a.findBroken(looped)
}

// isCall tells whether somebody waits at the start of an edge for its end.
func (a *Analysis) isCall(e *stateEdge) bool {
	return !e.Dead && a.link(e.Link).Relation == model.WaitingCall
}

func edgeKey(e graph.Edge) [2]int {
	if e.Dead {
		return [2]int{e.Link, 1}
	}
	return [2]int{e.Link, 0}
}

// judgeLoop works out what is known of one component over some edges.
func (a *Analysis) judgeLoop(members []int, looped map[[2]int]bool, of func(*stateEdge) bool) Loop {
	sg := a.states
	inside := make(map[int]bool, len(members))
	for _, m := range members {
		inside[m] = true
	}
	var inner []stateEdge
	for _, m := range members {
		for _, e := range sg.leaving(m) {
			if inside[e.to] && of(&e) {
				inner = append(inner, e)
				looped[edgeKey(e.Edge)] = true
			}
		}
	}
	entry := a.entryOf(members, inside)
	cycle := shortestCycle(entry, inner)
	l := Loop{Verdict: "certain", Doubling: document.Never, spots: members, inner: inner, calls: true}
	for k := range inner {
		l.calls = l.calls && a.isCall(&inner[k])
	}
	on := map[int]bool{}
	for _, e := range cycle {
		l.cycle = append(l.cycle, e.Edge)
		l.nodes = append(l.nodes, e.From)
		on[e.From] = true
		l.Links = append(l.Links, edgeName(a.Graph, e.Edge))
		if e.verdict != expr.Certain {
			l.Verdict = "possible"
		}
	}
	for _, m := range members {
		if n := sg.spots[m].node; !on[n] {
			on[n] = true
			l.nodes = append(l.nodes, n)
		}
	}
	for _, n := range l.nodes {
		l.Nodes = append(l.Nodes, a.node(n).Name)
	}
	low, unboundedLow := firstReturn(entry, members, inner, func(e *stateEdge) float64 { return e.mean.low })
	high, unbounded := firstReturn(entry, members, inner, func(e *stateEdge) float64 { return e.mean.high })
	ends := [2]*float64{&low, &high}
	if unboundedLow {
		ends[0] = nil
	}
	if unbounded || math.IsInf(high, 0) {
		ends[1] = nil
		high = math.Inf(1)
	}
	l.Gain, l.Unbounded = &ends, unbounded
	if by := a.hopLimit(members, inner); by != nil {
		name := by.Name + " hop-limit"
		l.Trend, l.BrokenBy, l.ended = "dies-out", &name, by
		return l
	}
	l.Trend = trend(low, high, unboundedLow)
	switch l.Trend {
	case "grows":
		l.rate = a.growthRate(members, inner)
		l.Doubling = document.At(math.Ln2 / l.rate)
	case "could-grow":
		l.Doubling = document.Unknown
	}
	return l
}

// hopLimit gives a node whose hop limit ends every message of a component
// sooner or later, or nil: without the nodes that have one, nothing goes round.
func (a *Analysis) hopLimit(members []int, inner []stateEdge) *graph.Node {
	var found *graph.Node
	limited := func(n *graph.Node) bool { return n.HopLimit > 0 }
	for _, m := range members {
		if n := a.node(a.states.spots[m].node); limited(n) && (found == nil || n.HopLimit < found.HopLimit) {
			found = n
		}
	}
	if found == nil || a.goesRoundWithout(members, inner, limited) {
		return nil
	}
	return found
}

// goesRoundWithout tells whether a component still loops without some nodes.
func (a *Analysis) goesRoundWithout(members []int, inner []stateEdge, gone func(*graph.Node) bool) bool {
	index := indexOf(members)
	var rest []graph.Edge
	for i := range inner {
		if e := &inner[i]; !gone(a.node(e.To)) {
			rest = append(rest, graph.Edge{From: index[e.from], To: index[e.to]})
		}
	}
	return len(componentsOf(len(members), rest)) > 0
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
func (a *Analysis) entryOf(members []int, inside map[int]bool) int {
	for _, i := range a.entries {
		for _, k := range a.states.of[i] {
			if inside[int(k)] {
				return int(k)
			}
		}
	}
	for _, e := range a.states.edges {
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

// cell is one entry of a sparse matrix; several of one place add up.
type cell struct {
	i, j int
	v    float64
}

// firstReturn gives the mean number of messages that come back to the entry for
// one that goes in, counted at first return: R = M_ee + M_eo (I − M_oo)⁻¹ M_oe,
// where o are the other nodes. Without bound when they grow among themselves.
func firstReturn(entry int, members []int, edges []stateEdge, of func(*stateEdge) float64) (gain float64, unbounded bool) {
	index := map[int]int{}
	for _, m := range members {
		if m != entry {
			index[m] = len(index)
		}
	}
	n := len(index)
	direct := 0.0
	out, back := make([]float64, n), make([]float64, n)
	var inner []cell
	for k := range edges {
		o := &edges[k]
		i, j := index[o.from], index[o.to]
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
			inner = append(inner, cell{i, j, v})
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
	for _, c := range inner { // x = (I − M_oo)⁻¹ M_oe
		system.Set(c.i, c.j, system.At(c.i, c.j)-c.v)
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
func firstReturnSparse(gain float64, out, back []float64, inner []cell) (float64, bool) {
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
		for _, c := range inner {
			next[c.i] += c.v * x[c.j]
		}
		x = next
	}
	return gain, true
}

// spectralRadius finds the largest eigenvalue of a matrix without negative
// entries by power iteration on M + I, which has no other of its size.
func spectralRadius(n int, m []cell) float64 {
	x := make([]float64, n)
	for i := range x {
		x[i] = 1
	}
	radius := 0.0
	for k := 0; k < 5000; k++ {
		y := append([]float64(nil), x...)
		for _, c := range m {
			y[c.i] += c.v * x[c.j]
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
