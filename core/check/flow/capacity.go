package flow

import (
	"fmt"
	"math"
	"slices"

	"ironweir/core/expr"
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

	Full float64 `json:"-"` // utilisation when batches are as full as they can be
}

// Reading is how busy the readers of a link are.
type Reading struct {
	Utilisation float64 `json:"utilisation"` // of the most they can take, batches filled
	Most        float64 `json:"most"`        // tries per second that they can make; 0: without bound
	Batch       float64 `json:"batch"`       // mean messages a batch, an estimate where up-to is over 1

	Tries  float64 `json:"-"` // deliveries per second
	each   float64 // deliveries of a message
	others float64 // messages that one is read with, on average
	Run    float64 `json:"-"` // seconds
	slack  float64 // seconds: the wait for readers that is exceeded by one message in e, where they keep up
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

const MonthSeconds = 30 * 86400

// meanRun returns the mean time of a node's runs in seconds, over its messages.
func (a *Analysis) meanRun(i int) float64 {
	sum, weight := 0.0, 0.0
	for _, s := range a.States.Of[i] {
		w := a.runRate(int(s))
		if w == 0 {
			w = 1e-12
		}
		sum += w * a.runLength(int(s))
		weight += w
	}
	if weight == 0 {
		return a.Node(i).Takes.Expected()
	}
	return sum/weight + a.coldTime(i)
}

// RunTime returns the mean time of a run at no load, in seconds.
func (a *Analysis) RunTime(i int) float64 { return a.meanRun(i) }

// coldTime returns what cold starts add to a mean run: a run starts cold where no
// other has ended within the idle time before it. Arrivals are taken to be Poisson.
func (a *Analysis) coldTime(i int) float64 {
	n := a.Node(i)
	if n.ColdStart == nil || a.runs == nil || a.runs[i] <= 0 {
		return 0
	}
	return n.ColdStart.Takes.Expected() * math.Exp(-a.runs[i]*n.ColdStart.Idle.Seconds())
}

// runRate returns the runs per second of the messages at a state, tries included; of
// a batch, each message counts its part.
func (a *Analysis) runRate(s int) float64 {
	at := a.States.All[s]
	if a.stateRates == nil || !a.Node(at.Node).Kind.Runs() {
		return 0
	}
	rate := a.stateRates[s] * a.runsPerMessage(s)
	if at.How == AsPoll && a.Link(int(at.Link)).Relation == model.PolledRun {
		return rate / a.batchOf(a.Link(int(at.Link)))
	}
	return rate
}

// PayloadAssumption is the assumption of numbers that rest on conditions which only
// a payload decides.
const PayloadAssumption = "conditions that depend on the payload hold, and its cases do not apply"

const evenKeys = "the keys are spread evenly over the partitions"

// findGuesses finds the states and links whose rates rest on what only a payload
// decides, or on what a full channel takes: what such a condition lets through, and all that comes of it.
func (a *Analysis) findGuesses() {
	g := a.States
	var undecided []int
	for k := range g.Edges {
		if e := &g.Edges[k]; e.Mean.Low != e.Mean.High {
			undecided = append(undecided, e.To)
		}
	}
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		if _, full := a.Rejected[i]; full || a.tooClose(n) > rarelyAway {
			for _, s := range g.Of[i] {
				undecided = append(undecided, int(s))
			}
		}
	}
	a.guessedStates = g.spreadOver(undecided, func(e *Edge) bool { return e.Mean.High > 0 })
	a.GuessedLinks = make([]bool, len(a.Graph.Links))
	for k := range g.Edges {
		e := &g.Edges[k]
		if e.Link != graph.None && e.Kind != GaveUp &&
			(e.Mean.Low != e.Mean.High || a.guessedStates[e.From] && e.Mean.High > 0) {
			a.GuessedLinks[e.Link] = true
		}
	}
}

