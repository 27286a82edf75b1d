package flow

import (
	"cmp"
	"maps"
	"math"
	"slices"

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
	Trend     string         `json:"trend"` // dies-out sustains grows could-grow could-sustain, or empty where it is broken
	Doubling  document.State `json:"doubling"`
	Limit     *Limit         `json:"limit"`     // of what grows or sustains itself
	BrokenBy  *string        `json:"broken_by"` // the filter that breaks it, or the hop limit that ends it
	Basis     Basis          `json:"basis,omitempty"`

	nodes  []int
	states []int
	inner  []Edge       // between them
	Cycle  []graph.Edge `json:"-"`
	All    []string     `json:"-"` // every link of it, sorted
	Ended  *graph.Node  `json:"-"` // whose hop limit ends it
	Calls  bool         `json:"-"` // only waiting calls circulate
	Fault  bool         `json:"-"` // only a failure that no share states starts it
	rate   float64      // of growth, per second
}

// Waiting reports whether only waiting calls circulate in the loop.
func (l *Loop) Waiting() bool { return l.Calls }

func edgeName(g *graph.Graph, e graph.Edge) string {
	if e.Link == graph.None {
		if e.Dead {
			return g.Nodes[e.From].Name + "→" + g.Nodes[e.To].Name
		}
		return g.Nodes[e.From].Name + " object-life"
	}
	l := &g.Links[e.Link]
	if e.Dead {
		return l.Link.ID() + "→" + g.Nodes[e.To].Name
	}
	return l.Link.ID()
}

// over returns an edge between states as one between their nodes.
func (a *Analysis) over(e *Edge) graph.Edge {
	return graph.Edge{
		From: a.States.All[e.From].Node,
		To:   a.States.All[e.To].Node,
		Link: e.Link,
		Dead: e.Kind == GaveUp,
	}
}

func (a *Analysis) findLoops() {
	a.Loops = []Loop{}
	a.findEntryStates()
	looped := map[[2]int]bool{} // link and whether by dead-letter, of edges that do loop
	moves := func(e *Edge) bool { return e.Mean.High > 0 }
	isCall := func(e *Edge) bool { return e.Kind == Calls }
	for _, members := range a.States.components(moves) {
		if l := a.judgeLoop(members, looped, moves); !l.Calls {
			a.Loops = append(a.Loops, l)
		}
	}
	for _, members := range a.States.components(isCall) { // also within a larger loop
		a.Loops = append(a.Loops, a.judgeLoop(members, looped, isCall))
	}
	a.findBroken(looped)
	a.findFaultLoops(looped)
	a.mergeLoops()
}

// findEntryStates finds the states where messages come in from outside, and those that
// something else leads to.
func (a *Analysis) findEntryStates() {
	a.IsEntry = make([]bool, len(a.States.All))
	for _, i := range a.EntryNodes {
		for _, in := range a.Spread(i) {
			a.IsEntry[in.State] = true
		}
	}
	a.Into = make([][]int32, len(a.States.All))
	for k := range a.States.Edges {
		e := &a.States.Edges[k]
		a.Into[e.To] = append(a.Into[e.To], int32(e.From))
	}
}

// components returns the components that loop over some edges, as sets of states.
func (g *StateGraph) components(of func(*Edge) bool) [][]int {
	var list []graph.Edge
	for i := range g.Edges {
		if e := &g.Edges[i]; g.Component[e.From] == g.Component[e.To] && of(e) {
			list = append(list, graph.Edge{From: e.From, To: e.To})
		}
	}
	return graph.Loops(len(g.All), list)
}

// within returns those of some edges that lead from one state of a set to another.
func (g *StateGraph) within(members []int, inside map[int]bool, of func(*Edge) bool) []Edge {
	var out []Edge
	for _, m := range members {
		for _, e := range g.Leaving(m) {
			if inside[e.To] && of(&e) {
				out = append(out, e)
			}
		}
	}
	return out
}

// spreadOver marks the states that messages reach from some states over some edges,
// those included.
func (g *StateGraph) spreadOver(work []int, of func(*Edge) bool) []bool {
	out := make([]bool, len(g.All))
	for _, s := range work {
		out[s] = true
	}
	for len(work) > 0 {
		from := work[len(work)-1]
		work = work[:len(work)-1]
		edges := g.Leaving(from)
		for k := range edges {
			if e := &edges[k]; !out[e.To] && of(e) {
				out[e.To] = true
				work = append(work, e.To)
			}
		}
	}
	return out
}

