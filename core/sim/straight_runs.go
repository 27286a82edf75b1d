package sim

// pullStraight takes what the readers of a lane can, and tells whether it leaves
// something for the general way.
func (e *engine) pullStraight(ln *lane) bool {
	q, f := ln.q, ln.f
	if len(q.classes) == 0 {
		return false
	}
	class := &q.classes[0]
	limit := f.limitNow()
	for {
		i := class.head
		if i == 0 {
			return false
		}
		slot := ln.rl.idle()
		if slot < 0 {
			return false
		}
		c := &e.copies[i]
		if f.active >= limit || !ln.d.mayTry(c, e.now) {
			return true
		}
		ln.rl.occupy(slot)
		f.changeActive(e.now, 1)
		e.beginStraight(ln, c, i, uint32(slot))
	}
}

// beginStraight takes the first message that is visible and starts its run, for
// which a reader is occupied.
func (e *engine) beginStraight(ln *lane, c *copyRecord, i, slot uint32) {
	q, f := ln.q, ln.f
	e.takeFirst(&q.classes[0], c)
	c.tries++
	if c.flags&(begun|ghost) == 0 && e.now >= e.warm {
		ln.n.wait.Add(e.now - c.born)
	}
	c.flags = c.flags&^visible | begun
	c.held++
	c.busy++
	c.group = int32(slot)
	c.due = e.now
	c.timer = e.sequence() // that of the lease
	f.runs++
	e.tally.straight++
	work := nanos(f.takes.draw(f.time1) * f.slow)
	failure := e.straightLuck(f, c.age)
	if work >= q.lease || f.limit > 0 && work > f.limit {
		e.leaveStraight(ln.n, ln.rl, i, work, failure)
		return
	}
	c.lastFail = failure
	if work <= 0 {
		e.soon(evStraight, i)
	} else {
		e.at(e.now+work, evStraight, i)
	}
}

// goOn starts the next run in the place of one that is over, as the last thing
// that an event does, where the reader is the only one that could take what comes
// next; else false.
func (e *engine) goOn(ln *lane, slot uint32) bool {
	i := ln.q.classes[0].head
	if i == 0 || !e.nothingElse() || ln.rl.idles > 0 || ln.d.paused || ln.q.pulling {
		return false
	}
	c := &e.copies[i]
	if ln.f.active > ln.f.limitNow() || !ln.d.mayTry(c, e.now) {
		return false
	}
	e.readers[ln.rl.first+slot].pause = 0
	e.tally.events++
	e.beginStraight(ln, c, i, slot)
	return true
}

// straightLuck draws whether a run fails, as luck does.
func (e *engine) straightLuck(f *node, name uint64) int16 {
	share := f.fails.EachTry
	if f.failsNowShare >= 0 {
		share = f.failsNowShare
	}
	if share > 0 && (share >= 1 || f.luck.unit() < share) || e.doomed(f, f.fails.ForGood, name) {
		return f.failName
	}
	return noError
}

// leaveStraight puts a run that has just started on the general way.
func (e *engine) leaveStraight(n *node, rl *readerLink, i uint32, work int64, failure int16) {
	c := &e.copies[i]
	q := n.queue
	c.flags |= leased
	c.due = e.now + q.lease
	e.putLast(&q.leases, c, i)
	if q.leaseSeq == 0 {
		q.leaseSeq = c.timer
		e.arm(c.due, c.timer, evLease, uint32(n.id))
	}
	r := e.generalRun(n, rl, i)
	e.runs[r].work, e.runs[r].failure = work, failure
	e.work(r)
}

// generalRun makes the records that a run on the general way has.
func (e *engine) generalRun(n *node, rl *readerLink, i uint32) uint32 {
	b := e.newBatch(rl.first+uint32(e.copies[i].group), n)
	e.addToBatch(b, i)
	r := e.newRun(&e.nodes[rl.link.To], forBatch)
	run := &e.runs[r]
	run.batch, run.link, run.reps = b, int32(rl.link.ID), -1
	return r
}

// endStraight comes when a run on the straight way is over.
func (e *engine) endStraight(i uint32) {
	c := &e.copies[i]
	ln := e.nodes[c.node].queue.lane
	if c.lastFail != noError {
		ln.f.failures++
		e.endRunStraight(ln, i)
		return
	}
	for k := range ln.sends {
		if to := ln.sends[k].to; to.failsNowShare >= 0 || to.slow != 1 || e.payload > 0 && e.contents[c.content].size > e.payload {
			e.sendGenerally(ln.n, ln.rl, i)
			return
		}
	}
	usual := c.flags&(done|ghost|expiring) == 0 && c.held == 1 && !e.storage && e.trace == nil
	if usual && ln.moves {
		e.moveOn(ln, c, i)
		return
	}
	for k := range ln.sends {
		s := &ln.sends[k]
		m := e.messageOf(&e.copies[i])
		m.node = int32(ln.f.id)
		m.hops++
		s.d.offered++
		s.d.matched++
		e.stand(s.to, e.newCopy(s.to, s.id, &m, m.content, 0))
	}
	if !usual {
		e.endRunStraight(ln, i)
		return
	}
	c = &e.copies[i]
	slot := uint32(c.group)
	e.handledPlain(ln.n, ln.f, c)
	e.timeRun(ln.f, c)
	e.releaseCopy(i)
	if !e.goOn(ln, slot) {
		e.leaveFunction(ln, slot)
		e.pullNow(ln.n)
	}
}

