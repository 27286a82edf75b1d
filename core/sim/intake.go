package sim

import (
	"time"

	"ironweir/core/model"
)

const minThrottleWait = int64(100 * time.Millisecond)

// offer hands a copy that is held for a function, outside system or endpoint
// to it.
func (e *engine) offer(i uint32) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	d := &e.deliveries[c.via]
	if n.endpoint {
		e.request(i, n)
		return
	}
	if d.link >= 0 && e.hold(i) {
		return
	}
	if c.flags&duplicate != 0 && (d.refused || n.stopped || n.overHops(int(c.hops)) || !e.free(n)) {
		e.finish(i, noFate) // a second delivery has one try
		return
	}
	switch {
	case d.refused:
		e.intakeGivenUp(i, Refused, errRefused)
		return
	case n.overHops(int(c.hops)) && c.tries == 0:
		if !e.deadLetterOf(i, d) {
			e.finish(i, HopLimit)
		} else {
			e.finish(i, Passed)
		}
		return
	case d.policy.GiveUp > 0 && e.Now-c.born > d.policy.GiveUp:
		e.intakeGivenUp(i, GivenUp, e.inFlightOf(c).lastFail)
		return
	}
	if n.stopped {
		e.holdStopped(i, n, d)
		return
	}
	if c.flags&duplicate == 0 && !e.free(n) {
		n.throttled++
		if n.kind == model.Outside { // over its rate: an error to the sender, a try
			c.tries++
			e.intakeFailed(i, n, d, errThrottled, false)
			return
		}
		h := e.inFlightFor(c)
		h.waits++
		wait := max(e.jittered(d.policy.Backoff(int(h.waits)), d), minThrottleWait)
		if d.policy.GiveUp > 0 && e.Now+wait-c.born > d.policy.GiveUp {
			e.intakeGivenUp(i, GivenUp, errThrottled)
			return
		}
		if e.trace != nil {
			e.trace.waits(e, i, wait, Throttled, 0)
		}
		h.timer = e.Schedule(e.Now+wait, evTry, i)
		return
	}
	c.tries++
	h := e.inFlightFor(c)
	h.waits = 0
	h.busy++
	if c.flags&begun == 0 {
		c.flags |= begun
		if e.Now >= e.warm && c.flags&duplicate == 0 {
			n.wait.Add(e.Now - c.born)
		}
	}
	r := e.newRun(n, forIntake)
	e.runs[r].copy = i
	e.begin(r)
}

// intakeDone comes when a run of a held copy has ended.
func (e *engine) intakeDone(i uint32, failure int16, final bool) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	if c.flags&duplicate != 0 {
		e.finish(i, noFate)
		return
	}
	if failure != noError {
		e.intakeFailed(i, n, &e.deliveries[c.via], failure, final)
		return
	}
	if len(n.onSuccess) > 0 {
		m := e.messageOf(c)
		e.results(n, &m, e.kindOfCopy(c), noError, c.tries)
	}
	e.finish(i, Handled)
}

func (e *engine) intakeFailed(i uint32, n *node, d *delivery, failure int16, final bool) {
	c := e.copies.At(i)
	e.inFlightFor(c).lastFail = failure
	if final || d.isExcept(failure) || d.policy.Tries > 0 && int(c.tries) >= d.policy.Tries {
		e.intakeGivenUp(i, Exhausted, failure)
		return
	}
	wait := e.jittered(d.policy.Backoff(int(c.tries)), d)
	if d.policy.GiveUp > 0 && e.Now+wait-c.born > d.policy.GiveUp {
		e.intakeGivenUp(i, GivenUp, failure)
		return
	}
	if e.trace != nil {
		e.trace.waits(e, i, wait, Exhausted, 0)
	}
	e.inFlightFor(c).timer = e.Schedule(e.Now+wait, evTry, i)
}

// intakeGivenUp sends a result message to the failure links and the original
// to the dead-letter; with neither, the copy is lost.
func (e *engine) intakeGivenUp(i uint32, cause Fate, failure int16) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	d := &e.deliveries[c.via]
	taken := false
	if len(n.onFailure) > 0 && cause != Refused {
		if failure == noError {
			failure = errFails
		}
		m := e.messageOf(c)
		taken = e.results(n, &m, e.kindOfCopy(c), failure, c.tries)
	}
	if e.deadLetterOf(i, d) || taken {
		cause = Passed
	}
	e.finish(i, cause)
}

