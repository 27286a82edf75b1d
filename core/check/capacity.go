package check

import (
	"math"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Capacity is how busy a node is in the mean.
type Capacity struct {
	Rate        *float64 `json:"rate"`        // messages or runs per second; null: grows without bound
	Utilisation *float64 `json:"utilisation"` // null: no limit
	Concurrency *float64 `json:"concurrency"` // mean runs at once
	Limit       *int     `json:"limit"`
	Wait        *float64 `json:"wait_s"` // mean wait for a free place (Erlang C); null: none is known
}

// Cost is what a month of the mean traffic costs.
type Cost struct {
	Currency string             `json:"currency"`
	Month    float64            `json:"month"` // 30 days
	Nodes    map[string]float64 `json:"nodes"`
}

// Amplification is what one message from outside sets off.
type Amplification struct {
	Runs   *float64 `json:"runs"` // null: without bound
	Copies *float64 `json:"copies"`
}

const monthSeconds = 30 * 86400

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

// solveTraffic solves the traffic equations λ = a + λM over states, by
// iteration: retries are in the runs, loops in M. What a loop feeds that
// sustains or grows has no bound.
func (a *Analysis) solveTraffic(s *model.Scenario) {
	a.arrivals = a.outsideRates(s)
	a.flows = a.stateFlows()
	grows := a.growingStates()
	a.grows = grows
	a.boundless = make([]bool, len(a.Graph.Nodes))
	for i, g := range grows {
		if g {
			a.boundless[a.states.at[i]] = true
		}
	}
	rates := a.propagate(a.spread(a.arrivals, s), grows)
	a.rates = a.byNode(rates)
	a.linkRate = make([]float64, len(a.Graph.Links))
	for _, o := range a.flows {
		if !o.dead && !grows[o.from] {
			a.linkRate[o.link] += rates[o.from] * o.expected
		}
	}
	a.Capacity = map[string]Capacity{}
	for i := range a.Graph.Nodes {
		a.Capacity[a.node(i).Name] = a.capacityOf(i)
	}
}

// stateFlows gives the mean offspring between states.
func (a *Analysis) stateFlows() []offspring {
	byEdge := map[[2]int]offspring{}
	for _, o := range a.offsprings() {
		byEdge[o.edge()] = o
	}
	out := make([]offspring, 0, len(a.states.edges))
	for _, e := range a.states.edges {
		o := byEdge[edgeKey(e.Edge)]
		o.from, o.to = e.from, e.to
		out = append(out, o)
	}
	return out
}

// spread divides what outsiders send to a node over the states that they bring:
// evenly, for nobody says more.
func (a *Analysis) spread(rates []float64, s *model.Scenario) []float64 {
	out := make([]float64, len(a.states.at))
	for i, rate := range rates {
		if rate == 0 {
			continue
		}
		brought := a.brought(i, s)
		for _, k := range brought {
			out[k] += rate / float64(len(brought))
		}
	}
	return out
}

// brought lists the states that outsiders bring to an entry.
func (a *Analysis) brought(i int, s *model.Scenario) []int {
	own := &Analysis{Graph: a.Graph, At: make([]flow, len(a.Graph.Nodes))}
	own.At[i] = flow{}
	own.enterKeys(i, s)
	if s != nil && len(a.node(i).Keys) > 0 && a.sources[i] != nil && a.sources[i].Key != "" {
		own.At[i] = flow{} // the traffic says which of the keys
		if t, err := expr.ParseTemplate(a.sources[i].Key, true); err == nil {
			own.At[i].add(state{t.Shape(expr.AnyKey), a.sources[i].Type})
		}
	}
	var out []int
	for _, st := range own.At[i].states() {
		if cover, ok := a.At[i].cover(st); ok {
			out = append(out, a.states.index[i][cover])
		}
	}
	return out
}

func (a *Analysis) byNode(states []float64) []float64 {
	out := make([]float64, len(a.Graph.Nodes))
	for k, v := range states {
		out[a.states.at[k]] += v
	}
	return out
}

// growingStates finds the states that a loop which sustains or grows feeds.
func (a *Analysis) growingStates() []bool {
	out := make([]bool, len(a.states.at))
	var work []int
	for i := range a.Loops {
		l := &a.Loops[i]
		if l.Verdict == "broken" || l.calls || l.Trend == "dies-out" {
			continue
		}
		if l.Gain != nil && l.Gain[0] != nil && *l.Gain[0] < 1-gainTolerance {
			continue // it may go round for ever, or not at all: the mean is taken
		}
		for _, m := range l.states {
			if !out[m] {
				out[m] = true
				work = append(work, m)
			}
		}
	}
	next := map[int][]int{}
	for _, o := range a.flows {
		if o.expected > 0 {
			next[o.from] = append(next[o.from], o.to)
		}
	}
	for len(work) > 0 {
		i := work[len(work)-1]
		work = work[:len(work)-1]
		for _, j := range next[i] {
			if !out[j] {
				out[j] = true
				work = append(work, j)
			}
		}
	}
	return out
}

// propagate iterates λ ← a + λM; each round takes messages one step further.
// Where a possible loop would let it go on for ever, it stops after 20,000
// steps with what it has.
func (a *Analysis) propagate(arrivals []float64, grows []bool) []float64 {
	if a.flowsFrom == nil {
		a.flowsFrom = make([][]int32, len(arrivals))
		for i := range a.flows {
			from := a.flows[i].from
			a.flowsFrom[from] = append(a.flowsFrom[from], int32(i))
		}
	}
	rates := append([]float64(nil), arrivals...)
	if a.waves[0] == nil {
		a.waves[0], a.waves[1] = make([]float64, len(rates)), make([]float64, len(rates))
	}
	wave, next := a.waves[0], a.waves[1] // all zero, and left so
	var active, coming []int             // the states that a wave is at
	for i, v := range arrivals {
		if v != 0 {
			wave[i] = v
			active = append(active, i)
		}
	}
	for range 20_000 {
		coming = coming[:0]
		for _, from := range active {
			w := wave[from]
			wave[from] = 0
			for _, k := range a.flowsFrom[from] {
				o := &a.flows[k]
				if o.expected == 0 || grows != nil && grows[o.to] {
					continue
				}
				if next[o.to] == 0 {
					coming = append(coming, o.to)
				}
				next[o.to] += w * o.expected
			}
		}
		moved := 0.0
		for _, i := range coming {
			rates[i] += next[i]
			moved = max(moved, next[i])
		}
		wave, next = next, wave
		active, coming = coming, active
		if moved < 1e-15 || math.IsInf(moved, 0) {
			break
		}
	}
	for _, i := range active {
		wave[i] = 0
	}
	return rates
}

// oneInto sends one message into an entry and gives how many reach each node;
// ok is false when that has no bound.
func (a *Analysis) oneInto(entry int) (nodes, states []float64, ok bool) {
	one := make([]float64, len(a.Graph.Nodes))
	one[entry] = 1
	states = a.propagate(a.spread(one, a.scenario), a.grows)
	nodes = a.byNode(states)
	for i, v := range nodes {
		if v > 0 && a.boundless[i] {
			return nil, nil, false
		}
	}
	return nodes, states, true
}

func (a *Analysis) capacityOf(i int) Capacity {
	n := a.node(i)
	var c Capacity
	if a.boundless[i] {
		return c
	}
	rate := a.rates[i]
	c.Rate = &rate
	if !n.Kind.Runs() {
		return c
	}
	runs := a.runRate(i)
	busy := runs * a.runTime(i, map[int]bool{})
	c.Concurrency = &busy
	switch {
	case n.Concurrency > 0:
		u := busy / float64(n.Concurrency)
		c.Utilisation, c.Limit = &u, &n.Concurrency
		if u < 1 {
			w := erlangC(n.Concurrency, busy) * a.runTime(i, map[int]bool{}) / (float64(n.Concurrency) - busy)
			c.Wait = &w
		}
	case n.RateLimit > 0:
		u := runs / n.RateLimit
		c.Utilisation = &u
	}
	return c
}

// runRate gives runs per second: messages, times their mean tries, over batch
// sizes that fill.
func (a *Analysis) runRate(i int) float64 {
	n := a.node(i)
	least, _ := a.inwardTries(i)
	tries := 1.0
	if n.Kind.Runs() {
		tries = a.meanTries(n, least)
	}
	return a.rates[i] * tries
}

// erlangC gives the share of arrivals that wait in M/M/c with load a = λ/μ < c
// (Erlang's second formula), by the stable recursion of his first.
func erlangC(c int, load float64) float64 {
	if load <= 0 {
		return 0
	}
	b := 1.0
	for k := 1; k <= c; k++ {
		b = load * b / (float64(k) + load*b)
	}
	rho := load / float64(c)
	return b / (1 - rho*(1-b))
}

// amplify gives the runs and copies that one message into an entry sets off,
// given what it brings to each node and state.
func (a *Analysis) amplify(nodes, states []float64) Amplification {
	runs, copies := 0.0, 1.0
	for i, v := range nodes {
		if v == 0 {
			continue
		}
		n := a.node(i)
		if n.Kind == model.Function || n.Kind == model.Workflow {
			least, _ := a.inwardTries(i)
			runs += v * a.meanTries(n, least)
		}
	}
	for from, v := range states {
		if v == 0 {
			continue
		}
		for _, k := range a.flowsFrom[from] {
			o := &a.flows[k]
			r := a.link(o.link).Relation
			if r != model.WaitingCall && r != model.PolledRun && r != model.PolledPush || o.dead {
				copies += v * o.expected
			}
		}
	}
	return Amplification{&runs, &copies}
}

// priceMonth prices a month of the mean traffic; nil without prices, or where
// something grows without bound.
func (a *Analysis) priceMonth() {
	p := a.Graph.Topology.Prices
	if p == nil {
		return
	}
	c := &Cost{Currency: p.Currency, Nodes: map[string]float64{}}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		if a.boundless[i] {
			a.Cost = nil
			return
		}
		sum := 0.0
		if n.Kind == model.Function || n.Kind == model.Workflow {
			sum = a.runRate(i) * (p.Run + a.runTime(i, map[int]bool{})*float64(n.Memory)/1e9*p.Compute)
		}
		if n.Kind.Channel() {
			sum = a.rates[i] * p.Message
		}
		c.Nodes[n.Name] = sum * monthSeconds
		c.Month += sum * monthSeconds
	}
	a.Cost = c
}
