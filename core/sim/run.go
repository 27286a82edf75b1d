package sim

import (
	"math"

	"ironweir/core/sim/internal/random"

	"ironweir/core/model"
)

type phase uint8

const (
	idlePhase phase = iota
	atStart
	working
	tasking // a workflow goes through its tasks
	calling
	sending
	starting  // begins by an event of its own, since it was called from within many others
	joining   // `sends: together`: the time of a round of writes passes
	rejoining // waits for another round
	trailing  // writes what may be rejected
)

// what a run was started for
type runFor uint8

const (
	forIntake  runFor = iota // a copy held for the node
	forBatch                 // a reader's batch
	forCall                  // a waiting call of another run
	forMove                  // a reader that moves or pushes a batch, message by message
	forRequest               // a request at an endpoint
)

// run is one run of a function or outside system, one request at an endpoint,
// or one batch on the move. Index 0 stands for none.
type run struct {
	started            int64
	timer              uint64 // sequence of what it waits for
	timeout            uint64 // sequence of its time limit
	work               int64  // time of its own work
	node               int32
	link               int32 // that called it, or moves the batch; -1
	step               int32 // in the list of its phase
	index              int32 // message of the batch
	rep                int32
	reps               int32
	items              []any
	plan               []plannedSend // of `sends: together`
	copy               uint32
	batch              uint32
	caller             uint32
	turn               uint32 // counts uses of the record, so that a late answer finds nobody
	callOf             uint32 // the caller's turn
	next               uint32
	own                message    // of a call
	execution          *execution // of a workflow
	thread, threadTurn uint32     // of the workflow that called
	tries              uint16     // of the call or write in hand
	failure            int16      // its own, drawn at the start
	cause              Fate       // of a rejected write in hand
	phase              phase
	why                runFor
	final              bool // its failure is not worth another try
	late               bool // its work is longer than its time limit
	skip               bool // idempotent: its message has succeeded before
	status             int16
}

// names of the errors that the engine itself makes
const (
	noError int16 = iota
	errFails
	errTimeout
	errThrottled
	errRefused
	errRejected
	errCall
	errHopLimit
	errTasks
	errAccepts
	errStopped
	errCrashed
)

var builtinErrors = []string{
	"",
	"failed",
	"timeout",
	"throttled",
	"refused",
	"rejected",
	"call-failed",
	"hop-limit",
	"too-many-tasks",
	"not-accepted",
	"stopped",
	"crashed",
}

func (e *engine) newRun(n *node, why runFor) uint32 {
	i := e.freeRun
	if i != 0 {
		e.freeRun = e.runs[i].next
	} else {
		e.runs = append(e.runs, run{})
		i = uint32(len(e.runs) - 1)
	}
	r := &e.runs[i]
	*r = run{
		started: e.Now,
		node:    int32(n.id),
		link:    -1,
		why:     why,
		turn:    r.turn + 1,
		items:   r.items[:0],
		plan:    r.plan[:0],
		cause:   noFate,
	}
	return i
}

func (e *engine) dropRun(i uint32) {
	r := &e.runs[i]
	if e.observer != nil {
		delete(e.observer.replies, i)
	}
	e.dropPlan(r)
	r.turn++
	r.timer, r.timeout, r.phase = 0, 0, idlePhase
	clear(r.items)
	r.next = e.freeRun
	e.freeRun = i
}

// messages reports how many messages a run works on.
func (e *engine) messages(r *run) int {
	if r.batch != 0 {
		return len(e.batches[r.batch].entries)
	}
	return 1
}

// message gives the k-th message of a run, and whether it takes part (a
// message of a batch may have failed by itself).
func (e *engine) message(r *run, k int) (message, bool) {
	switch {
	case r.batch != 0:
		entry := &e.batches[r.batch].entries[k]
		m := e.messageOf(e.copies.At(entry.copy))
		m.wrap = e.deliveries[r.link].wrap
		return m, entry.failure == noError && !entry.known
	case r.copy != 0:
		m := e.messageOf(e.copies.At(r.copy))
		m.wrap = e.deliveries[e.copies.At(r.copy).via].wrap
		return m, true
	}
	return r.own, true
}