func (e *engine) deadLetterOf(i uint32, d *delivery) bool {
	if d.dead < 0 {
		return false
	}
	e.deadLetter(i, d.dead)
	return true
}

// batch is what one reader has taken.
type batch struct {
	entries []batchEntry
	started int64  // its run on the fast path
	failure int16  // of that
	number  uint64 // records are used again, numbers are not
	timer   uint64
	reader  uint32
	node    int32 // the queue
	next    uint32
	filling bool
	taking  bool // it may still take more
}

// batchEntry is a message of a batch; token is its hand-out, so that a run
// that ends late changes nothing.
type batchEntry struct {
	copy    uint32
	token   uint16
	failure int16
	known   bool // idempotent: it has succeeded before
	final   bool // its failure is not tried again
}

// failsAsOne reports whether all of a queue's batch fail, since one has and its link
// says so.
func (b *batch) failsAsOne(rl *readerLink) bool {
	return rl.link.Read.Failed == "all" && b.anyFailed()
}

func (b *batch) anyFailed() bool { return b.firstFailure() != noError }

// firstFailure returns why the first message of a batch that failed by itself did so.
func (b *batch) firstFailure() int16 {
	for i := range b.entries {
		if b.entries[i].failure != noError {
			return b.entries[i].failure
		}
	}
	return noError
}

func (e *engine) newBatch(reader uint32, n *node) uint32 {
	i := e.freeBat
	if i != 0 {
		e.freeBat = e.batches[i].next
	} else {
		e.batches = append(e.batches, batch{})
		i = uint32(len(e.batches) - 1)
	}
	b := &e.batches[i]
	e.lastBatch++
	*b = batch{entries: b.entries[:0], number: e.lastBatch, reader: reader, node: int32(n.id), taking: true}
	return i
}

func (e *engine) addToBatch(b, i uint32) int {
	bt := &e.batches[b]
	bt.entries = append(bt.entries, batchEntry{copy: i, token: e.copies.At(i).tries})
	size := len(bt.entries)
	if n := &e.nodes[bt.node]; n.queue.groups != nil {
		e.block(n, i, b)
	}
	return size
}

// startBatch hands a batch to what its link leads to.
func (e *engine) startBatch(b uint32) {
	bt := &e.batches[b]
	rl := e.readers[bt.reader].link
	if bt.filling {
		bt.filling, bt.timer = false, 0
		for k, f := range rl.filling {
			if f == b {
				rl.filling = append(rl.filling[:k], rl.filling[k+1:]...)
				break
			}
		}
		e.dropLapsed(bt)
		if len(bt.entries) == 0 {
			e.endBatch(b, false)
			return
		}
	}
	if target := &e.nodes[rl.link.To]; rl.link.Relation == model.PolledRun && !e.free(target) {
		target.throttled++
		e.settleBatch(b, errThrottled, false)
		e.endBatch(b, true)
		return
	}
	e.busyBatch(bt)
	e.launch(b)
}

// launch starts the run of a batch, or its move, for which there is room and to which
// its messages have been put.
func (e *engine) launch(b uint32) {
	bt := &e.batches[b]
	bt.taking = false
	rl := e.readers[bt.reader].link
	if rl.ahead != nil {
		rl.ahead.runs(bt.reader - rl.first)
	}
	l := rl.link
	if l.Relation == model.PolledRun {
		e.begin(e.batchRun(b))
		return
	}
	r := e.newRun(&e.nodes[bt.node], forMove)
	e.runs[r].batch, e.runs[r].link = b, int32(l.ID)
	if e.trace != nil {
		e.trace.runs(e, r)
	}
	// It starts by an event of its own, so that a queue that feeds itself in no
	// time still lets the run's limits see it.
	e.runs[r].phase, e.runs[r].reps, e.runs[r].cause = sending, 1, backingOff
	e.wait(r, 0)
}

// batchRun makes the run of a batch.
func (e *engine) batchRun(b uint32) uint32 {
	l := e.readers[e.batches[b].reader].link.link
	r := e.newRun(&e.nodes[l.To], forBatch)
	e.runs[r].batch, e.runs[r].link, e.runs[r].reps = b, int32(l.ID), -1
	return r
}

