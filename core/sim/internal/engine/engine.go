// Package engine simulates one replication: records, deliveries, channels and their readers, runs, and the fast path.
//
// A copy (one message held for one consumer) is the unit of account. A node kind is one file here and one entry in the
// table of behaviours. What only some models need, and what only looks on, is in packages beside this one (see Parts).
package engine

import (
	"fmt"
	"math"
	"runtime"
	"time"
	"unsafe"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/arena"
	"ironweir/core/sim/internal/clock"
	"ironweir/core/sim/internal/stats"
)

// The kinds of pending events, each with what its index is of.
const (
	EvArrive   clock.Kind = iota // traffic: the next message from outside
	EvReplay                     // traffic: the next message of a replay
	EvFire                       // node: a schedule fires
	EvFan                        // copy: a channel or schedule hands it to its links
	EvOffer                      // copy: an intake is offered to its function
	EvTry                        // copy: a back-off is over, deliver again
	EvWritten                    // copy: the time of a delivering write is over
	EvPull                       // node: the readers of a queue take what is visible
	EvFill                       // batch: it has waited long enough for more
	EvVisible                    // copy: a delay or back-off in a queue is over
	EvLease                      // node: the oldest lease of a queue ends
	EvAge                        // node: the retention of a queue's oldest message ends
	EvReader                     // reader: its pause after a throttle is over
	EvFeed                       // reader: something has changed for a partition, or what it waited for is over
	EvLife                       // node: the life of the oldest object is over
	EvFastRun                    // copy: a run on the fast path is over
	EvBatch                      // batch: its run on the fast path is over
	EvTask                       // thread: what a workflow waited for is over
	EvRun                        // run: what it waited for is over
	EvTimeout                    // run
	EvIncident                   // incident: starts or ends
	EvSendBack                   // incident: moves the next message
	EvSample                     // the series take a point
	EvWarm                       // the warm-up is over
)

// Engine is the state of one replication.
type Engine struct {
	depth int // of runs that start within the start of others
	// what every event touches: near its start, so that instructions are short
	Copies    arena.Records[Copy]
	InFlights arena.Records[inFlight]
	Journeys  arena.Records[Journey]
	clock.Clock
	lanes []*fastLink // by node
	Tally tally
	Warm  int64 // before it nothing is put into statistics

	Graph    *graph.Graph
	Scenario *model.Scenario
	Plan     *Plan
	Start    time.Time
	End      int64
	limits   Limits

	Nodes      []Node
	Deliveries []Delivery
	Parts
	pools     map[string]*pool
	Sends     []Send  // by link
	moveSteps []int32 // 0, 1, 2, …: a batch on the move has its link for its one step

	freeCopy  uint32
	freeHand  uint32
	Live      int
	freeJour  uint32
	NextJour  uint64
	Contents  []Content
	freeCont  uint32
	lastEvent uint64 // the number of the last content
	Lasting   uint32 // contents up to this one last as long as the run
	Runs      []Run
	freeRun   uint32
	Batches   []batch
	freeBat   uint32
	lastBatch uint64 // the number of the last one
	Readers   []reader
	FeedOf    []int32 // by link: the node that stands for a stream's reader, or -1

	Errors     []string // names of errors, by number
	errorID    map[string]int16
	event      expr.Event               // scratch for expressions and filters
	Latency    [][]*stats.LiveHistogram // by entry and node; rows where something has arrived
	space      *arena.Space
	histograms stats.Histograms
	FirstLoss  int64   // the first instant at which something was lost, -1: none was
	passesAt   []int32 // by node: its index in loops, where passes are counted at it, or -1
	InLoop     []int32 // by node: the component that it is part of, or -1
	Loops      []loopTally
	payload    int64           // the limit on a message, 0: none
	planned    map[place]int64 // while planned writes are checked: those before, by where they go; else nil
	HandledBy  int             // the node that finishes with a queue's message, while it does
	caseOf     []int           // of the messages of the run that starts, -1: none holds
	Storage    bool            // what lies in a node has a price
	Stopped    string
	checkAt    int64    // the count of events from which on to look at what is after an event
	stopAt     int64    // the one at which to look whether to stop
	pauseAt    int64    // the one at which to pause
	guarded    bool     // something is to be done after every event
	forcing    *forcing // of a followed message, else nil
	Trace      Tracer   // nil: no journey is recorded
	Observer   Observer // of a live run, else nil
	Sampler    Sampler  // nil: none is asked for
}