// limitNow is how many runs there may be at once, now.
func (n *node) limitNow() int64 {
	switch {
	case n.concurrencyNow >= 0:
		return n.concurrencyNow
	case n.concurrency == 0:
		return math.MaxInt64
	}
	return n.concurrency
}

// free reports whether the node can start one more run.
func (e *engine) free(n *node) bool {
	if n.active.Count >= n.limitNow() || n.pool != nil && n.pool.used >= n.pool.size {
		return false
	}
	return n.bucket.take(e.Now)
}

// maxDepth bounds how deep calls at the start of runs lie within each other in one
// event, so that a cycle of them meets the run's limits instead of the stack's.
const maxDepth = 200

// begin starts a run whose place has been found free. It draws its luck.
func (e *engine) begin(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	n.runs++
	n.active.Rise(e.Now)
	if n.pool != nil {
		n.pool.used++
	}
	e.drawOutcome(i, r, n)
	if e.trace != nil {
		e.trace.runs(e, i)
	}
	r.phase, r.step, r.index, r.rep, r.reps = atStart, 0, 0, 0, -1
	if n.limit > 0 && n.asks {
		r.timeout = e.Timer(e.Now+n.limit, evTimeout, i)
	}
	if n.succeeded != nil {
		e.skipKnown(r, n)
	}
	if len(n.steps[atStart]) > 0 && !r.skip {
		if e.depth == maxDepth {
			r.phase = starting
			e.wait(i, 0)
			return
		}
		if e.depth > 0 {
			e.tally.events++ // as much work as an event
		}
		e.depth++
		e.advance(i)
		e.depth--
		return
	}
	e.work(i)
}

// drawOutcome draws a run's time and failure, under the incidents in force now.
func (e *engine) drawOutcome(i uint32, r *run, n *node) {
	takes, fails, name, ofCase := e.conditions(r, n)
	r.work = random.Nanos(takes.Draw(n.serviceRNG) * n.slow)
	var seen *RecordedRun
	if len(n.recorded) > 0 {
		seen, n.recorded = &n.recorded[0], n.recorded[1:]
		if seen.Takes >= 0 {
			r.work = random.Nanos(seen.Takes.Seconds() * n.slow)
		}
	}
	if n.cold != nil {
		cold := n.cold.start(e, n)
		r.work += cold
		if e.trace != nil {
			e.trace.coldStart = cold
		}
	}
	if n.accepts != nil && e.declines(r, n) {
		return
	}
	if seen != nil {
		if seen.Fails {
			r.failure = name
		}
		return
	}
	if e.plan.follow != nil {
		if e.trace.forced(n) || fails.EachTry >= 1 {
			r.failure = name
		}
		return
	}
	if (n.fails.PerMessage || fails.PerMessage) && r.batch != 0 && r.why == forBatch {
		e.eachByItself(r, n)
		return
	}
	if n.rng.Happens(n.shareNow(fails)) {
		r.failure = name
		return
	}
	if fails.ForGood > 0 && e.anyFailsForGood(r, n, fails.ForGood) {
		r.failure = name
		r.final = ofCase
	}
}

// conditions gives the time and the failures that hold for a run, and the name
// of its error: the node's own, or those of the first case, in the order written,
// that holds for a message of it and states them. Which case holds for which
// message is noted in e.caseOf.
func (e *engine) conditions(r *run, n *node) (takes *random.Sampler, fails *model.Failing, name int16, ofCase bool) {
	takes, fails, name = &n.takes, &n.fails, n.failName
	if len(n.cases) == 0 {
		return takes, fails, name, false
	}
	e.caseOf = e.caseOf[:0]
	for k := range e.messages(r) {
		e.caseOf = append(e.caseOf, e.caseFor(r, n, k))
	}
	slowest, worst := len(n.cases), len(n.cases)
	for _, c := range e.caseOf {
		if c < 0 {
			continue
		}
		if n.cases[c].takes != nil {
			slowest = min(slowest, c)
		}
		if n.cases[c].fails != nil {
			worst = min(worst, c)
		}
	}
	if slowest < len(n.cases) {
		takes = n.cases[slowest].takes
	}
	if worst < len(n.cases) {
		return takes, n.cases[worst].fails, n.cases[worst].name, true
	}
	if c := e.caseOf[0]; c >= 0 {
		name, ofCase = n.cases[c].name, true
	}
	return takes, fails, name, ofCase
}

