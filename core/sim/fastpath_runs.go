package sim

import (
	"ironweir/core/sim/internal/clock"
	"ironweir/core/sim/internal/random"
)

// pullFast takes what the readers of a lane can, and reports whether it leaves
// something for the general way.
func (e *engine) pullFast(ln *fastLink) bool {
	for i := ln.front.head; i != 0; i = ln.front.head {
		slot := ln.rl.idle()
		if slot < 0 {
			return false
		}
		c := e.copies.At(i)
		if ln.f.active.Count >= ln.limit || !e.takesNow(ln, c) {
			return true
		}
		ln.rl.occupy()
		ln.f.active.Rise(e.Now)
		e.beginFast(ln, c, i, uint32(slot))
	}
	return false
}

// takesNow reports whether a lane's message can be handed out as it is: nobody has it.
func (e *engine) takesNow(ln *fastLink, c *copyRecord) bool {
	return c.inFlight == 0 && ln.rl.mayTry(c, e.Now)
}

// beginFast takes the first message that is visible and starts its run, for
// which a reader is occupied. It is kept apart from what calls it, since together they
// would not have registers enough.
//
//go:noinline
func (e *engine) beginFast(ln *fastLink, c *copyRecord, i, slot uint32) {
	f := ln.f
	var work int64
	if f.takes.Shape == random.Exponential {
		work = random.Nanos(f.takes.A * f.serviceRNG.Exponential() * f.slow)
	} else {
		work = random.Nanos(f.takes.Draw(f.serviceRNG) * f.slow)
	}
	failure := noError
	share := ln.share // drawn as happens does, of which only this is compiled into this function
	if share > 0 && (share >= 1 || random.UnitOf(f.rng.Uint64()) < share) ||
		ln.dooms && e.failsForGood(f, f.fails.ForGood, c.age) {
		failure = f.failName
	}
	now := e.Now
	ln.front.head = c.next
	if c.flags&(begun|duplicate) == 0 && now >= e.warm {
		ln.n.wait.Add(now - c.born)
	}
	c.flags = c.flags&^visible | begun
	c.tries++
	lent := ln.rl.first + slot + 1
	c.inFlight = lent
	h := e.inFlights.At(lent)
	seq := e.Seq
	h.due, h.timer, h.lastFail = now, seq, failure // of the lease: when it began, and its name
	f.runs++
	e.tally.fast++
	if 0 < work && work <= ln.most && e.Coming.Last < clock.InOrder {
		e.Seq = seq + 2
		e.Coming.InsertNewest(uint64(now+work), clock.Word(seq+1, evFastRun, i)) // as at does, for the same reason
		return
	}
	e.Seq = seq + 1
	switch {
	case work > ln.most:
		h.lastFail = noError
		e.leaveFastPath(ln.n, ln.rl, i, work, failure)
	case work <= 0:
		e.ScheduleNow(evFastRun, i)
	default:
		e.Schedule(now+work, evFastRun, i)
	}
}

// leaveFastPath puts a run that has just started on the general way.
func (e *engine) leaveFastPath(n *node, rl *readerLink, i uint32, work int64, failure int16) {
	c := e.copies.At(i)
	q := n.queue
	c.flags |= leased
	h := e.inFlightFor(c)
	h.due = e.Now + q.lease
	e.putLast(&q.leases, c, i)
	if q.leaseSeq == 0 {
		q.armLease(e, n, h.timer, h.due)
	}
	r := e.fullRun(n, rl, i)
	e.runs[r].work, e.runs[r].failure = work, failure
	e.work(r)
}

// fullRun makes the records that a run on the general way has.
func (e *engine) fullRun(n *node, rl *readerLink, i uint32) uint32 {
	b := e.newBatch(rl.first+uint32(e.inFlightOf(e.copies.At(i)).group), n)
	e.addToBatch(b, i)
	return e.batchRun(b)
}