// tally counts what belongs to no node.
type tally struct {
	Entered, Events, Fast      int64
	Complete, Failed, InFlight int64
	LargestCopies, LargestHops int32
}

// FreeWhenUnused gives the memory of messages back once the engine is no longer referenced.
func (e *Engine) FreeWhenUnused() { runtime.AddCleanup(e, (*arena.Space).Free, e.space) }

// Close gives the memory of messages back; the engine can do nothing any more.
func (e *Engine) Close() {
	e.space.Free()
}

const stopInterval = 1 << 14 // events between two looks at Plan.Stop

func (e *Engine) Loop() error { return e.Proceed(e.End, math.MaxInt64) }

// Proceed handles what is due before an instant, but at most so many events.
func (e *Engine) Proceed(until, most int64) error {
	e.GoUntil(until)
	e.pauseAt = math.MaxInt64
	if most < e.pauseAt-e.Tally.Events {
		e.pauseAt = e.Tally.Events + most
	}
	e.checkAt = 0
	for {
		switch {
		case e.Uncontested():
			next := e.PopUncontested()
			e.Tally.Events++
			if next.Kind() == EvFastRun {
				e.endFast(next.Index())
			} else {
				e.handle(next.Kind(), next.Index(), next.Seq())
			}
		case e.HasArrival():
			e.Tally.Events++
			e.Traffic.Arrive(e.Arrival())
		default:
			next, ok := e.Pop()
			if !ok {
				return nil
			}
			e.Tally.Events++
			e.handle(next.Kind(), next.Index(), next.Seq())
		}
		if e.Tally.Events < e.checkAt {
			continue
		}
		if stops, err := e.checkLimits(); stops {
			return err
		}
	}
}

// checkLimits looks, after an event, whether the run has to end, and why.
func (e *Engine) checkLimits() (bool, error) {
	stops := e.Tally.Events >= e.stopAt && e.mustStop() || e.Tally.Events >= e.pauseAt
	e.checkAt = min(e.stopAt, e.pauseAt)
	if !e.guarded || stops {
		return stops, nil
	}
	e.checkAt = 0
	if e.Plan.Audit {
		if err := e.Audit(); err != nil {
			return true, err
		}
	}
	return e.Follows() && (e.Live == 0 || e.Stopped != ""), nil
}

// mustStop looks whether the run has to end early, and says when to look again.
func (e *Engine) mustStop() bool {
	e.stopAt = min(e.Tally.Events+stopInterval, e.limits.Events)
	switch {
	case e.Stopped != "":
	case e.Tally.Events >= e.limits.Events:
		e.Stopped = fmt.Sprintf("the limit of %d events", e.limits.Events)
	case e.Live >= e.limits.Copies:
		e.Stopped = fmt.Sprintf("the limit of %d messages in flight", e.limits.Copies)
	case len(e.Runs) > arena.MaxIndex-stopInterval || e.Copies.Count > arena.MaxIndex-stopInterval:
		e.Stopped = "more concurrent messages or runs than can be counted"
	case e.memory() >= e.limits.Memory:
		e.Stopped = fmt.Sprintf("the limit of %s of memory", model.FormatSize(e.limits.Memory))
	case e.Plan.Stop != nil:
		e.Stopped = e.Plan.Stop()
	}
	return e.Stopped != ""
}

// memory is about what the messages in flight and the runs in progress take, in bytes.
func (e *Engine) memory() int64 {
	return e.Copies.Bytes() + e.InFlights.Bytes() + e.Journeys.Bytes() +
		int64(cap(e.Contents))*int64(
			unsafe.Sizeof(Content{})+32,
		) + int64(cap(e.Runs))*int64(unsafe.Sizeof(Run{})) + e.Clock.Bytes()
}

