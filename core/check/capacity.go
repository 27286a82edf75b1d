package check

import (
	"fmt"
	"math"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// Capacity is how busy a node is in the mean.
type Capacity struct {
	Rate        *float64 `json:"rate"`        // messages or calls per second; null: grows without bound
	Utilisation *float64 `json:"utilisation"` // of what limits it most; null: no limit
	Concurrency *float64 `json:"concurrency"` // mean runs at once
	Limit       *int     `json:"limit"`
	Wait        *float64 `json:"wait_s"`             // mean wait for a free place (Erlang C); null: none is known
	LimitedBy   string   `json:"limited_by"`         // concurrency, pool NAME, rate-limit, partition-rate; empty: nothing
	HeadRoom    *float64 `json:"head_room"`          // the present traffic fits so many times, batches filled; null: no limit
	Needed      *int     `json:"needed"`             // the least concurrency (or pool) that is at most 80% busy
	Estimate    string   `json:"estimate,omitempty"` // why the numbers are estimates; empty: they are exact in the mean

	full float64 // utilisation when batches are as full as they can be
}

// Reading is how busy the readers of a link are.
type Reading struct {
	Utilisation float64 `json:"utilisation"` // of the most they can take, batches filled
	Most        float64 `json:"most"`        // messages per second that they can take; 0: without bound
	Batch       float64 `json:"batch"`       // mean messages a batch, estimated where up-to is over 1

	tries float64 // hand-outs per second
	run   float64 // seconds
}

// comfortable is the utilisation up to which there is room for a slow minute.
const comfortable = 0.8

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

// findCapacity works out how busy everything is.
func (a *Analysis) findCapacity() {
	a.Readings = map[int]Reading{}
	for i := range a.Graph.Links {
		if l := a.link(i); l.Relation.Polls() && !a.boundless[l.From] {
			a.Readings[i] = a.readingOf(l)
		}
	}
	a.runs = make([]float64, len(a.Graph.Nodes))
	busy := make([]float64, len(a.Graph.Nodes)) // mean runs at once
	full := make([]float64, len(a.Graph.Nodes)) // the same with full batches
	pools := map[string]float64{}
	poolsFull := map[string]float64{}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		if a.boundless[i] || !n.Kind.Runs() {
			continue
		}
		var least float64
		a.runs[i], least = a.runRate(i)
		run := a.meanRun(i)
		busy[i], full[i] = a.runs[i]*run, least*run
		if n.Pool != "" {
			pools[n.Pool] += busy[i]
			poolsFull[n.Pool] += full[i]
		}
	}
	a.Capacity = make(map[string]Capacity, len(a.Graph.Nodes))
	for i := range a.Graph.Nodes {
		n := a.node(i)
		var c Capacity
		if a.boundless[i] {
			a.Capacity[n.Name] = c
			continue
		}
		c.Rate = &a.rates[i]
		if n.Kind.Runs() {
			c.Concurrency = &busy[i]
			c.Estimate = a.estimated(i)
		}
		limit := func(by string, used, full float64) {
			if c.Utilisation == nil || full > c.full {
				c.Utilisation, c.LimitedBy, c.full = &used, by, full
			}
		}
		if n.Concurrency > 0 {
			limit("concurrency", busy[i]/float64(n.Concurrency), full[i]/float64(n.Concurrency))
			c.Limit, c.Needed = &n.Concurrency, needed(full[i])
		}
		if size := a.Graph.Topology.Pools[n.Pool]; n.Pool != "" && size > 0 {
			if limit("pool "+n.Pool, pools[n.Pool]/float64(size), poolsFull[n.Pool]/float64(size)); c.LimitedBy == "pool "+n.Pool {
				c.Limit, c.Needed = &size, needed(poolsFull[n.Pool])
			}
		}
		if n.RateLimit > 0 {
			rate := a.rates[i]
			if n.Kind.Runs() {
				rate = a.runs[i]
			}
			limit("rate-limit", rate/n.RateLimit, rate/n.RateLimit)
		}
		if n.Kind == model.Stream && n.PartitionRate > 0 && n.Partitions > 0 {
			most := n.PartitionRate * float64(n.Partitions)
			limit("partition-rate", a.rates[i]/most, a.rates[i]/most)
			if n.By != nil {
				c.Estimate = "the keys are taken to be spread evenly over the partitions"
			}
		}
		if c.full > 0 {
			room := 1 / c.full
			c.HeadRoom = &room
		}
		if c.LimitedBy == "concurrency" && *c.Utilisation < 1 && busy[i] > 0 {
			w := erlangC(n.Concurrency, busy[i]) * a.meanRun(i) / (float64(n.Concurrency) - busy[i])
			c.Wait = &w
		}
		a.Capacity[n.Name] = c
	}
}