// decidesByPayload reports whether a model has conditions, counts or cases of which a payload may decide.
func decidesByPayload(g *graph.Graph) bool {
	return g.UsesData || slices.ContainsFunc(g.Nodes, func(n graph.Node) bool {
		return len(n.Cases) > 0 || len(n.Tasks) > 0
	}) || slices.ContainsFunc(g.Links, func(l graph.Link) bool {
		return l.If != nil || l.ForEach != nil || l.CountExpr != nil ||
			slices.ContainsFunc(l.Filter.Clauses, func(c graph.Clause) bool { return c.If != nil })
	})
}

// findCapacity works out how busy everything is.
func (a *Analysis) findCapacity() {
	load := a.loadOfRuns()
	a.Capacity = make(map[string]Capacity, len(a.Graph.Nodes))
	for i := range a.Graph.Nodes {
		a.Capacity[a.Node(i).Name] = a.capacityOf(i, load)
	}
}

// runLoad is what is asked of each node that runs, by node.
type runLoad struct {
	asked                []float64 // runs per second if none were turned away
	busy, demand, full   []float64 // mean concurrent runs; those that are asked for; with full batches
	guessed, guessedRuns []bool    // the rate rests on a guess; the length of the runs does
	pools, poolsFull     map[string]float64
	byPayload            bool // what is guessed may rest on payloads
}

// loadOfRuns works out what is asked of the nodes that run.
func (a *Analysis) loadOfRuns() *runLoad {
	n := len(a.Graph.Nodes)
	a.runs = make([]float64, n)
	of := &runLoad{
		asked:       make([]float64, n),
		busy:        make([]float64, n),
		demand:      make([]float64, n),
		full:        make([]float64, n),
		guessed:     make([]bool, n),
		guessedRuns: make([]bool, n),
		pools:       map[string]float64{},
		poolsFull:   map[string]float64{},
		byPayload:   decidesByPayload(a.Graph),
	}
	least := make([]float64, n) // runs per second if batches were full
	a.findGuesses()
	for s := range a.States.All {
		at := a.States.All[s]
		rate := a.runRate(s)
		a.runs[at.Node] += rate
		if a.throttled[at.Node] > 0 {
			a.unthrottled(func() { rate = a.runRate(s) })
		}
		of.asked[at.Node] += rate
		if at.How == AsPoll && a.Link(int(at.Link)).Relation == model.PolledRun {
			l := a.Link(int(at.Link))
			full := float64(max(l.Read.UpTo, 1))
			rate *= a.batchOf(l) / full
			if a.Outcome(s, Usual).batched && rate > 0 {
				usual := a.runLength(s)
				a.withBatch(l, full, func() { rate *= a.runLength(s) / max(usual, 1e-12) })
			}
		}
		least[at.Node] += rate
		of.guessed[at.Node] = of.guessed[at.Node] || a.guessedStates[s]
		of.guessedRuns[at.Node] = of.guessedRuns[at.Node] || a.outcomeGuessed(s)
	}
	for i := range a.Graph.Nodes {
		node := a.Node(i)
		if a.Boundless[i] || !node.Kind.Runs() {
			continue
		}
		run := a.meanRun(i)
		of.busy[i], of.demand[i], of.full[i] = a.runs[i]*run, of.asked[i]*run, least[i]*run
		if node.Pool != "" {
			of.pools[node.Pool] += of.demand[i]
			of.poolsFull[node.Pool] += of.full[i]
		}
	}
	return of
}