// caseFor gives the first case that holds for the k-th message of a run, or -1.
func (e *engine) caseFor(r *run, n *node, k int) int {
	m, _ := e.message(r, k)
	kind := "message"
	if r.copy != 0 || r.batch != 0 {
		kind = e.kindAt(r, k)
	}
	for i := range n.cases {
		if ok, _ := n.cases[i].when.Truth(e.eventOfMessage(&m, kind)); ok {
			return i
		}
	}
	return -1
}

// eachByItself lets the messages of a batch fail or not, each by its own case.
func (e *engine) eachByItself(r *run, n *node) {
	b := &e.batches[r.batch]
	if len(n.cases) == 0 && n.accepts == nil && n.failsNowShare < 0 && n.fails.ForGood == 0 {
		b.failEach(n, n.fails.EachTry)
		return
	}
	for k := range b.entries {
		if b.entries[k].failure != noError {
			continue
		}
		fails, name := &n.fails, n.failName
		if len(n.cases) > 0 && e.caseOf[k] >= 0 {
			c := &n.cases[e.caseOf[k]]
			if name = c.name; c.fails != nil {
				fails = c.fails
			}
		}
		if share := n.shareNow(fails); share > 0 && n.rng.Unit() < share {
			b.entries[k].failure = name
		} else if e.failsForGood(n, fails.ForGood, e.copies.At(b.entries[k].copy).age) {
			b.entries[k].failure = name
			b.entries[k].final = len(n.cases) > 0 && e.caseOf[k] >= 0
		}
	}
}

// failEach lets each message of a batch fail or not, with a share of them.
func (b *batch) failEach(n *node, share float64) {
	if share == 0 {
		return
	}
	for k := range b.entries {
		if n.rng.Unit() < share {
			b.entries[k].failure = n.failName
		}
	}
}

// declines fails a run whose payload does not fit what the node accepts; of a
// batch that fails message by message, those that do not fit.
func (e *engine) declines(r *run, n *node) bool {
	for k := 0; k < e.messages(r); k++ {
		m, _ := e.message(r, k)
		if n.accepts.Fits(e.eventOfMessage(&m, "message").Data) == nil {
			continue
		}
		if !n.fails.PerMessage || r.why != forBatch {
			r.failure = errAccepts
			return true
		}
		e.batches[r.batch].entries[k].failure = errAccepts
	}
	return false
}

func (e *engine) anyFailsForGood(r *run, n *node, share float64) bool {
	switch {
	case r.batch != 0:
		for _, entry := range e.batches[r.batch].entries {
			if e.failsForGood(n, share, e.copies.At(entry.copy).age) {
				return true
			}
		}
		return false
	case r.copy != 0:
		return e.failsForGood(n, share, e.copies.At(r.copy).age)
	}
	return e.failsForGood(n, share, e.journeys.At(r.own.journey).id())
}

// failsForGood reports whether a message is among those that a function never manages:
// the same answer at every try.
func (e *engine) failsForGood(n *node, share float64, name uint64) bool {
	return share > 0 && float64(random.Splitmix(n.doom^random.Splitmix(name))>>11)*0x1p-53 < share
}

// kindAt gives the event type that a run's first message has by default.
func (e *engine) kindAt(r *run, k int) string {
	c := r.copy
	if r.batch != 0 {
		c = e.batches[r.batch].entries[k].copy
	}
	if c == 0 {
		return "message"
	}
	return e.kindOfCopy(e.copies.At(c))
}

// kindOfCopy gives the event type that a copy has by default.
func (e *engine) kindOfCopy(c *copyRecord) string {
	via := e.deliveries[c.via].link
	if via < 0 {
		return "message"
	}
	return kindOfEvent(&e.g.Nodes[e.g.Links[via].From], c.flags)
}

