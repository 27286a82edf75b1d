package engine

import (
	"ironweir/core/sim/internal/clock"
	"ironweir/core/sim/internal/random"
)

// pullFast takes what the readers of a lane can, and reports whether it leaves
// something for the general way.
func (e *Engine) pullFast(ln *fastLink) bool {
	for i := ln.front.Head; i != 0; i = ln.front.Head {
		slot := ln.rl.idle()
		if slot < 0 {
			return false
		}
		c := e.Copies.At(i)
		if ln.f.Active.Count >= ln.limit || !e.takesNow(ln, c) {
			return true
		}
		ln.rl.occupy()
		ln.f.Active.Rise(e.Now)
		e.beginFast(ln, c, i, uint32(slot))
	}
	return false
}

// takesNow reports whether a lane's message can be handed out as it is: nobody has it.
func (e *Engine) takesNow(ln *fastLink, c *Copy) bool {
	return c.inFlight == 0 && ln.rl.mayTry(c, e.Now)
}

// beginFast takes the first message that is visible and starts its run, for
// which a reader is occupied. It is kept apart from what calls it, since together they
// would not have registers enough.
//
//go:noinline
func (e *Engine) beginFast(ln *fastLink, c *Copy, i, slot uint32) {
	f := ln.f
	var work int64
	if f.takes.Shape == random.Exponential {
		work = random.Nanos(f.takes.A * f.serviceRNG.Exponential() * f.Slow)
	} else {
		work = random.Nanos(f.takes.Draw(f.serviceRNG) * f.Slow)
	}
	failure := NoError
	share := ln.share // drawn as happens does, of which only this is compiled into this function
	if share > 0 && (share >= 1 || random.UnitOf(f.rng.Uint64()) < share) ||
		ln.dooms && e.failsForGood(f, f.fails.ForGood, c.Age) {
		failure = f.failName
	}
	now := e.Now
	ln.front.Head = c.next
	if c.Flags&(begun|Duplicate) == 0 && now >= e.Warm {
		ln.n.Wait.Add(now - c.Born)
	}
	c.Flags = c.Flags&^visible | begun
	c.Tries++
	lent := ln.rl.first + slot + 1
	c.inFlight = lent
	h := e.InFlights.At(lent)
	seq := e.Seq
	h.due, h.Timer, h.lastFail = now, seq, failure // of the lease: when it began, and its name
	f.Runs++
	e.Tally.Fast++
	if 0 < work && work <= ln.most && e.Coming.Last < clock.InOrder {
		e.Seq = seq + 2
		e.Coming.InsertNewest(uint64(now+work), clock.Word(seq+1, EvFastRun, i)) // as at does, for the same reason
		return
	}
	e.Seq = seq + 1
	switch {
	case work > ln.most:
		h.lastFail = NoError
		e.leaveFastPath(ln.n, ln.rl, i, work, failure)
	case work <= 0:
		e.ScheduleNow(EvFastRun, i)
	default:
		e.Schedule(now+work, EvFastRun, i)
	}
}

// leaveFastPath puts a run that has just started on the general way.
func (e *Engine) leaveFastPath(n *Node, rl *readerLink, i uint32, work int64, failure int16) {
	c := e.Copies.At(i)
	q := n.Queue
	c.Flags |= Leased
	h := e.inFlightFor(c)
	h.due = e.Now + q.lease
	e.putLast(&q.leases, c, i)
	if q.leaseSeq == 0 {
		q.armLease(e, n, h.Timer, h.due)
	}
	r := e.fullRun(n, rl, i)
	e.Runs[r].Work, e.Runs[r].Failure = work, failure
	e.work(r)
}

// fullRun makes the records that a run on the general way has.
func (e *Engine) fullRun(n *Node, rl *readerLink, i uint32) uint32 {
	b := e.newBatch(rl.first+uint32(e.InFlightOf(e.Copies.At(i)).group), n)
	e.addToBatch(b, i)
	return e.batchRun(b)
}

