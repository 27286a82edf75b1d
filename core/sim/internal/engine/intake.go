package engine

import (
	"time"

	"ironweir/core/model"
)

const minThrottleWait = int64(100 * time.Millisecond)

// offer hands a copy that is held for a function, outside system or endpoint
// to it.
func (e *Engine) offer(i uint32) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	d := &e.Deliveries[c.Via]
	if n.endpoint {
		e.request(i, n)
		return
	}
	if d.Link >= 0 && e.hold(i) {
		return
	}
	if c.Flags&Duplicate != 0 && (d.refused || n.Stopped || n.overHops(int(c.hops)) || !e.free(n)) {
		e.Finish(i, noFate) // a second delivery has one try
		return
	}
	switch {
	case d.refused:
		e.intakeGivenUp(i, Refused, ErrRefused)
		return
	case n.overHops(int(c.hops)) && c.Tries == 0:
		if !e.deadLetterOf(i, d) {
			e.Finish(i, HopLimit)
		} else {
			e.Finish(i, Passed)
		}
		return
	case d.policy.GiveUp > 0 && e.Now-c.Born > d.policy.GiveUp:
		e.intakeGivenUp(i, GivenUp, e.InFlightOf(c).lastFail)
		return
	}
	if n.Stopped {
		e.holdStopped(i, n, d)
		return
	}
	if c.Flags&Duplicate == 0 && !e.free(n) {
		n.Throttled++
		if n.Kind == model.Outside { // over its rate: an error to the sender, a try
			c.Tries++
			e.intakeFailed(i, n, d, errThrottled, false)
			return
		}
		h := e.inFlightFor(c)
		h.waits++
		wait := max(e.jittered(d.policy.Backoff(int(h.waits)), d), minThrottleWait)
		if d.policy.GiveUp > 0 && e.Now+wait-c.Born > d.policy.GiveUp {
			e.intakeGivenUp(i, GivenUp, errThrottled)
			return
		}
		if e.Trace != nil {
			e.Trace.Waits(i, wait, Throttled, 0)
		}
		h.Timer = e.Schedule(e.Now+wait, EvTry, i)
		return
	}
	c.Tries++
	h := e.inFlightFor(c)
	h.waits = 0
	h.Busy++
	if c.Flags&begun == 0 {
		c.Flags |= begun
		if e.Now >= e.Warm && c.Flags&Duplicate == 0 {
			n.Wait.Add(e.Now - c.Born)
		}
	}
	r := e.NewRun(n, forIntake)
	e.Runs[r].Copy = i
	e.Begin(r)
}

// intakeDone comes when a run of a held copy has ended.
func (e *Engine) intakeDone(i uint32, failure int16, final bool) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	if c.Flags&Duplicate != 0 {
		e.Finish(i, noFate)
		return
	}
	if failure != NoError {
		e.intakeFailed(i, n, &e.Deliveries[c.Via], failure, final)
		return
	}
	if len(n.onSuccess) > 0 {
		m := e.MessageOf(c)
		e.results(n, &m, e.kindOfCopy(c), NoError, c.Tries)
	}
	e.Finish(i, Handled)
}

func (e *Engine) intakeFailed(i uint32, n *Node, d *Delivery, failure int16, final bool) {
	c := e.Copies.At(i)
	e.inFlightFor(c).lastFail = failure
	if final || d.isExcept(failure) || d.policy.Tries > 0 && int(c.Tries) >= d.policy.Tries {
		e.intakeGivenUp(i, Exhausted, failure)
		return
	}
	wait := e.jittered(d.policy.Backoff(int(c.Tries)), d)
	if d.policy.GiveUp > 0 && e.Now+wait-c.Born > d.policy.GiveUp {
		e.intakeGivenUp(i, GivenUp, failure)
		return
	}
	if e.Trace != nil {
		e.Trace.Waits(i, wait, Exhausted, 0)
	}
	e.inFlightFor(c).Timer = e.Schedule(e.Now+wait, EvTry, i)
}

// intakeGivenUp sends a result message to the failure links and the original
// to the dead-letter; with neither, the copy is lost.
func (e *Engine) intakeGivenUp(i uint32, cause Fate, failure int16) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	d := &e.Deliveries[c.Via]
	taken := false
	if len(n.onFailure) > 0 && cause != Refused {
		if failure == NoError {
			failure = ErrFails
		}
		m := e.MessageOf(c)
		taken = e.results(n, &m, e.kindOfCopy(c), failure, c.Tries)
	}
	if e.deadLetterOf(i, d) || taken {
		cause = Passed
	}
	e.Finish(i, cause)
}