// needed gives the least number of places that are at most 80% busy.
func needed(busy float64) *int {
	n := max(int(math.Ceil(busy/comfortable-1e-9)), 1)
	return &n
}

// estimated says why the runs of a node are an estimate, or nothing.
func (a *Analysis) estimated(i int) string {
	for _, id := range a.node(i).In {
		if l := a.link(id); l.Relation == model.PolledRun && l.Read.UpTo > 1 && a.linkRate[id] > 0 {
			return fmt.Sprintf("batches of %s are taken to hold %.3g of up to %d messages", l.Link.ID(), a.Readings[id].Batch, l.Read.UpTo)
		}
	}
	return ""
}

// readingOf works out how busy the readers of a link are. A batch holds what
// comes within its wait from the first message on, at most up-to; where readers
// (or runs) are short, it holds what has gathered since the last one.
func (a *Analysis) readingOf(l *graph.Link) Reading {
	from, to := a.node(l.From), a.node(l.To)
	readers := float64(max(l.Read.Parallel, 1))
	if from.Kind != model.Queue {
		readers = float64(max(from.Partitions, 1)) // one batch a partition
	}
	r := Reading{tries: a.linkRate[l.ID], run: to.Takes.Expected(), Batch: 1}
	most := 1.0 // messages that one run takes
	if to.Kind.Runs() {
		r.tries *= a.meanTries(to, l.Policy.Tries)
	}
	if l.Relation == model.PolledRun {
		r.run = a.meanRun(to.ID)
		most = float64(max(l.Read.UpTo, 1))
		places := readers
		if to.Concurrency > 0 {
			places = min(places, float64(to.Concurrency))
		}
		gathered := r.tries * r.run / places
		r.Batch = min(max(meanFill(most, r.tries*l.Read.Within.Seconds()), gathered), most)
	}
	if from.Kind != model.Queue && from.Partitions == 0 { // it adds partitions as it needs them
		return r
	}
	if r.run > 0 {
		r.Most = readers * most / r.run
		r.Utilisation = r.tries / r.Most
	}
	return r
}

// meanFill is E[min(b, 1 + N)], N Poisson with the mean given: how many messages
// a batch of at most b holds that waits for more from the first on.
func meanFill(b, mean float64) float64 {
	if mean > 10*b {
		return b
	}
	p := math.Exp(-mean) // P(N = k)
	sum, below := 0.0, 0.0
	for k := 0.0; k < b-1; k++ {
		sum += (1 + k) * p
		below += p
		p *= mean / (k + 1)
	}
	return sum + b*(1-below)
}

// runRate gives runs per second of a node, tries included, and the least that
// there could be if batches were full.
func (a *Analysis) runRate(i int) (runs, least float64) {
	n := a.node(i)
	byLinks := 0.0
	for _, id := range n.In {
		l := a.link(id)
		byLinks += a.linkRate[id]
		switch {
		case l.Relation == model.PolledRun:
			r := a.Readings[id]
			if r.tries == 0 {
				continue
			}
			runs += r.tries / r.Batch
			least += r.tries / float64(max(l.Read.UpTo, 1))
		default:
			rate := a.linkRate[id] * a.meanTries(n, a.mannerOf(graph.Edge{From: l.From, To: i, Link: id}).tries)
			runs += rate
			least += rate
		}
	}
	own := max(a.rates[i]-byLinks, 0) * a.meanTries(n, n.Intake.Tries) // by no link, or as dead letters
	return runs + own, least + own
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
// given what it brings to each spot. Runs of batches count as one for each
// message.
func (a *Analysis) amplify(reached []inflow) Amplification {
	runs, copies := 0.0, 1.0
	for _, in := range reached {
		at := a.states.spots[in.spot]
		n := a.node(at.node)
		if n.Kind == model.Function || n.Kind == model.Workflow {
			runs += in.count * a.meanTries(n, at.manner.tries)
		}
		for _, e := range a.states.leaving(in.spot) {
			// What a reader hands to a run stays a copy of its channel; a dead letter
			// is one more.
			if r := a.link(e.Link).Relation; e.Dead || r != model.WaitingCall && r != model.PolledRun && r != model.PolledPush {
				copies += in.count * e.expected
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
		sum := a.priceOf(n, a.runs[i], a.rates[i])
		c.Nodes[n.Name] = sum * monthSeconds
		c.Month += sum * monthSeconds
	}
	a.Cost = c
}

// priceOf prices a second of some runs and messages at a node.
func (a *Analysis) priceOf(n *graph.Node, runs, messages float64) float64 {
	p := a.Graph.Topology.Prices
	switch {
	case n.Kind == model.Function || n.Kind == model.Workflow:
		return runs * (p.Run + a.meanRun(n.ID)*float64(n.Memory)/1e9*p.Compute)
	case n.Kind.Channel():
		return messages * p.Message
	}
	return 0
}
