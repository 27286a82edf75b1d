package engine

import (
	"math"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/stats"
)

// readerLink is a link of a queue with its readers.
type readerLink struct {
	link     *graph.Link
	Delivery *Delivery
	bit      uint64
	first    uint32       // its readers are first, first+1, …
	free     []uint32     // a ring of those that are idle, the one that has been so longest first
	since    []uint64     // of a queue that several links read: when each of them became idle
	head     int          // of the ring
	idles    int          // how many are idle
	ahead    *prefetching // nil: its readers take nothing ahead of their runs
	tries    uint16       // that a message has; 0: its link is refused
	giveUp   int64        // the age at which it has no more
	worker   *Node        // the function, where batches may take the fast path; else nil
	paused   bool         // some reader has paused after a throttle
	entry    int32        // the latency of what came in there was the last one noted
	latency  *stats.LiveHistogram
	Filling  []uint32 // batches that wait for more
}

// reader takes one batch at a time.
type reader struct {
	link      *readerLink
	Queue     int32 // the queue, or the feed
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
func (e *Engine) take(n *Node, rl *readerLink, batch uint32) uint32 {
	q := n.Queue
	for {
		best := -1
		for i := range q.classes {
			class := &q.classes[i]
			if class.mask&rl.bit != 0 && class.Head != 0 &&
				(best < 0 ||
					e.InFlightOf(e.Copies.At(class.Head)).due < e.InFlightOf(e.Copies.At(q.classes[best].Head)).due) {
				best = i
			}
		}
		if best < 0 {
			return 0
		}
		i := q.classes[best].Head
		if !e.mayTake(n, i, batch) {
			continue
		}
		c := e.Copies.At(i)
		p := &rl.Delivery.policy
		cause := noFate
		switch {
		case rl.Delivery.refused:
			cause = Refused
		case e.overHops(rl, c):
			cause = HopLimit
		case p.Tries > 0 && int(c.Tries) >= p.Tries:
			cause = Exhausted
		case p.GiveUp > 0 && e.Now-c.Born > p.GiveUp:
			cause = GivenUp
		default:
			e.handOut(n, i)
			return i
		}
		e.endInQueue(n, i, rl.Delivery, cause)
	}
}

// overHops reports whether a message is over the hop limit of the function that a
// reader would run.
func (e *Engine) overHops(rl *readerLink, c *Copy) bool {
	return rl.link.Relation == model.PolledRun && e.Nodes[rl.link.To].overHops(int(c.hops))
}

// mayTry reports whether a message is not to be given up.
func (rl *readerLink) mayTry(c *Copy, now int64) bool {
	return c.Tries < rl.tries && now-c.Born <= rl.giveUp
}

// latencyBy gives how long messages took from where one came in to the function that
// a link leads to.
func (e *Engine) latencyBy(rl *readerLink, j *Journey) *stats.LiveHistogram {
	if entry := j.Entry(); entry != rl.entry {
		rl.entry, rl.latency = entry, e.latencyTo(&e.Nodes[rl.link.To], entry)
	}
	return rl.latency
}

// usual reports whether nothing stands against handing a message of a plain queue
// out: no run works on it, and it is not to be given up.
func (e *Engine) usual(rl *readerLink, c *Copy) bool {
	return (c.inFlight == 0 || e.InFlightOf(c).Busy == 0) && rl.mayTry(c, e.Now) && c.Flags&Duplicate == 0
}

// firstIsUsual reports so of the first that is visible in a plain queue.
func (e *Engine) firstIsUsual(q *queue, rl *readerLink) bool {
	first := q.classes[0].Head
	return first != 0 && e.usual(rl, e.Copies.At(first))
}

// takePlain fills a batch with what comes next in a plain queue, until something
// is out of the ordinary, and gives the size of the batch. What is taken is a
// stretch of the visible, and goes as one to the end of the leased. Where the batch
// starts at once (busy is 1, else 0), its reader lends its handling to all of them.
func (e *Engine) takePlain(n *Node, rl *readerLink, batch uint32, busy uint16) int {
	q := n.Queue
	now, warm := e.Now, e.Now >= e.Warm
	due, timer, most := now+q.lease, e.Seq, rl.link.Read.UpTo
	bt := &e.Batches[batch]
	lent := bt.reader + 1
	h := e.InFlights.At(lent)
	h.due, h.Timer, h.lastFail = due, timer, NoError
	size, first, last, i := len(bt.Entries), q.front.Head, uint32(0), q.front.Head
	entries := bt.Entries[:min(cap(bt.Entries), most)]
	for ; size < most && i != 0; size++ {
		if size == len(entries) {
			entries = append(entries, batchEntry{})
			entries = entries[:min(cap(entries), most)]
		}
		c := e.Copies.At(i)
		if !e.usual(rl, c) {
			break
		}
		c.Tries++
		if c.Flags&begun == 0 && warm {
			n.Wait.Add(now - c.Born)
		}
		c.Flags = c.Flags&^visible | begun | Leased
		if busy == 1 && c.inFlight == 0 {
			c.inFlight = lent
		} else {
			h := e.inFlightFor(c)
			h.Held++
			h.Busy += busy
			h.due, h.Timer = due, timer
		}
		timer++
		at := &entries[size]
		at.Copy, at.Token, at.Failure, at.known = i, c.Tries, NoError, false
		last, i = i, c.next
	}
	bt.Entries = entries[:size]
	if last == 0 {
		return size
	}
	e.Seq = timer
	q.front.Head = i
	e.Copies.At(first).prev, e.Copies.At(last).next = q.leases.tail, 0
	if q.leases.tail != 0 {
		e.Copies.At(q.leases.tail).next = first
	} else {
		q.leases.Head = first
	}
	q.leases.tail = last
	if q.leaseSeq == 0 {
		q.armLease(e, n, e.InFlightOf(e.Copies.At(first)).Timer, due)
	}
	return size
}

// lend starts the lease of a message that is handed out.
func (e *Engine) lend(n *Node, c *Copy, i uint32) {
	q := n.Queue
	h := e.inFlightFor(c)
	h.Held++
	c.Flags |= Leased
	h.due = e.Now + q.lease
	h.Timer = e.Sequence()
	e.putLast(&q.leases, c, i)
	if q.leaseSeq == 0 {
		q.armLease(e, n, h.Timer, h.due)
	}
}

// endInQueue gives up a message of a queue.
func (e *Engine) endInQueue(n *Node, i uint32, d *Delivery, cause Fate) {
	if d.dead >= 0 && e.Copies.At(i).Flags&Duplicate == 0 {
		e.deadLetter(i, d.dead)
		cause = Passed
	}
	e.LeaveQueue(n, i, cause)
}

// handOut counts a try and starts the lease.
func (e *Engine) handOut(n *Node, i uint32) {
	e.hide(n.Queue, i)
	c := e.Copies.At(i)
	c.Tries++
	if (e.InFlightOf(c).Busy > 0 || c.Flags&crashed != 0) && c.Flags&Duplicate == 0 {
		n.Redelivered++
	}
	c.Flags &^= crashed
	if c.Flags&begun == 0 {
		c.Flags |= begun
		if e.Now >= e.Warm && c.Flags&Duplicate == 0 {
			n.Wait.Add(e.Now - c.Born)
		}
	}
	e.lend(n, c, i)
}

// pull lets the readers of a queue take what is visible: filling batches
// first, then idle readers, link by link.
func (e *Engine) pull(n *Node) {
	q := n.Queue
	q.pulling = false
	if ln := e.lanes[n.ID]; ln != nil && e.Trace == nil && (ln.d.Paused || !e.pullFast(ln)) {
		return
	}
	for _, rl := range q.Links {
		for len(rl.Filling) > 0 && !rl.Delivery.Paused {
			b := rl.Filling[0]
			i := e.take(n, rl, b)
			if i == 0 {
				break
			}
			if e.addToBatch(b, i) == rl.link.Read.UpTo {
				e.StartBatch(b)
			}
		}
		if rl.ahead != nil {
			e.resumeReaders(n, rl)
		}
	}
	if len(q.Links) == 1 {
		rl := q.Links[0]
		for rl.idles > 0 && !rl.Delivery.Paused && e.takeBatch(n, rl, rl.idle()) {
		}
	} else {
		e.pullInTurn(n)
	}
	for _, rl := range q.Links {
		if rl.ahead != nil && !rl.Delivery.Paused {
			e.prefetch(n, rl)
		}
	}
}

// pullInTurn lets the idle readers of several links take, the one that has been idle
// longest first [PR-05].
func (e *Engine) pullInTurn(n *Node) {
	nothing := uint64(0) // bits of the links that have nothing to take
	for {
		var next *readerLink
		for _, rl := range n.Queue.Links {
			if rl.idles > 0 && !rl.Delivery.Paused && nothing&rl.bit == 0 &&
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
func (e *Engine) takeBatch(n *Node, rl *readerLink, r int) bool {
	q := n.Queue
	first, plain := uint32(0), q.plain && e.Trace == nil
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
	for size < rl.link.Read.UpTo && !(plain && q.front.Head == 0) {
		i := e.take(n, rl, b)
		if i == 0 {
			break
		}
		e.inFlightFor(e.Copies.At(i)).Busy += busy
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
func (e *Engine) startOrFill(rl *readerLink, b uint32, since int64) {
	until := since + int64(rl.link.Read.Within)
	if len(e.Batches[b].Entries) == rl.link.Read.UpTo || until <= e.Now {
		e.StartBatch(b)
		return
	}
	rl.Filling = append(rl.Filling, b)
	e.Batches[b].filling = true
	e.Batches[b].timer = e.Schedule(until, EvFill, b)
}

// startsAtOnce reports whether a batch of a queue's link starts a run as soon as it is
// taken, since it waits for no more and there is room.
func (e *Engine) startsAtOnce(rl *readerLink) bool {
	f := &e.Nodes[rl.link.To]
	return rl.link.Read.Within == 0 && rl.link.Relation == model.PolledRun && f.pool == nil && f.bucket == nil &&
		f.Active.Count < f.limitNow()
}

// setPolicy notes how often, and until when, a message is tried.
func (rl *readerLink) setPolicy() {
	p := &rl.Delivery.policy
	rl.tries, rl.giveUp = math.MaxUint16, math.MaxInt64
	if p.Tries > 0 {
		rl.tries = uint16(min(p.Tries, math.MaxUint16))
	}
	if p.GiveUp > 0 {
		rl.giveUp = p.GiveUp
	}
	if rl.Delivery.refused {
		rl.tries = 0
	}
}

// takes reports whether some reader could take a message.
func (rl *readerLink) takes() bool { return rl.idles > 0 || len(rl.Filling) > 0 }

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
func (e *Engine) freeReader(id uint32, throttled bool) {
	r := &e.Readers[id]
	if throttled {
		r.pause, r.link.paused = longerPause(r.pause), true
		e.Schedule(e.Now+r.pause, EvReader, id)
		return
	}
	r.pause = 0
	e.readerBack(id)
}

func (e *Engine) readerBack(id uint32) {
	r := &e.Readers[id]
	n := &e.Nodes[r.Queue]
	if r.link.ahead != nil && e.resumes(n, r.link, id) {
		return
	}
	r.link.rest(id-r.link.first, n.Queue)
	e.WantPull(n)
}

// queueFailed handles a message of a queue whose run did not succeed.
func (e *Engine) queueFailed(n *Node, i uint32, token uint16, d *Delivery, failure int16, final bool) {
	c := e.Copies.At(i)
	if c.Flags&Done != 0 {
		return
	}
	if c.Flags&Duplicate != 0 {
		e.LeaveQueue(n, i, noFate)
		return
	}
	if c.Flags&expiring != 0 {
		if e.InFlightOf(c).Busy == 0 {
			e.LeaveQueue(n, i, Expired)
		}
		return
	}
	if c.Tries != token || c.Flags&Leased == 0 {
		return // handed out again since, or its lease has ended: nothing changes
	}
	e.inFlightFor(c).lastFail = failure
	rejects := d.rejects && failure != errThrottled
	returns := d.policy.WaitSet || rejects // before its lease ends
	wait := e.InFlightOf(c).due - e.Now
	if returns {
		wait = e.jittered(d.policy.Backoff(int(c.Tries)), d)
	}
	switch {
	case final || d.isExcept(failure) || rejects && d.policy.Tries > 0 && int(c.Tries) >= d.policy.Tries:
		e.endInQueue(n, i, d, Exhausted)
		return
	case failure != errThrottled && d.tooLate(e.Now+wait-c.Born):
		e.endInQueue(n, i, d, GivenUp)
		return
	case returns:
		e.hide(n.Queue, i)
		e.inFlightFor(c).Timer = e.Schedule(e.Now+wait, EvVisible, i)
	}
	if e.Trace != nil {
		e.Trace.Waits(i, wait, Exhausted, d.policy.Tries)
	}
}

// tooLate reports whether a message of an age is not to be tried any more.
func (d *Delivery) tooLate(age int64) bool { return d.policy.GiveUp > 0 && age > d.policy.GiveUp }

func (d *Delivery) isExcept(failure int16) bool {
	for _, x := range d.except {
		if x == failure {
			return true
		}
	}
	return false
}

// queueHandled finishes a message whose run succeeded, unless it has been
// handed out again since.
func (e *Engine) queueHandled(n *Node, i uint32, token uint16, by int) {
	c := e.Copies.At(i)
	if c.Flags&Done != 0 || c.Tries != token {
		return
	}
	e.HandledBy = by
	e.LeaveQueue(n, i, Handled)
}
