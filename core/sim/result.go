package sim

import (
	"time"

	"ironweir/core/sim/internal/stats"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// Histogram counts durations in logarithmic buckets; histograms of replications merge exactly.
type Histogram = stats.Histogram

// Result is what one replication counted. Results of the same graph and
// scenario merge; see core/study.
type Result struct {
	Replication  int
	Seed         uint64
	Stopped      string // why it ended early; empty: it did not
	Reached      time.Duration
	Entered      int64
	Events       int64
	FastPathRuns int64 // runs on the fast path
	Complete     int64
	Failed       int64
	InFlight     int64
	Largest      struct{ Copies, Hops int32 }
	Nodes        []NodeResult
	Links        []LinkResult
	Latency      map[[2]int]*Histogram // by entry and node
	Loops        []LoopResult
	Series       *Series
	Alarms       []AlarmResult
	FirstLoss    time.Duration // -1: nothing was lost
	Noticed      time.Duration // when an alarm was on, from the first loss on; -1: none was
}

// NodeResult is what one node counted.
type NodeResult struct {
	Copies, Waiting, Running                            int64
	Fates                                               [fates]int64
	Deduplicated, Redelivered, Runs, Failures, Timeouts int64
	Throttled, ColdStarts, Entered                      int64
	Answers                                             map[int]int64
	FailedBy                                            map[string]int64 // failures, by the name of the error
	DepthMean, ActiveMean                               float64
	DepthMax, DepthEnd, ActiveMax, ActiveEnd            int64
	Oldest                                              float64 // seconds
	Wait, Time, RunTime                                 Histogram
	RunSeconds, ByteSeconds                             float64
}

// LinkResult is what one link counted.
type LinkResult struct {
	Offered, Matched, Copies int64
	Feed                     *NodeResult // of a link that reads a stream or table, which accounts for copies of its own
}

// LoopResult says how often messages passed one node of a component of the topology.
type LoopResult struct {
	Nodes           []int // of the component; results of one component follow each other
	At              int   // the node at which passes are counted
	Arrivals, Fresh int64
	Most            int64 // passes of one message
	Capped          bool  // Most is as far as they were counted
}

// Ledgers lists all that account for copies: the nodes, then the links that read
// a stream or table.
func (r *Result) Ledgers() []*NodeResult {
	var out []*NodeResult
	for i := range r.Nodes {
		out = append(out, &r.Nodes[i])
	}
	for i := range r.Links {
		if feed := r.Links[i].Feed; feed != nil {
			out = append(out, feed)
		}
	}
	return out
}

// Count adds up the copies of some fates.
func (r *Result) Count(of func(Fate) bool) int64 {
	sum := int64(0)
	for _, n := range r.Ledgers() {
		for f, k := range n.Fates {
			if of(Fate(f)) {
				sum += k
			}
		}
	}
	return sum
}

// result counts what is left under way, and checks that the ledger adds up.
func (e *engine) result() (*Result, error) {
	reached := e.end
	if e.stopped != "" {
		reached = e.Now
	}
	e.Now = reached
	if err := e.audit(); err != nil {
		return nil, err
	}
	res := &Result{
		Replication:  e.plan.Replication,
		Seed:         e.scenario.Seed,
		Stopped:      e.stopped,
		Reached:      time.Duration(reached),
		Entered:      e.tally.entered,
		Events:       e.tally.events,
		FastPathRuns: e.tally.fast,
		FirstLoss:    time.Duration(e.firstLoss),
		Noticed:      time.Duration(e.noticed),
		Latency:      map[[2]int]*Histogram{},
		Nodes:        make([]NodeResult, len(e.nodes)),
		Series:       e.finishSeries(),
		Alarms:       e.alarmResults(),
	}
	e.countUnfinished(res.Nodes)
	e.endStorage()
	for i := range e.journeys.Count {
		if j := e.journeys.At(i); j.refs > 0 {
			e.closeJourney(j)
		}
	}
	res.Complete, res.Failed, res.InFlight = e.tally.complete, e.tally.failed, e.tally.inFlight
	res.Largest.Copies, res.Largest.Hops = e.tally.largestCopies, e.tally.largestHops
	span := float64(max(reached-e.warm, 1))
	for i := range e.nodes {
		e.nodeResult(i, span, &res.Nodes[i])
	}
	e.linkResults(res)
	res.Nodes = res.Nodes[:len(e.g.Nodes)]
	for from, row := range e.latency {
		for to, t := range row {
			if t == nil {
				continue
			}
			if h := t.Clone(); h.Count() > 0 {
				res.Latency[[2]int{from, to}] = &h
			}
		}
	}
	for _, t := range e.loops {
		res.Loops = append(
			res.Loops,
			LoopResult{t.members, t.at, t.arrivals, t.fresh, t.most, t.most == int64(t.limit)},
		)
	}
	return res, nil
}

// countUnfinished counts the copies that wait and run when the run ends, by node.
func (e *engine) countUnfinished(nodes []NodeResult) {
	for i := uint32(1); i < e.copies.Count; i++ {
		c := e.copies.At(i)
		if c.journey == 0 || c.flags&(done|duplicate) != 0 {
			continue
		}
		n := &e.nodes[c.node]
		if c.flags&countedInDepth != 0 && e.storage {
			n.byteSeconds += float64(e.contents[c.content].size) * float64(e.Now-c.born) * 1e-9
		}
		if c.flags&atRest != 0 {
			continue
		}
		n.oldest = max(n.oldest, e.Now-c.born)
		if e.inFlightOf(c).busy > 0 || c.flags&writing != 0 {
			nodes[c.node].Running++
		} else {
			nodes[c.node].Waiting++
		}
	}
}

// nodeResult fills in what is known of a node; span is what was counted, in nanoseconds.
func (e *engine) nodeResult(i int, span float64, r *NodeResult) {
	n := &e.nodes[i]
	r.Copies, r.Fates = n.copies, n.fates
	r.Deduplicated = n.deduplicated
	r.Redelivered, r.Runs, r.Failures, r.Timeouts, r.Throttled, r.ColdStarts = n.redelivered, n.runs, n.failures,
		n.timeouts, n.throttled, n.coldCount
	if n.schedule != nil {
		r.Entered = n.copies
	} else if i < len(e.g.Nodes) {
		r.Entered = e.deliveries[n.outWay].copies
	}
	active := n.active.Area(e.Now)
	r.DepthMean, r.ActiveMean = n.depth.Area(e.Now)/span, active/span
	r.RunSeconds, r.ByteSeconds = active*1e-9, n.byteSeconds
	r.DepthMax, r.DepthEnd, r.ActiveMax, r.ActiveEnd = n.depth.Most, n.depth.Count, n.active.Most, n.active.Count
	r.Oldest = float64(n.oldest) * 1e-9
	r.Wait, r.Time, r.RunTime = n.wait.Clone(), n.time.Clone(), n.runTime.Clone()
	for why, count := range n.failedBy {
		if count == 0 {
			continue
		}
		if r.FailedBy == nil {
			r.FailedBy = map[string]int64{}
		}
		r.FailedBy[e.errors[why]] += count
	}
	if n.kind.Answers() {
		r.Answers = map[int]int64{}
		for status, count := range n.answers {
			if count > 0 {
				r.Answers[status] = int64(count)
			}
		}
	}
}

// linkResults fills in what is known of the links, and of the queues that readers have of
// their own.
func (e *engine) linkResults(res *Result) {
	for i := range e.g.Links {
		d := &e.deliveries[i]
		l := LinkResult{Offered: d.offered, Matched: d.matched, Copies: d.copies}
		if id := e.feedOf[i]; id >= 0 {
			l.Feed = &res.Nodes[id]
			l.Copies = l.Feed.Copies // not those that it moved on
			home := &res.Nodes[e.nodes[id].home.id]
			home.Wait.Merge(&l.Feed.Wait)
			home.Time.Merge(&l.Feed.Time)
			home.Oldest = max(home.Oldest, l.Feed.Oldest)
		}
		res.Links = append(res.Links, l)
	}
}

// warmedUp throws away the statistics of the warm-up; counts stay.
func (e *engine) warmedUp() {
	for i := range e.nodes {
		n := &e.nodes[i]
		n.depth.Restart(e.Now)
		n.active.Restart(e.Now)
		n.oldest = 0
	}
}

// Series holds numbers over time: at most MaxPoints of equal steps.
type Series struct {
	Step  time.Duration
	Nodes []NodeSeries
	Links [][]int64 // by link, by step: what came along it
}

// NodeSeries are the numbers of one node, one a step: the mean depth, the age
// of the oldest at the end of the step, and counts within the step.
type NodeSeries struct {
	Depth, Oldest                           []float64
	Copies, Runs, Failures, Throttled, Lost []int64
}

// MaxPoints bounds the points of a series, whatever the length of the run.
const MaxPoints = 400

// steps that read well on an axis
var goodSteps = []time.Duration{
	time.Second,
	2 * time.Second,
	5 * time.Second,
	10 * time.Second,
	15 * time.Second,
	30 * time.Second,
	time.Minute,
	2 * time.Minute,
	5 * time.Minute,
	10 * time.Minute,
	15 * time.Minute,
	30 * time.Minute,
	time.Hour,
	2 * time.Hour,
	4 * time.Hour,
	6 * time.Hour,
	12 * time.Hour,
	24 * time.Hour,
}

func seriesStep(length time.Duration) time.Duration {
	for _, s := range goodSteps {
		if length/s <= MaxPoints && length%s == 0 {
			return s
		}
	}
	return (length + MaxPoints - 1) / MaxPoints
}

type lastPoint struct {
	area                                    float64
	copies, runs, failures, throttled, lost int64
	timeouts                                int64
}

func (e *engine) setUpSeries() {
	step := seriesStep(e.scenario.Length)
	points := int(e.scenario.Length / step)
	e.series = &Series{
		Step:  step,
		Nodes: make([]NodeSeries, len(e.g.Nodes)),
		Links: make([][]int64, len(e.g.Links)),
	}
	e.lastAlong = make([]int64, len(e.g.Links))
	for i := range e.series.Links {
		e.series.Links[i] = make([]int64, 0, points)
	}
	e.lastPoints = make([]lastPoint, len(e.nodes))
	for i := range e.series.Nodes {
		s := &e.series.Nodes[i]
		s.Depth, s.Oldest = make([]float64, 0, points), make([]float64, 0, points)
		for _, into := range []*[]int64{&s.Copies, &s.Runs, &s.Failures, &s.Throttled, &s.Lost} {
			*into = make([]int64, 0, points)
		}
	}
	e.setUpAlarms()
	e.First(int64(step), evSample, 0)
}

// sample takes a point of every series.
func (e *engine) sample() {
	step := int64(e.series.Step)
	for i := range e.series.Nodes {
		n, s, last := &e.nodes[i], &e.series.Nodes[i], &e.lastPoints[i]
		area := n.depth.Area(e.Now)
		if e.Now == e.warm+step || area < last.area {
			last.area = 0
		}
		s.Depth = append(s.Depth, max(area-last.area, 0)/float64(step))
		age := e.oldestIn(n)
		n.oldest = max(n.oldest, age)
		s.Oldest = append(s.Oldest, float64(age)*1e-9)
		lost := e.lostAt(n)
		s.Copies = append(s.Copies, n.copies-last.copies)
		s.Runs = append(s.Runs, n.runs-last.runs)
		s.Failures = append(s.Failures, n.failures-last.failures)
		s.Throttled = append(s.Throttled, n.throttled-last.throttled)
		s.Lost = append(s.Lost, max(lost-last.lost, 0))
		n.timeoutsInStep = n.timeouts - last.timeouts
		*last = lastPoint{area, n.copies, n.runs, n.failures, n.throttled, lost, n.timeouts}
	}
	for i := range e.series.Links {
		along := e.along(i)
		e.series.Links[i] = append(e.series.Links[i], along-e.lastAlong[i])
		e.lastAlong[i] = along
	}
	e.checkAlarms()
	if e.plan.Progress != nil {
		p := Progress{Share: float64(e.Now) / float64(e.end), Entered: e.tally.entered}
		for i := range e.nodes {
			p.Lost += e.nodes[i].lost()
			p.Parked += e.nodes[i].fates[Parked]
		}
		e.plan.Progress(p)
	}
	if e.Now+step < e.end {
		e.First(e.Now+step, evSample, 0)
	}
}

// along counts what has come along a link: what it wrote, or took where it writes nothing
// (a call), or what its feed holds for it.
func (e *engine) along(link int) int64 {
	if id := e.feedOf[link]; id >= 0 {
		return e.nodes[id].copies
	}
	return max(e.deliveries[link].copies, e.deliveries[link].matched)
}

// oldestIn gives the age of the oldest message that waits in a queue, or for a
// reader of a stream.
func (e *engine) oldestIn(n *node) int64 {
	if n.stream != nil {
		oldest := int64(0)
		for _, id := range n.stream.feeds {
			oldest = max(oldest, e.oldestIn(&e.nodes[id]))
		}
		return oldest
	}
	if n.queue == nil || n.queue.ages.head == 0 || len(n.queue.links) == 0 {
		return 0
	}
	return e.Now - e.copies.At(n.queue.ages.head).born
}

// lostAt counts what was lost at a node, and by the readers of a stream.
func (e *engine) lostAt(n *node) int64 {
	sum := n.lost()
	if n.stream != nil {
		for _, id := range n.stream.feeds {
			sum += e.nodes[id].lost()
		}
	}
	return sum
}

func (n *node) lost() int64 {
	sum := int64(0)
	for f := Expired; f < fates; f++ {
		sum += n.fates[f]
	}
	return sum
}

func (e *engine) finishSeries() *Series {
	if e.Now == e.end && len(e.series.Nodes) > 0 &&
		time.Duration(len(e.series.Nodes[0].Depth))*e.series.Step < e.scenario.Length {
		e.sample() // the last step ends with the run
	}
	return e.series
}

// AlarmResult says when an alarm went off.
type AlarmResult struct {
	Name  string
	Fired int64
	First time.Duration // when it first did
}

// alarm is the state of one alarm, looked at when the series take a point.
type alarm struct {
	spec  *model.Alarm
	node  int
	since int64 // over the value since, -1: it is not
	on    bool
	out   AlarmResult
}

func (e *engine) setUpAlarms() {
	for k := range e.g.Topology.Alarms {
		spec := &e.g.Topology.Alarms[k]
		a := alarm{spec: spec, node: e.g.NodeID(spec.Of), since: -1, out: AlarmResult{Name: spec.Name}}
		if spec.Of == "" {
			a.node = graph.None
		}
		e.alarms = append(e.alarms, a)
	}
}

func (e *engine) checkAlarms() {
	step := int64(e.series.Step)
	for k := range e.alarms {
		a := &e.alarms[k]
		if e.watched(a) <= a.spec.Above {
			a.since, a.on = -1, false
			continue
		}
		if a.since < 0 {
			a.since = e.Now - step
		}
		if !a.on && e.Now-a.since >= int64(a.spec.Lasting) {
			a.on = true
			if a.out.Fired++; a.out.Fired == 1 {
				a.out.First = time.Duration(e.Now)
			}
		}
		if a.on && e.firstLoss >= 0 && e.noticed < 0 {
			e.noticed = e.Now
		}
	}
}

// watched gives the number that an alarm watches: of the last step for counts
// of runs, as it stands for the rest.
func (e *engine) watched(a *alarm) float64 {
	at := len(e.series.Nodes[0].Depth) - 1
	total := func(of func(n *node) float64) float64 {
		if a.node != graph.None {
			return of(&e.nodes[a.node])
		}
		sum := 0.0
		for i := range e.g.Nodes {
			sum += of(&e.nodes[i])
		}
		return sum
	}
	switch a.spec.Watch {
	case "depth":
		return float64(e.nodes[a.node].depth.Count)
	case "oldest":
		return e.series.Nodes[a.node].Oldest[at]
	case "runs":
		return float64(e.series.Nodes[a.node].Runs[at])
	case "failures":
		return float64(e.series.Nodes[a.node].Failures[at])
	case "throttled":
		return float64(e.series.Nodes[a.node].Throttled[at])
	case "timeouts":
		return float64(e.nodes[a.node].timeoutsInStep)
	case "run-time.p95":
		h := e.nodes[a.node].runTime.Snapshot()
		return h.Quantile(0.95)
	case "parked":
		return total(func(n *node) float64 { return float64(n.fates[Parked]) })
	}
	return total(func(n *node) float64 { return float64(e.lostAt(n)) })
}

func (e *engine) alarmResults() []AlarmResult {
	var out []AlarmResult
	for k := range e.alarms {
		out = append(out, e.alarms[k].out)
	}
	return out
}