// dropLapsed takes out what has left the queue, or been taken again, while the
// batch was filling.
func (e *engine) dropLapsed(bt *batch) {
	kept := bt.entries[:0]
	for _, entry := range bt.entries {
		c := e.copies.At(entry.copy)
		if c.flags&done != 0 || c.tries != entry.token {
			e.letGo(entry.copy)
			continue
		}
		kept = append(kept, entry)
	}
	bt.entries = kept
}

func (e *engine) busyBatch(bt *batch) {
	for k := range bt.entries {
		e.inFlightFor(e.copies.At(bt.entries[k].copy)).busy++
	}
}

// settleBatch settles each message of a batch with its queue whose run
// is over (or never started, when it was throttled).
func (e *engine) settleBatch(b uint32, failure int16, final bool) {
	bt := &e.batches[b]
	q := &e.nodes[bt.node]
	if q.queue.feed != nil {
		e.settleFeed(b, failure, final)
		return
	}
	rl := e.readers[bt.reader].link
	all := bt.failsAsOne(rl)
	for k := 0; k < len(e.batches[b].entries); k++ {
		entry := e.batches[b].entries[k]
		why := failure
		if why == noError {
			why = entry.failure
		}
		if why == noError && all {
			why = errFails
		}
		if why == noError {
			e.queueHandled(q, entry.copy, entry.token, rl.link.To)
			continue
		}
		ends := final
		if failure == noError { // each fails by itself
			ends = entry.final
		}
		e.queueFailed(q, entry.copy, entry.token, rl.delivery, why, ends)
	}
}

// endPlain ends a batch of a plain queue whose run succeeded, in one pass: most of
// its messages are handled, and some may have failed by themselves. It is not compiled
// into batchDone, where what it calls would no longer be compiled into it.
//
//go:noinline
func (e *engine) endPlain(b uint32, n *node, rl *readerLink) {
	q, now := n.queue, e.Now
	unusual := 0
	entries, lent := e.batches[b].entries, e.batches[b].reader+1
	for k := range entries {
		at := &entries[k]
		c := e.copies.At(at.copy)
		if c.inFlight != lent || at.failure != noError ||
			c.flags&done != 0 { // what else happens to a message gives it a handling of its own
			unusual++
			e.inFlightFor(c).busy--
			e.endOne(at, n, rl)
			continue
		}
		e.takeOut(&q.leases, c, at.copy)
		e.unlinkAge(q, c)
		j := e.journeys.At(c.journey)
		j.open--
		if now >= e.warm {
			n.time.Add(now - c.born)
			e.latencyBy(rl, j).Add(now - j.born)
		}
		c.flags, c.inFlight = done, 0
		e.releaseUnhandled(c, at.copy)
	}
	if handled := int64(len(entries) - unusual); handled > 0 {
		n.fates[Handled] += handled
		n.depth.FallBy(now, handled)
		e.live -= int(handled)
	}
	e.dropBatch(b, false)
}

// endOne settles one message of a batch whose run succeeded with its queue.
func (e *engine) endOne(at *batchEntry, n *node, rl *readerLink) {
	if at.failure != noError {
		e.queueFailed(n, at.copy, at.token, rl.delivery, at.failure, at.final)
	} else {
		e.queueHandled(n, at.copy, at.token, rl.link.To)
	}
	e.letGo(at.copy)
}

// batchDone comes when the run of a batch has ended.
func (e *engine) batchDone(b uint32, n *node, failure int16, final bool) {
	bt := &e.batches[b]
	if q, rl := &e.nodes[bt.node], e.readers[bt.reader].link; q.queue.plain && failure == noError && !n.resultsAll &&
		!e.storage &&
		e.trace == nil &&
		!bt.failsAsOne(rl) {
		e.endPlain(b, q, rl)
		return
	}
	for k := range e.batches[b].entries {
		e.inFlightFor(e.copies.At(e.batches[b].entries[k].copy)).busy--
	}
	if n.resultsAll {
		for k := range e.batches[b].entries {
			entry := e.batches[b].entries[k]
			if e.copies.At(entry.copy).flags&duplicate != 0 {
				continue
			}
			m := e.messageOf(e.copies.At(entry.copy))
			why := failure
			if why == noError {
				why = entry.failure
			}
			e.results(n, &m, e.kindOfCopy(e.copies.At(entry.copy)), why, entry.token)
		}
	}
	e.settleBatch(b, failure, final)
	e.freeGroups(b)
	e.endBatch(b, false)
}