// endFast comes when a run on the fast path is over.
func (e *engine) endFast(i uint32) {
	c := e.copies.At(i)
	ln := e.lanes[c.node]
	h := e.inFlightOf(c)
	if !ln.open || h.lastFail != noError || c.flags&(done|duplicate|expiring) != 0 ||
		ln.sized && e.tooLarge(c.content) {
		e.endUnusual(ln, c, i)
		return
	}
	if ln.copies {
		e.sendFast(ln, i)
		c = e.copies.At(i)
	}
	now, j := e.Now, e.journeys.At(c.journey)
	ln.n.fates[Handled]++
	ln.n.depth.Fall(now)
	e.unlinkAge(ln.q, c)
	if now >= e.warm {
		ln.n.time.Add(now - c.born)
		e.latencyBy(ln.rl, j).Add(now - j.born)
		ln.f.runTime.Add(now - h.due)
	}
	c.inFlight = 0
	slot := uint32(h.group)
	if ln.to != nil {
		e.passOnFast(ln, c, j, i)
		if !ln.apart || !e.uncontestedNow() {
			e.leaveFunction(ln, slot)
			e.pullBoth(ln.to, ln.n)
			return
		}
		e.pullReady(ln.to)
	} else {
		j.open--
		e.live--
		c.flags |= done
		e.releaseUnhandled(c, i)
	}
	// The next run starts in the place of this one, where its reader is the only
	// one that could take what comes next.
	if i = ln.front.head; i != 0 && ln.rl.idles == 0 && ln.f.active.Count <= ln.limit && e.uncontestedNow() {
		if c = e.copies.At(i); e.takesNow(ln, c) {
			if ln.rl.paused {
				e.readers[ln.rl.first+slot].pause = 0
			}
			e.tally.events++
			e.beginFast(ln, c, i, slot)
			return
		}
	}
	e.leaveFunction(ln, slot)
	if ln.to != nil {
		e.pullSecond(ln.n)
	} else {
		e.pullNow(ln.n)
	}
}

// endUnusual ends a run that failed, or with which something else is out of the
// ordinary.
func (e *engine) endUnusual(ln *fastLink, c *copyRecord, i uint32) {
	if e.inFlightOf(c).lastFail != noError {
		ln.f.failed(e.inFlightOf(c).lastFail)
	} else if !ln.welcome || ln.sized && e.tooLarge(c.content) {
		e.sendFull(ln.n, ln.rl, i)
		return
	} else {
		e.sendFast(ln, i)
		c = e.copies.At(i)
	}
	h := e.inFlightFor(c)
	slot := uint32(h.group)
	if e.Now >= e.warm {
		ln.f.runTime.Add(e.Now - h.due)
	}
	h.busy--
	e.settleFast(ln.n, ln.rl, i)
	e.letGo(i)
	e.leaveFunction(ln, slot)
	e.wantPull(ln.n)
}

// tooLarge reports whether a message is beyond the limit on payloads.
func (e *engine) tooLarge(con uint32) bool {
	c := &e.contents[con]
	return c.size > e.payload && !c.notice
}

// sendFast sends what a run that succeeded sends.
func (e *engine) sendFast(ln *fastLink, i uint32) {
	for k := range ln.sends {
		s := &ln.sends[k]
		m := e.messageOf(e.copies.At(i))
		m.node = int32(ln.f.id)
		m.hops++
		s.d.offered++
		s.d.matched++
		e.stand(s.to, e.newCopy(s.to, s.id, &m, m.content, 0))
	}
}

// leaveFunction counts a run that is over, and lets its reader take again.
func (e *engine) leaveFunction(ln *fastLink, slot uint32) {
	ln.f.active.Fall(e.Now)
	e.readers[ln.rl.first+slot].pause = 0
	ln.rl.rest(slot, nil)
}

// passOnFast sends a message that has been handled on to one queue. What is handled
// here and what comes there are two copies; one record serves both.
func (e *engine) passOnFast(ln *fastLink, c *copyRecord, j *journey, i uint32) {
	s := &ln.sends[0]
	d, to := s.d, s.to
	d.offered++
	d.matched++
	d.copies++
	to.copies++
	j.copies++
	c.hops++
	j.hops = max(j.hops, c.hops)
	c.born, c.age = e.Now, e.Sequence()
	c.via, c.node = s.id, int32(to.id)
	c.tries = 0
	c.flags &= deadLettered
	e.enqueueSimple(to, c, i)
}