// work lets the run's own time pass.
func (e *engine) work(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	if e.observer != nil && e.observer.asks(i) {
		return
	}
	r.phase = working
	spent := e.Now - r.started
	if n.limit > 0 && spent+r.work > n.limit {
		r.late = true
		r.work = n.limit - spent
	}
	e.wait(i, r.work)
}

// wait lets time pass before the run goes on.
func (e *engine) wait(i uint32, d int64) {
	r := &e.runs[i]
	if d <= 0 {
		r.timer = atOnce
		e.ScheduleNow(evRun, i)
		return
	}
	r.timer = e.Schedule(e.Now+d, evRun, i)
}

// atOnce stands for the timer of a run that goes on at this very instant.
const atOnce = math.MaxUint64

// resume comes when what a run waited for is over.
func (e *engine) resume(i uint32) {
	r := &e.runs[i]
	r.timer = 0
	switch r.phase {
	case starting:
		r.phase = atStart
		e.advance(i)
	case working:
		switch {
		case r.late:
			e.timeOut(i)
		case r.failure != noError:
			e.endRun(i, r.failure)
		case r.skip:
			e.endRun(i, noError)
		case e.nodes[r.node].tasks:
			r.index = 0
			e.startTasks(i)
		default:
			r.phase, r.step, r.index, r.reps = calling, 0, 0, -1
			e.advance(i)
		}
	case joining:
		e.joinSends(i)
	case rejoining:
		e.roundOfWrites(i)
	case trailing:
		e.restAgain(i)
	default:
		e.acted(i)
	}
}

func (e *engine) timeOut(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	r.late = true
	if n.endpoint {
		r.status = 504
	} else {
		n.timeouts++
	}
	e.endRun(i, errTimeout)
}

// endRun ends a run: its slot is free, then its waiter is told.
func (e *engine) endRun(i uint32, failure int16) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	if r.why == forMove {
		e.endMove(i)
		return
	}
	if r.execution != nil {
		e.dropExecution(i)
	}
	if n.succeeded != nil && failure == noError && !r.skip {
		e.remember(r, n)
	}
	if failure != noError {
		if r.why != forRequest { // an endpoint counts its answers
			n.failed(failure)
		}
	} else if r.batch != 0 {
		if why := e.batches[r.batch].firstFailure(); why != noError {
			n.failed(why)
		}
	}
	if e.Now >= e.warm {
		n.runTime.Add(e.Now - r.started)
	}
	n.active.Fall(e.Now)
	if n.pool != nil {
		n.pool.used--
	}
	if n.cold != nil && failure != errTimeout {
		n.cold.idle = append(n.cold.idle, e.Now)
	}
	if e.trace != nil {
		e.trace.ends(e, i, failure)
	}
	final := r.final
	switch r.why {
	case forIntake:
		c := r.copy
		e.dropRun(i)
		e.inFlightFor(e.copies.At(c)).busy--
		e.intakeDone(c, failure, final)
	case forBatch:
		b := r.batch
		e.dropRun(i)
		e.batchDone(b, n, failure, final)
	case forRequest:
		c, status := r.copy, r.status
		e.dropRun(i)
		e.inFlightFor(e.copies.At(c)).busy--
		e.answer(c, n, failure, status)
	case forCall:
		caller, turn, own := r.caller, r.callOf, r.own
		thread, threadTurn := r.thread, r.threadTurn
		e.dropRun(i)
		if n.resultsAll {
			e.results(n, &own, "message", failure, own.tries)
		}
		e.releaseJourneyOf(&own)
		switch {
		case e.runs[caller].turn != turn:
		case thread != 0:
			if e.threads[thread].turn == threadTurn {
				e.taskAnswered(thread, failure, final)
			}
		default:
			e.answered(caller, failure, final)
		}
	}
}

func (e *engine) releaseJourneyOf(m *message) {
	e.dropContent(m.content)
	e.releaseJourney(m.journey)
}