func (e *Engine) deadLetterOf(i uint32, d *Delivery) bool {
	if d.dead < 0 {
		return false
	}
	e.deadLetter(i, d.dead)
	return true
}

// batch is what one reader has taken.
type batch struct {
	Entries []batchEntry
	started int64  // its run on the fast path
	failure int16  // of that
	number  uint64 // records are used again, numbers are not
	timer   uint64
	reader  uint32
	Node    int32 // the queue
	next    uint32
	filling bool
	taking  bool // it may still take more
}

// batchEntry is a message of a batch; token is its hand-out, so that a run
// that ends late changes nothing.
type batchEntry struct {
	Copy    uint32
	Token   uint16
	Failure int16
	known   bool // idempotent: it has succeeded before
	Final   bool // its failure is not tried again
}

// failsAsOne reports whether all of a queue's batch fail, since one has and its link
// says so.
func (b *batch) failsAsOne(rl *readerLink) bool {
	return rl.link.Read.Failed == "all" && b.anyFailed()
}

func (b *batch) anyFailed() bool { return b.firstFailure() != NoError }

// firstFailure returns why the first message of a batch that failed by itself did so.
func (b *batch) firstFailure() int16 {
	for i := range b.Entries {
		if b.Entries[i].Failure != NoError {
			return b.Entries[i].Failure
		}
	}
	return NoError
}

func (e *Engine) newBatch(reader uint32, n *Node) uint32 {
	i := e.freeBat
	if i != 0 {
		e.freeBat = e.Batches[i].next
	} else {
		e.Batches = append(e.Batches, batch{})
		i = uint32(len(e.Batches) - 1)
	}
	b := &e.Batches[i]
	e.lastBatch++
	*b = batch{Entries: b.Entries[:0], number: e.lastBatch, reader: reader, Node: int32(n.ID), taking: true}
	return i
}

func (e *Engine) addToBatch(b, i uint32) int {
	bt := &e.Batches[b]
	bt.Entries = append(bt.Entries, batchEntry{Copy: i, Token: e.Copies.At(i).Tries})
	size := len(bt.Entries)
	if n := &e.Nodes[bt.Node]; n.Queue.groups != nil {
		e.block(n, i, b)
	}
	return size
}

// StartBatch hands a batch to what its link leads to.
func (e *Engine) StartBatch(b uint32) {
	bt := &e.Batches[b]
	rl := e.Readers[bt.reader].link
	if bt.filling {
		bt.filling, bt.timer = false, 0
		for k, f := range rl.Filling {
			if f == b {
				rl.Filling = append(rl.Filling[:k], rl.Filling[k+1:]...)
				break
			}
		}
		e.dropLapsed(bt)
		if len(bt.Entries) == 0 {
			e.endBatch(b, false)
			return
		}
	}
	if target := &e.Nodes[rl.link.To]; rl.link.Relation == model.PolledRun && !e.free(target) {
		target.Throttled++
		e.settleBatch(b, errThrottled, false)
		e.endBatch(b, true)
		return
	}
	e.busyBatch(bt)
	e.launch(b)
}

// launch starts the run of a batch, or its move, for which there is room and to which
// its messages have been put.
func (e *Engine) launch(b uint32) {
	bt := &e.Batches[b]
	bt.taking = false
	rl := e.Readers[bt.reader].link
	if rl.ahead != nil {
		rl.ahead.runs(bt.reader - rl.first)
	}
	l := rl.link
	if l.Relation == model.PolledRun {
		e.Begin(e.batchRun(b))
		return
	}
	r := e.NewRun(&e.Nodes[bt.Node], ForMove)
	e.Runs[r].Batch, e.Runs[r].Link = b, int32(l.ID)
	if e.Trace != nil {
		e.Trace.Begins(r)
	}
	// It starts by an event of its own, so that a queue that feeds itself in no
	// time still lets the run's limits see it.
	e.Runs[r].Phase, e.Runs[r].Reps, e.Runs[r].cause = Sending, 1, backingOff
	e.Wait(r, 0)
}

// batchRun makes the run of a batch.
func (e *Engine) batchRun(b uint32) uint32 {
	l := e.Readers[e.Batches[b].reader].link.link
	r := e.NewRun(&e.Nodes[l.To], forBatch)
	e.Runs[r].Batch, e.Runs[r].Link, e.Runs[r].Reps = b, int32(l.ID), -1
	return r
}

