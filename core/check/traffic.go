package check

import (
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// outsideRates gives what outsiders send in, by node, per second.
func (a *Analysis) outsideRates(s *model.Scenario) []float64 {
	rates := make([]float64, len(a.Graph.Nodes))
	a.sources = map[int]*model.Traffic{}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		switch {
		case n.Kind == model.Schedule:
			rates[i] = scheduleRate(n)
		case s == nil || !s.TrafficGiven:
			rates[i] = n.Rate
		}
	}
	if s != nil {
		for _, t := range s.Traffic {
			if i := a.Graph.NodeID(t.Into); i != graph.None {
				rates[i] += meanRate(t, s.Length)
				a.sources[i] = t
			}
		}
	}
	return rates
}

// meanRate gives the mean of a traffic's rate over a run.
func meanRate(t *model.Traffic, length time.Duration) float64 {
	switch t.Arrivals {
	case "burst":
		on, off := t.Burst.On.Seconds(), t.Burst.Off.Seconds()
		return (t.Burst.Rate*on + t.Rate*off) / (on + off)
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
		return sum / length.Seconds()
	}
	return t.Rate
}

// scheduleRate gives the mean rate of a schedule: over a year of its calendar.
func scheduleRate(n *graph.Node) float64 {
	if !n.Enabled {
		return 0
	}
	if n.Every > 0 {
		return 1 / n.Every.Seconds()
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	zone, zoneErr := time.LoadLocation(n.Zone)
	if err != nil || zoneErr != nil {
		return 0
	}
	t := model.DefaultStart
	const most = 2000
	for k := 1; k <= most; k++ {
		next, ok := c.Next(t, zone)
		if span := next.Sub(model.DefaultStart); !ok || span > 366*24*time.Hour {
			return float64(k-1) / (365 * 86400)
		}
		t = next
	}
	return most / t.Sub(model.DefaultStart).Seconds()
}

// inflow is how many messages come to a spot.
type inflow struct {
	spot  int
	count float64
}

// solveTraffic solves the traffic equations λ = a + λM over spots, by
// iteration: retries are in the runs, loops in M. What a loop feeds that
// sustains or grows has no bound.
func (a *Analysis) solveTraffic(s *model.Scenario) {
	a.arrivals = a.outsideRates(s)
	a.grows = a.growingSpots()
	a.boundless = make([]bool, len(a.Graph.Nodes))
	for k, g := range a.grows {
		if g {
			a.boundless[a.states.spots[k].node] = true
		}
	}
	var start []inflow
	for i, rate := range a.arrivals {
		if rate != 0 {
			start = append(start, a.spread(i, rate)...)
		}
	}
	a.rates = make([]float64, len(a.Graph.Nodes))
	a.spotRates = make([]float64, len(a.states.spots))
	a.linkRate = make([]float64, len(a.Graph.Links))
	for _, in := range a.propagate(start) {
		a.rates[a.states.spots[in.spot].node] += in.count
		a.spotRates[in.spot] = in.count
		for _, e := range a.states.leaving(in.spot) {
			if !e.Dead && !a.grows[in.spot] {
				a.linkRate[e.Link] += in.count * e.expected
			}
		}
	}
}

// spread divides what outsiders send to a node over the states that they bring:
// evenly, for nobody says more.
func (a *Analysis) spread(i int, rate float64) []inflow {
	brings := a.brings(i, a.scenario)
	if t := a.sources[i]; t != nil && t.Key != "" && len(a.node(i).Keys) > 0 {
		brings = []state{{templateShape(t.Key), t.Type}} // the traffic says which of the keys
	}
	var out []inflow
	for _, s := range a.At[i].covers(brings) {
		if k, ok := a.states.index[spot{i, s, a.ownManner(i)}]; ok {
			out = append(out, inflow{k, rate})
		}
	}
	for k := range out {
		out[k].count /= float64(len(out))
	}
	return out
}

// growingSpots finds the spots that a loop feeds which sustains itself or grows,
// if only until a hop limit ends it.
func (a *Analysis) growingSpots() []bool {
	out := make([]bool, len(a.states.spots))
	var work []int
	for i := range a.Loops {
		l := &a.Loops[i]
		if l.Verdict == "broken" || l.Trend == "dies-out" && l.ended == nil {
			continue
		}
		if expected, unbounded := firstReturn(l.spots[0], l.spots, l.inner, func(e *stateEdge) float64 { return e.expected }); !unbounded && expected < 1-gainTolerance {
			continue // it could grow, but not in the mean
		}
		for _, m := range l.spots {
			if !out[m] {
				out[m] = true
				work = append(work, m)
			}
		}
	}
	for len(work) > 0 {
		i := work[len(work)-1]
		work = work[:len(work)-1]
		for _, e := range a.states.leaving(i) {
			if e.expected > 0 && !out[e.to] {
				out[e.to] = true
				work = append(work, e.to)
			}
		}
	}
	return out
}

// propagate iterates λ ← a + λM; each round takes messages one step further. It
// gives what comes to each spot that anything comes to. What has no bound is left
// out, so the rounds die out; they end when they no longer count. Its cost is that of the spots reached, not of all there are.
func (a *Analysis) propagate(start []inflow) []inflow {
	if a.waves == nil {
		a.waves = &waves{wave: make([]float64, len(a.states.spots)), next: make([]float64, len(a.states.spots)), place: make([]int32, len(a.states.spots))}
	}
	w := a.waves // all zero, and left so
	var total []inflow
	arrive := func(spot int, count float64) {
		if w.place[spot] == 0 {
			total = append(total, inflow{spot: spot})
			w.place[spot] = int32(len(total))
		}
		total[w.place[spot]-1].count += count
	}
	active, coming := w.active[:0], w.coming[:0] // the spots that a wave is at
	for _, in := range start {
		if in.count == 0 {
			continue
		}
		arrive(in.spot, in.count)
		if w.wave[in.spot] == 0 {
			active = append(active, in.spot)
		}
		w.wave[in.spot] += in.count
	}
	for range 1_000_000 { // a loop that returns all but a thirty-thousandth has died out by then
		coming = coming[:0]
		for _, from := range active {
			count := w.wave[from]
			w.wave[from] = 0
			for _, e := range a.states.leaving(from) {
				more := count * e.expected
				if more == 0 || a.grows[e.to] {
					continue
				}
				if w.next[e.to] == 0 {
					coming = append(coming, e.to)
				}
				w.next[e.to] += more
			}
		}
		moved := 0.0
		for _, i := range coming {
			arrive(i, w.next[i])
			moved = max(moved, w.next[i])
		}
		w.wave, w.next = w.next, w.wave
		active, coming = coming, active
		if moved < 1e-15 || math.IsInf(moved, 0) || math.IsNaN(moved) {
			break
		}
	}
	for _, i := range active {
		w.wave[i] = 0
	}
	for _, in := range total {
		w.place[in.spot] = 0
	}
	w.active, w.coming = active, coming
	return total
}

// waves is what propagate works on, kept between calls.
type waves struct {
	wave, next     []float64 // by spot
	place          []int32   // by spot: its place in the total, from 1
	active, coming []int
}

// oneInto sends one message into an entry and gives how many reach each spot;
// ok is false when that has no bound.
func (a *Analysis) oneInto(entry int) (reached []inflow, ok bool) {
	reached = a.propagate(a.spread(entry, 1))
	for _, in := range reached {
		if a.boundless[a.states.spots[in.spot].node] {
			return nil, false
		}
		for _, e := range a.states.leaving(in.spot) {
			if a.grows[e.to] && e.expected > 0 {
				return nil, false
			}
		}
	}
	return reached, true
}