// mergeLoops leaves one loop of those over the same links, the one that matters
// most: what a node's messages do in several shapes is one loop for people.
func (a *Analysis) mergeLoops() {
	weight := func(l *Loop) int {
		w := map[string]int{"certain": 20, "possible": 10}[l.Verdict]
		return w + map[string]int{"grows": 5, "sustains": 4, "could-grow": 3, "could-sustain": 2,
			"dies-out": 1}[l.Trend]
	}
	place := map[string]int{}
	var kept []Loop
	for k := range a.Loops {
		l := &a.Loops[k]
		names := slices.Clone(l.Nodes)
		slices.Sort(names)
		key := ""
		for _, n := range names {
			key += n + ","
		}
		if l.Calls {
			key += "calls"
		}
		if l.Verdict == "broken" {
			key += "|" + *l.BrokenBy
		}
		old, seen := place[key]
		switch {
		case !seen:
			place[key] = len(kept)
			kept = append(kept, *l)
		case weight(l) > weight(&kept[old]):
			kept[old] = *l
		}
	}
	a.Loops = append([]Loop{}, kept...)
}

func edgeKey(e graph.Edge) [2]int {
	if e.Dead {
		return [2]int{e.Link, 1 + e.From}
	}
	return [2]int{e.Link, 0}
}