// freeGroups lets the groups of a batch's messages go on where its run was all that
// held them back.
func (e *engine) freeGroups(b uint32) {
	n := &e.nodes[e.batches[b].node]
	if n.queue.groups == nil {
		return
	}
	for k := range e.batches[b].entries {
		if i := e.batches[b].entries[k].copy; e.copies.At(i).flags&done == 0 {
			e.unblock(n, i, false)
		}
	}
}

func (e *engine) endBatch(b uint32, throttled bool) {
	for k := range e.batches[b].entries {
		e.letGo(e.batches[b].entries[k].copy)
	}
	e.dropBatch(b, throttled)
}

// dropBatch lets go of a batch's record and frees its reader.
func (e *engine) dropBatch(b uint32, throttled bool) {
	reader := e.batches[b].reader
	e.dropRecord(b)
	if e.nodes[e.readers[reader].queue].queue.feed == nil {
		e.freeReader(reader, throttled)
	}
}

// deliveriesStep gives the one step of a batch on the move: its link.
func (e *engine) deliveriesStep(r *run) []int32 { return e.moveSteps[r.link : r.link+1] }

// actMove moves one message of a batch: writes it on, or hands it to an
// outside system and waits.
func (e *engine) actMove(i uint32, s *send, m *message) bool {
	r := &e.runs[i]
	target := &e.nodes[s.link.To]
	if s.link.Relation == model.PolledPush {
		if e.deliveries[s.link.ID].refused || !target.bucket.take(e.Now) {
			target.throttled++
			e.entryFailed(r, errThrottled)
			return true
		}
		c := e.newRun(target, forCall)
		callee := &e.runs[c]
		callee.caller, callee.callOf, callee.link = i, e.runs[i].turn, int32(s.link.ID)
		callee.own = *m
		e.contents[m.content].refs++
		e.journeys.At(m.journey).refs++
		e.runs[i].timer = 0
		e.begin(c)
		return false
	}
	if takes := target.drawTakes(); takes > 0 {
		e.wait(i, takes)
		return false
	}
	return e.moved(i, s, m)
}

// moved lets a message that a reader writes on stand, or fails it.
func (e *engine) moved(i uint32, s *send, m *message) bool {
	target := &e.nodes[s.link.To]
	con := m.content // the event stays the same
	if m.wrap != unwrapped {
		con = e.wrapContent(m, con, m.wrap, e.kindAt(&e.runs[i], int(e.runs[i].index)))
		defer e.dropContent(con)
	}
	if cause := e.rejects(target, m, con, e.deliveries[s.link.ID].refused); cause != noFate {
		e.entryFailed(&e.runs[i], errRejected)
		return true
	}
	e.emit(i, s, m, con)
	e.entryDone(i, Passed)
	return true
}

// pushed comes when an outside system has answered for one message of a batch.
func (e *engine) pushed(i uint32, failure int16) {
	if failure != noError {
		e.entryFailed(&e.runs[i], failure)
		return
	}
	e.entryDone(i, Handled)
}

// entryFailed notes that a message could not be moved. Of a stream, what comes
// after it stays too: order holds.
func (e *engine) entryFailed(r *run, failure int16) {
	entries := e.batches[r.batch].entries[r.index:]
	if e.nodes[e.batches[r.batch].node].queue.feed == nil {
		entries = entries[:1]
	}
	for k := range entries {
		entries[k].failure = failure
	}
}

// entryDone finishes with a message of a batch on the move.
func (e *engine) entryDone(i uint32, f Fate) {
	r := &e.runs[i]
	entry := &e.batches[r.batch].entries[r.index]
	c := e.copies.At(entry.copy)
	if c.flags&done == 0 && c.tries == entry.token {
		e.handledBy = e.g.Links[r.link].To
		e.leaveQueue(&e.nodes[c.node], entry.copy, f)
	}
}

func (e *engine) endMove(i uint32) {
	b := e.runs[i].batch
	e.dropRun(i)
	e.batchDone(b, &e.nodes[e.batches[b].node], noError, false)
}
