// Package sim is the engine: a discrete-event simulation of a compiled
// topology on a virtual clock, one replication at a time. It is pure: no wall
// clock, no I/O, no goroutine; the same graph, plan and seed give the same
// result, byte for byte.
//
// A copy (one message held for one consumer) is the unit of account. A node
// kind is one file here and one entry in the table of behaviours.
package sim

import (
	"fmt"
	"math"
	"time"
	"unsafe"

	"ironweir/core/sim/internal/clock"

	"ironweir/core/sim/internal/stats"

	"ironweir/core/sim/internal/arena"

	"ironweir/core/sim/internal/random"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

const (
	evArrive   clock.Kind = iota // traffic: the next message from outside
	evReplay                     // traffic: the next message of a replay
	evFire                       // node: a schedule fires
	evFan                        // copy: a channel or schedule hands it to its links
	evOffer                      // copy: an intake is offered to its function
	evTry                        // copy: a back-off is over, deliver again
	evWritten                    // copy: the time of a delivering write is over
	evPull                       // node: the readers of a queue take what is visible
	evFill                       // batch: it has waited long enough for more
	evVisible                    // copy: a delay or back-off in a queue is over
	evLease                      // node: the oldest lease of a queue ends
	evAge                        // node: the retention of a queue's oldest message ends
	evReader                     // reader: its pause after a throttle is over
	evFeed                       // reader: something has changed for a partition, or what it waited for is over
	evLife                       // node: the life of the oldest object is over
	evFastRun                    // copy: a run on the fast path is over
	evBatch                      // batch: its run on the fast path is over
	evTask                       // thread: what a workflow waited for is over
	evRun                        // run: what it waited for is over
	evTimeout                    // run
	evIncident                   // incident: starts or ends
	evSendBack                   // incident: moves the next message
	evSample                     // the series take a point
	evWarm                       // the warm-up is over
)

// Limits end a replication early, with what it has.
type Limits struct {
	Events int64 // 0: DefaultLimits.Events
	Copies int   // under way at once; 0: DefaultLimits.Copies
	Memory int64 // bytes that messages and runs take; 0: DefaultLimits.Memory
}

// DefaultLimits hold where a plan gives none.
var DefaultLimits = Limits{Events: 2_000_000_000, Copies: 8_000_000, Memory: 4 << 30}

// Plan is one replication to run.
type Plan struct {
	Graph           *graph.Graph
	Scenario        *model.Scenario
	Inputs          Inputs
	Replication     int
	Limits          Limits
	Progress        func(Progress) // called at most 400 times, or nil
	Stop            func() string  // asked now and then; a reason ends the run early; or nil
	Audit           bool           // check the ledger after every event (for tests)
	DisableFastPath bool           // never take the fast path (for tests)
	follow          *FollowPlan
}

// Progress is how far a replication is, and what has happened in it so far.
type Progress struct {
	Share                 float64 // 0 to 1
	Entered, Lost, Parked int64
}

// Inputs are the contents of files that a scenario names.
type Inputs struct {
	Events  map[string]model.EventFile // by file name
	Replays map[string][]Arrival       // by file name
	Runs    map[string][]RecordedRun   // by node: what its first runs do, in the order of their starts
}

// RecordedRun is what a run does, in place of what would be drawn for it. What is no run of its own, such as a write,
// is still drawn, and so are cold starts.
type RecordedRun struct {
	Takes time.Duration // of its own work; below 0: as drawn
	Fails bool          // by itself; a call or a write of it may still fail it
}

// Arrival is one message of a replay.
type Arrival struct {
	At            time.Time
	Type, Subject string
	Data          any
	Size          int64       // bytes; 0: that of the traffic
	Attributes    *Attributes // nil: it has none of its own
}

// engine is the state of one replication.
type engine struct {
	depth int // of runs that start within the start of others
	// what every event touches: near its start, so that instructions are short
	copies    arena.Records[copyRecord]
	inFlights arena.Records[inFlight]
	journeys  arena.Records[journey]
	clock.Clock
	lanes []*fastLink // by node
	tally tally
	warm  int64 // before it nothing is put into statistics

	g        *graph.Graph
	scenario *model.Scenario
	plan     *Plan
	start    time.Time
	end      int64
	limits   Limits

	nodes      []node
	deliveries []delivery
	traffic    []traffic
	incidents  []incident
	pools      map[string]*pool
	sends      []send  // by link
	moveSteps  []int32 // 0, 1, 2, …: a batch on the move has its link for its one step

	freeCopy   uint32
	freeHand   uint32
	live       int
	freeJour   uint32
	nextJour   uint64
	contents   []content
	freeCont   uint32
	lastEvent  uint64 // the number of the last content
	lasting    uint32 // contents up to this one last as long as the run
	runs       []run
	freeRun    uint32
	batches    []batch
	freeBat    uint32
	lastBatch  uint64 // the number of the last one
	freeThread uint32
	readers    []reader
	threads    []thread
	taskLuck   *random.Stream
	feedOf     []int32 // by link: the node that stands for a stream's reader, or -1

	errors     []string // names of errors, by number
	errorID    map[string]int16
	event      expr.Event               // scratch for expressions and filters
	latency    [][]*stats.LiveHistogram // by entry and node; rows where something has arrived
	space      *arena.Space
	histograms stats.Histograms
	series     *Series
	lastPoints []lastPoint
	lastAlong  []int64 // by link
	firstLoss  int64   // the first instant at which something was lost, -1: none was
	noticed    int64   // the first instant from then on at which an alarm is on, -1: none is
	alarms     []alarm
	passesAt   []int32 // by node: its index in loops, where passes are counted at it, or -1
	inLoop     []int32 // by node: the component that it is part of, or -1
	loops      []loopTally
	payload    int64           // the limit on a message, 0: none
	planned    map[place]int64 // while planned writes are checked: those before, by where they go; else nil
	handledBy  int             // the node that finishes with a queue's message, while it does
	caseOf     []int           // of the messages of the run that starts, -1: none holds
	storage    bool            // what lies in a node has a price
	stopped    string
	checkAt    int64 // the count of events from which on to look at what is after an event
	stopAt     int64 // the one at which to look whether to stop
	pauseAt    int64 // the one at which to pause
	guarded    bool  // something is to be done after every event
	trace      *tracer
	observer   *Live // of a live run
	sampled    *journeySample
}

// tally counts what belongs to no node.
type tally struct {
	entered, events, fast      int64
	complete, failed, inFlight int64
	largestCopies, largestHops int32
}

// Run simulates one replication. The error says what of the model cannot be
// simulated, or that the ledger does not add up (a fault of the engine).
func Run(plan Plan) (*Result, error) {
	e, err := newEngine(&plan)
	if err != nil {
		return nil, err
	}
	defer e.close()
	if err := e.loop(); err != nil {
		return nil, err
	}
	return e.result()
}

// close gives the memory of messages back; the engine can do nothing any more.
func (e *engine) close() {
	e.space.Free()
}

const stopInterval = 1 << 14 // events between two looks at Plan.Stop

func (e *engine) loop() error { return e.proceed(e.end, math.MaxInt64) }

// proceed handles what is due before an instant, but at most so many events.
func (e *engine) proceed(until, most int64) error {
	e.GoUntil(until)
	e.pauseAt = math.MaxInt64
	if most < e.pauseAt-e.tally.events {
		e.pauseAt = e.tally.events + most
	}
	e.checkAt = 0
	for {
		switch {
		case e.Uncontested():
			next := e.PopUncontested()
			e.tally.events++
			if next.Kind() == evFastRun {
				e.endFast(next.Index())
			} else {
				e.handle(next.Kind(), next.Index(), next.Seq())
			}
		case e.HasArrival():
			e.tally.events++
			e.arrive(e.Arrival())
		default:
			next, ok := e.Pop()
			if !ok {
				return nil
			}
			e.tally.events++
			e.handle(next.Kind(), next.Index(), next.Seq())
		}
		if e.tally.events < e.checkAt {
			continue
		}
		if stops, err := e.checkLimits(); stops {
			return err
		}
	}
}

// checkLimits looks, after an event, whether the run has to end, and why.
func (e *engine) checkLimits() (bool, error) {
	stops := e.tally.events >= e.stopAt && e.mustStop() || e.tally.events >= e.pauseAt
	e.checkAt = min(e.stopAt, e.pauseAt)
	if !e.guarded || stops {
		return stops, nil
	}
	e.checkAt = 0
	if e.plan.Audit {
		if err := e.audit(); err != nil {
			return true, err
		}
	}
	return e.plan.follow != nil && (e.live == 0 || e.stopped != ""), nil
}

// mustStop looks whether the run has to end early, and says when to look again.
func (e *engine) mustStop() bool {
	e.stopAt = min(e.tally.events+stopInterval, e.limits.Events)
	switch {
	case e.stopped != "":
	case e.tally.events >= e.limits.Events:
		e.stopped = fmt.Sprintf("the limit of %d events", e.limits.Events)
	case e.live >= e.limits.Copies:
		e.stopped = fmt.Sprintf("the limit of %d messages in flight", e.limits.Copies)
	case len(e.runs) > arena.MaxIndex-stopInterval || e.copies.Count > arena.MaxIndex-stopInterval:
		e.stopped = "more concurrent messages or runs than can be counted"
	case e.memory() >= e.limits.Memory:
		e.stopped = fmt.Sprintf("the limit of %s of memory", model.FormatSize(e.limits.Memory))
	case e.plan.Stop != nil:
		e.stopped = e.plan.Stop()
	}
	return e.stopped != ""
}

// memory is about what the messages and runs under way take, in bytes.
func (e *engine) memory() int64 {
	return e.copies.Bytes() + e.inFlights.Bytes() + e.journeys.Bytes() +
		int64(cap(e.contents))*int64(
			unsafe.Sizeof(content{})+32,
		) + int64(cap(e.runs))*int64(unsafe.Sizeof(run{})) + e.Clock.Bytes()
}

func (e *engine) handle(kind clock.Kind, i uint32, seq uint64) {
	switch kind {
	case evArrive:
		e.arrive(i)
	case evReplay:
		e.arriveAgain(i)
	case evPull:
		e.pull(&e.nodes[i])
	case evRun:
		if t := e.runs[i].timer; t == seq || t == atOnce && seq == 0 {
			e.resume(i)
		}
	case evOffer:
		e.offer(i)
	case evFan:
		e.fan(i)
	case evTry:
		if e.awaits(i, seq) {
			e.tryAgain(i)
		}
	case evVisible:
		if e.awaits(i, seq) {
			e.becomeVisible(i)
		}
	case evLease:
		e.leaseEnds(&e.nodes[i], seq)
	case evAge:
		e.ageEnds(&e.nodes[i], seq)
	case evFill:
		if e.batches[i].timer == seq {
			e.startBatch(i)
		}
	case evWritten:
		if e.awaits(i, seq) {
			e.written(i)
		}
	case evTimeout:
		if e.runs[i].timeout == seq {
			e.timeOut(i)
		}
	case evReader:
		e.readerBack(i)
	case evFeed:
		e.turn(i, seq)
	case evFastRun:
		e.endFast(i)
	case evBatch:
		e.endFastBatch(i)
	case evTask:
		if e.threads[i].timer == seq {
			e.taskTime(i)
		}
	case evLife:
		e.livesEnd(&e.nodes[i])
	case evFire:
		e.fire(&e.nodes[i])
	case evIncident:
		e.incidentTurns(int(i))
	case evSendBack:
		e.sendBack(int(i))
	case evSample:
		e.sample()
	case evWarm:
		e.warmedUp()
	}
}

// behaviours is the table of node kinds: how a node is set up, and how a
// message that has been written to it stands there.
var behaviours = map[model.Kind]struct {
	setUp func(*engine, *node) error
	stand func(*engine, *node, uint32)
}{
	model.Bucket:   {(*engine).setUpObjects, (*engine).standInBucket},
	model.Queue:    {(*engine).setUpQueue, (*engine).standInQueue},
	model.Table:    {(*engine).setUpObjects, (*engine).standInBucket},
	model.Stream:   {(*engine).setUpStream, (*engine).standInStream},
	model.Topic:    {nil, (*engine).standInTopic},
	model.Schedule: {(*engine).setUpSchedule, nil},
	model.Endpoint: {(*engine).setUpRunner, nil},
	model.Function: {(*engine).setUpRunner, nil},
	model.Workflow: {(*engine).setUpRunner, nil},
	model.Outside:  {(*engine).setUpRunner, nil},
}

// instant gives a virtual instant as time.
func (e *engine) instant(t int64) time.Time { return e.start.Add(time.Duration(t)) }