// uncontestedNow reports whether nothing else is scheduled for this instant.
func (e *engine) uncontestedNow() bool { return e.Horizon != 0 && !e.Simultaneous }

// mayRunAhead reports so where somebody may look on, event by event (who looks on at all
// leaves the fast path).
func (e *engine) mayRunAhead() bool { return e.uncontestedNow() && e.observer == nil }

// pullNow lets the readers of a queue take what is visible, as the last thing
// that an event does: at once, where nothing else is scheduled for this instant.
func (e *engine) pullNow(n *node) {
	switch {
	case !n.queue.ready():
	case e.mayRunAhead():
		e.tally.events++
		e.pull(n)
	default:
		e.wantPull(n)
	}
}

// pullBoth does so for two queues, one after the other.
func (e *engine) pullBoth(a, b *node) {
	if !e.mayRunAhead() {
		e.wantPull(a)
		e.wantPull(b)
		return
	}
	e.pullReady(a)
	e.pullSecond(b)
}

// pullReady lets the readers of a queue take, if some can.
func (e *engine) pullReady(n *node) {
	if n.queue.ready() {
		e.tally.events++
		e.pull(n)
	}
}

// pullSecond does so after another queue's readers have taken: ahead of what they
// have scheduled for this instant.
func (e *engine) pullSecond(n *node) {
	switch {
	case n.queue.pulling || !n.queue.ready():
	case e.Simultaneous:
		n.queue.pulling = true
		e.ScheduleFirstNow(evPull, uint32(n.id))
	default:
		e.tally.events++
		e.pull(n)
	}
}

// sendFull lets a run's sends go the general way, since one of them may be
// rejected just now.
func (e *engine) sendFull(n *node, rl *readerLink, i uint32) {
	r := e.fullRun(n, rl, i)
	c := e.copies.At(i)
	run := &e.runs[r]
	h := e.inFlightFor(c)
	run.started, run.phase = h.due, calling
	c.flags |= leased
	h.due += n.queue.lease
	e.appendLease(n, i)
	e.advance(r)
}

// appendLease puts a copy among the leased, in order of the ends of their
// leases, and arms the timer of the first.
func (e *engine) appendLease(n *node, i uint32) {
	q := n.queue
	h := e.inFlightOf(e.copies.At(i))
	after := q.leases.tail
	for ; after != 0; after = e.copies.At(after).prev {
		if before := e.inFlightOf(e.copies.At(after)); before.due < h.due ||
			before.due == h.due && before.timer <= h.timer {
			break
		}
	}
	e.insertAfter(&q.leases, i, after)
	if q.leases.head == i {
		q.armLease(e, n, h.timer, h.due)
	}
}

// settleFast settles the message with its queue.
func (e *engine) settleFast(n *node, rl *readerLink, i uint32) {
	c := e.copies.At(i)
	d, h := rl.delivery, e.inFlightOf(c)
	wait := h.due + n.queue.lease - e.Now // until its lease would have ended
	if d.policy.WaitSet && h.lastFail != noError && c.flags&(done|duplicate|expiring) == 0 && !d.isExcept(h.lastFail) {
		wait = e.jittered(d.policy.Backoff(int(c.tries)), d)
	}
	switch {
	case c.flags&done != 0:
	case h.lastFail == noError:
		e.handledBy = rl.link.To
		e.leaveQueue(n, i, Handled)
	case c.flags&duplicate != 0:
		e.leaveQueue(n, i, noFate)
	case c.flags&expiring != 0:
		e.leaveQueue(n, i, Expired)
	case d.isExcept(h.lastFail):
		e.endInQueue(n, i, d, Exhausted)
	case d.tooLate(e.Now + wait - c.born):
		e.endInQueue(n, i, d, GivenUp)
	case d.policy.WaitSet:
		h.timer = e.Schedule(e.Now+wait, evVisible, i)
	default:
		e.ArmTimer(e.Now+wait, h.timer, evVisible, i)
	}
}
