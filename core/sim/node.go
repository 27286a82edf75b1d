package sim

import (
	"fmt"

	"ironweir/core/sim/internal/clock"

	"ironweir/core/sim/internal/stats"

	"ironweir/core/sim/internal/arena"

	"ironweir/core/sim/internal/random"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// node is the state of one node.
type node struct {
	// what most events touch: near its start, so that instructions are short
	id            int
	queue         *queue
	depth, active stats.TimeWeightedGauge
	time, runTime stats.LiveHistogram
	wait          stats.LiveHistogram
	copies, runs  int64
	fates         [fates]int64

	name      string
	kind      model.Kind
	channel   bool // of its kind's traits, those that are asked for each message
	keeps     bool
	process   bool
	endpoint  bool
	invoked   bool
	standFunc func(*engine, *node, uint32)
	stream    *stream
	home      *node // of a feed: the stream or table that it reads
	schedule  *calendar
	objects   *objects // of a bucket or table, where what lies there matters
	twice     float64  // share of what it hands on that is delivered twice
	twiceLuck *random.Stream
	notice    random.Sampler
	capacity  int64
	welcomes  bool       // it rejects no write, unless an incident says so
	direct    bool       // a plain queue or a topic that welcomes: a write stands at once
	atOnce    bool       // it does so now, for what comes from outside
	fans      bool       // it hands on so now
	fast      []fastSend // of a topic that only hands on to such queues: where to
	ownWay    int32      // delivery of dead letters and of what is sent back
	outWay    int32      // delivery of traffic

	takes           random.Sampler
	fails           model.Failing
	failName        int16
	cases           []nodeCase
	recorded        []RecordedRun // what its next runs do; then they are drawn
	limit           int64         // time of a run, 0: none
	tasks           bool          // a workflow
	asks            bool          // its runs may take longer than their own work: calls, slow writes
	steps           [sending + 1][]int32
	onSuccess       []int
	onFailure       []int
	together        bool
	resultsAll      bool
	hopLimit        int   // below 0: none
	concurrency     int64 // 0: none
	pool            *pool
	accepts         *expr.Schema
	cold            *coldStarts
	bucket          *tokenBucket
	succeeded       map[string]struct{} // keys of an idempotent function
	doom            uint64              // seed of what is never managed
	rng, serviceRNG *random.Stream

	// in force by incidents
	failsNowShare  float64 // -1: none
	readsFail      float64 // share of reads
	slow           float64
	stopped        bool
	heldIntake     []heldCopy // what waits for it to run again
	crashes        bool       // an incident of the scenario ends its runs
	concurrencyNow int64      // -1: none
	off            bool

	// counted
	timeoutsInStep, deduplicated, redelivered, failures, timeouts int64
	throttled, coldCount                                          int64
	answers                                                       [600]int32
	failedBy                                                      []int64 // failures, by number of the error
	oldest                                                        int64   // greatest age seen of what lies in it
	byteSeconds                                                   float64
}

type nodeCase struct {
	when  *expr.Expression
	takes *random.Sampler
	fails *model.Failing
	name  int16
}

// pool is concurrency that several functions draw on.
type pool struct{ used, size int64 }

// send is a link with what a run needs to use it.
type send struct {
	link      *graph.Link
	plain     bool // once for each message, always
	perRun    bool
	readsItem bool
	count     random.Sampler
	rng       *random.Stream
	sequence  uint64
}

// coldStarts keeps a function's idle instances, the latest on top.
type coldStarts struct {
	takes random.Sampler
	idle  []int64 // since when
	after int64
}

// start takes an instance and gives the time that a cold start adds.
func (c *coldStarts) start(e *engine, n *node) int64 {
	if k := len(c.idle); k > 0 {
		since := c.idle[k-1]
		if e.Now-since <= c.after {
			c.idle = c.idle[:k-1]
			return 0
		}
		c.idle = c.idle[:0] // those below have been idle for longer
	}
	n.coldCount++
	return random.Nanos(c.takes.Draw(n.serviceRNG))
}

// tokenBucket limits a rate: it holds what a second brings (at least one).
type tokenBucket struct {
	rate, most, level float64
	since             int64
}

func newTokenBucket(perSecond float64) *tokenBucket {
	if perSecond == 0 {
		return nil
	}
	return &tokenBucket{rate: perSecond, most: max(1, perSecond), level: max(1, perSecond)}
}

// ready gives the level now, in messages.
func (b *tokenBucket) ready(now int64) float64 {
	return min(b.most, b.level+float64(now-b.since)*1e-9*b.rate) + 1e-9
}

func (b *tokenBucket) take(now int64) bool {
	if b == nil {
		return true
	}
	b.level = min(b.most, b.level+float64(now-b.since)*1e-9*b.rate)
	b.since = now
	if b.level < 1-1e-9 {
		return false
	}
	b.level--
	return true
}

// drawTakes gives the time that a write takes.
func (n *node) drawTakes() int64 {
	if n.takes.Zero() {
		return 0
	}
	return random.Nanos(n.takes.Draw(n.serviceRNG) * n.slow)
}

// shareNow gives the share of tries that fail, of what is stated, under the incidents
// in force.
func (n *node) shareNow(stated *model.Failing) float64 {
	if n.failsNowShare >= 0 {
		return n.failsNowShare
	}
	return stated.EachTry
}

// failed counts a run that did not succeed, and why.
func (n *node) failed(why int16) {
	n.failures++
	for int(why) >= len(n.failedBy) {
		n.failedBy = append(n.failedBy, 0)
	}
	n.failedBy[why]++
}

// failsNow draws whether a write is rejected.
func (e *engine) failsNow(n *node) bool {
	if e.plan.follow != nil {
		return e.trace.forced(n) || n.shareNow(&n.fails) >= 1
	}
	return n.rng.Happens(n.shareNow(&n.fails))
}

func newEngine(plan *Plan) (*engine, error) {
	g, s, room := plan.Graph, plan.Scenario, &arena.Space{}
	e := &engine{
		Clock:      clock.New(),
		g:          g,
		scenario:   s,
		plan:       plan,
		start:      s.Start,
		end:        int64(s.Length),
		warm:       int64(s.WarmUp),
		limits:     plan.Limits,
		space:      room,
		histograms: stats.NewHistograms(room),
		copies:     arena.New[copyRecord](room),
		inFlights:  arena.New[inFlight](room),
		journeys:   arena.New[journey](room),
		contents:   make([]content, 1, 1024),
		runs: make(
			[]run,
			1,
			256,
		),
		batches: make([]batch, 1, 64),
		errorID: map[string]int16{},
		payload: g.Topology.Limits.Payload,
		pools:   map[string]*pool{},
	}
	if err := e.setUp(); err != nil {
		e.close()
		return nil, err
	}
	return e, nil
}

// setUp prepares all that a replication needs, up to its first events.
func (e *engine) setUp() error {
	g, plan := e.g, e.plan
	if e.limits.Events == 0 {
		e.limits.Events = DefaultLimits.Events
	}
	if e.limits.Copies == 0 {
		e.limits.Copies = DefaultLimits.Copies
	}
	if e.limits.Memory == 0 {
		e.limits.Memory = DefaultLimits.Memory
	}
	e.stopAt = min(stopInterval, e.limits.Events)
	e.guarded = plan.Audit || plan.follow != nil
	for _, name := range builtinErrors {
		e.errorNumber(name)
	}
	for name, size := range g.Topology.Pools {
		e.pools[name] = &pool{size: int64(size)}
	}
	e.latency = make([][]*stats.LiveHistogram, len(g.Nodes))
	e.firstLoss, e.noticed = -1, -1
	e.storage = g.Topology.Prices != nil && g.Topology.Prices.Storage > 0
	if plan.follow != nil {
		e.trace = newTracer(plan.follow, nil)
	}
	e.setUpDeliveries()
	if err := e.setUpNodes(); err != nil {
		return err
	}
	for i := range e.readers {
		*e.inFlights.At(e.inFlights.Add()) = inFlight{
			held:  1,
			busy:  1,
			group: int32(uint32(i) - e.readers[i].link.first),
		}
	}
	for i := range e.nodes {
		n := &e.nodes[i]
		n.wait, n.time, n.runTime = e.histograms.New(), e.histograms.New(), e.histograms.New()
		n.welcomes = n.capacity == 0 && (plan.follow == nil || plan.follow.Fail[n.name] == 0) && n.fails.EachTry == 0 &&
			n.stream == nil &&
			e.payload == 0
		n.direct = n.welcomes && (n.queue != nil && n.queue.plain || n.kind == model.Topic) && n.takes.Zero() &&
			!e.plan.DisableFastPath
	}
	for i := range e.g.Links { // what is switched off from the start
		if e.g.Links[i].Disabled && e.g.Links[i].Relation.Polls() {
			e.deliveries[i].paused = true
		}
	}
	for _, in := range e.scenario.Incidents {
		for _, name := range append([]string{in.Node}, e.g.Topology.FailsTogether[in.Group]...) {
			if id := e.g.NodeID(name); in.Crash && id >= 0 {
				e.nodes[id].crashes = true
			}
		}
	}
	e.setUpLoops()
	e.setUpFastPath()
	if err := e.setUpTraffic(); err != nil {
		return err
	}
	if err := e.setUpIncidents(); err != nil {
		return err
	}
	e.setUpSeries()
	if e.warm > 0 {
		e.First(e.warm, evWarm, 0)
	}
	return nil
}

func (e *engine) errorNumber(name string) int16 {
	if id, ok := e.errorID[name]; ok {
		return id
	}
	id := int16(len(e.errors))
	e.errors = append(e.errors, name)
	e.errorID[name] = id
	return id
}

func (e *engine) stream(name, purpose string) *random.Stream {
	return random.New(e.scenario.Seed, e.plan.Replication, name, purpose)
}

// setUpDeliveries makes a delivery for each link, then two for each node: its
// own way (dead letters, what is sent back) and that of outsiders.
func (e *engine) setUpDeliveries() {
	for i := range e.g.Links {
		l := &e.g.Links[i]
		d := delivery{
			policy:  l.Policy,
			to:      int32(l.To),
			dead:    int32(l.DeadLetter),
			link:    int32(i),
			refused: l.Refused,
			wrap:    wrappings[l.Wrap],
			off:     l.Disabled,
			rejects: l.Read.Reject,
		}
		if e.g.Nodes[l.From].Kind.Answers() && l.Relation == model.Write {
			d.policy.Tries = 1
		}
		if l.Policy.Jitter > 0 {
			d.jitter = e.stream(l.Link.ID(), "jitter")
		}
		for _, name := range l.Policy.Except {
			d.except = append(d.except, e.errorNumber(name))
		}
		e.deliveries = append(e.deliveries, d)
		s := send{link: l, perRun: l.PerRun, count: random.NewSampler(l.Count.Dist), readsItem: l.Payload != nil}
		s.plain = (!e.g.Nodes[l.From].Kind.Answers() || l.Filter.Everything) && l.If == nil && l.Chance == 1 &&
			l.CountExpr == nil &&
			l.ForEach == nil &&
			s.count.Shape == random.Constant &&
			s.count.A == 1
		if !s.plain {
			s.rng = e.stream(l.Link.ID(), "chance")
		}
		e.sends = append(e.sends, s)
		e.moveSteps = append(e.moveSteps, int32(i))
	}
	for i := range e.g.Nodes {
		n := &e.g.Nodes[i]
		own := delivery{policy: n.Intake, to: int32(i), dead: int32(n.DeadLetter), link: -1}
		if n.Intake.Jitter > 0 {
			own.jitter = e.stream(n.Name, "jitter")
		}
		if n.Retry != nil {
			for _, name := range n.Retry.Except {
				own.except = append(own.except, e.errorNumber(name))
			}
		}
		out := own
		if n.Kind.Channel() {
			out.policy.Tries = 1
		}
		e.deliveries = append(e.deliveries, own, out)
	}
}

// placeFeeds makes room for the nodes: those of the graph, then one for each
// link that reads a stream or a table.
func (e *engine) placeFeeds() {
	count := len(e.g.Nodes)
	e.feedOf = make([]int32, len(e.g.Links))
	for i := range e.g.Links {
		e.feedOf[i] = graph.None
		if from := e.g.Nodes[e.g.Links[i].From].Kind; from.InPartitions() {
			e.feedOf[i] = int32(count)
			count++
		}
	}
	e.nodes = make([]node, count)
	for i, id := range e.feedOf {
		if id >= 0 {
			from := &e.g.Nodes[e.g.Links[i].From]
			e.nodes[id] = node{
				id:             int(id),
				name:           from.Name,
				kind:           from.Kind,
				slow:           1,
				failsNowShare:  -1,
				concurrencyNow: -1,
			}
		}
	}
}

func (e *engine) setUpNodes() error {
	e.placeFeeds()
	for i := range e.g.Nodes {
		gn := &e.g.Nodes[i]
		n := &e.nodes[i]
		behaviour, ok := behaviours[gn.Kind]
		if !ok {
			return fmt.Errorf("%s: a %s cannot be simulated", gn.Name, gn.Kind)
		}
		*n = node{
			id:             i,
			name:           gn.Name,
			kind:           gn.Kind,
			channel:        gn.Kind.Channel(),
			keeps:          gn.Kind.Keeps(),
			process:        gn.Kind.Process(),
			endpoint:       gn.Kind.Answers(),
			invoked:        gn.Kind.Invoked(),
			standFunc:      behaviour.stand,
			takes:          random.NewSampler(gn.Takes),
			fails:          gn.Fails,
			failName:       errFails,
			failsNowShare:  -1,
			slow:           1,
			concurrencyNow: -1,
			ownWay:         int32(len(e.g.Links) + 2*i),
			outWay:         int32(len(e.g.Links) + 2*i + 1),
			notice:         random.NewSampler(gn.Notice),
			rng:            e.stream(gn.Name, "luck"),
			serviceRNG:     e.stream(gn.Name, "time"),
		}
		if e.plan.follow != nil {
			n.takes = typical(gn.Takes)
			n.notice = typical(gn.Notice)
			if gn.Fails.EachTry < 1 { // what always fails does so here too
				n.fails = model.Failing{}
			}
		}
		if gn.Duplicates > 0 && e.plan.follow == nil {
			n.twice, n.twiceLuck = gn.Duplicates, e.stream(gn.Name, "duplicates")
		}
		if behaviour.setUp != nil {
			if err := behaviour.setUp(e, n); err != nil {
				return err
			}
		}
	}
	return nil
}

// setUpRunner prepares a node that works in runs: function, outside system,
// endpoint.
func (e *engine) setUpRunner(n *node) error {
	gn := &e.g.Nodes[n.id]
	n.accepts, n.recorded = gn.Accepts, e.plan.Inputs.Runs[n.name]
	if gn.Idempotent != nil {
		n.succeeded = map[string]struct{}{}
	}
	n.limit, n.asks = int64(gn.Timeout), e.g.Asks(gn)
	n.concurrency = int64(gn.Concurrency)
	n.pool = e.pools[gn.Pool]
	n.together, n.resultsAll, n.hopLimit = gn.Together, gn.ResultsAll, gn.HopLimit
	n.bucket = newTokenBucket(gn.RateLimit)
	if gn.Tasks != nil {
		n.tasks = true
		e.taskLuck = e.stream("", "tasks")
	}
	seed := e.scenario.Seed
	n.doom = random.Splitmix(seed) ^ random.New(seed, e.plan.Replication, gn.Name, "doom").Uint64()
	if gn.Fails.Error != "" {
		n.failName = e.errorNumber(gn.Fails.Error)
	}
	if gn.ColdStart != nil {
		n.cold = &coldStarts{takes: random.NewSampler(gn.ColdStart.Takes), after: int64(gn.ColdStart.Idle)}
	}
	for k := range gn.Cases {
		c := nodeCase{when: gn.Cases[k].If, fails: gn.Cases[k].Fails, name: e.errorNumber(gn.Cases[k].Name)}
		if c.fails != nil && c.fails.Error != "" {
			c.name = e.errorNumber(c.fails.Error)
		}
		if t := gn.Cases[k].Takes; t != nil {
			s := random.NewSampler(*t)
			c.takes = &s
		}
		n.cases = append(n.cases, c)
	}
	for _, id := range gn.Out {
		l := &e.g.Links[id]
		switch {
		case l.When == model.Success:
			n.onSuccess = append(n.onSuccess, id)
			continue
		case l.When == model.Failure:
			n.onFailure = append(n.onFailure, id)
			continue
		case l.ByTask:
			continue
		case l.AtStart:
			n.steps[atStart] = append(n.steps[atStart], int32(id))
		case l.Relation == model.WaitingCall || l.Op == "read":
			n.steps[calling] = append(n.steps[calling], int32(id))
		default:
			n.steps[sending] = append(n.steps[sending], int32(id))
		}
	}
	if gn.Kind.Answers() { // what it accepts goes before what it waits for
		n.steps[calling] = append(n.steps[sending], n.steps[calling]...)
		n.steps[sending] = nil
	}
	return nil
}

// overHops reports whether a message that has passed through some number of
// functions is over the node's hop limit.
func (n *node) overHops(hops int) bool { return n.hopLimit >= 0 && hops > n.hopLimit }