// capacityOf works out how near a node is to its limits.
func (a *Analysis) capacityOf(i int, load *runLoad) Capacity {
	node := a.Node(i)
	c := Capacity{Basis: Basis{}}
	if a.Boundless[i] {
		return c
	}
	demand, full, guess := load.demand[i], load.full[i], load.guessed[i] || load.guessedRuns[i]
	c.Rate = &a.Rates[i]
	if load.guessed[i] {
		c.Basis["rate"] = Estimate
	}
	if guess {
		if load.byPayload {
			c.Assumptions = append(c.Assumptions, PayloadAssumption)
		}
		c.Basis["utilisation"] = Estimate
	}
	if node.Kind.Runs() {
		c.Concurrency = &load.busy[i]
		a.labelRuns(i, &c, guess)
	}
	limit := func(by string, used, full float64) {
		if c.Utilisation == nil || full > c.Full {
			c.Utilisation, c.LimitedBy, c.Full = &used, by, full
		}
	}
	if node.Concurrency > 0 {
		limit("concurrency", demand/float64(node.Concurrency), full/float64(node.Concurrency))
		c.Limit, c.Needed = &node.Concurrency, needed(full)
	}
	if size := a.Graph.Topology.Pools[node.Pool]; node.Pool != "" && size > 0 {
		by := "pool " + node.Pool
		limit(by, load.pools[node.Pool]/float64(size), load.poolsFull[node.Pool]/float64(size))
		if c.LimitedBy == by {
			c.Limit, c.Needed = &size, needed(load.poolsFull[node.Pool])
		}
	}
	if node.RateLimit > 0 {
		rate := a.Rates[i]
		if node.Kind.Runs() {
			rate = load.asked[i]
		}
		limit("rate-limit", rate/node.RateLimit, rate/node.RateLimit)
	}
	if used := a.partitions[i]; node.Kind == model.Stream && node.PartitionRate > 0 && used > 0 {
		most := node.PartitionRate * float64(used)
		limit("partition-rate", a.Rates[i]/most, a.Rates[i]/most)
		if node.By != nil {
			c.Basis["utilisation"] = AtLeast
			c.Assumptions = append(c.Assumptions, evenKeys)
		}
	}
	if c.Full > 0 {
		room := 1 / c.Full
		c.HeadRoom = &room
	}
	if c.LimitedBy == "concurrency" && *c.Utilisation < 1 && demand > 0 {
		w := erlangC(node.Concurrency, demand) * a.meanRun(i) / (float64(node.Concurrency) - demand)
		c.Wait = &w
		c.Basis["wait_s"] = Estimate
	}
	if c.Utilisation == nil {
		delete(c.Basis, "utilisation")
	}
	return c
}

// outcomeGuessed reports whether something of the run at a state was guessed.
func (a *Analysis) outcomeGuessed(s int) bool {
	return a.Node(a.States.All[s].Node).Kind.Runs() && a.Outcome(s, Usual).guessed
}

