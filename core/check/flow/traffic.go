package flow

import (
	"math"
	"slices"
	"sort"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Source is what a scenario sends into a node.
type Source struct {
	spec *model.Traffic
	rate float64 // per second, mean
}

// traffic lists what a scenario sends into a node.
func (a *Analysis) traffic(i int) []Source { return a.Sources[i] }

// outsideRates works out what outsiders send in, by node, per second.
func (a *Analysis) outsideRates() {
	s := a.Scenario
	a.arrivals = make([]float64, len(a.Graph.Nodes))
	a.Sources = map[int][]Source{}
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		switch {
		case n.Kind.Fires():
			if n.Enabled {
				a.arrivals[i] = remembered(a.memo.rates, calendarKey(n), func() float64 { return scheduleRate(n) })
			}
		case s == nil || !s.TrafficGiven:
			a.arrivals[i] = n.Rate
		}
	}
	if s == nil {
		return
	}
	for _, t := range s.Traffic {
		if i := a.Graph.NodeID(t.Into); i != graph.None {
			rate := meanRate(t, s.Length)
			a.arrivals[i] += rate
			a.Sources[i] = append(a.Sources[i], Source{t, rate})
		}
	}
}

// meanRate returns the mean of a traffic's rate over a run.
func meanRate(t *model.Traffic, length time.Duration) float64 {
	rate := t.Rate
	switch t.Arrivals {
	case "burst":
		on, off := t.Burst.On.Seconds(), t.Burst.Off.Seconds()
		rate = (t.Burst.Rate*on + t.Rate*off) / (on + off)
	case "curve":
		sum := 0.0
		for k, p := range t.Curve {
			until := length
			if k+1 < len(t.Curve) {
				until = min(until, t.Curve[k+1].At)
			}
			if until > p.At {
				sum += p.Rate * (until - p.At).Seconds()
			}
		}
		rate = sum / length.Seconds()
	case "replay":
		rate = float64(len(t.Replayed)) / length.Seconds()
	}
	if t.Max > 0 {
		rate = min(rate, float64(t.Max)/length.Seconds())
	}
	return rate
}