// endRunStraight ends a run after its sends, and frees its reader.
func (e *engine) endRunStraight(ln *lane, i uint32) {
	c := &e.copies[i]
	slot := uint32(c.group)
	e.timeRun(ln.f, c)
	c.busy--
	e.settleStraight(ln.n, ln.rl, i)
	e.letGo(i)
	e.leaveFunction(ln, slot)
	e.wantPull(ln.n)
}

// timeRun notes how long a run took that is over.
func (e *engine) timeRun(f *node, c *copyRecord) {
	if e.now >= e.warm {
		f.runTime.Add(e.now - c.due)
	}
}

// leaveFunction counts a run that is over, and lets its reader take again.
func (e *engine) leaveFunction(ln *lane, slot uint32) {
	ln.f.changeActive(e.now, -1)
	e.readers[ln.rl.first+slot].pause = 0
	ln.rl.rest(int(slot))
}

// moveOn ends a run that succeeded and sends its message on to one queue. What
// is handled here and what comes there are two copies; one record serves both.
func (e *engine) moveOn(ln *lane, c *copyRecord, i uint32) {
	s := &ln.sends[0]
	j := &e.journeys[c.journey]
	slot := uint32(c.group)
	e.countHandled(ln.n, ln.f, c, j)
	e.timeRun(ln.f, c)

	s.d.offered++
	s.d.matched++
	s.d.copies++
	s.to.copies++
	j.copies++
	c.hops++
	j.hops = max(j.hops, int32(c.hops))
	c.born, c.age, c.timer = e.now, e.sequence(), 0
	c.via, c.node = s.id, int32(s.to.id)
	c.tries, c.waits, c.held, c.busy, c.group, c.lastFail = 0, 0, 0, 0, 0, noError
	c.flags &= aside
	e.enterPlain(s.to, c, i)
	if ln.apart && e.nothingElse() {
		e.pullReady(s.to)
		if !e.goOn(ln, slot) {
			e.leaveFunction(ln, slot)
			e.pullSecond(ln.n)
		}
		return
	}
	e.leaveFunction(ln, slot)
	e.pullBoth(s.to, ln.n)
}

// nothingElse tells whether nothing else is scheduled for this instant, and nobody
// looks on event by event.
func (e *engine) nothingElse() bool { return e.head == e.tail && !e.tie && e.told == nil }

// pullNow lets the readers of a queue take what is visible, as the last thing
// that an event does: at once, where nothing else is scheduled for this instant.
func (e *engine) pullNow(n *node) {
	if e.nothingElse() {
		e.pullReady(n)
	} else {
		e.wantPull(n)
	}
}

// pullBoth does so for two queues, one after the other.
func (e *engine) pullBoth(a, b *node) {
	if !e.nothingElse() {
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
	case e.tie:
		n.queue.pulling = true
		e.soonFirst(evPull, uint32(n.id))
	default:
		e.tally.events++
		e.pull(n)
	}
}

// sendGenerally lets a run's sends go the general way, since one of them may be
// rejected just now.
func (e *engine) sendGenerally(n *node, rl *readerLink, i uint32) {
	r := e.generalRun(n, rl, i)
	c := &e.copies[i]
	run := &e.runs[r]
	run.started, run.phase = c.due, calling
	c.flags |= leased
	c.due += n.queue.lease
	e.appendLease(n, i)
	e.advance(r)
}

// appendLease puts a copy among the leased, in order of the ends of their
// leases, and arms the timer of the first.
func (e *engine) appendLease(n *node, i uint32) {
	q := n.queue
	c := &e.copies[i]
	after := q.leases.tail
	for after != 0 && (e.copies[after].due > c.due || e.copies[after].due == c.due && e.copies[after].timer > c.timer) {
		after = e.copies[after].prev
	}
	e.insertAfter(&q.leases, i, after)
	if q.leases.head == i {
		q.leaseSeq = c.timer
		e.arm(c.due, c.timer, evLease, uint32(n.id))
	}
}

// settleStraight tells the queue what became of the message.
func (e *engine) settleStraight(n *node, rl *readerLink, i uint32) {
	c := &e.copies[i]
	d := rl.delivery
	switch {
	case c.flags&done != 0:
	case c.lastFail == noError:
		e.handledBy = rl.link.To
		e.leaveQueue(n, i, Handled)
	case c.flags&ghost != 0:
		e.leaveQueue(n, i, noFate)
	case c.flags&expiring != 0:
		e.leaveQueue(n, i, Expired)
	case d.isExcept(c.lastFail):
		e.endInQueue(n, i, d, Exhausted)
	case d.policy.WaitSet:
		c.timer = e.at(e.now+e.jittered(d.policy.Backoff(int(c.tries)), d), evVisible, i)
	default: // when its lease would have ended
		e.arm(c.due+n.queue.lease, c.timer, evVisible, i)
	}
}
