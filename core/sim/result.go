package sim

import (
	"time"

	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/stats"
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
	Fates                                               [engine.FateCount]int64
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

// result counts what is still in flight, and checks that the ledger adds up.
func (e *replication) result() (*Result, error) {
	reached := e.End
	if e.Stopped != "" {
		reached = e.Now
	}
	e.Now = reached
	if err := e.Audit(); err != nil {
		return nil, err
	}
	res := &Result{
		Replication:  e.Plan.Replication,
		Seed:         e.Scenario.Seed,
		Stopped:      e.Stopped,
		Reached:      time.Duration(reached),
		Entered:      e.Tally.Entered,
		Events:       e.Tally.Events,
		FastPathRuns: e.Tally.Fast,
		FirstLoss:    time.Duration(e.FirstLoss),
		Noticed:      time.Duration(e.recorder.Noticed()),
		Latency:      map[[2]int]*Histogram{},
		Nodes:        make([]NodeResult, len(e.Nodes)),
		Series:       e.recorder.Finish(),
		Alarms:       e.recorder.Alarms(),
	}
	e.countUnfinished(res.Nodes)
	e.EndStorage()
	for i := range e.Journeys.Count {
		if j := e.Journeys.At(i); j.Refs > 0 {
			e.CloseJourney(j)
		}
	}
	res.Complete, res.Failed, res.InFlight = e.Tally.Complete, e.Tally.Failed, e.Tally.InFlight
	res.Largest.Copies, res.Largest.Hops = e.Tally.LargestCopies, e.Tally.LargestHops
	span := float64(max(reached-e.Warm, 1))
	for i := range e.Nodes {
		e.nodeResult(i, span, &res.Nodes[i])
	}
	e.linkResults(res)
	res.Nodes = res.Nodes[:len(e.Graph.Nodes)]
	for from, row := range e.Latency {
		for to, t := range row {
			if t == nil {
				continue
			}
			if h := t.Clone(); h.Count() > 0 {
				res.Latency[[2]int{from, to}] = &h
			}
		}
	}
	for _, t := range e.Loops {
		res.Loops = append(
			res.Loops,
			LoopResult{t.Members, t.At, t.Arrivals, t.Fresh, t.Most, t.Most == int64(t.Limit)},
		)
	}
	return res, nil
}

// countUnfinished counts the copies that wait and run when the run ends, by node.
func (e *replication) countUnfinished(nodes []NodeResult) {
	for i := uint32(1); i < e.Copies.Count; i++ {
		c := e.Copies.At(i)
		if c.Journey == 0 || c.Flags&(engine.Done|engine.Duplicate) != 0 {
			continue
		}
		n := &e.Nodes[c.Node]
		if c.Flags&engine.CountedInDepth != 0 && e.Storage {
			n.ByteSeconds += float64(e.Contents[c.Content].Size) * float64(e.Now-c.Born) * 1e-9
		}
		if c.Flags&engine.AtRest != 0 {
			continue
		}
		n.Oldest = max(n.Oldest, e.Now-c.Born)
		if e.InFlightOf(c).Busy > 0 || c.Flags&engine.Writing != 0 {
			nodes[c.Node].Running++
		} else {
			nodes[c.Node].Waiting++
		}
	}
}

// nodeResult fills in what is known of a node; span is what was counted, in nanoseconds.
func (e *replication) nodeResult(i int, span float64, r *NodeResult) {
	n := &e.Nodes[i]
	r.Copies, r.Fates = n.Copies, n.Fates
	r.Deduplicated = n.Deduplicated
	r.Redelivered, r.Runs, r.Failures, r.Timeouts, r.Throttled, r.ColdStarts = n.Redelivered, n.Runs, n.Failures,
		n.Timeouts, n.Throttled, n.ColdCount
	if n.Kind.Fires() {
		r.Entered = n.Copies
	} else if i < len(e.Graph.Nodes) {
		r.Entered = e.Deliveries[n.OutWay].Copies
	}
	active := n.Active.Area(e.Now)
	r.DepthMean, r.ActiveMean = n.Depth.Area(e.Now)/span, active/span
	r.RunSeconds, r.ByteSeconds = active*1e-9, n.ByteSeconds
	r.DepthMax, r.DepthEnd, r.ActiveMax, r.ActiveEnd = n.Depth.Most, n.Depth.Count, n.Active.Most, n.Active.Count
	r.Oldest = float64(n.Oldest) * 1e-9
	r.Wait, r.Time, r.RunTime = n.Wait.Clone(), n.Time.Clone(), n.RunTime.Clone()
	for why, count := range n.FailedBy {
		if count == 0 {
			continue
		}
		if r.FailedBy == nil {
			r.FailedBy = map[string]int64{}
		}
		r.FailedBy[e.Errors[why]] += count
	}
	if n.Kind.Answers() {
		r.Answers = map[int]int64{}
		for status, count := range n.Answers {
			if count > 0 {
				r.Answers[status] = int64(count)
			}
		}
	}
}

// linkResults fills in what is known of the links, and of the queues that readers have of
// their own.
func (e *replication) linkResults(res *Result) {
	for i := range e.Graph.Links {
		d := &e.Deliveries[i]
		l := LinkResult{Offered: d.Offered, Matched: d.Matched, Copies: d.Copies}
		if id := e.FeedOf[i]; id >= 0 {
			l.Feed = &res.Nodes[id]
			l.Copies = l.Feed.Copies // not those that it moved on
			home := &res.Nodes[e.Nodes[id].Home.ID]
			home.Wait.Merge(&l.Feed.Wait)
			home.Time.Merge(&l.Feed.Time)
			home.Oldest = max(home.Oldest, l.Feed.Oldest)
		}
		res.Links = append(res.Links, l)
	}
}