// scheduleRate returns the mean rate of a schedule: of its calendar over 28 years,
// after which weekdays and leap years recur; of one that fires often, over the whole
// weeks that its first 5000 firings span.
func scheduleRate(n *graph.Node) float64 {
	if n.Every > 0 {
		return 1 / n.Every.Seconds()
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	zone, zoneErr := time.LoadLocation(n.Zone)
	if err != nil || zoneErr != nil {
		return 0
	}
	const most, week, cycle = 5000, 7 * 24 * time.Hour, 1461 * 7 * 24 * time.Hour
	var at []time.Duration // since the first instant looked at
	for t := model.DefaultStart; len(at) < most; {
		next, ok := c.Next(t, zone)
		since := next.Sub(model.DefaultStart)
		if !ok || since > cycle {
			return float64(len(at)) / cycle.Seconds()
		}
		at, t = append(at, since), next
	}
	weeks := at[most-1] / week * week
	if weeks == 0 {
		return (most - 1) / (at[most-1] - at[0]).Seconds()
	}
	count := sort.Search(most, func(i int) bool { return at[i] > weeks })
	return float64(count) / weeks.Seconds()
}

// solveTraffic solves the traffic equations λ = a + λM over states, component by
// component in the order of the graph: retries are in the runs, loops in M. What a
// loop feeds that sustains itself or grows has no bound.
func (a *Analysis) solveTraffic() {
	g := a.States
	start := make([]float64, len(g.All))
	for i, rate := range a.arrivals {
		if rate == 0 {
			continue
		}
		for _, in := range a.Spread(i) {
			start[in.State] += rate * in.share
		}
	}
	a.stateRates, _ = g.solve(start, a.grows, nil)
	a.Rates = make([]float64, len(a.Graph.Nodes))
	a.LinkRates = make([]float64, len(a.Graph.Links))
	for s, rate := range a.stateRates {
		a.Rates[g.All[s].Node] += rate
		if rate == 0 || a.grows[s] {
			continue
		}
		for _, e := range g.Leaving(s) {
			if e.Kind != GaveUp && e.Link != graph.None {
				a.LinkRates[e.Link] += rate * max(e.expected, e.taken)
			}
		}
	}
}

// Entering is a share of what outsiders send to a node, at a state.
type Entering struct {
	State int
	share float64
}

// Spread returns the states that outsiders send a node's messages to.
func (a *Analysis) Spread(i int) []Entering {
	var out []Entering
	for _, in := range a.brings(i) {
		m, ok := a.At[i].cover(in.Message)
		if !ok {
			continue
		}
		if s, ok := a.States.index[State{i, m, a.ownContext(i)}]; ok {
			out = append(out, Entering{s, in.share * (1 - a.turnedAway(i))})
		}
	}
	return out
}

// overRequests returns the share of the requests to an endpoint that come over its rate limit, by chance: they are
// answered so, and none is lost.
func (a *Analysis) overRequests(n *graph.Node) float64 {
	if !n.Kind.Answers() || n.RateLimit == 0 {
		return 0
	}
	return overRate(a.arrivals[n.ID]/n.RateLimit, max(n.RateLimit, 1))
}

// turnedAway returns the share of what outsiders send to a channel that it rejects:
// they try once.
func (a *Analysis) turnedAway(i int) float64 {
	n := a.Node(i)
	if !n.Kind.Channel() {
		return 0
	}
	return 1 - (1-n.Fails.EachTry)*(1-a.Rejected[i])
}

// turnedAwayBy returns that share by cause: a full channel rejects before its `fails`
// share does.
func (a *Analysis) turnedAwayBy(i int) map[string]float64 {
	n, out := a.Node(i), map[string]float64{}
	if !n.Kind.Channel() {
		return out
	}
	if over := a.Rejected[i]; over > 0 {
		out[a.rejectCause(i)] = over
	}
	if p := n.Fails.EachTry * (1 - a.Rejected[i]); p > 0 {
		out["rejected"] = p
	}
	return out
}

// onward is what leaves a state over a link, or all that does where the link is None.
type onward struct{ state, link int }

// solve returns x = start + xM, without the states that are left out, and whether
// anything comes there. Where a share of what leaves a state is gone, it does not pass on.
func (g *StateGraph) solve(start []float64, without []bool, gone map[onward]float64) (x []float64, reached bool) {
	x = slices.Clone(start)
	for k := 0; k < len(g.Order); {
		end := k + 1
		for end < len(g.Order) && g.Component[g.Order[end]] == g.Component[g.Order[k]] {
			end++
		}
		members := g.Order[k:end]
		g.settleWithin(members, x, without)
		for _, s := range members {
			if x[s] == 0 || without[s] {
				continue
			}
			for _, e := range g.Leaving(int(s)) {
				if g.Component[e.To] == g.Component[s] {
					continue
				}
				passes := x[s] * e.expected
				if gone != nil {
					passes *= leftOf(gone, int(s), e.Link)
				}
				x[e.To] += passes
			}
		}
		k = end
	}
	for s := range x {
		if without[s] {
			reached = reached || x[s] != 0
			x[s] = 0
		}
	}
	return x, reached
}

// leftOf returns the share of what leaves a state over a link that is not gone.
func leftOf(gone map[onward]float64, state, link int) float64 {
	left := 1 - gone[onward{state, graph.None}]
	if link != graph.None {
		left -= gone[onward{state, link}]
	}
	return max(left, 0)
}

// settleWithin iterates the equations within a component until they no longer
// change: what is left out does not pass on, so the rest dies out.
func (g *StateGraph) settleWithin(members []int32, x []float64, without []bool) {
	if len(members) == 1 && !g.loopsAt(int(members[0])) {
		return
	}
	wave := map[int]float64{}
	for _, s := range members {
		if x[s] != 0 && !without[s] {
			wave[int(s)] = x[s]
		}
	}
	for range 100_000 {
		next := map[int]float64{}
		most, size := 0.0, 0.0
		for _, s := range members {
			v := wave[int(s)]
			if v == 0 || without[s] {
				continue
			}
			for _, e := range g.Leaving(int(s)) {
				if g.Component[e.To] == g.Component[s] && e.expected > 0 && !without[e.To] {
					next[e.To] += v * e.expected
				}
			}
		}
		for s, v := range next {
			x[s] += v
			most, size = max(most, v), max(size, x[s])
		}
		if wave = next; most <= 1e-13*size || math.IsInf(most, 0) || math.IsNaN(most) {
			return
		}
	}
}

func (g *StateGraph) loopsAt(s int) bool {
	for _, e := range g.Leaving(s) {
		if e.To == s {
			return true
		}
	}
	return false
}

// valueOf returns v = own + Mv: what a message at each state is worth together with
// all that it sets off. Worth is without bound (infinite) where that grows.
func (g *StateGraph) valueOf(own []float64, grows []bool) []float64 {
	v := make([]float64, len(own))
	for end := len(g.Order); end > 0; {
		k := end - 1
		for k > 0 && g.Component[g.Order[k-1]] == g.Component[g.Order[end-1]] {
			k--
		}
		members := g.Order[k:end]
		for _, s := range members {
			v[s] = own[s]
			if grows[s] {
				v[s] = math.Inf(1)
				continue
			}
			for _, e := range g.Leaving(int(s)) {
				if g.Component[e.To] != g.Component[s] {
					v[s] += product(e.expected, v[e.To])
				}
			}
		}
		if len(members) > 1 || g.loopsAt(int(members[0])) {
			g.valueWithin(members, v)
		}
		end = k
	}
	return v
}

func (g *StateGraph) valueWithin(members []int32, v []float64) {
	base := make([]float64, len(members))
	for k, s := range members {
		base[k] = v[s]
		if math.IsInf(v[s], 1) {
			for _, t := range members {
				v[t] = math.Inf(1)
			}
			return
		}
	}
	for range 100_000 {
		moved, size := 0.0, 0.0
		for k, s := range members {
			x := base[k]
			for _, e := range g.Leaving(int(s)) {
				if g.Component[e.To] == g.Component[s] {
					x += e.expected * v[e.To]
				}
			}
			moved = max(moved, math.Abs(x-v[s]))
			size = max(size, math.Abs(x))
			v[s] = x
		}
		if moved <= 1e-12*size || math.IsInf(size, 0) {
			return
		}
	}
}