// labelRuns says why the runs of a node are estimates.
func (a *Analysis) labelRuns(i int, c *Capacity, guessed bool) {
	because := func(format string, args ...any) {
		c.Basis["concurrency"], c.Basis["utilisation"] = Estimate, Estimate
		c.Assumptions = append(c.Assumptions, fmt.Sprintf(format, args...))
	}
	for _, id := range a.Node(i).In {
		if l := a.Link(id); l.Relation == model.PolledRun && l.Read.UpTo > 1 && a.LinkRates[id] > 0 {
			because("batches of %s hold %.3g of up to %d messages on average", l.Link.ID(), a.batchOf(l), l.Read.UpTo)
			if a.Node(l.From).By != nil {
				because(evenKeys)
			}
		}
	}
	if a.Node(i).ColdStart != nil {
		because(
			"arrivals are Poisson, and a run starts cold after %s without one",
			model.FormatDuration(a.Node(i).ColdStart.Idle),
		)
	}
	if guessed {
		c.Basis["concurrency"] = Estimate
	}
	if a.mayMistake(a.Node(i)) {
		because("no two messages have the same `idempotent` key")
	}
	if a.Node(i).Kind == model.Outside && a.throttled[i] > 0 {
		because("calls and pushes come by chance (M/D/1/K)")
	} else if a.throttled[i] > 0 || slices.ContainsFunc(a.States.Of[i], func(s int32) bool {
		return a.Outcome(int(s), Usual).away
	}) {
		because("runs are asked for independently of each other (Erlang's loss formula)")
	}
	for _, s := range a.States.Of[i] {
		if a.Outcome(int(s), Usual).random {
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
	a.States.batches = make([]float64, len(a.Graph.Links))
	a.States.others = make([]float64, len(a.Graph.Links))
	for i := range a.Graph.Links {
		if l := a.Link(i); l.Relation.Polls() && !a.Boundless[l.From] {
			r := a.readingOf(l)
			// The more a batch holds, the longer a run may take, and the more gathers meanwhile.
			for k := 0; k < 100 && a.batchMatters(l) && math.Abs(r.others-a.States.others[i]) > 1e-6; k++ {
				a.setBatch(l, batchFill{r.Batch, r.others})
				r = a.readingOf(l)
			}
			a.setBatch(l, batchFill{r.Batch, r.others})
			a.Readings[i] = r
		}
	}
}

// batchMatters reports whether the runs of a reader depend on how many messages they are for.
func (a *Analysis) batchMatters(l *graph.Link) bool {
	return slices.ContainsFunc(a.States.Of[l.To], func(s int32) bool {
		return a.reads(l, int(s)) && a.Outcome(int(s), Usual).batched
	})
}

// reads reports whether a state is one that a reader brings messages to.
func (a *Analysis) reads(l *graph.Link, s int) bool {
	at := a.States.All[s]
	return at.How == AsPoll && int(at.Link) == l.ID
}

// setBatch says how many messages the batches of a link hold on average.
func (a *Analysis) setBatch(l *graph.Link, of batchFill) {
	a.States.batches[l.ID], a.States.others[l.ID] = of.batch, of.others
	for _, s := range a.States.Of[l.To] {
		if a.reads(l, int(s)) {
			for m := range a.States.outcomes {
				a.States.outcomes[m][s] = nil
			}
		}
	}
}

// withBatch does something as if each batch of a link held so many messages.
func (a *Analysis) withBatch(l *graph.Link, messages float64, do func()) {
	before := batchFill{a.States.batches[l.ID], a.States.others[l.ID]}
	a.setBatch(l, batchFill{messages, messages - 1})
	do()
	a.setBatch(l, before)
}

func (a *Analysis) readingOf(l *graph.Link) Reading {
	from, to := a.Node(l.From), a.Node(l.To)
	parts := 1.0
	serial := !from.Kind.Leases() // a failing batch holds up what is behind it
	readers := float64(max(l.Read.Parallel, 1))
	if !from.Kind.Leases() {
		readers = float64(max(a.partitions[from.ID], 1)) // one batch a partition
		parts = readers
	}
	if from.Kind.Leases() && from.Grouped && a.oneGroup(from) {
		readers, serial = 1, true
	}
	of := a.runsOfReader(l)
	r := Reading{Run: of.length, Tries: of.perSecond, Batch: 1}
	most := 1.0 // messages that one run takes
	held, tries := of.held, of.tries
	r.each = tries
	if l.Relation == model.PolledMove {
		r.Tries = a.LinkRates[l.ID]
	}
	if l.Relation == model.PolledRun {
		most = float64(max(l.Read.UpTo, 1))
		places := readers
		if to.Concurrency > 0 {
			places = min(places, float64(to.Concurrency))
		}
		gathered := r.Tries * r.Run / places
		if serial && tries > 0 { // messages that arrive while a batch is tried wait for it
			gathered = max(gathered, r.Tries/tries*held/readers)
		}
		// Each partition fills a batch of its own.
		of := filling(most, max(r.Tries, a.LinkRates[l.ID])/parts*l.Read.Within.Seconds())
		busy := math.Pow(min(gathered/a.batchOf(l), 1), places/parts-1)
		if more := gathering(most, gathered, busy); more.batch > of.batch {
			of = more
		}
		if !serial && tries > 1 { // what failed together comes back together, and what then comes joins it
			of.others = min(of.others*tries, most-1)
		}
		r.Batch, r.others = of.batch, of.others
	}
	if !from.Kind.Leases() && a.partitions[from.ID] == 0 { // it adds partitions as it needs them
		return r
	}
	if l.Relation == model.PolledMove && serial {
		held = a.movesFor(l)
	}
	if serial && held > r.Run && tries > 0 {
		r.Most = readers * most / a.heldByFull(l, most, held) * tries
		r.Utilisation = r.Tries / r.Most
		if r.Utilisation >= 1 { // batches are full then
			r.Batch, r.others = most, most-1
		}
		r.slack = waitScale(1, held, of.spread, most, r.Utilisation)
		return r
	}
	if r.Run > 0 {
		r.Most = readers * most / a.fullRun(l, most, r.Run)
		r.Utilisation = r.Tries / r.Most
		if !from.Kind.Leases() {
			readers = 1 // each partition waits for its own
		}
		r.slack = waitScale(readers, r.Run, of.square, most, r.Utilisation)
	}
	return r
}

// readerRuns are means of the runs that a reader starts, in seconds.
type readerRuns struct {
	length    float64 // of a run
	square    float64 // its mean square
	held      float64 // what a message holds its reader up for, the waits between its tries included
	spread    float64 // its mean square
	tries     float64 // of a message
	able      float64 // tries of one that can be processed
	perSecond float64 // tries of all messages
}

// heldByFull returns how long a batch of so many messages holds its partition up on average, in
// seconds, held is that of the batches as they are: the more a batch holds, the more often
// it fails.
func (a *Analysis) heldByFull(l *graph.Link, most, held float64) float64 {
	if l.Relation != model.PolledRun || most <= a.batchOf(l) {
		return held
	}
	a.withBatch(l, most, func() { held = max(held, a.runsOfReader(l).held) })
	return held
}

// FullRun returns the mean length of a run for a batch that is full, in seconds.
func (a *Analysis) FullRun(l *graph.Link) float64 {
	return a.fullRun(l, float64(max(l.Read.UpTo, 1)), a.Readings[l.ID].Run)
}

// fullRun returns the mean length of a run, in seconds, for a batch of so many messages; length is that of the batches
// as they are.
func (a *Analysis) fullRun(l *graph.Link, most, length float64) float64 {
	if most > a.batchOf(l) && a.batchMatters(l) {
		a.withBatch(l, most, func() { length = a.runsOfReader(l).length })
	}
	return length
}

// runsOfReader works out means over the states that a reader brings messages to.
func (a *Analysis) runsOfReader(l *graph.Link) readerRuns {
	to := a.Node(l.To)
	takes := to.Takes.Expected()
	plain := readerRuns{length: takes, square: takes * takes, held: takes, tries: 1, able: 1}
	if !to.Kind.Runs() {
		return plain
	}
	var of readerRuns
	weight := 0.0
	for _, s := range a.States.Of[l.To] {
		if !a.reads(l, int(s)) {
			continue
		}
		f := a.FateOf(int(s), Usual)
		rate, runs := a.stateRates[s], f.runs
		w := max(rate, 1e-12)
		of.perSecond += rate * runs
		of.length += w * a.runLength(int(s))
		of.square += w * a.Outcome(int(s), Usual).Length.Square()
		mean, meanSquare := a.heldUp(int(s))
		of.held += w * mean
		of.spread += w * meanSquare
		of.tries += w * runs
		of.able += w * f.able
		weight += w
	}
	if weight == 0 {
		return plain
	}
	for _, mean := range []*float64{&of.length, &of.square, &of.held, &of.spread, &of.tries, &of.able} {
		*mean /= weight
	}
	return of
}

// waitScale is the time by which the wait for one of c servers, each of which takes b
// messages at once, exceeds less often by a factor of e, in seconds, where the load is
// below 1: in heavy traffic P(W > t) ≈ ρ·exp(−t/scale), scale = E[S](1 + b·cv²) /
// (2bc(1−ρ)) (Kingman), for Poisson arrivals. square is E[S²].
func waitScale(c, mean, square, b, load float64) float64 {
	if mean <= 0 || load <= 0 || load >= 1 {
		return 0
	}
	varies := max(square/(mean*mean)-1, 0) // cv²
	return mean * (1 + b*varies) / (2 * b * c * (1 - load))
}

// heldUp returns the mean of the time from the first try of a message to when its reader
// is done with it, in seconds, and its mean square.
func (a *Analysis) heldUp(s int) (mean, square float64) {
	f := a.FateOf(s, Usual)
	run := a.Outcome(s, Usual).Length
	done := a.waitsBefore(s) + run.Mean()
	varies := run.Square() - run.Mean()*run.Mean()
	if f.Given == 0 {
		return done, done*done + varies
	}
	given := a.givenUpAfter(s)
	return (1-f.Given)*done + f.Given*given, (1-f.Given)*done*done + f.Given*given*given + varies
}

// movesFor returns the mean time, in seconds, from the first try of the move of a message to
// when its reader is done with it, for which it holds up the messages behind it. In a queue
// it does so until its last try has been waited for, too.
func (a *Analysis) movesFor(l *graph.Link) float64 {
	to, at := a.Node(l.To), movedBy(l)
	toTheEnd := a.Node(l.From).Kind.Leases() && !l.Read.Reject
	p := 1 - (1-to.Fails.EachTry)*(1-a.Rejected[l.To])
	takes := to.Takes.Expected()
	t, share := 0.0, 1.0
	for k := 1; k <= 200 && share > 1e-9; k++ {
		t += share * takes
		share *= p
		last := l.Policy.Tries > 0 && k >= l.Policy.Tries
		if !last || toTheEnd {
			t += share * (a.gap(at, &l.Policy, k, takes) - takes)
		}
		if last {
			break
		}
	}
	return t
}

// oneGroup reports whether all messages of a grouped queue are certainly of one
// group.
func (a *Analysis) oneGroup(n *graph.Node) bool {
	return n.Group != nil && a.valuesAt(n, n.Group) == 1
}

// valuesAt returns how many values an expression has for the messages of a node; 0: any number.
func (a *Analysis) valuesAt(n *graph.Node, x *expr.Expression) int {
	values := map[string]bool{}
	for _, s := range a.States.Of[n.ID] {
		e, has := a.Seen(a.States.All[s].Message, n.Kind.Event())
		v, known := x.ValueOf(e, has)
		if !known {
			return 0
		}
		values[fmt.Sprint(v)] = true
	}
	return len(values)
}

// findPartitions finds how many partitions of each stream and change feed get messages: no more than their keys have
// values. 0: as many as it needs.
func (a *Analysis) findPartitions() {
	a.partitions = make([]int, len(a.Graph.Nodes))
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		if a.partitions[i] = n.Partitions; n.Kind == model.Stream && n.Partitions == 0 && n.PartitionRate == 0 {
			a.partitions[i] = 1 // none is ever over its rate
		}
		if n.By == nil {
			continue
		}
		if values := a.valuesAt(n, n.By); values > 0 && (n.Partitions == 0 || values < n.Partitions) {
			a.partitions[i] = values
		}
	}
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
// (Erlang's second formula), from his first.
func erlangC(c int, load float64) float64 {
	b, rho := erlangB(c, load), load/float64(c)
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
		n := a.Node(i)
		if a.Boundless[i] {
			a.Cost = nil
			return
		}
		sum := a.priceOf(n, a.runs[i], a.Rates[i])
		c.Nodes[n.Name] = sum * MonthSeconds
		c.Month += sum * MonthSeconds
	}
	a.Cost = c
}

// priceOf prices a second of some runs and messages at a node.
func (a *Analysis) priceOf(n *graph.Node, runs, messages float64) float64 {
	p := a.Graph.Topology.Prices
	switch {
	case n.Kind.Invoked():
		return runs * (p.Run + a.meanRun(n.ID)*float64(n.Memory)/1e9*p.Compute)
	case n.Kind.Channel():
		return messages * p.Message
	}
	return 0
}

// stockOf returns the mean number of messages in a queue (Little's law), where its
// readers keep up.
func (a *Analysis) stockOf(i int) float64 {
	n := a.Node(i)
	sum := 0.0
	for _, s := range a.States.Of[i] {
		rate := a.stateRates[s]
		if rate == 0 {
			continue
		}
		read := false
		for _, e := range a.States.Leaving(int(s)) {
			if e.Kind != Polls || e.expected == 0 && e.taken == 0 {
				continue
			}
			read = true
			held := n.Delay.Seconds()
			if l := a.Link(e.Link); l.Relation == model.PolledMove {
				given, cause := a.moveGivenUp(l, a.Node(l.To).Fails.EachTry)
				held += a.movesFor(l)
				if cause == "expired" {
					held += given * n.Retention.Seconds()
				}
			} else {
				mean, _ := a.heldUp(e.To)
				held += mean + a.meanWaitToFill(l)
			}
			sum += rate * max(e.expected, e.taken) * min(held, n.Retention.Seconds())
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
		most += r.Most / max(r.each, 1) // its readers count tries
	}
	if len(n.Out) == 0 {
		most = float64(n.Capacity) / n.Retention.Seconds()
	}
	return most
}

// findOverfull finds the channels that reject writes because more is written than
// they take, the share that a stream's partitions reject and a queue that is full, and
// reports whether that has changed.
func (a *Analysis) findOverfull() bool {
	found := map[int]float64{}
	for i := range a.Graph.Nodes {
		if n := a.Node(i); n.Kind.Leases() || n.Kind == model.Stream {
			if share := a.rejectedForRoom(n); share > 0 {
				found[i] = share
			}
		}
	}
	same := alike(a.Rejected, found)
	a.Rejected = found
	return !same
}

// rejectedForRoom returns the share of the writes that a queue or stream rejects since it
// is full.
func (a *Analysis) rejectedForRoom(n *graph.Node) float64 {
	before := a.Rejected[n.ID] // that is left out of the rates
	if a.Boundless[n.ID] || before >= 1 {
		return before
	}
	offered := a.Rates[n.ID] / (1 - before)
	most := math.Inf(1)
	switch {
	case n.Kind.Leases() && n.Capacity > 0:
		most = a.drainOf(n)
		room := float64(n.Capacity)
		// what stays for long fills it up; one more comes as one goes
		if stock := a.stockOf(n.ID) / (1 - before); stock > room*(1-1e-9) {
			most = min(most, offered*room/max(stock, room+1))
		}
	case n.Kind == model.Stream && n.PartitionRate > 0 && a.partitions[n.ID] > 0:
		most = n.PartitionRate * float64(a.partitions[n.ID])
	}
	next := 0.0
	if offered > most*1.0001 {
		next = 1 - most/offered
	}
	if a.narrowing[n.ID] == nil {
		start := wide
		a.narrowing[n.ID] = &start
	}
	return a.narrowing[n.ID].next(before, a.Rates[n.ID], most, next)
}

// narrowing is what is known of the share of its writes that a full channel takes: less than high, since it takes too
// many by that, and more than low.
type narrowing struct{ high, low float64 }

// wide is a narrowing of which nothing is known: a channel that takes all may take too many.
var wide = narrowing{2, 0}

// next returns the share to reject after one (before) at which a channel takes so many messages per second of the most
// that it can; guess is what it would be if as many came whatever is rejected. Writers that write again what is
// rejected offer more the more of it is, so that it is approached by squares, then by halves.
func (b *narrowing) next(before, taken, most, guess float64) float64 {
	switch keeps := 1 - before; {
	case guess == 0 && b.high > 1: // nothing says that it rejects any
		return 0
	case before > 0 && math.Abs(taken/most-1) < 0.002:
		return before
	case taken > most:
		b.high = keeps
		if before > 0 {
			guess = max(guess, 1-keeps*keeps)
		}
	default:
		b.low = keeps
	}
	if b.low > 0 && b.high < b.low*1.0001 { // what else is full has changed
		*b = wide
		return guess
	}
	if keeps := 1 - guess; keeps >= b.high || keeps <= b.low {
		high := min(b.high, 1)
		return 1 - math.Sqrt(high*max(b.low, 1e-3*high*high))
	}
	return guess
}

// waitsForRoom returns the chance that so many messages wait for the readers of a queue that it is full, where it holds
// others, too.
func (a *Analysis) waitsForRoom(n *graph.Node, others float64) (chance float64) {
	for _, id := range n.Out {
		if r := a.Readings[id]; r.Utilisation > comfortable && r.Tries > 0 {
			if r.Utilisation > 1-1e-9 {
				return 1
			}
			wait := max(float64(n.Capacity)-others, 0) / r.Tries
			chance = max(chance, r.Utilisation*math.Exp(-wait/r.slack))
		}
	}
	return chance
}

// findCrowding notes that a queue may be full at times which on average has room: what it
// holds varies, as in a loss system with so many places where the mean stock is the load.
func (a *Analysis) findCrowding() {
	const places = 100_000 // beyond which it varies little
	for i := range a.Graph.Nodes {
		n := a.Node(i)
		if a.Boundless[i] || a.Rejected[i] > 0 {
			continue
		}
		a.mayLose(i, "throttled", a.tooClose(n), "bursts")
		if !n.Kind.Leases() || n.Capacity == 0 || n.Capacity > places {
			continue
		}
		stock, why := a.stockOf(i), "crowded"
		full := max(erlangB(n.Capacity, stock), a.waitsForRoom(n, stock))
		if over := a.overflows(n); over > 0 { // by the concurrency of what reads it
			full, why = max(full, over), "behind"
		}
		a.mayLose(i, "overflow", full, why)
	}
}

// tooClose returns the share of a stream's records that come so close behind others, by chance, that their partition
// rejects them.
func (a *Analysis) tooClose(n *graph.Node) float64 {
	used := a.partitions[n.ID]
	limited := n.Kind == model.Stream && n.PartitionRate > 0 && used > 0
	if !limited || a.Boundless[n.ID] || a.Rejected[n.ID] > 0 { // what is always over its rate counts as rejected
		return 0
	}
	return overRate(a.Rates[n.ID]/float64(used)/n.PartitionRate, max(n.PartitionRate, 1))
}

// mayLose notes that a share of a node's messages may be lost there, if it is worth mentioning.
func (a *Analysis) mayLose(node int, cause string, share float64, why string) {
	if share < rarelyLate {
		return
	}
	for _, s := range a.States.Of[node] {
		if a.stateRates[s] > 0 {
			a.lose(int(s), cause, node, graph.None, three{0, Span{0, share}}, false, why)
		}
	}
}

// overflows returns the share of the messages that a queue is too full for at most, of which a reader gets as much as
// it can take, or more: the loss of a queue with one server and exponential times, (ρ−1)/(ρ−ρ⁻ᴷ), with a quarter of
// the places since messages come in batches and bursts. It is 0 where the readers keep up.
func (a *Analysis) overflows(n *graph.Node) (share float64) {
	for _, id := range n.Out {
		load := a.loadOf(a.Link(id))
		switch places := float64(n.Capacity) / 4; {
		case a.Readings[id].Tries == 0 || load < 1-1e-9:
		case load < 1+1e-6:
			share = max(share, 1/(places+1))
		default:
			share = max(share, (load-1)/(load-math.Pow(load, -places)))
		}
	}
	return share
}

// rarelyLate is the share of messages that wait too long below which it is not counted.
const rarelyLate = 1e-4

// findBehind finds the reader links that get more than they can take, whose backlog
// grows until messages expire, or so nearly that some wait for longer than they are
// kept, and reports whether that has changed.
func (a *Analysis) findBehind() bool {
	found := map[int]float64{}
	for id, r := range a.Readings {
		l := a.Link(id)
		from := a.Node(l.From)
		kept := float64(from.Retention)
		if l.Policy.GiveUp > 0 {
			kept = min(kept, float64(l.Policy.GiveUp))
		}
		switch load := a.loadOf(l); {
		case load >= 0.9999:
			found[id] = max(1-1/load, rarelyLate)
		case kept <= float64(from.Delay):
			found[id] = 1
		case r.slack > 0:
			late := r.Utilisation * math.Exp(-(kept-float64(from.Delay))*1e-9/r.slack)
			if late > rarelyLate {
				found[id] = min(late, 1)
			}
		}
	}
	same := alike(a.behind, found)
	a.behind = found
	return !same
}

// loadOf returns what a reader link has to read as a multiple of what it can take, by its
// readers or by the runs of what it reads for.
func (a *Analysis) loadOf(l *graph.Link) float64 {
	return max(a.Readings[l.ID].Utilisation, a.loads[l.To])
}

// alike reports whether two sets of shares hardly differ.
func alike(x, y map[int]float64) bool {
	if len(x) != len(y) {
		return false
	}
	for k, v := range x {
		if w, ok := y[k]; !ok || math.Abs(v-w) > 1e-3 {
			return false
		}
	}
	return true
}
