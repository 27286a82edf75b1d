package flow

import (
	"math"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Limit is where the growth of a loop ends: when something in it has as many
// concurrent runs as it may.
type Limit struct {
	Node    string         `json:"node"`           // whose limit is reached first; empty: no node of the loop has one
	After   document.State `json:"after"`          // from the first message, or the start of the traffic; on average, to within one pass
	Runs    *float64       `json:"runs_per_s"`     // of the loop's functions then
	Cost    *float64       `json:"cost_hour"`      // then; null: the model has no prices
	Arrives float64        `json:"arrivals_per_s"` // what comes into the loop; 0: one message alone
}

// growthRate returns the s at which the spectral radius of M_ij E[e^(−s t_ij)] is 1
// (Euler and Lotka), t_ij the delays of first tries in seconds; infinite where
// a pass takes no time.
func (a *Analysis) growthRate(members []int, edges []Edge) float64 {
	index := indexOf(members)
	radius := func(s float64) float64 { return spectralRadius(len(members), a.discounted(index, edges, s)) }
	low, high := 0.0, 1.0
	for radius(high) > 1 {
		if high *= 2; high > 1e9 {
			return math.Inf(1)
		}
	}
	for range 60 {
		if mid := (low + high) / 2; radius(mid) > 1 {
			low = mid
		} else {
			high = mid
		}
	}
	return high
}

// discounted returns the matrix M_ij E[e^(−s t_ij)] of the least means.
func (a *Analysis) discounted(index map[int]int, edges []Edge, s float64) []cell {
	m := make([]cell, len(edges))
	for k := range edges {
		e := &edges[k]
		m[k] = cell{index[e.From], index[e.To], e.Mean.Low * a.discount(e, s)}
	}
	return m
}

// findLimits works out, for each loop that grows or sustains itself, when it
// meets a limit on concurrent runs. What arrives at a node at time t after one
// message has come in at i approaches u_i v_j e^(st) / (v T u), where u and v
// are the right and left eigenvectors of M_ij E[e^(−s t_ij)] for the eigenvalue
// 1 and T_ij = M_ij E[t_ij e^(−s t_ij)] (the renewal theorem for branching
// populations); arrivals at a rate a sum that up to a·u_i v_j (e^(st)−1)/(s v T u).
func (a *Analysis) findLimits() {
	for k := range a.Loops {
		l := &a.Loops[k]
		if l.Calls || l.Trend != "grows" && l.Trend != "sustains" || l.Verdict == "broken" {
			continue
		}
		if math.IsInf(l.rate, 1) {
			l.Limit = a.limitAtOnce(l)
			continue
		}
		l.Limit = a.limitOf(l)
	}
}

func (a *Analysis) limitOf(l *Loop) *Limit {
	index := indexOf(l.states)
	n := len(l.states)
	m := a.discounted(index, l.inner, l.rate)
	u, v := eigenvector(n, m, false), eigenvector(n, m, true)
	vtu := 0.0
	for k := range l.inner {
		e := &l.inner[k]
		i, j := index[e.From], index[e.To]
		vtu += v[i] * e.Mean.Low * a.delayed(e, l.rate) * u[j]
	}
	into := a.intoLoop(l, index)
	weight, rate := 0.0, 0.0
	for i, x := range into {
		weight += x * u[i]
		rate += x
	}
	out := &Limit{After: document.Unbounded, Arrives: rate}
	if rate == 0 { // one message into the entry
		weight = u[index[a.entryOf(l.states, asSet(l.states))]]
	}
	if vtu == 0 || weight == 0 {
		return out
	}
	// level(t) is what e^(st) has grown to: arrivals at state j are v_j·level.
	levelAt := func(level float64) float64 { // the time at which a level is reached
		c := weight / vtu
		switch {
		case rate == 0 && l.rate > 0:
			return math.Log(level/c) / l.rate
		case rate == 0:
			return math.Inf(1) // it circulates alone indefinitely
		case l.rate*level/c > 1e-9:
			return math.Log1p(l.rate*level/c) / l.rate
		}
		return level / c
	}
	load := a.loadPerLevel(l, v)
	best, name := a.firstAtLimit(l, load.busy)
	if math.IsInf(best, 1) {
		return out
	}
	out.Node = name
	after := max(levelAt(best), 0)
	if math.IsInf(after, 1) {
		out.Node, out.After = "", document.Never
		return out
	}
	out.After = document.At(after)
	runs, cost := 0.0, 0.0
	if node := a.Graph.NodeID(out.Node); node != graph.None { // it starts no more than its limit allows
		if most := a.mostRuns(node); load.start[node]*best > most {
			scale := most / (load.start[node] * best)
			best *= scale
		}
	}
	for _, i := range l.nodes {
		node := a.Node(i)
		if node.Kind.Runs() {
			runs += load.start[i] * best
		}
		if a.Graph.Topology.Prices != nil {
			cost += 3600 * a.priceOf(node, load.start[i]*best, load.arrive[i]*best)
		}
	}
	out.Runs = &runs
	if a.Graph.Topology.Prices != nil {
		out.Cost = &cost
	}
	return out
}

// loopLoad is what a loop asks of its nodes for each unit of its level, by node.
type loopLoad struct{ busy, arrive, start map[int]float64 } // concurrent runs; messages and runs a second

// loadPerLevel works it out from the left eigenvector: the concurrent runs of a node are
// its arrivals times the length of a run.
func (a *Analysis) loadPerLevel(l *Loop, v []float64) loopLoad {
	load := loopLoad{map[int]float64{}, map[int]float64{}, map[int]float64{}}
	for k, s := range l.states {
		at := a.States.All[s]
		node := a.Node(at.Node)
		runs := 0.0
		if node.Kind.Runs() {
			runs = v[k] * a.FateOf(s, Usual).runs
		}
		load.arrive[at.Node] += v[k]
		load.start[at.Node] += runs
		if node.Kind.Runs() {
			load.busy[at.Node] += runs * heldFor(a.Outcome(s, Usual).Length.Mean(), l.rate)
		}
	}
	return load
}

// firstAtLimit returns the level at which the first node of a loop comes to its limit, and
// its name; infinity where none has one.
func (a *Analysis) firstAtLimit(l *Loop, busy map[int]float64) (best float64, name string) {
	best = math.Inf(1)
	for _, i := range l.nodes {
		node := a.Node(i)
		limit := float64(node.Concurrency)
		if size := a.Graph.Topology.Pools[node.Pool]; node.Pool != "" && (limit == 0 || float64(size) < limit) {
			limit = float64(size)
		}
		if limit == 0 || busy[i] == 0 {
			continue
		}
		if level := limit / busy[i]; level < best {
			best, name = level, node.Name
		}
	}
	return best, name
}

// delayed is E[t e^(−st)] of an edge's delay: minus the slope of its discount.
func (a *Analysis) delayed(e *Edge, s float64) float64 {
	if s*e.Delay < 1e-6 {
		return e.Delay
	}
	h := s * 1e-4
	return (a.discount(e, s-h) - a.discount(e, s+h)) / (2 * h)
}

// heldFor is ∫ e^(−sx) dx from 0 to t: what is in flight for t, of arrivals that
// grow at s.
func heldFor(t, s float64) float64 {
	if s*t < 1e-9 {
		return t
	}
	return -math.Expm1(-s*t) / s
}

// limitAtOnce is for a loop that takes no time for a pass.
func (a *Analysis) limitAtOnce(l *Loop) *Limit {
	for _, i := range l.nodes {
		if n := a.Node(i); n.Concurrency > 0 || n.Pool != "" {
			return &Limit{Node: n.Name, After: document.At(0)}
		}
	}
	return &Limit{After: document.Unbounded}
}

// intoLoop gives what comes into the states of a loop from outside it, per
// second.
func (a *Analysis) intoLoop(l *Loop, index map[int]int) []float64 {
	out := make([]float64, len(l.states))
	inside := asSet(l.states)
	for i, rate := range a.arrivals {
		if rate == 0 {
			continue
		}
		for _, in := range a.Spread(i) {
			if inside[in.State] {
				out[index[in.State]] += rate * in.share
			}
		}
	}
	for from, rate := range a.stateRates {
		if rate == 0 || inside[from] || a.grows[from] {
			continue
		}
		for _, e := range a.States.Leaving(from) {
			if inside[e.To] {
				out[index[e.To]] += rate * e.expected
			}
		}
	}
	return out
}

// eigenvector returns the vector of the largest eigenvalue of a matrix without
// negative entries, right or left, largest entry 1, by power iteration on M + I.
func eigenvector(n int, m []cell, left bool) []float64 {
	x := make([]float64, n)
	for i := range x {
		x[i] = 1
	}
	for range 20_000 {
		y := append([]float64(nil), x...)
		for _, c := range m {
			if left {
				y[c.j] += c.v * x[c.i]
			} else {
				y[c.i] += c.v * x[c.j]
			}
		}
		norm, moved := 0.0, 0.0
		for _, v := range y {
			norm = max(norm, v)
		}
		for i := range y {
			y[i] /= norm
			moved = max(moved, math.Abs(y[i]-x[i]))
		}
		if x = y; moved < 1e-13 {
			break
		}
	}
	return x
}

// discount returns E[e^(−s·delay)] of an edge: what a message that comes later
// counts in a population that grows at s. The time of runs varies as they say, and
// so do the tries; what else there is to wait for counts with its mean.
func (a *Analysis) discount(e *Edge, s float64) float64 {
	at := a.States.All[e.From]
	n := a.Node(at.Node)
	if n.Kind == model.Bucket && !n.Notice.IsZero() && e.Kind == Delivers {
		return n.Notice.Laplace(s)
	}
	if !n.Kind.Runs() || e.Kind != Sends && e.Kind != Result {
		return math.Exp(-s * e.Delay)
	}
	if e.Kind == Result && a.Link(e.Link).When == model.Failure {
		return math.Exp(-s * e.Delay)
	}
	o := a.Outcome(e.From, Usual)
	if o.success.Mass == 0 {
		return math.Exp(-s * e.Delay)
	}
	one := o.success.Laplace(s) / o.success.Mass
	if o.Fails == 0 || at.How != AsIntake && at.How != AsPoll {
		return one
	}
	p := a.PolicyOf(at.Context)
	failed := failuresOf(o)
	length := failed.Mean()
	sum, mass, share, wait := 0.0, 0.0, 1.0, 0.0
	for k := 1; k <= 60 && share > 1e-9; k++ {
		sum += share * math.Exp(-s*wait)
		mass += share
		if p.Tries > 0 && k >= p.Tries {
			break
		}
		share *= o.Fails
		wait += a.gap(at, p, k, length)
	}
	return one * sum / mass
}

// mostRuns returns the runs per second that a node can start at most.
func (a *Analysis) mostRuns(i int) float64 {
	n := a.Node(i)
	limit := float64(n.Concurrency)
	if size := a.Graph.Topology.Pools[n.Pool]; n.Pool != "" && (limit == 0 || float64(size) < limit) {
		limit = float64(size)
	}
	run := a.meanRun(i)
	if limit == 0 || run == 0 {
		return math.Inf(1)
	}
	return limit / run
}
