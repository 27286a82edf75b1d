package check

import (
	"fmt"
	"math"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// Capacity is how busy a node is on average.
type Capacity struct {
	Rate        *float64 `json:"rate"`        // messages or calls per second; null: grows without bound
	Utilisation *float64 `json:"utilisation"` // of what limits it most; null: no limit
	Concurrency *float64 `json:"concurrency"` // mean concurrent runs
	Limit       *int     `json:"limit"`
	Wait        *float64 `json:"wait_s"`     // mean wait for a free run (Erlang C); null: none is known
	LimitedBy   string   `json:"limited_by"` // concurrency, pool NAME, rate-limit, partition-rate; empty: nothing
	HeadRoom    *float64 `json:"head_room"`  // the present traffic fits so many times, batches filled; null: no limit
	Needed      *int     `json:"needed"`     // the least concurrency (or pool) that is at most 80% busy
	Basis       Basis    `json:"basis,omitempty"`
	Assumptions []string `json:"assumptions,omitempty"`

	full float64 // utilisation when batches are as full as they can be
}

// Reading is how busy the readers of a link are.
type Reading struct {
	Utilisation float64 `json:"utilisation"` // of the most they can take, batches filled
	Most        float64 `json:"most"`        // messages per second that they can take; 0: without bound
	Batch       float64 `json:"batch"`       // mean messages a batch, an estimate where up-to is over 1

	tries float64 // deliveries per second
	run   float64 // seconds
}

// comfortable is the utilisation up to which there is room for a slow minute.
const comfortable = 0.8

// Cost is what a month of the mean traffic costs.
type Cost struct {
	Currency string             `json:"currency"`
	Month    float64            `json:"month"` // 30 days
	Nodes    map[string]float64 `json:"nodes"`
	Basis    Basis              `json:"basis,omitempty"`
}

// Amplification is what one message from outside sets off.
type Amplification struct {
	Runs   *float64 `json:"runs"` // null: without bound
	Copies *float64 `json:"copies"`
}

const monthSeconds = 30 * 86400

// meanRun returns the mean time of a node's runs in seconds, over its messages.
func (a *Analysis) meanRun(i int) float64 {
	sum, weight := 0.0, 0.0
	for _, s := range a.states.of[i] {
		w := a.runRate(int(s))
		if w == 0 {
			w = 1e-12
		}
		sum += w * a.outcome(int(s), usual).length.mean()
		weight += w
	}
	if weight == 0 {
		return a.node(i).Takes.Expected()
	}
	return sum/weight + a.coldTime(i)
}

// runTime returns the mean time of a run at no load, in seconds.
func (a *Analysis) runTime(i int) float64 { return a.meanRun(i) }

// coldTime returns what cold starts add to a mean run: a run starts cold where no
// other has ended within the idle time before it. Arrivals are taken to be Poisson.
func (a *Analysis) coldTime(i int) float64 {
	n := a.node(i)
	if n.ColdStart == nil || a.runs == nil || a.runs[i] <= 0 {
		return 0
	}
	return n.ColdStart.Takes.Expected() * math.Exp(-a.runs[i]*n.ColdStart.Idle.Seconds())
}

// runRate returns the runs per second of the messages at a state, tries included; of
// a batch, each message counts its part.
func (a *Analysis) runRate(s int) float64 {
	at := a.states.all[s]
	if a.stateRates == nil || !a.node(at.node).Kind.Runs() {
		return 0
	}
	rate := a.stateRates[s] * a.runsPerMessage(s)
	if at.how == asPoll && a.link(int(at.link)).Relation == model.PolledRun {
		return rate / a.batchOf(a.link(int(at.link)))
	}
	return rate
}

// PayloadAssumption is the assumption of numbers that rest on conditions which only
// a payload decides.
const PayloadAssumption = "conditions that depend on the payload hold, and its cases do not apply"

const evenKeys = "the keys are spread evenly over the partitions"

// findGuesses finds the states and links whose rates rest on what only a payload
// decides: what such a condition lets through, and all that comes of it.
func (a *Analysis) findGuesses() {
	g := a.states
	var undecided []int
	for k := range g.edges {
		if e := &g.edges[k]; e.mean.low != e.mean.high {
			undecided = append(undecided, e.to)
		}
	}
	a.guessedStates = g.spreadOver(undecided, func(e *edge) bool { return e.mean.high > 0 })
	a.guessedLinks = make([]bool, len(a.Graph.Links))
	for k := range g.edges {
		e := &g.edges[k]
		if e.link != graph.None && e.kind != gaveUp &&
			(e.mean.low != e.mean.high || a.guessedStates[e.from] && e.mean.high > 0) {
			a.guessedLinks[e.link] = true
		}
	}
}

// findCapacity works out how busy everything is.
func (a *Analysis) findCapacity() {
	n := len(a.Graph.Nodes)
	a.runs = make([]float64, n)
	least := make([]float64, n) // runs per second if batches were full
	guessed, guessedRuns := make([]bool, n), make([]bool, n)
	a.findGuesses()
	for s := range a.states.all {
		at := a.states.all[s]
		rate := a.runRate(s)
		a.runs[at.node] += rate
		if at.how == asPoll && a.link(int(at.link)).Relation == model.PolledRun {
			l := a.link(int(at.link))
			rate *= a.batchOf(l) / float64(max(l.Read.UpTo, 1))
		}
		least[at.node] += rate
		if a.guessedStates[s] {
			guessed[at.node] = true
		}
		if a.outcomeGuessed(s) {
			guessedRuns[at.node] = true
		}
	}
	busy, full := make([]float64, n), make([]float64, n) // mean concurrent runs; with full batches
	pools, poolsFull := map[string]float64{}, map[string]float64{}
	for i := range a.Graph.Nodes {
		node := a.node(i)
		if a.boundless[i] || !node.Kind.Runs() {
			continue
		}
		run := a.meanRun(i)
		busy[i], full[i] = a.runs[i]*run, least[i]*run
		if node.Pool != "" {
			pools[node.Pool] += busy[i]
			poolsFull[node.Pool] += full[i]
		}
	}
	a.Capacity = make(map[string]Capacity, n)
	for i := range a.Graph.Nodes {
		node := a.node(i)
		c := Capacity{Basis: Basis{}}
		if a.boundless[i] {
			a.Capacity[node.Name] = c
			continue
		}
		c.Rate = &a.rates[i]
		if guessed[i] {
			c.Basis["rate"] = Estimate
		}
		if guessed[i] || guessedRuns[i] {
			c.Assumptions = append(c.Assumptions, PayloadAssumption)
			c.Basis["utilisation"] = Estimate
		}
		if node.Kind.Runs() {
			c.Concurrency = &busy[i]
			a.labelRuns(i, &c, guessed[i] || guessedRuns[i])
		}
		limit := func(by string, used, full float64) {
			if c.Utilisation == nil || full > c.full {
				c.Utilisation, c.LimitedBy, c.full = &used, by, full
			}
		}
		if node.Concurrency > 0 {
			limit("concurrency", busy[i]/float64(node.Concurrency), full[i]/float64(node.Concurrency))
			c.Limit, c.Needed = &node.Concurrency, needed(full[i])
		}
		if size := a.Graph.Topology.Pools[node.Pool]; node.Pool != "" && size > 0 {
			if limit("pool "+node.Pool, pools[node.Pool]/float64(size), poolsFull[node.Pool]/float64(size)); c.LimitedBy == "pool "+node.Pool {
				c.Limit, c.Needed = &size, needed(poolsFull[node.Pool])
			}
		}
		if node.RateLimit > 0 {
			rate := a.rates[i]
			if node.Kind.Runs() {
				rate = a.runs[i]
			}
			limit("rate-limit", rate/node.RateLimit, rate/node.RateLimit)
		}
		if node.Kind == model.Stream && node.PartitionRate > 0 && node.Partitions > 0 {
			most := node.PartitionRate * float64(node.Partitions)
			limit("partition-rate", a.rates[i]/most, a.rates[i]/most)
			if node.By != nil {
				c.Basis["utilisation"] = AtLeast
				c.Assumptions = append(c.Assumptions, evenKeys)
			}
		}
		if c.full > 0 {
			room := 1 / c.full
			c.HeadRoom = &room
		}
		if c.LimitedBy == "concurrency" && *c.Utilisation < 1 && busy[i] > 0 {
			w := erlangC(node.Concurrency, busy[i]) * a.meanRun(i) / (float64(node.Concurrency) - busy[i])
			c.Wait = &w
			c.Basis["wait_s"] = Estimate
		}
		if c.Utilisation == nil {
			delete(c.Basis, "utilisation")
		}
		a.Capacity[node.Name] = c
	}
}

// outcomeGuessed reports whether something of the run at a state was guessed.
func (a *Analysis) outcomeGuessed(s int) bool {
	return a.node(a.states.all[s].node).Kind.Runs() && a.outcome(s, usual).guessed
}

// labelRuns says why the runs of a node are estimates.
func (a *Analysis) labelRuns(i int, c *Capacity, guessed bool) {
	because := func(format string, args ...any) {
		c.Basis["concurrency"], c.Basis["utilisation"] = Estimate, Estimate
		c.Assumptions = append(c.Assumptions, fmt.Sprintf(format, args...))
	}
	for _, id := range a.node(i).In {
		if l := a.link(id); l.Relation == model.PolledRun && l.Read.UpTo > 1 && a.linkRate[id] > 0 {
			because("batches of %s hold %.3g of up to %d messages on average", l.Link.ID(), a.batchOf(l), l.Read.UpTo)
			if a.node(l.From).By != nil {
				because(evenKeys)
			}
		}
	}
	if a.node(i).ColdStart != nil {
		because(
			"arrivals are Poisson, and a run starts cold after %s without one",
			model.FormatDuration(a.node(i).ColdStart.Idle),
		)
	}
	if guessed {
		c.Basis["concurrency"] = Estimate
	}
	for _, s := range a.states.of[i] {
		if a.outcome(int(s), usual).random {
			because("several random times add up")
			return
		}
	}
}

// needed returns the least number of runs that are at most 80% busy.
func needed(busy float64) *int {
	n := max(int(math.Ceil(busy/comfortable-1e-9)), 1)
	return &n
}

// findBatches works out how full the batches of each link are, and how busy its
// readers. A batch holds what arrives within its wait from the first message on, at
// most up-to; where readers (or runs) are short, it holds what has gathered since
// the last one.
func (a *Analysis) findBatches() {
	a.Readings = map[int]Reading{}
	a.states.batches = make([]float64, len(a.Graph.Links))
	for i := range a.Graph.Links {
		if l := a.link(i); l.Relation.Polls() && !a.boundless[l.From] {
			r := a.readingOf(l)
			a.Readings[i] = r
			a.states.batches[i] = r.Batch
		}
	}
}

func (a *Analysis) readingOf(l *graph.Link) Reading {
	from, to := a.node(l.From), a.node(l.To)
	parts := 1.0
	serial := from.Kind != model.Queue // a failing batch holds up what is behind it
	readers := float64(max(l.Read.Parallel, 1))
	if from.Kind != model.Queue {
		readers = float64(max(from.Partitions, 1)) // one batch a partition
		parts = readers
	}
	if from.Kind == model.Queue && from.Grouped && a.oneGroup(from) {
		readers, serial = 1, true
	}
	r := Reading{run: to.Takes.Expected(), Batch: 1}
	most := 1.0   // messages that one run takes
	held := r.run // what a message holds its reader up for, the waits between its tries included
	weight := 0.0
	for _, s := range a.states.of[l.To] {
		if at := a.states.all[s]; at.how != asPoll || int(at.link) != l.ID {
			continue
		}
		rate := a.stateRates[s]
		r.tries += rate * a.fateOf(int(s), usual).runs
		if l.Relation == model.PolledRun {
			if weight == 0 {
				r.run, held = 0, 0
			}
			w := max(rate, 1e-12)
			one := a.outcome(int(s), usual).length.mean()
			r.run += w * one
			held += w * a.heldUp(int(s))
			weight += w
		}
	}
	if weight > 0 {
		r.run /= weight
		held /= weight
	}
	if l.Relation == model.PolledMove {
		r.tries = a.linkRate[l.ID]
	}
	if l.Relation == model.PolledRun {
		most = float64(max(l.Read.UpTo, 1))
		places := readers
		if to.Concurrency > 0 {
			places = min(places, float64(to.Concurrency))
		}
		gathered := r.tries * r.run / places
		// Each partition fills a batch of its own.
		r.Batch = min(max(meanFill(most, r.tries/parts*l.Read.Within.Seconds()), gathered), most)
	}
	if from.Kind != model.Queue && from.Partitions == 0 { // it adds partitions as it needs them
		return r
	}
	if l.Relation == model.PolledMove && serial {
		held = a.movesFor(l)
	}
	if serial && held > r.run {
		if tries := r.tries / max(a.linkRate[l.ID], 1e-300); tries > 0 && a.linkRate[l.ID] > 0 {
			r.Most = readers * most / held * tries // in tries
			r.Utilisation = r.tries / r.Most
			return r
		}
	}
	if r.run > 0 {
		r.Most = readers * most / r.run
		r.Utilisation = r.tries / r.Most
	}
	return r
}

// heldUp returns the mean time from the first try of a message to when its reader is
// done with it, in seconds.
func (a *Analysis) heldUp(s int) float64 {
	f := a.fateOf(s, usual)
	done := a.waitsBefore(s) + a.outcome(s, usual).length.mean()
	if f.given == 0 {
		return done
	}
	return (1-f.given)*done + f.given*a.givenUpAfter(s)
}

// movesFor returns the mean time that the move of a record holds its partition up.
func (a *Analysis) movesFor(l *graph.Link) float64 {
	to := a.node(l.To)
	p := 1 - (1-to.Fails.EachTry)*(1-a.overfull[l.To])
	takes := to.Takes.Expected()
	t, share := 0.0, 1.0
	for k := 1; k <= 200 && share > 1e-9; k++ {
		t += share * takes
		share *= p
		if l.Policy.Tries > 0 && k >= l.Policy.Tries {
			break
		}
		t += share * float64(l.Policy.Backoff(k)) * 1e-9
	}
	return t
}

// oneGroup reports whether all messages of a grouped queue are certainly of one
// group.
func (a *Analysis) oneGroup(n *graph.Node) bool {
	if n.Group == nil || len(a.states.of[n.ID]) == 0 {
		return false
	}
	var group any
	for k, s := range a.states.of[n.ID] {
		e, has := a.seen(a.states.all[s].message, graph.DefaultType(n.Kind))
		v, known := n.Group.ValueOf(e, has)
		if !known || k > 0 && fmt.Sprint(v) != fmt.Sprint(group) {
			return false
		}
		group = v
	}
	return true
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

// erlangC returns the share of arrivals that wait in M/M/c with load a = λ/μ < c
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

// priceMonth prices a month of the mean traffic; nil without prices, or where
// something grows without bound.
func (a *Analysis) priceMonth() {
	p := a.Graph.Topology.Prices
	if p == nil {
		return
	}
	c := &Cost{Currency: p.Currency, Nodes: map[string]float64{}, Basis: Basis{"month": Estimate, "nodes": Estimate}}
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

// stockOf returns the mean number of messages in a queue (Little's law), where its
// readers keep up.
func (a *Analysis) stockOf(i int) float64 {
	n := a.node(i)
	sum := 0.0
	for _, s := range a.states.of[i] {
		rate := a.stateRates[s]
		if rate == 0 {
			continue
		}
		read := false
		for _, e := range a.states.leaving(int(s)) {
			if e.kind != polls {
				continue
			}
			read = true
			held := n.Delay.Seconds()
			if l := a.link(e.link); l.Relation == model.PolledMove {
				given, cause := a.moveGivenUp(l, a.node(l.To).Fails.EachTry)
				held += a.node(l.To).Takes.Expected()
				if cause == "expired" {
					held += given * n.Retention.Seconds()
				}
			} else {
				held += a.heldUp(e.to)
			}
			sum += rate * e.expected * min(held, n.Retention.Seconds())
		}
		if !read {
			sum += rate * n.Retention.Seconds()
		}
	}
	return sum
}

// drainOf returns the messages per second that leave a queue at most: those that its
// readers take, and those that expire where nothing reads it.
func (a *Analysis) drainOf(n *graph.Node) float64 {
	most := 0.0
	for _, id := range n.Out {
		r, ok := a.Readings[id]
		if !ok || r.Most == 0 {
			return math.Inf(1)
		}
		most += r.Most
	}
	if len(n.Out) == 0 {
		most = float64(n.Capacity) / n.Retention.Seconds()
	}
	return most
}

// findOverfull finds the channels that reject writes because more is written than
// they take: the share that a stream's partitions reject, and a queue that is full.
func (a *Analysis) findOverfull() bool {
	a.overfull = map[int]float64{}
	for i := range a.Graph.Nodes {
		n := a.node(i)
		if a.boundless[i] {
			continue
		}
		if n.Kind == model.Queue && n.Capacity > 0 {
			most := a.drainOf(n)
			room := float64(n.Capacity)
			// what stays for long fills it up; one more comes as one goes
			if stock := a.stockOf(i); stock > room*(1-1e-9) {
				most = min(most, a.rates[i]*room/max(stock, room+1))
			}
			if a.rates[i] > most*1.0001 {
				a.overfull[i] = 1 - most/a.rates[i]
			}
			continue
		}
		if n.Kind != model.Stream || n.PartitionRate == 0 || n.Partitions == 0 {
			continue
		}
		if most := n.PartitionRate * float64(n.Partitions); a.rates[i] > most*1.0001 {
			a.overfull[i] = 1 - most/a.rates[i]
		}
	}
	return len(a.overfull) > 0
}

// findBehind finds the reader links that get more than they can take, whose backlog
// grows until messages expire.
func (a *Analysis) findBehind() bool {
	a.behind = map[int]float64{}
	for id, r := range a.Readings {
		if r.Utilisation > 1.0001 {
			a.behind[id] = 1 - 1/r.Utilisation
		}
	}
	return len(a.behind) > 0
}
