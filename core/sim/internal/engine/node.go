package engine

import (
	"fmt"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/arena"
	"ironweir/core/sim/internal/clock"
	"ironweir/core/sim/internal/random"
	"ironweir/core/sim/internal/stats"
)

// Node is the state of one node.
type Node struct {
	// what most events touch: near its start, so that instructions are short
	ID            int
	Queue         *queue
	Depth, Active stats.TimeWeightedGauge
	Time, RunTime stats.LiveHistogram
	Wait          stats.LiveHistogram
	Copies, Runs  int64
	Fates         [FateCount]int64

	Name      string
	Kind      model.Kind
	channel   bool // of its kind's traits, those that are asked for each message
	keeps     bool
	process   bool
	endpoint  bool
	invoked   bool
	standFunc func(*Engine, *Node, uint32)
	stream    *stream
	Home      *Node    // of a feed: the stream or table that it reads
	Objects   *objects // of a bucket or table, where what lies there matters
	twice     float64  // share of what it hands on that is delivered twice
	twiceLuck *random.Stream
	notice    random.Sampler
	capacity  int64
	welcomes  bool       // it rejects no write, unless an incident says so
	direct    bool       // a plain queue or a topic that welcomes: a write stands at once
	AtOnce    bool       // it does so now, for what comes from outside
	fans      bool       // it hands on so now
	fast      []fastSend // of a topic that only hands on to such queues: where to
	OwnWay    int32      // delivery of dead letters and of what is sent back
	OutWay    int32      // delivery of traffic

	takes           random.Sampler
	fails           model.Failing
	failName        int16
	cases           []nodeCase
	recorded        []RecordedRun // what its next runs do; then they are drawn
	limit           int64         // time of a run, 0: none
	tasks           bool          // a workflow
	Asks            bool          // its runs may take longer than their own work: calls, slow writes
	steps           [Sending + 1][]int32
	onSuccess       []int
	onFailure       []int
	together        bool
	resultsAll      bool
	hopLimit        int   // below 0: none
	concurrency     int64 // 0: none
	pool            *pool
	Accepts         *expr.Schema
	cold            *coldStarts
	bucket          *tokenBucket
	succeeded       map[string]struct{} // keys of an idempotent function
	doom            uint64              // seed of what is never managed
	rng, serviceRNG *random.Stream

	// active by incidents
	FailsNowShare  float64 // -1: none
	ReadsFail      float64 // share of reads
	Slow           float64
	Stopped        bool
	heldIntake     []heldCopy // what waits for it to run again
	crashes        bool       // an incident of the scenario ends its runs
	ConcurrencyNow int64      // -1: none
	Off            bool

	// counted
	Deduplicated, Redelivered, Failures, Timeouts int64
	Throttled, ColdCount                          int64
	Answers                                       [600]int32
	FailedBy                                      []int64 // failures, by number of the error
	Oldest                                        int64   // greatest age seen of what lies in it
	ByteSeconds                                   float64
}

type nodeCase struct {
	when  *expr.Expression
	takes *random.Sampler
	fails *model.Failing
	name  int16
}

// pool is concurrency that several functions draw on.
type pool struct{ used, size int64 }