// dropLapsed takes out what has left the queue, or been taken again, while the
// batch was filling.
func (e *Engine) dropLapsed(bt *batch) {
	kept := bt.Entries[:0]
	for _, entry := range bt.Entries {
		c := e.Copies.At(entry.Copy)
		if c.Flags&Done != 0 || c.Tries != entry.Token {
			e.letGo(entry.Copy)
			continue
		}
		kept = append(kept, entry)
	}
	bt.Entries = kept
}

func (e *Engine) busyBatch(bt *batch) {
	for k := range bt.Entries {
		e.inFlightFor(e.Copies.At(bt.Entries[k].Copy)).Busy++
	}
}

// settleBatch settles each message of a batch with its queue whose run
// is over (or never started, when it was throttled).
func (e *Engine) settleBatch(b uint32, failure int16, final bool) {
	bt := &e.Batches[b]
	q := &e.Nodes[bt.Node]
	if q.Queue.Feed != nil {
		e.settleFeed(b, failure, final)
		return
	}
	rl := e.Readers[bt.reader].link
	all := bt.failsAsOne(rl)
	for k := 0; k < len(e.Batches[b].Entries); k++ {
		entry := e.Batches[b].Entries[k]
		why := failure
		if why == NoError {
			why = entry.Failure
		}
		if why == NoError && all {
			why = ErrFails
		}
		if why == NoError {
			e.queueHandled(q, entry.Copy, entry.Token, rl.link.To)
			continue
		}
		ends := final
		if failure == NoError { // each fails by itself
			ends = entry.Final
		}
		e.queueFailed(q, entry.Copy, entry.Token, rl.Delivery, why, ends)
	}
}

// endPlain ends a batch of a plain queue whose run succeeded, in one pass: most of
// its messages are handled, and some may have failed by themselves. It is not compiled
// into batchDone, where what it calls would no longer be compiled into it.
//
//go:noinline
func (e *Engine) endPlain(b uint32, n *Node, rl *readerLink) {
	q, now := n.Queue, e.Now
	unusual := 0
	entries, lent := e.Batches[b].Entries, e.Batches[b].reader+1
	for k := range entries {
		at := &entries[k]
		c := e.Copies.At(at.Copy)
		if c.inFlight != lent || at.Failure != NoError ||
			c.Flags&Done != 0 { // what else happens to a message gives it a handling of its own
			unusual++
			e.inFlightFor(c).Busy--
			e.endOne(at, n, rl)
			continue
		}
		e.takeOut(&q.leases, c, at.Copy)
		e.unlinkAge(q, c)
		j := e.Journeys.At(c.Journey)
		j.Open--
		if now >= e.Warm {
			n.Time.Add(now - c.Born)
			e.latencyBy(rl, j).Add(now - j.Born)
		}
		c.Flags, c.inFlight = Done, 0
		e.releaseUnhandled(c, at.Copy)
	}
	if handled := int64(len(entries) - unusual); handled > 0 {
		n.Fates[Handled] += handled
		n.Depth.FallBy(now, handled)
		e.Live -= int(handled)
	}
	e.dropBatch(b, false)
}

// endOne settles one message of a batch whose run succeeded with its queue.
func (e *Engine) endOne(at *batchEntry, n *Node, rl *readerLink) {
	if at.Failure != NoError {
		e.queueFailed(n, at.Copy, at.Token, rl.Delivery, at.Failure, at.Final)
	} else {
		e.queueHandled(n, at.Copy, at.Token, rl.link.To)
	}
	e.letGo(at.Copy)
}

// batchDone comes when the run of a batch has ended.
func (e *Engine) batchDone(b uint32, n *Node, failure int16, final bool) {
	bt := &e.Batches[b]
	if q, rl := &e.Nodes[bt.Node], e.Readers[bt.reader].link; q.Queue.plain && failure == NoError && !n.resultsAll &&
		!e.Storage &&
		e.Trace == nil &&
		!bt.failsAsOne(rl) {
		e.endPlain(b, q, rl)
		return
	}
	for k := range e.Batches[b].Entries {
		e.inFlightFor(e.Copies.At(e.Batches[b].Entries[k].Copy)).Busy--
	}
	if n.resultsAll {
		for k := range e.Batches[b].Entries {
			entry := e.Batches[b].Entries[k]
			if e.Copies.At(entry.Copy).Flags&Duplicate != 0 {
				continue
			}
			m := e.MessageOf(e.Copies.At(entry.Copy))
			why := failure
			if why == NoError {
				why = entry.Failure
			}
			e.results(n, &m, e.kindOfCopy(e.Copies.At(entry.Copy)), why, entry.Token)
		}
	}
	e.settleBatch(b, failure, final)
	e.freeGroups(b)
	e.endBatch(b, false)
}

