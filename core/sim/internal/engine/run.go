package engine

import (
	"math"

	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

type phase uint8

const (
	idlePhase phase = iota
	atStart
	Working
	Tasking // a workflow goes through its tasks
	Calling
	Sending
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
	ForCall                  // a waiting call of another run
	ForMove                  // a reader that moves or pushes a batch, message by message
	forRequest               // a request at an endpoint
)

// Run is one run of a function or outside system, one request at an endpoint,
// or one batch on the move. Index 0 stands for none.
type Run struct {
	started            int64
	Timer              uint64 // sequence of what it waits for
	timeout            uint64 // sequence of its time limit
	Work               int64  // time of its own work
	Node               int32
	Link               int32 // that called it, or moves the batch; -1
	Step               int32 // in the list of its phase
	Index              int32 // message of the batch
	rep                int32
	Reps               int32
	items              []any
	plan               []plannedSend // of `sends: together`
	Copy               uint32
	Batch              uint32
	Caller             uint32
	Turn               uint32 // counts uses of the record, so that a late answer finds no run
	CallOf             uint32 // the caller's turn
	next               uint32
	Own                Message // of a call
	Thread, ThreadTurn uint32  // of the workflow that called
	tries              uint16  // of the call or write in hand
	Failure            int16   // its own, drawn at the start
	cause              Fate    // of a rejected write in hand
	Phase              phase
	Why                runFor
	Final              bool // its failure is not worth another try
	late               bool // its work is longer than its time limit
	Skip               bool // idempotent: its message has succeeded before
	status             int16
}

// names of the errors that the engine itself makes
const (
	NoError int16 = iota
	ErrFails
	errTimeout
	errThrottled
	ErrRefused
	errRejected
	errCall
	errHopLimit
	ErrTasks
	ErrAccepts
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

func (e *Engine) NewRun(n *Node, why runFor) uint32 {
	i := e.freeRun
	if i != 0 {
		e.freeRun = e.Runs[i].next
	} else {
		e.Runs = append(e.Runs, Run{})
		i = uint32(len(e.Runs) - 1)
	}
	r := &e.Runs[i]
	*r = Run{
		started: e.Now,
		Node:    int32(n.ID),
		Link:    -1,
		Why:     why,
		Turn:    r.Turn + 1,
		items:   r.items[:0],
		plan:    r.plan[:0],
		cause:   noFate,
	}
	return i
}

func (e *Engine) dropRun(i uint32) {
	r := &e.Runs[i]
	if e.Observer != nil {
		e.Observer.Drops(i)
	}
	e.dropPlan(r)
	r.Turn++
	r.Timer, r.timeout, r.Phase = 0, 0, idlePhase
	clear(r.items)
	r.next = e.freeRun
	e.freeRun = i
}

// Messages reports how many messages a run works on.
func (e *Engine) Messages(r *Run) int {
	if r.Batch != 0 {
		return len(e.Batches[r.Batch].Entries)
	}
	return 1
}

// Message gives the k-th message of a run, and whether it takes part (a
// message of a batch may have failed by itself).
func (e *Engine) Message(r *Run, k int) (Message, bool) {
	switch {
	case r.Batch != 0:
		entry := &e.Batches[r.Batch].Entries[k]
		m := e.MessageOf(e.Copies.At(entry.Copy))
		m.Wrap = e.Deliveries[r.Link].wrap
		return m, entry.Failure == NoError && !entry.known
	case r.Copy != 0:
		m := e.MessageOf(e.Copies.At(r.Copy))
		m.Wrap = e.Deliveries[e.Copies.At(r.Copy).Via].wrap
		return m, true
	}
	return r.Own, true
}

// limitNow is how many runs there may be at once, now.
func (n *Node) limitNow() int64 {
	switch {
	case n.ConcurrencyNow >= 0:
		return n.ConcurrencyNow
	case n.concurrency == 0:
		return math.MaxInt64
	}
	return n.concurrency
}

// free reports whether the node can start one more run.
func (e *Engine) free(n *Node) bool {
	if n.Active.Count >= n.limitNow() || n.pool != nil && n.pool.used >= n.pool.size {
		return false
	}
	return n.bucket.take(e.Now)
}

// maxDepth bounds how deep calls at the start of runs lie within each other in one
// event, so that a cycle of them meets the run's limits instead of the stack's.
const maxDepth = 200

// Begin starts a run whose place has been found free. It draws its luck.
func (e *Engine) Begin(i uint32) {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	n.Runs++
	n.Active.Rise(e.Now)
	if n.pool != nil {
		n.pool.used++
	}
	e.drawOutcome(i, r, n)
	if e.Trace != nil {
		e.Trace.Begins(i)
	}
	r.Phase, r.Step, r.Index, r.rep, r.Reps = atStart, 0, 0, 0, -1
	if n.limit > 0 && n.Asks {
		r.timeout = e.Timer(e.Now+n.limit, EvTimeout, i)
	}
	if n.succeeded != nil {
		e.skipKnown(r, n)
	}
	if len(n.steps[atStart]) > 0 && !r.Skip {
		if e.depth == maxDepth {
			r.Phase = starting
			e.Wait(i, 0)
			return
		}
		if e.depth > 0 {
			e.Tally.Events++ // as much work as an event
		}
		e.depth++
		e.Advance(i)
		e.depth--
		return
	}
	e.work(i)
}

// drawOutcome draws a run's time and failure, under the incidents active now.
func (e *Engine) drawOutcome(i uint32, r *Run, n *Node) {
	takes, fails, name, ofCase := e.conditions(r, n)
	r.Work = random.Nanos(takes.Draw(n.serviceRNG) * n.Slow)
	var seen *RecordedRun
	if len(n.recorded) > 0 {
		seen, n.recorded = &n.recorded[0], n.recorded[1:]
		if seen.Takes >= 0 {
			r.Work = random.Nanos(seen.Takes.Seconds() * n.Slow)
		}
	}
	if n.cold != nil {
		cold := n.cold.start(e, n)
		r.Work += cold
		if e.Trace != nil {
			e.Trace.ColdStart(cold)
		}
	}
	if n.Accepts != nil && e.declines(r, n) {
		return
	}
	if seen != nil {
		if seen.Fails {
			r.Failure = name
		}
		return
	}
	if e.Follows() {
		if e.forced(n) || fails.EachTry >= 1 {
			r.Failure = name
		}
		return
	}
	if (n.fails.PerMessage || fails.PerMessage) && r.Batch != 0 && r.Why == forBatch {
		e.eachByItself(r, n)
		return
	}
	if n.rng.Happens(n.shareNow(fails)) {
		r.Failure = name
		return
	}
	if fails.ForGood > 0 && e.anyFailsForGood(r, n, fails.ForGood) {
		r.Failure = name
		r.Final = ofCase
	}
}

// conditions gives the time and the failures that hold for a run, and the name
// of its error: the node's own, or those of the first case, in the order written,
// that holds for a message of it and states them. Which case holds for which
// message is noted in e.caseOf.
func (e *Engine) conditions(r *Run, n *Node) (takes *random.Sampler, fails *model.Failing, name int16, ofCase bool) {
	takes, fails, name = &n.takes, &n.fails, n.failName
	if len(n.cases) == 0 {
		return takes, fails, name, false
	}
	e.caseOf = e.caseOf[:0]
	for k := range e.Messages(r) {
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
func (e *Engine) caseFor(r *Run, n *Node, k int) int {
	m, _ := e.Message(r, k)
	kind := "message"
	if r.Copy != 0 || r.Batch != 0 {
		kind = e.KindAt(r, k)
	}
	for i := range n.cases {
		if ok, _ := n.cases[i].when.Truth(e.EventOfMessage(&m, kind)); ok {
			return i
		}
	}
	return -1
}

// eachByItself lets the messages of a batch fail or not, each by its own case.
func (e *Engine) eachByItself(r *Run, n *Node) {
	b := &e.Batches[r.Batch]
	if len(n.cases) == 0 && n.Accepts == nil && n.FailsNowShare < 0 && n.fails.ForGood == 0 {
		b.failEach(n, n.fails.EachTry)
		return
	}
	for k := range b.Entries {
		if b.Entries[k].Failure != NoError {
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
			b.Entries[k].Failure = name
		} else if e.failsForGood(n, fails.ForGood, e.Copies.At(b.Entries[k].Copy).Age) {
			b.Entries[k].Failure = name
			b.Entries[k].Final = len(n.cases) > 0 && e.caseOf[k] >= 0
		}
	}
}

// failEach lets each message of a batch fail or not, with a share of them.
func (b *batch) failEach(n *Node, share float64) {
	if share == 0 {
		return
	}
	for k := range b.Entries {
		if n.rng.Unit() < share {
			b.Entries[k].Failure = n.failName
		}
	}
}

// declines fails a run whose payload does not fit what the node accepts; of a
// batch that fails message by message, those that do not fit.
func (e *Engine) declines(r *Run, n *Node) bool {
	for k := 0; k < e.Messages(r); k++ {
		m, _ := e.Message(r, k)
		if n.Accepts.Fits(e.EventOfMessage(&m, "message").Data) == nil {
			continue
		}
		if !n.fails.PerMessage || r.Why != forBatch {
			r.Failure = ErrAccepts
			return true
		}
		e.Batches[r.Batch].Entries[k].Failure = ErrAccepts
	}
	return false
}

func (e *Engine) anyFailsForGood(r *Run, n *Node, share float64) bool {
	switch {
	case r.Batch != 0:
		for _, entry := range e.Batches[r.Batch].Entries {
			if e.failsForGood(n, share, e.Copies.At(entry.Copy).Age) {
				return true
			}
		}
		return false
	case r.Copy != 0:
		return e.failsForGood(n, share, e.Copies.At(r.Copy).Age)
	}
	return e.failsForGood(n, share, e.Journeys.At(r.Own.Journey).ID())
}

// failsForGood reports whether a message is among those that a function never manages:
// the same answer at every try.
func (e *Engine) failsForGood(n *Node, share float64, name uint64) bool {
	return share > 0 && float64(random.Splitmix(n.doom^random.Splitmix(name))>>11)*0x1p-53 < share
}

// KindAt gives the event type that a run's first message has by default.
func (e *Engine) KindAt(r *Run, k int) string {
	c := r.Copy
	if r.Batch != 0 {
		c = e.Batches[r.Batch].Entries[k].Copy
	}
	if c == 0 {
		return "message"
	}
	return e.kindOfCopy(e.Copies.At(c))
}

// kindOfCopy gives the event type that a copy has by default.
func (e *Engine) kindOfCopy(c *Copy) string {
	via := e.Deliveries[c.Via].Link
	if via < 0 {
		return "message"
	}
	return KindOfEvent(&e.Graph.Nodes[e.Graph.Links[via].From], c.Flags)
}

// work lets the run's own time pass.
func (e *Engine) work(i uint32) {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	if e.Observer != nil && e.Observer.Asks(i) {
		return
	}
	r.Phase = Working
	spent := e.Now - r.started
	if n.limit > 0 && spent+r.Work > n.limit {
		r.late = true
		r.Work = n.limit - spent
	}
	e.Wait(i, r.Work)
}

// Wait lets time pass before the run goes on.
func (e *Engine) Wait(i uint32, d int64) {
	r := &e.Runs[i]
	if d <= 0 {
		r.Timer = atOnce
		e.ScheduleNow(EvRun, i)
		return
	}
	r.Timer = e.Schedule(e.Now+d, EvRun, i)
}

// atOnce stands for the timer of a run that goes on at this very instant.
const atOnce = math.MaxUint64

// awaits reports whether a run waits for a timer; 0 is that of this very instant.
func (r *Run) awaits(timer uint64) bool { return r.Timer == timer || r.Timer == atOnce && timer == 0 }

// resume comes when what a run waited for is over.
func (e *Engine) resume(i uint32) {
	r := &e.Runs[i]
	r.Timer = 0
	switch r.Phase {
	case starting:
		r.Phase = atStart
		e.Advance(i)
	case Working:
		switch {
		case r.late:
			e.timeOut(i)
		case r.Failure != NoError:
			e.EndRun(i, r.Failure)
		case r.Skip:
			e.EndRun(i, NoError)
		case e.Nodes[r.Node].tasks:
			r.Index = 0
			e.Workflows.Start(i)
		default:
			r.Phase, r.Step, r.Index, r.Reps = Calling, 0, 0, -1
			e.Advance(i)
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

func (e *Engine) timeOut(i uint32) {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	r.late = true
	if n.endpoint {
		r.status = 504
	} else {
		n.Timeouts++
	}
	e.EndRun(i, errTimeout)
}

// EndRun ends a run: its slot is free, then its caller is answered.
func (e *Engine) EndRun(i uint32, failure int16) {
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	if r.Why == ForMove {
		e.endMove(i)
		return
	}
	if n.tasks {
		e.Workflows.Drop(i)
	}
	if n.succeeded != nil && failure == NoError && !r.Skip {
		e.remember(r, n)
	}
	if failure != NoError {
		if r.Why != forRequest { // an endpoint counts its answers
			n.failed(failure)
		}
	} else if r.Batch != 0 {
		if why := e.Batches[r.Batch].firstFailure(); why != NoError {
			n.failed(why)
		}
	}
	if e.Now >= e.Warm {
		n.RunTime.Add(e.Now - r.started)
	}
	n.Active.Fall(e.Now)
	if n.pool != nil {
		n.pool.used--
	}
	if n.cold != nil && failure != errTimeout {
		n.cold.idle = append(n.cold.idle, e.Now)
	}
	if e.Trace != nil {
		e.Trace.Ends(i, failure)
	}
	final := r.Final
	switch r.Why {
	case forIntake:
		c := r.Copy
		e.dropRun(i)
		e.inFlightFor(e.Copies.At(c)).Busy--
		e.intakeDone(c, failure, final)
	case forBatch:
		b := r.Batch
		e.dropRun(i)
		e.batchDone(b, n, failure, final)
	case forRequest:
		c, status := r.Copy, r.status
		e.dropRun(i)
		e.inFlightFor(e.Copies.At(c)).Busy--
		e.answer(c, n, failure, status)
	case ForCall:
		caller, turn, own := r.Caller, r.CallOf, r.Own
		thread, threadTurn := r.Thread, r.ThreadTurn
		e.dropRun(i)
		if n.resultsAll {
			e.results(n, &own, "message", failure, own.Tries)
		}
		e.releaseJourneyOf(&own)
		switch {
		case e.Runs[caller].Turn != turn:
		case thread != 0:
			e.Workflows.Answer(thread, threadTurn, failure, final)
		default:
			e.answered(caller, failure, final)
		}
	}
}

func (e *Engine) releaseJourneyOf(m *Message) {
	e.DropContent(m.Content)
	e.releaseJourney(m.Journey)
}