// Send is a link with what a run needs to use it.
type Send struct {
	Link      *graph.Link
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
func (c *coldStarts) start(e *Engine, n *Node) int64 {
	if k := len(c.idle); k > 0 {
		since := c.idle[k-1]
		if e.Now-since <= c.after {
			c.idle = c.idle[:k-1]
			return 0
		}
		c.idle = c.idle[:0] // those below have been idle for longer
	}
	n.ColdCount++
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
func (n *Node) drawTakes() int64 {
	if n.takes.Zero() {
		return 0
	}
	return random.Nanos(n.takes.Draw(n.serviceRNG) * n.Slow)
}

// shareNow gives the share of tries that fail, of what is stated, under the incidents
// active now.
func (n *Node) shareNow(stated *model.Failing) float64 {
	if n.FailsNowShare >= 0 {
		return n.FailsNowShare
	}
	return stated.EachTry
}

// failed counts a run that did not succeed, and why.
func (n *Node) failed(why int16) {
	n.Failures++
	for int(why) >= len(n.FailedBy) {
		n.FailedBy = append(n.FailedBy, 0)
	}
	n.FailedBy[why]++
}

// failsNow draws whether a write is rejected.
func (e *Engine) failsNow(n *Node) bool {
	if e.Follows() {
		return e.forced(n) || n.shareNow(&n.fails) >= 1
	}
	return n.rng.Happens(n.shareNow(&n.fails))
}

// New makes the engine of a replication, with the parts that are made for it. Where forced is not nil, one message is
// followed instead of the scenario's traffic: it says how many runs, or writes, fail, by node: the first n, or all
// where negative.
func New(plan *Plan, forced map[string]int, parts func(*Engine) Parts) (*Engine, error) {
	g, s, room := plan.Graph, plan.Scenario, &arena.Space{}
	e := &Engine{
		Clock:      clock.New(),
		Graph:      g,
		Scenario:   s,
		Plan:       plan,
		Start:      s.Start,
		End:        int64(s.Length),
		Warm:       int64(s.WarmUp),
		limits:     plan.Limits,
		space:      room,
		histograms: stats.NewHistograms(room),
		Copies:     arena.New[Copy](room),
		InFlights:  arena.New[inFlight](room),
		Journeys:   arena.New[Journey](room),
		Contents:   make([]Content, 1, 1024),
		Runs:       make([]Run, 1, 256),
		Batches:    make([]batch, 1, 64),
		errorID:    map[string]int16{},
		payload:    g.Topology.Limits.Payload,
		pools:      map[string]*pool{},
	}
	if forced != nil {
		e.forcing = &forcing{stated: forced, made: map[string]int{}}
	}
	e.Parts = parts(e)
	if err := e.setUp(); err != nil {
		e.Close()
		return nil, err
	}
	return e, nil
}

// setUp prepares all that a replication needs, up to its first events.
func (e *Engine) setUp() error {
	g, plan := e.Graph, e.Plan
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
	e.guarded = plan.Audit || e.Follows()
	for _, name := range builtinErrors {
		e.ErrorNumber(name)
	}
	for name, size := range g.Topology.Pools {
		e.pools[name] = &pool{size: int64(size)}
	}
	e.Latency = make([][]*stats.LiveHistogram, len(g.Nodes))
	e.FirstLoss = -1
	e.Storage = g.Topology.Prices != nil && g.Topology.Prices.Storage > 0
	e.setUpDeliveries()
	if err := e.setUpNodes(); err != nil {
		return err
	}
	for i := range e.Readers {
		*e.InFlights.At(e.InFlights.Add()) = inFlight{
			Held:  1,
			Busy:  1,
			group: int32(uint32(i) - e.Readers[i].link.first),
		}
	}
	for i := range e.Nodes {
		n := &e.Nodes[i]
		n.Wait, n.Time, n.RunTime = e.histograms.New(), e.histograms.New(), e.histograms.New()
		n.welcomes = n.capacity == 0 && (!e.Follows() || e.forcing.stated[n.Name] == 0) && n.fails.EachTry == 0 &&
			n.stream == nil &&
			e.payload == 0
		n.direct = n.welcomes && (n.Queue != nil && n.Queue.plain || n.Kind == model.Topic) && n.takes.Zero() &&
			!e.Plan.DisableFastPath
	}
	for i := range e.Graph.Links { // what is switched off from the start
		if e.Graph.Links[i].Disabled && e.Graph.Links[i].Relation.Polls() {
			e.Deliveries[i].Paused = true
		}
	}
	for _, in := range e.Scenario.Incidents {
		for _, name := range append([]string{in.Node}, e.Graph.Topology.FailsTogether[in.Group]...) {
			if id := e.Graph.NodeID(name); in.Crash && id >= 0 {
				e.Nodes[id].crashes = true
			}
		}
	}
	e.setUpLoops()
	e.setUpFastPath()
	if err := e.Traffic.SetUp(); err != nil {
		return err
	}
	if err := e.Incidents.SetUp(); err != nil {
		return err
	}
	e.Series.SetUp()
	if e.Warm > 0 {
		e.First(e.Warm, EvWarm, 0)
	}
	return nil
}

func (e *Engine) ErrorNumber(name string) int16 {
	if id, ok := e.errorID[name]; ok {
		return id
	}
	id := int16(len(e.Errors))
	e.Errors = append(e.Errors, name)
	e.errorID[name] = id
	return id
}

func (e *Engine) Stream(name, purpose string) *random.Stream {
	return random.New(e.Scenario.Seed, e.Plan.Replication, name, purpose)
}

// setUpDeliveries makes a delivery for each link, then two for each node: its
// own way (dead letters, what is sent back) and that of outsiders.
func (e *Engine) setUpDeliveries() {
	for i := range e.Graph.Links {
		l := &e.Graph.Links[i]
		d := Delivery{
			policy:  l.Policy,
			to:      int32(l.To),
			dead:    int32(l.DeadLetter),
			Link:    int32(i),
			refused: l.Refused,
			wrap:    wrappings[l.Wrap],
			Off:     l.Disabled,
			rejects: l.Read.Reject,
		}
		if e.Graph.Nodes[l.From].Kind.Answers() && l.Relation == model.Write {
			d.policy.Tries = 1
		}
		if l.Policy.Jitter > 0 {
			d.jitter = e.Stream(l.Link.ID(), "jitter")
		}
		for _, name := range l.Policy.Except {
			d.except = append(d.except, e.ErrorNumber(name))
		}
		e.Deliveries = append(e.Deliveries, d)
		s := Send{Link: l, perRun: l.PerRun, count: random.NewSampler(l.Count.Dist), readsItem: l.Payload != nil}
		s.plain = (!e.Graph.Nodes[l.From].Kind.Answers() || l.Filter.Everything) && l.If == nil && l.Chance == 1 &&
			l.CountExpr == nil &&
			l.ForEach == nil &&
			s.count.Shape == random.Constant &&
			s.count.A == 1
		if !s.plain {
			s.rng = e.Stream(l.Link.ID(), "chance")
		}
		e.Sends = append(e.Sends, s)
		e.moveSteps = append(e.moveSteps, int32(i))
	}
	for i := range e.Graph.Nodes {
		n := &e.Graph.Nodes[i]
		own := Delivery{policy: n.Intake, to: int32(i), dead: int32(n.DeadLetter), Link: -1}
		if n.Intake.Jitter > 0 {
			own.jitter = e.Stream(n.Name, "jitter")
		}
		if n.Retry != nil {
			for _, name := range n.Retry.Except {
				own.except = append(own.except, e.ErrorNumber(name))
			}
		}
		out := own
		if n.Kind.Channel() {
			out.policy.Tries = 1
		}
		e.Deliveries = append(e.Deliveries, own, out)
	}
}

// placeFeeds makes room for the nodes: those of the graph, then one for each
// link that reads a stream or a table.
func (e *Engine) placeFeeds() {
	count := len(e.Graph.Nodes)
	e.FeedOf = make([]int32, len(e.Graph.Links))
	for i := range e.Graph.Links {
		e.FeedOf[i] = graph.None
		if from := e.Graph.Nodes[e.Graph.Links[i].From].Kind; from.InPartitions() {
			e.FeedOf[i] = int32(count)
			count++
		}
	}
	e.Nodes = make([]Node, count)
	for i, id := range e.FeedOf {
		if id >= 0 {
			from := &e.Graph.Nodes[e.Graph.Links[i].From]
			e.Nodes[id] = Node{
				ID:             int(id),
				Name:           from.Name,
				Kind:           from.Kind,
				Slow:           1,
				FailsNowShare:  -1,
				ConcurrencyNow: -1,
			}
		}
	}
}

func (e *Engine) setUpNodes() error {
	e.placeFeeds()
	for i := range e.Graph.Nodes {
		gn := &e.Graph.Nodes[i]
		n := &e.Nodes[i]
		behaviour, ok := behaviours[gn.Kind]
		if !ok {
			return fmt.Errorf("%s: a %s cannot be simulated", gn.Name, gn.Kind)
		}
		*n = Node{
			ID:             i,
			Name:           gn.Name,
			Kind:           gn.Kind,
			channel:        gn.Kind.Channel(),
			keeps:          gn.Kind.Keeps(),
			process:        gn.Kind.Process(),
			endpoint:       gn.Kind.Answers(),
			invoked:        gn.Kind.Invoked(),
			standFunc:      behaviour.stand,
			takes:          random.NewSampler(gn.Takes),
			fails:          gn.Fails,
			failName:       ErrFails,
			FailsNowShare:  -1,
			Slow:           1,
			ConcurrencyNow: -1,
			OwnWay:         int32(len(e.Graph.Links) + 2*i),
			OutWay:         int32(len(e.Graph.Links) + 2*i + 1),
			notice:         random.NewSampler(gn.Notice),
			rng:            e.Stream(gn.Name, "luck"),
			serviceRNG:     e.Stream(gn.Name, "time"),
		}
		if e.Follows() {
			n.takes = typical(gn.Takes)
			n.notice = typical(gn.Notice)
			if gn.Fails.EachTry < 1 { // what always fails does so here too
				n.fails = model.Failing{}
			}
		}
		if gn.Duplicates > 0 && !e.Follows() {
			n.twice, n.twiceLuck = gn.Duplicates, e.Stream(gn.Name, "duplicates")
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
func (e *Engine) setUpRunner(n *Node) error {
	gn := &e.Graph.Nodes[n.ID]
	n.Accepts, n.recorded = gn.Accepts, e.Plan.Inputs.Runs[n.Name]
	if gn.Idempotent != nil {
		n.succeeded = map[string]struct{}{}
	}
	n.limit, n.Asks = int64(gn.Timeout), e.Graph.Asks(gn)
	n.concurrency = int64(gn.Concurrency)
	n.pool = e.pools[gn.Pool]
	n.together, n.resultsAll, n.hopLimit = gn.Together, gn.ResultsAll, gn.HopLimit
	n.bucket = newTokenBucket(gn.RateLimit)
	if gn.Tasks != nil {
		n.tasks = true
	}
	seed := e.Scenario.Seed
	n.doom = random.Splitmix(seed) ^ random.New(seed, e.Plan.Replication, gn.Name, "doom").Uint64()
	if gn.Fails.Error != "" {
		n.failName = e.ErrorNumber(gn.Fails.Error)
	}
	if gn.ColdStart != nil {
		n.cold = &coldStarts{takes: random.NewSampler(gn.ColdStart.Takes), after: int64(gn.ColdStart.Idle)}
	}
	for k := range gn.Cases {
		c := nodeCase{when: gn.Cases[k].If, fails: gn.Cases[k].Fails, name: e.ErrorNumber(gn.Cases[k].Name)}
		if c.fails != nil && c.fails.Error != "" {
			c.name = e.ErrorNumber(c.fails.Error)
		}
		if t := gn.Cases[k].Takes; t != nil {
			s := random.NewSampler(*t)
			c.takes = &s
		}
		n.cases = append(n.cases, c)
	}
	for _, id := range gn.Out {
		l := &e.Graph.Links[id]
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
			n.steps[Calling] = append(n.steps[Calling], int32(id))
		default:
			n.steps[Sending] = append(n.steps[Sending], int32(id))
		}
	}
	if gn.Kind.Answers() { // what it accepts goes before what it waits for
		n.steps[Calling] = append(n.steps[Sending], n.steps[Calling]...)
		n.steps[Sending] = nil
	}
	return nil
}

// overHops reports whether a message that has passed through some number of
// functions is over the node's hop limit.
func (n *Node) overHops(hops int) bool { return n.hopLimit >= 0 && hops > n.hopLimit }