func (e *Engine) handle(kind clock.Kind, i uint32, seq uint64) {
	switch kind {
	case EvArrive:
		e.Traffic.Arrive(i)
	case EvReplay:
		e.Traffic.ArriveAgain(i)
	case EvPull:
		e.pull(&e.Nodes[i])
	case EvRun:
		if e.Runs[i].awaits(seq) {
			e.resume(i)
		}
	case EvOffer:
		e.offer(i)
	case EvFan:
		e.fan(i)
	case EvTry:
		if e.awaits(i, seq) {
			e.tryAgain(i)
		}
	case EvVisible:
		if e.awaits(i, seq) {
			e.becomeVisible(i)
		}
	case EvLease:
		e.leaseEnds(&e.Nodes[i], seq)
	case EvAge:
		e.ageEnds(&e.Nodes[i], seq)
	case EvFill:
		if e.Batches[i].timer == seq {
			e.StartBatch(i)
		}
	case EvWritten:
		if e.awaits(i, seq) {
			e.written(i)
		}
	case EvTimeout:
		if e.Runs[i].timeout == seq {
			e.timeOut(i)
		}
	case EvReader:
		e.readerBack(i)
	case EvFeed:
		e.turn(i, seq)
	case EvFastRun:
		e.endFast(i)
	case EvBatch:
		e.endFastBatch(i)
	case EvTask:
		if e.Workflows.Waits(i, seq) {
			e.Workflows.Resume(i)
		}
	case EvLife:
		e.livesEnd(&e.Nodes[i])
	case EvFire:
		e.Traffic.Fire(&e.Nodes[i])
	case EvIncident:
		e.Incidents.Turn(int(i))
	case EvSendBack:
		e.Incidents.SendBack(int(i))
	case EvSample:
		e.Series.Sample()
	case EvWarm:
		e.warmedUp()
	}
}

// Effect is what a pending event will do.
type Effect uint8

const (
	NoEffect Effect = iota // it only looks, or what it was to end has ended otherwise
	Rearms                 // it sets a timer for what still waits
	Changes
)

// EffectOf foretells what a pending event will do, as things stand now.
func (e *Engine) EffectOf(next clock.Entry) Effect {
	i, seq := next.Index(), next.Seq()
	due := true
	switch next.Kind() {
	case EvSample:
		due = false
	case EvRun:
		due = e.Runs[i].awaits(seq)
	case EvTimeout:
		due = e.Runs[i].timeout == seq
	case EvTry, EvVisible, EvWritten:
		due = e.awaits(i, seq)
	case EvFill:
		due = e.Batches[i].timer == seq
	case EvTask:
		due = e.Workflows.Waits(i, seq)
	case EvFeed:
		r := &e.Readers[i]
		due = seq == 0 || e.Nodes[r.Queue].Queue.Feed.parts[r.partition].timer == seq
	case EvFire:
		due = !e.Nodes[i].Off
	case EvLease:
		q := e.Nodes[i].Queue
		return timerEffect(seq == q.leaseSeq, q.leases.Head, e.leaseIsOver(q.leases.Head, int64(next.At), seq))
	case EvAge:
		q := e.Nodes[i].Queue
		return timerEffect(seq == q.ageSeq, q.Ages.Head, !e.outlives(q, q.Ages.Head, int64(next.At), seq))
	}
	if due {
		return Changes
	}
	return NoEffect
}

// timerEffect gives that of a queue's timer for the first of a list.
func timerEffect(armed bool, first uint32, over bool) Effect {
	switch {
	case !armed || first == 0:
		return NoEffect
	case over:
		return Changes
	}
	return Rearms
}

// behaviours is the table of node kinds: how a node is set up, and how a
// message that has been written to it stands there.
var behaviours = map[model.Kind]struct {
	setUp func(*Engine, *Node) error
	stand func(*Engine, *Node, uint32)
}{
	model.Bucket:   {(*Engine).setUpObjects, (*Engine).standInBucket},
	model.Queue:    {(*Engine).setUpQueue, (*Engine).standInQueue},
	model.Table:    {(*Engine).setUpObjects, (*Engine).standInBucket},
	model.Stream:   {(*Engine).setUpStream, (*Engine).standInStream},
	model.Topic:    {nil, (*Engine).standInTopic},
	model.Schedule: {func(e *Engine, n *Node) error { return e.Traffic.SetUpSchedule(n) }, nil},
	model.Endpoint: {(*Engine).setUpRunner, nil},
	model.Function: {(*Engine).setUpRunner, nil},
	model.Workflow: {(*Engine).setUpRunner, nil},
	model.Outside:  {(*Engine).setUpRunner, nil},
}

// Instant gives a virtual instant as time.
func (e *Engine) Instant(t int64) time.Time { return e.Start.Add(time.Duration(t)) }

// warmedUp throws away the statistics of the warm-up; counts stay.
func (e *Engine) warmedUp() {
	for i := range e.Nodes {
		n := &e.Nodes[i]
		n.Depth.Restart(e.Now)
		n.Active.Restart(e.Now)
		n.Oldest = 0
	}
}
