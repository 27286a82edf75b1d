package sim

import (
	"math"
	"time"

	"ironweir/core/sim/internal/stats"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// readerLink is a link of a queue with its readers.
type readerLink struct {
	link     *graph.Link
	delivery *delivery
	bit      uint64
	first    uint32       // its readers are first, first+1, …
	free     []uint32     // a ring of those that are idle, the one that has been so longest first
	since    []uint64     // of a queue that several links read: when each of them became idle
	head     int          // of the ring
	idles    int          // how many are idle
	ahead    *prefetching // nil: its readers take nothing ahead of their runs
	tries    uint16       // that a message has; 0: its link is refused
	giveUp   int64        // the age at which it has no more
	worker   *node        // the function, where batches may take the fast path; else nil
	paused   bool         // some reader has paused after a throttle
	entry    int32        // the latency of what came in there was the last one noted
	latency  *stats.LiveHistogram
	filling  []uint32 // batches that wait for more
}

// reader takes one batch at a time.
type reader struct {
	link      *readerLink
	queue     int32 // the queue, or the feed
	partition int32 // of a feed
	pause     int64 // after a throttle: how long it paused last; 0: none
}

const (
	firstPause = int64(time.Second)
	longPause  = int64(time.Minute)
)

// longerPause is how long a reader pauses that was throttled again.
func longerPause(last int64) int64 { return min(max(2*last, firstPause), longPause) }

// take gives the next visible message for a link, or 0. What is spent goes to
// the dead-letter on the way.
func (e *engine) take(n *node, rl *readerLink, batch uint32) uint32 {
	q := n.queue
	for {
		best := -1
		for i := range q.classes {
			class := &q.classes[i]
			if class.mask&rl.bit != 0 && class.head != 0 &&
				(best < 0 ||
					e.inFlightOf(e.copies.At(class.head)).due < e.inFlightOf(e.copies.At(q.classes[best].head)).due) {
				best = i
			}
		}
		if best < 0 {
			return 0
		}
		i := q.classes[best].head
		if !e.mayTake(n, i, batch) {
			continue
		}
		c := e.copies.At(i)
		p := &rl.delivery.policy
		cause := noFate
		switch {
		case rl.delivery.refused:
			cause = Refused
		case e.overHops(rl, c):
			cause = HopLimit
		case p.Tries > 0 && int(c.tries) >= p.Tries:
			cause = Exhausted
		case p.GiveUp > 0 && e.Now-c.born > p.GiveUp:
			cause = GivenUp
		default:
			e.handOut(n, i)
			return i
		}
		e.endInQueue(n, i, rl.delivery, cause)
	}
}

// overHops reports whether a message is over the hop limit of the function that a
// reader would run.
func (e *engine) overHops(rl *readerLink, c *copyRecord) bool {
	return rl.link.Relation == model.PolledRun && e.nodes[rl.link.To].overHops(int(c.hops))
}

// mayTry reports whether a message is not to be given up.
func (rl *readerLink) mayTry(c *copyRecord, now int64) bool {
	return c.tries < rl.tries && now-c.born <= rl.giveUp
}

// latencyBy gives how long messages took from where one came in to the function that
// a link leads to.
func (e *engine) latencyBy(rl *readerLink, j *journey) *stats.LiveHistogram {
	if entry := j.entry(); entry != rl.entry {
		rl.entry, rl.latency = entry, e.latencyTo(&e.nodes[rl.link.To], entry)
	}
	return rl.latency
}

// usual reports whether nothing stands against handing a message of a plain queue
// out: nobody works on it, and it is not to be given up.
func (e *engine) usual(rl *readerLink, c *copyRecord) bool {
	return (c.inFlight == 0 || e.inFlightOf(c).busy == 0) && rl.mayTry(c, e.Now) && c.flags&duplicate == 0
}

// firstIsUsual reports so of the first that is visible in a plain queue.
func (e *engine) firstIsUsual(q *queue, rl *readerLink) bool {
	first := q.classes[0].head
	return first != 0 && e.usual(rl, e.copies.At(first))
}

// takePlain fills a batch with what comes next in a plain queue, until something
// is out of the ordinary, and gives the size of the batch. What is taken is a
// stretch of the visible, and goes as one to the end of the leased. Where the batch
// starts at once (busy is 1, else 0), its reader lends its handling to all of them.
func (e *engine) takePlain(n *node, rl *readerLink, batch uint32, busy uint16) int {
	q := n.queue
	now, warm := e.Now, e.Now >= e.warm
	due, timer, most := now+q.lease, e.Seq, rl.link.Read.UpTo
	bt := &e.batches[batch]
	lent := bt.reader + 1
	h := e.inFlights.At(lent)
	h.due, h.timer, h.lastFail = due, timer, noError
	size, first, last, i := len(bt.entries), q.front.head, uint32(0), q.front.head
	entries := bt.entries[:min(cap(bt.entries), most)]
	for ; size < most && i != 0; size++ {
		if size == len(entries) {
			entries = append(entries, batchEntry{})
			entries = entries[:min(cap(entries), most)]
		}
		c := e.copies.At(i)
		if !e.usual(rl, c) {
			break
		}
		c.tries++
		if c.flags&begun == 0 && warm {
			n.wait.Add(now - c.born)
		}
		c.flags = c.flags&^visible | begun | leased
		if busy == 1 && c.inFlight == 0 {
			c.inFlight = lent
		} else {
			h := e.inFlightFor(c)
			h.held++
			h.busy += busy
			h.due, h.timer = due, timer
		}
		timer++
		at := &entries[size]
		at.copy, at.token, at.failure, at.known = i, c.tries, noError, false
		last, i = i, c.next
	}
	bt.entries = entries[:size]
	if last == 0 {
		return size
	}
	e.Seq = timer
	q.front.head = i
	e.copies.At(first).prev, e.copies.At(last).next = q.leases.tail, 0
	if q.leases.tail != 0 {
		e.copies.At(q.leases.tail).next = first
	} else {
		q.leases.head = first
	}
	q.leases.tail = last
	if q.leaseSeq == 0 {
		q.armLease(e, n, e.inFlightOf(e.copies.At(first)).timer, due)
	}
	return size
}

// lend starts the lease of a message that is handed out.
func (e *engine) lend(n *node, c *copyRecord, i uint32) {
	q := n.queue
	h := e.inFlightFor(c)
	h.held++
	c.flags |= leased
	h.due = e.Now + q.lease
	h.timer = e.Sequence()
	e.putLast(&q.leases, c, i)
	if q.leaseSeq == 0 {
		q.armLease(e, n, h.timer, h.due)
	}
}

// endInQueue gives up a message of a queue.
func (e *engine) endInQueue(n *node, i uint32, d *delivery, cause Fate) {
	if d.dead >= 0 && e.copies.At(i).flags&duplicate == 0 {
		e.deadLetter(i, d.dead)
		cause = Passed
	}
	e.leaveQueue(n, i, cause)
}

// handOut counts a try and starts the lease.
func (e *engine) handOut(n *node, i uint32) {
	e.hide(n.queue, i)
	c := e.copies.At(i)
	c.tries++
	if (e.inFlightOf(c).busy > 0 || c.flags&crashed != 0) && c.flags&duplicate == 0 {
		n.redelivered++
	}
	c.flags &^= crashed
	if c.flags&begun == 0 {
		c.flags |= begun
		if e.Now >= e.warm && c.flags&duplicate == 0 {
			n.wait.Add(e.Now - c.born)
		}
	}
	e.lend(n, c, i)
}

// pull lets the readers of a queue take what is visible: filling batches
// first, then idle readers, link by link.
func (e *engine) pull(n *node) {
	q := n.queue
	q.pulling = false
	if ln := e.lanes[n.id]; ln != nil && e.trace == nil && (ln.d.paused || !e.pullFast(ln)) {
		return
	}
	for _, rl := range q.links {
		for len(rl.filling) > 0 && !rl.delivery.paused {
			b := rl.filling[0]
			i := e.take(n, rl, b)
			if i == 0 {
				break
			}
			if e.addToBatch(b, i) == rl.link.Read.UpTo {
				e.startBatch(b)
			}
		}
		if rl.ahead != nil {
			e.resumeReaders(n, rl)
		}
	}
	if len(q.links) == 1 {
		rl := q.links[0]
		for rl.idles > 0 && !rl.delivery.paused && e.takeBatch(n, rl, rl.idle()) {
		}
	} else {
		e.pullInTurn(n)
	}
	for _, rl := range q.links {
		if rl.ahead != nil && !rl.delivery.paused {
			e.prefetch(n, rl)
		}
	}
}

// pullInTurn lets the idle readers of several links take, the one that has been idle
// longest first [PR-05].
func (e *engine) pullInTurn(n *node) {
	nothing := uint64(0) // bits of the links that have nothing to take
	for {
		var next *readerLink
		for _, rl := range n.queue.links {
			if rl.idles > 0 && !rl.delivery.paused && nothing&rl.bit == 0 &&
				(next == nil || rl.since[rl.head] < next.since[next.head]) {
				next = rl
			}
		}
		if next == nil {
			return
		}
		if !e.takeBatch(n, next, next.idle()) {
			nothing |= next.bit
		}
	}
}

// takeBatch lets an idle reader take a batch; false: there is nothing for it.
func (e *engine) takeBatch(n *node, rl *readerLink, r int) bool {
	q := n.queue
	first, plain := uint32(0), q.plain && e.trace == nil
	if !plain || !e.firstIsUsual(q, rl) {
		if first = e.take(n, rl, 0); first == 0 {
			return false
		}
	}
	rl.occupy()
	b := e.newBatch(rl.first+uint32(r), n)
	size, busy := 0, uint16(0)
	if first != 0 {
		size = e.addToBatch(b, first)
	} else if e.startsAtOnce(rl) {
		busy = 1
	}
	if plain {
		size = e.takePlain(n, rl, b, busy)
	}
	for size < rl.link.Read.UpTo && !(plain && q.front.head == 0) {
		i := e.take(n, rl, b)
		if i == 0 {
			break
		}
		e.inFlightFor(e.copies.At(i)).busy += busy
		size = e.addToBatch(b, i)
	}
	switch {
	case busy == 1 && rl.worker != nil:
		e.startFast(rl.worker, b)
	case busy == 1:
		e.launch(b)
	default:
		e.startOrFill(rl, b, e.Now)
	}
	return true
}

// startOrFill starts a batch that is full or waits for nothing more; any other fills
// until `within` has passed since its first message was taken.
func (e *engine) startOrFill(rl *readerLink, b uint32, since int64) {
	until := since + int64(rl.link.Read.Within)
	if len(e.batches[b].entries) == rl.link.Read.UpTo || until <= e.Now {
		e.startBatch(b)
		return
	}
	rl.filling = append(rl.filling, b)
	e.batches[b].filling = true
	e.batches[b].timer = e.Schedule(until, evFill, b)
}

// startsAtOnce reports whether a batch of a queue's link starts a run as soon as it is
// taken, since it waits for no more and there is room.
func (e *engine) startsAtOnce(rl *readerLink) bool {
	f := &e.nodes[rl.link.To]
	return rl.link.Read.Within == 0 && rl.link.Relation == model.PolledRun && f.pool == nil && f.bucket == nil &&
		f.active.Count < f.limitNow()
}

// setPolicy notes how often, and until when, a message is tried.
func (rl *readerLink) setPolicy() {
	p := &rl.delivery.policy
	rl.tries, rl.giveUp = math.MaxUint16, math.MaxInt64
	if p.Tries > 0 {
		rl.tries = uint16(min(p.Tries, math.MaxUint16))
	}
	if p.GiveUp > 0 {
		rl.giveUp = p.GiveUp
	}
	if rl.delivery.refused {
		rl.tries = 0
	}
}

// takes reports whether some reader could take a message.
func (rl *readerLink) takes() bool { return rl.idles > 0 || len(rl.filling) > 0 }

// occupy makes the reader that idle returned a busy one.
func (rl *readerLink) occupy() {
	if rl.head++; rl.head == len(rl.free) {
		rl.head = 0
	}
	rl.idles--
}

// rest makes a reader of a queue idle again.
func (rl *readerLink) rest(r uint32, q *queue) {
	at := rl.head + rl.idles
	if at >= len(rl.free) {
		at -= len(rl.free)
	}
	rl.free[at] = r
	if rl.since != nil {
		rl.since[at] = q.idleOrder()
	}
	rl.idles++
}

// idle returns the reader that has been idle longest [PR-05], or -1.
func (rl *readerLink) idle() int {
	if rl.idles == 0 {
		return -1
	}
	return int(rl.free[rl.head])
}

// freeReader lets a reader take again, after a pause where its batch was
// throttled.
func (e *engine) freeReader(id uint32, throttled bool) {
	r := &e.readers[id]
	if throttled {
		r.pause, r.link.paused = longerPause(r.pause), true
		e.Schedule(e.Now+r.pause, evReader, id)
		return
	}
	r.pause = 0
	e.readerBack(id)
}

func (e *engine) readerBack(id uint32) {
	r := &e.readers[id]
	n := &e.nodes[r.queue]
	if r.link.ahead != nil && e.resumes(n, r.link, id) {
		return
	}
	r.link.rest(id-r.link.first, n.queue)
	e.wantPull(n)
}

// queueFailed handles a message of a queue whose run did not succeed.
func (e *engine) queueFailed(n *node, i uint32, token uint16, d *delivery, failure int16, final bool) {
	c := e.copies.At(i)
	if c.flags&done != 0 {
		return
	}
	if c.flags&duplicate != 0 {
		e.leaveQueue(n, i, noFate)
		return
	}
	if c.flags&expiring != 0 {
		if e.inFlightOf(c).busy == 0 {
			e.leaveQueue(n, i, Expired)
		}
		return
	}
	if c.tries != token || c.flags&leased == 0 {
		return // handed out again since, or its lease has ended: nothing changes
	}
	e.inFlightFor(c).lastFail = failure
	rejects := d.rejects && failure != errThrottled
	returns := d.policy.WaitSet || rejects // before its lease ends
	wait := e.inFlightOf(c).due - e.Now
	if returns {
		wait = e.jittered(d.policy.Backoff(int(c.tries)), d)
	}
	switch {
	case final || d.isExcept(failure) || rejects && d.policy.Tries > 0 && int(c.tries) >= d.policy.Tries:
		e.endInQueue(n, i, d, Exhausted)
		return
	case failure != errThrottled && d.tooLate(e.Now+wait-c.born):
		e.endInQueue(n, i, d, GivenUp)
		return
	case returns:
		e.hide(n.queue, i)
		e.inFlightFor(c).timer = e.Schedule(e.Now+wait, evVisible, i)
	}
	if e.trace != nil {
		e.trace.waits(e, i, wait, Exhausted, d.policy.Tries)
	}
}

// tooLate reports whether a message of an age is not to be tried any more.
func (d *delivery) tooLate(age int64) bool { return d.policy.GiveUp > 0 && age > d.policy.GiveUp }

func (d *delivery) isExcept(failure int16) bool {
	for _, x := range d.except {
		if x == failure {
			return true
		}
	}
	return false
}

// queueHandled finishes a message whose run succeeded, unless it has been
// handed out again since.
func (e *engine) queueHandled(n *node, i uint32, token uint16, by int) {
	c := e.copies.At(i)
	if c.flags&done != 0 || c.tries != token {
		return
	}
	e.handledBy = by
	e.leaveQueue(n, i, Handled)
}