// judgeLoop works out what is known of one component over some edges.
func (a *Analysis) judgeLoop(members []int, looped map[[2]int]bool, of func(*Edge) bool) Loop {
	sg := a.States
	inside := asSet(members)
	inner := sg.within(members, inside, of)
	links := map[string]bool{}
	for k := range inner {
		over := a.over(&inner[k])
		looped[edgeKey(over)] = true
		links[edgeName(a.Graph, over)] = true
	}
	entry := a.entryOf(members, inside)
	cycle := shortestCycle(entry, inner)
	l := Loop{
		Verdict:  "certain",
		Doubling: document.Never,
		states:   members,
		inner:    inner,
		Calls:    true,
		All:      SortedKeys(links),
	}
	for k := range inner {
		l.Calls = l.Calls && inner[k].Kind == Calls
	}
	on := map[int]bool{}
	for k := range cycle {
		e := &cycle[k]
		g := a.over(e)
		l.Cycle = append(l.Cycle, g)
		l.nodes = append(l.nodes, g.From)
		on[g.From] = true
		l.Links = append(l.Links, edgeName(a.Graph, g))
		if e.Verdict != expr.Certain || e.ways > 1 {
			l.Verdict = "possible"
		}
	}
	a.nameNodes(&l, members, on)
	if l.Verdict == "certain" && !a.surelyReached(members) {
		l.Verdict = "possible"
	}
	low, unboundedLow := firstReturn(entry, members, inner, func(e *Edge) float64 { return e.Mean.Low })
	if a.asksLimited(members) { // what has come round fails where it asks there
		l.Verdict, low, unboundedLow = "possible", 0, false
	}
	high, unbounded := firstReturn(entry, members, inner, func(e *Edge) float64 { return e.Mean.High })
	ends := [2]*float64{&low, &high}
	if unboundedLow {
		ends[0] = nil
	}
	if unbounded || math.IsInf(high, 0) {
		ends[1] = nil
		high = math.Inf(1)
	}
	l.Gain, l.Unbounded = &ends, unbounded
	if low != high || unbounded != unboundedLow {
		l.Basis = Basis{"gain": "estimate"}
	}
	if by := a.hopLimitOf(members, inner); by != nil {
		name := by.Name + " hop-limit"
		l.Trend, l.BrokenBy, l.Ended = "dies-out", &name, by
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

// nameNodes names the nodes of a loop: those of its cycle, which are in the set, then the
// rest.
func (a *Analysis) nameNodes(l *Loop, members []int, on map[int]bool) {
	for _, m := range members {
		if n := a.States.All[m].Node; !on[n] {
			on[n] = true
			l.nodes = append(l.nodes, n)
		}
	}
	for _, n := range l.nodes {
		l.Nodes = append(l.Nodes, a.Node(n).Name)
	}
}

// surelyReached reports whether some message certainly comes to one of some states:
// from outside, over edges that certainly take it.
func (a *Analysis) surelyReached(members []int) bool {
	if a.surely == nil {
		a.surely = make([]bool, len(a.States.All))
		var work []int
		see := func(s int) {
			if !a.surely[s] {
				a.surely[s] = true
				work = append(work, s)
			}
		}
		for s, yes := range a.IsEntry {
			if yes {
				see(s)
			}
		}
		for k := 0; k < len(work); k++ {
			for _, e := range a.States.Leaving(work[k]) {
				if (e.Verdict == expr.Certain || e.Kind == GaveUp || e.Kind == LifeEnds) && e.ways <= 1 &&
					e.Mean.High > 0 {
					see(e.To)
				}
			}
		}
	}
	for _, m := range members {
		if a.surely[m] {
			return true
		}
	}
	return false
}

// hopLimitOf returns a node whose hop limit ends every message of a component sooner
// or later, or nil: without the nodes that have one, nothing circulates.
func (a *Analysis) hopLimitOf(members []int, inner []Edge) *graph.Node {
	var found *graph.Node
	for _, m := range members {
		if n := a.Node(a.States.All[m].Node); limited(n) && (found == nil || n.HopLimit < found.HopLimit) {
			found = n
		}
	}
	if found == nil || a.circulatesWithout(members, inner, limited) {
		return nil
	}
	return found
}

// limited reports whether a node takes no message that has made too many hops.
func limited(n *graph.Node) bool { return n.Kind == model.Function && n.HopLimit != model.NoHopLimit }

// asksLimited reports whether runs of a component wait for a node with a hop limit that is
// not of the component.
func (a *Analysis) asksLimited(members []int) bool {
	seen := asSet(members)
	for work := slices.Clone(members); len(work) > 0; work = work[1:] {
		for _, e := range a.States.Leaving(work[0]) {
			if e.Kind != Calls || seen[e.To] {
				continue
			}
			if limited(a.Node(a.States.All[e.To].Node)) {
				return true
			}
			seen[e.To] = true
			work = append(work, e.To)
		}
	}
	return false
}

// circulatesWithout reports whether a component still loops without some nodes.
func (a *Analysis) circulatesWithout(members []int, inner []Edge, gone func(*graph.Node) bool) bool {
	index := indexOf(members)
	var rest []graph.Edge
	for i := range inner {
		if e := &inner[i]; !gone(a.Node(a.States.All[e.To].Node)) {
			rest = append(rest, graph.Edge{From: index[e.From], To: index[e.To]})
		}
	}
	return len(graph.Loops(len(members), rest)) > 0
}

const gainTolerance = 1e-6

// trend names what becomes of the messages of a loop by the bounds of its gain.
func trend(low, high float64, unboundedLow bool) string {
	switch {
	case unboundedLow || low > 1+gainTolerance:
		return "grows"
	case high < 1-gainTolerance:
		return "dies-out"
	case high > 1+gainTolerance:
		return "could-grow"
	case low < 1-gainTolerance:
		return "could-sustain"
	}
	return "sustains"
}

// entryOf returns the state of a component where messages from outside first come
// in.
func (a *Analysis) entryOf(members []int, inside map[int]bool) int {
	for _, m := range members {
		if a.IsEntry[m] {
			return m
		}
	}
	for _, m := range members {
		for _, from := range a.Into[m] {
			if !inside[int(from)] {
				return m
			}
		}
	}
	return members[0]
}

// shortestCycle finds the fewest edges from a state back to itself.
func shortestCycle(start int, edges []Edge) []Edge {
	out := map[int][]graph.Edge{}
	for k, e := range edges {
		out[e.From] = append(out[e.From], graph.Edge{From: e.From, To: e.To, Link: k})
	}
	var cycle []Edge
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

// firstReturn returns the mean number of messages that come back to the entry for
// one that goes in, counted at first return: R = M_ee + M_eo (I − M_oo)⁻¹ M_oe,
// where o are the other nodes. Without bound when they grow among themselves.
func firstReturn(entry int, members []int, edges []Edge, of func(*Edge) float64) (gain float64, unbounded bool) {
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
		i, j := index[o.From], index[o.To]
		v := of(o)
		if math.IsInf(v, 1) {
			return v, false
		}
		switch {
		case o.From == entry && o.To == entry:
			direct += v
		case o.From == entry:
			out[j] += v
		case o.To == entry:
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

// findBroken lists the cycles over links that only a filter breaks: a link that
// declines everything another one of the cycle brings to it.
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
		if e.Dead || component[e.From] == 0 || component[e.From] != component[e.To] || !a.DeclinesSome(a.Link(e.Link)) {
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

// DeclinesSome reports whether a link does not take everything.
func (a *Analysis) DeclinesSome(l *graph.Link) bool {
	return !l.Filter.Everything || a.Node(l.From).Kind.Keeps() && len(l.Changes) > 0
}

// declinesAll reports whether a link's filter takes nothing of what an edge brings
// to its source.
func (a *Analysis) declinesAll(e, before graph.Edge) bool {
	any := false
	for _, m := range a.At[before.From].All() {
		var brought []transferred
		if before.Dead {
			brought = []transferred{{a.Arriving(a.Node(before.To), nil, m), expr.Possible}}
		} else {
			brought = a.transfer(a.Link(before.Link), m)
		}
		for _, next := range brought {
			any = true
			if a.FilterVerdict(a.Link(e.Link), next.Message) != expr.Impossible {
				return false
			}
		}
	}
	return any
}

// findFaultLoops lists the cycles that only a failure starts which no share states:
// parked messages that are sent back to where they failed.
func (a *Analysis) findFaultLoops(looped map[[2]int]bool) {
	all := func(e *Edge) bool { return e.Kind != Calls }
	for _, members := range a.States.components(all) {
		inner := a.States.within(members, asSet(members), all)
		for k := range inner {
			e := &inner[k]
			g := a.over(e)
			if e.Mean.High > 0 || looped[edgeKey(g)] {
				continue
			}
			cycle := []graph.Edge{g}
			on := map[int]bool{}
			if e.To != e.From {
				out := map[int][]graph.Edge{}
				for j := range inner {
					out[inner[j].From] = append(
						out[inner[j].From],
						graph.Edge{From: inner[j].From, To: inner[j].To, Link: j},
					)
				}
				for _, step := range shortestWay(e.To, e.From, out) {
					cycle = append(cycle, a.over(&inner[step.Link]))
				}
			}
			for _, c := range cycle {
				looped[edgeKey(c)] = true
				on[c.From] = true
			}
			if a.hopLimitOf(members, inner) != nil {
				continue
			}
			l := a.brokenLoop(cycle, edgeName(a.Graph, g))
			l.Fault = true
			a.Loops = append(a.Loops, l)
		}
	}
}

func (a *Analysis) brokenLoop(cycle []graph.Edge, by string) Loop {
	l := Loop{Verdict: "broken", Doubling: document.Never, BrokenBy: &by, Cycle: cycle}
	links := map[string]bool{}
	for _, e := range cycle {
		l.nodes = append(l.nodes, e.From)
		l.Nodes = append(l.Nodes, a.Node(e.From).Name)
		l.Links = append(l.Links, edgeName(a.Graph, e))
		links[edgeName(a.Graph, e)] = true
	}
	l.All = SortedKeys(links)
	return l
}

func SortedKeys[K cmp.Ordered, V any](m map[K]V) []K {
	return slices.Sorted(maps.Keys(m))
}

func indexOf(members []int) map[int]int {
	index := make(map[int]int, len(members))
	for k, m := range members {
		index[m] = k
	}
	return index
}

func asSet(list []int) map[int]bool {
	out := make(map[int]bool, len(list))
	for _, x := range list {
		out[x] = true
	}
	return out
}

// growingStates finds the states that a loop feeds which sustains itself or grows.
func (a *Analysis) growingStates() []bool {
	var growing []int
	moves := func(e *Edge) bool { return e.expected > 0 }
	for _, members := range a.States.components(moves) {
		inside := asSet(members)
		inner := a.States.within(members, inside, moves)
		gain, unbounded := firstReturn(
			a.entryOf(members, inside),
			members,
			inner,
			func(e *Edge) float64 { return e.expected },
		)
		if !unbounded && gain < 1-gainTolerance {
			continue
		}
		growing = append(growing, members...)
	}
	return a.States.spreadOver(growing, moves)
}