// freeGroups lets the groups of a batch's messages go on where its run was all that
// held them back.
func (e *Engine) freeGroups(b uint32) {
	n := &e.Nodes[e.Batches[b].Node]
	if n.Queue.groups == nil {
		return
	}
	for k := range e.Batches[b].Entries {
		if i := e.Batches[b].Entries[k].Copy; e.Copies.At(i).Flags&Done == 0 {
			e.unblock(n, i, false)
		}
	}
}

func (e *Engine) endBatch(b uint32, throttled bool) {
	for k := range e.Batches[b].Entries {
		e.letGo(e.Batches[b].Entries[k].Copy)
	}
	e.dropBatch(b, throttled)
}

// dropBatch lets go of a batch's record and frees its reader.
func (e *Engine) dropBatch(b uint32, throttled bool) {
	reader := e.Batches[b].reader
	e.dropRecord(b)
	if e.Nodes[e.Readers[reader].Queue].Queue.Feed == nil {
		e.freeReader(reader, throttled)
	}
}

// deliveriesStep gives the one step of a batch on the move: its link.
func (e *Engine) deliveriesStep(r *Run) []int32 { return e.moveSteps[r.Link : r.Link+1] }

// actMove moves one message of a batch: writes it on, or hands it to an
// outside system and waits.
func (e *Engine) actMove(i uint32, s *Send, m *Message) bool {
	r := &e.Runs[i]
	target := &e.Nodes[s.Link.To]
	if s.Link.Relation == model.PolledPush {
		if e.Deliveries[s.Link.ID].refused || !target.bucket.take(e.Now) {
			target.Throttled++
			e.entryFailed(r, errThrottled)
			return true
		}
		c := e.NewRun(target, ForCall)
		callee := &e.Runs[c]
		callee.Caller, callee.CallOf, callee.Link = i, e.Runs[i].Turn, int32(s.Link.ID)
		callee.Own = *m
		e.Contents[m.Content].Refs++
		e.Journeys.At(m.Journey).Refs++
		e.Runs[i].Timer = 0
		e.Begin(c)
		return false
	}
	if takes := target.drawTakes(); takes > 0 {
		e.Wait(i, takes)
		return false
	}
	return e.moved(i, s, m)
}

// moved lets a message that a reader writes on stand, or fails it.
func (e *Engine) moved(i uint32, s *Send, m *Message) bool {
	target := &e.Nodes[s.Link.To]
	con := m.Content // the event stays the same
	if m.Wrap != Unwrapped {
		con = e.wrapContent(m, con, m.Wrap, e.KindAt(&e.Runs[i], int(e.Runs[i].Index)))
		defer e.DropContent(con)
	}
	if cause := e.rejects(target, m, con, e.Deliveries[s.Link.ID].refused); cause != noFate {
		e.entryFailed(&e.Runs[i], errRejected)
		return true
	}
	e.emit(i, s, m, con)
	e.entryDone(i, Passed)
	return true
}

// pushed comes when an outside system has answered for one message of a batch.
func (e *Engine) pushed(i uint32, failure int16) {
	if failure != NoError {
		e.entryFailed(&e.Runs[i], failure)
		return
	}
	e.entryDone(i, Handled)
}

// entryFailed notes that a message could not be moved. Of a stream, what comes
// after it stays too: order holds.
func (e *Engine) entryFailed(r *Run, failure int16) {
	entries := e.Batches[r.Batch].Entries[r.Index:]
	if e.Nodes[e.Batches[r.Batch].Node].Queue.Feed == nil {
		entries = entries[:1]
	}
	for k := range entries {
		entries[k].Failure = failure
	}
}

// entryDone finishes with a message of a batch on the move.
func (e *Engine) entryDone(i uint32, f Fate) {
	r := &e.Runs[i]
	entry := &e.Batches[r.Batch].Entries[r.Index]
	c := e.Copies.At(entry.Copy)
	if c.Flags&Done == 0 && c.Tries == entry.Token {
		e.HandledBy = e.Graph.Links[r.Link].To
		e.LeaveQueue(&e.Nodes[c.Node], entry.Copy, f)
	}
}

func (e *Engine) endMove(i uint32) {
	b := e.Runs[i].Batch
	e.dropRun(i)
	e.batchDone(b, &e.Nodes[e.Batches[b].Node], NoError, false)
}