// endFast comes when a run on the fast path is over.
func (e *Engine) endFast(i uint32) {
	c := e.Copies.At(i)
	ln := e.lanes[c.Node]
	h := e.InFlightOf(c)
	if !ln.open || h.lastFail != NoError || c.Flags&(Done|Duplicate|expiring) != 0 ||
		ln.sized && e.tooLarge(c.Content) {
		e.endUnusual(ln, c, i)
		return
	}
	if ln.copies {
		e.sendFast(ln, i)
		c = e.Copies.At(i)
	}
	now, j := e.Now, e.Journeys.At(c.Journey)
	ln.n.Fates[Handled]++
	ln.n.Depth.Fall(now)
	e.unlinkAge(ln.q, c)
	if now >= e.Warm {
		ln.n.Time.Add(now - c.Born)
		e.latencyBy(ln.rl, j).Add(now - j.Born)
		ln.f.RunTime.Add(now - h.due)
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
		j.Open--
		e.Live--
		c.Flags |= Done
		e.releaseUnhandled(c, i)
	}
	// The next run starts in the place of this one, where its reader is the only
	// one that could take what comes next.
	if i = ln.front.Head; i != 0 && ln.rl.idles == 0 && ln.f.Active.Count <= ln.limit && e.uncontestedNow() {
		if c = e.Copies.At(i); e.takesNow(ln, c) {
			if ln.rl.paused {
				e.Readers[ln.rl.first+slot].pause = 0
			}
			e.Tally.Events++
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
func (e *Engine) endUnusual(ln *fastLink, c *Copy, i uint32) {
	if e.InFlightOf(c).lastFail != NoError {
		ln.f.failed(e.InFlightOf(c).lastFail)
	} else if !ln.welcome || ln.sized && e.tooLarge(c.Content) {
		e.sendFull(ln.n, ln.rl, i)
		return
	} else {
		e.sendFast(ln, i)
		c = e.Copies.At(i)
	}
	h := e.inFlightFor(c)
	slot := uint32(h.group)
	if e.Now >= e.Warm {
		ln.f.RunTime.Add(e.Now - h.due)
	}
	h.Busy--
	e.settleFast(ln.n, ln.rl, i)
	e.letGo(i)
	e.leaveFunction(ln, slot)
	e.WantPull(ln.n)
}

// tooLarge reports whether a message is beyond the limit on payloads.
func (e *Engine) tooLarge(con uint32) bool {
	c := &e.Contents[con]
	return c.Size > e.payload && !c.notice
}

// sendFast sends what a run that succeeded sends.
func (e *Engine) sendFast(ln *fastLink, i uint32) {
	for k := range ln.sends {
		s := &ln.sends[k]
		m := e.MessageOf(e.Copies.At(i))
		m.Node = int32(ln.f.ID)
		m.Hops++
		s.d.Offered++
		s.d.Matched++
		e.stand(s.to, e.NewCopy(s.to, s.id, &m, m.Content, 0))
	}
}

// leaveFunction counts a run that is over, and lets its reader take again.
func (e *Engine) leaveFunction(ln *fastLink, slot uint32) {
	ln.f.Active.Fall(e.Now)
	e.Readers[ln.rl.first+slot].pause = 0
	ln.rl.rest(slot, nil)
}

// passOnFast sends a message that has been handled on to one queue. What is handled
// here and what comes there are two copies; one record serves both.
func (e *Engine) passOnFast(ln *fastLink, c *Copy, j *Journey, i uint32) {
	s := &ln.sends[0]
	d, to := s.d, s.to
	d.Offered++
	d.Matched++
	d.Copies++
	to.Copies++
	j.Copies++
	c.hops++
	j.hops = max(j.hops, c.hops)
	c.Born, c.Age = e.Now, e.Sequence()
	c.Via, c.Node = s.id, int32(to.ID)
	c.Tries = 0
	c.Flags &= deadLettered
	e.enqueueSimple(to, c, i)
}

// uncontestedNow reports whether nothing else is scheduled for this instant.
func (e *Engine) uncontestedNow() bool { return e.Horizon != 0 && !e.Simultaneous }

// mayRunAhead reports so where somebody may look on, event by event (who looks on at all
// leaves the fast path).
func (e *Engine) mayRunAhead() bool { return e.uncontestedNow() && e.Observer == nil }

// pullNow lets the readers of a queue take what is visible, as the last thing
// that an event does: at once, where nothing else is scheduled for this instant.
func (e *Engine) pullNow(n *Node) {
	switch {
	case !n.Queue.ready():
	case e.mayRunAhead():
		e.Tally.Events++
		e.pull(n)
	default:
		e.WantPull(n)
	}
}

// pullBoth does so for two queues, one after the other.
func (e *Engine) pullBoth(a, b *Node) {
	if !e.mayRunAhead() {
		e.WantPull(a)
		e.WantPull(b)
		return
	}
	e.pullReady(a)
	e.pullSecond(b)
}

// pullReady lets the readers of a queue take, if some can.
func (e *Engine) pullReady(n *Node) {
	if n.Queue.ready() {
		e.Tally.Events++
		e.pull(n)
	}
}

// pullSecond does so after another queue's readers have taken: ahead of what they
// have scheduled for this instant.
func (e *Engine) pullSecond(n *Node) {
	switch {
	case n.Queue.pulling || !n.Queue.ready():
	case e.Simultaneous:
		n.Queue.pulling = true
		e.ScheduleFirstNow(EvPull, uint32(n.ID))
	default:
		e.Tally.Events++
		e.pull(n)
	}
}

// sendFull lets a run's sends go the general way, since one of them may be
// rejected just now.
func (e *Engine) sendFull(n *Node, rl *readerLink, i uint32) {
	r := e.fullRun(n, rl, i)
	c := e.Copies.At(i)
	run := &e.Runs[r]
	h := e.inFlightFor(c)
	run.started, run.Phase = h.due, Calling
	c.Flags |= Leased
	h.due += n.Queue.lease
	e.appendLease(n, i)
	e.Advance(r)
}

// appendLease puts a copy among the leased, in order of the ends of their
// leases, and arms the timer of the first.
func (e *Engine) appendLease(n *Node, i uint32) {
	q := n.Queue
	h := e.InFlightOf(e.Copies.At(i))
	after := q.leases.tail
	for ; after != 0; after = e.Copies.At(after).prev {
		if before := e.InFlightOf(e.Copies.At(after)); before.due < h.due ||
			before.due == h.due && before.Timer <= h.Timer {
			break
		}
	}
	e.insertAfter(&q.leases, i, after)
	if q.leases.Head == i {
		q.armLease(e, n, h.Timer, h.due)
	}
}

// settleFast settles the message with its queue.
func (e *Engine) settleFast(n *Node, rl *readerLink, i uint32) {
	c := e.Copies.At(i)
	d, h := rl.Delivery, e.InFlightOf(c)
	wait := h.due + n.Queue.lease - e.Now // until its lease would have ended
	if d.policy.WaitSet && h.lastFail != NoError && c.Flags&(Done|Duplicate|expiring) == 0 && !d.isExcept(h.lastFail) {
		wait = e.jittered(d.policy.Backoff(int(c.Tries)), d)
	}
	switch {
	case c.Flags&Done != 0:
	case h.lastFail == NoError:
		e.HandledBy = rl.link.To
		e.LeaveQueue(n, i, Handled)
	case c.Flags&Duplicate != 0:
		e.LeaveQueue(n, i, noFate)
	case c.Flags&expiring != 0:
		e.LeaveQueue(n, i, Expired)
	case d.isExcept(h.lastFail):
		e.endInQueue(n, i, d, Exhausted)
	case d.tooLate(e.Now + wait - c.Born):
		e.endInQueue(n, i, d, GivenUp)
	case d.policy.WaitSet:
		h.Timer = e.Schedule(e.Now+wait, EvVisible, i)
	default:
		e.ArmTimer(e.Now+wait, h.Timer, EvVisible, i)
	}
}
