package sim

import (
	"fmt"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

const minWait = int64(time.Millisecond)

// queue is the state of a queue: what is visible, what is handed out, and all
// that lies in it by age. The lists run through the copies.
type queue struct {
	only       *readerLink // the link that takes everything, in the order in which it comes
	front      *list       // what it can take
	plain      bool        // there is such a link
	pulling    bool
	prefetches bool // some reader takes ahead of its runs
	ages       list
	ageSeq     uint64 // of the armed timer, 0: none
	classes    []visibleClass
	order      int64  // place of the next message that becomes visible
	idled      uint64 // counts readers that became idle
	leases     list
	leaseSeq   uint64 // of the armed timer, 0: none
	ageDue     int64  // when it comes
	links      []*readerLink
	lease      int64
	delay      int64
	retention  int64
	carryAge   bool
	groups     *groups          // nil: order does not matter
	seen       map[string]int64 // keys of dedupe, and until when they count
	window     int64
	feed       *feed // what reads a stream by this link, instead of readers of a queue
}

// idleOrder returns the place of a reader that becomes idle among those of all links.
func (q *queue) idleOrder() uint64 {
	q.idled++
	return q.idled
}

// list is a doubly linked list of copies; empty: its head is 0. What its tail, or
// the one before its head, then is says nothing, where it is taken from the front.
type list struct{ head, tail uint32 }

// end gives the last of a list; 0: it is empty.
func (l *list) end() uint32 {
	last := l.tail
	if l.head == 0 {
		last = 0
	}
	return last
}

// lengthen counts one more as the last.
func (l *list) lengthen(i uint32) {
	head := l.head
	if head == 0 {
		head = i
	}
	l.head, l.tail = head, i
}

// visibleClass holds the visible messages that the same links match.
type visibleClass struct {
	mask uint64
	list
}

func (e *engine) setUpQueue(n *node) error {
	gn := &e.g.Nodes[n.id]
	q := &queue{lease: int64(gn.Lease), delay: int64(gn.Delay), retention: int64(gn.Retention), carryAge: gn.CarryAge}
	n.queue = q
	if gn.Dedupe != nil {
		q.seen, q.window = map[string]int64{}, int64(gn.Dedupe.Within)
	}
	n.capacity = int64(gn.Capacity)
	if len(gn.Out) > 64 {
		return fmt.Errorf("%s: %d links leave one queue; at most 64 can be simulated", gn.Name, len(gn.Out))
	}
	for i, id := range gn.Out {
		l := &e.g.Links[id]
		rl := &readerLink{
			link:     l,
			delivery: &e.deliveries[id],
			bit:      1 << i,
			entry:    -1,
			first:    uint32(len(e.readers)),
			free:     make([]uint32, l.Read.Parallel),
		}
		if len(gn.Out) > 1 {
			rl.since = make([]uint64, l.Read.Parallel)
		}
		if l.Read.Prefetch > 0 {
			q.prefetches = true
			rl.ahead = &prefetching{taken: make([][]batchEntry, l.Read.Parallel), first: make([]int64, l.Read.Parallel)}
		}
		rl.setPolicy()
		for r := 0; r < l.Read.Parallel; r++ {
			rl.rest(uint32(r), q)
			e.readers = append(e.readers, reader{link: rl, queue: int32(n.id)})
		}
		q.links = append(q.links, rl)
	}
	if gn.Grouped {
		q.groups = newGroups(q.links)
	}
	if !e.plan.DisableFastPath && len(q.links) == 1 && q.links[0].link.Filter.Everything &&
		!e.limitsHops(q.links[0].link) &&
		q.links[0].ahead == nil {
		q.classes = append(q.classes, visibleClass{mask: 1})
		q.plain, q.only = q.groups == nil && q.seen == nil && q.delay == 0 && n.twice == 0 && !q.carryAge, q.links[0]
		q.front = &q.classes[0].list
	}
	return nil
}

// limitsHops reports whether a reader leads to a function that has a hop limit.
func (e *engine) limitsHops(l *graph.Link) bool {
	return l.Relation == model.PolledRun && e.g.Nodes[l.To].HopLimit != model.NoHopLimit
}

func (e *engine) standInQueue(n *node, i uint32) {
	c := e.copies.At(i)
	q := n.queue
	if q.plain && c.flags&duplicate == 0 && e.trace == nil {
		e.enqueueSimple(n, c, i)
		e.wantPull(n)
		return
	}
	if q.seen != nil && e.duplicate(n, i) {
		n.deduplicated++
		e.finish(i, Passed)
		return
	}
	e.countDepth(n, c)
	if n.twice > 0 && c.flags&duplicate == 0 {
		defer e.deliverTwice(n, i)
	}
	if q.groups != nil {
		group := e.groupOf(n, i)
		c = e.copies.At(i)
		e.inFlightFor(c).group = group
	}
	e.insertByAge(n, i)
	if len(q.links) == 0 {
		e.rest(i)
		return
	}
	if q.delay > 0 {
		e.inFlightFor(c).timer = e.Schedule(e.Now+q.delay, evVisible, i)
		return
	}
	e.becomeVisible(i)
}

// enqueueSimple lets a message enter a queue of which one link takes everything, in
// the order in which it comes.
func (e *engine) enqueueSimple(n *node, c *copyRecord, i uint32) {
	q := n.queue
	n.depth.Rise(e.Now)
	if c.born < e.Now { // its write was rejected at first: others may have come meanwhile
		e.insertByAge(n, i)
	} else {
		youngest := q.ages.tail
		c.older, c.younger = youngest, 0
		e.copies.At(youngest).younger = i
		q.ages.lengthen(i)
		if q.ageSeq == 0 {
			q.armAge(e, n, c.age, c.born+q.retention)
		}
	}
	d := q.only.delivery
	d.offered++
	d.matched++
	c.flags |= visible | countedInDepth
	e.putLast(q.front, c, i)
}

// duplicate reports whether a message's key has come within the window before.
func (e *engine) duplicate(n *node, i uint32) bool {
	q := n.queue
	m := e.messageOf(e.copies.At(i))
	v, err := e.g.Nodes[n.id].DedupeBy.Value(e.eventOfMessage(&m, "message"))
	if err != nil {
		return false // without a key it is like no other
	}
	key := fmt.Sprint(v)
	if until, ok := q.seen[key]; ok && e.Now < until {
		return true
	}
	if len(q.seen) >= 1024 && len(q.seen)&(len(q.seen)-1) == 0 { // at each power of two, forget what no longer counts
		for k, until := range q.seen {
			if e.Now >= until {
				delete(q.seen, k)
			}
		}
	}
	q.seen[key] = e.Now + q.window
	return false
}

// insertByAge puts a copy into the list by age and arms the timer of the oldest.
func (e *engine) insertByAge(n *node, i uint32) {
	q := n.queue
	c := e.copies.At(i)
	after := q.ages.tail
	for after != 0 && e.copies.At(after).born > c.born { // only with `age: carried`
		after = e.copies.At(after).older
	}
	c.older, c.younger = after, q.ages.head
	if after != 0 {
		c.younger = e.copies.At(after).younger
		e.copies.At(after).younger = i
	} else {
		q.ages.head = i
	}
	if c.younger != 0 {
		e.copies.At(c.younger).older = i
	} else {
		q.ages.tail = i
	}
	// A timer that is armed for an earlier message, gone since, arms the next
	// when it comes.
	if due := max(c.born+q.retention, e.Now); q.ageSeq == 0 || q.ages.head == i && due < q.ageDue {
		q.armAge(e, n, c.age, due)
	}
}

func (e *engine) unlinkAge(q *queue, c *copyRecord) {
	older, younger := c.older, c.younger
	e.copies.At(older).younger = younger
	e.copies.At(younger).older = older
	head, tail := q.ages.head, q.ages.tail
	if older == 0 {
		head = younger
	}
	if younger == 0 {
		tail = older
	}
	q.ages.head, q.ages.tail = head, tail
}

func (q *queue) armAge(e *engine, n *node, seq uint64, due int64) {
	q.ageSeq, q.ageDue = seq, due
	e.ArmTimer(due, seq, evAge, uint32(n.id))
}

// ageEnds comes when the retention of the message that was oldest ends.
func (e *engine) ageEnds(n *node, seq uint64) {
	q := n.queue
	if seq != q.ageSeq {
		return
	}
	q.ageSeq = 0
	for q.ages.head != 0 {
		i := q.ages.head
		c := e.copies.At(i)
		if due := c.born + q.retention; due > e.Now || due == e.Now && c.age > seq {
			q.armAge(e, n, c.age, due)
			return
		}
		e.expire(n, i)
	}
}

// expire loses a message whose retention has ended, unless a run under way may
// still finish with it.
func (e *engine) expire(n *node, i uint32) {
	c := e.copies.At(i)
	e.hide(n.queue, i)
	if e.inFlightOf(c).busy > 0 {
		c.flags |= expiring
		e.unlinkAge(n.queue, c)
		c.older, c.younger = 0, 0
		e.waitsNoMore(c)
		return
	}
	e.leaveQueue(n, i, Expired)
}

// leaveQueue takes a copy out of all lists and gives it its fate.
func (e *engine) leaveQueue(n *node, i uint32, f Fate) {
	c := e.copies.At(i)
	e.hide(n.queue, i)
	if c.flags&expiring == 0 {
		e.unlinkAge(n.queue, c)
	}
	e.unblock(n, i, true)
	if n.queue.feed != nil {
		e.leaveFeed(n.queue.feed, i)
	}
	e.finish(i, f)
}

// hide takes a copy out of the visible or the leased list.
func (e *engine) hide(q *queue, i uint32) {
	c := e.copies.At(i)
	var l *list
	switch {
	case c.flags&unread != 0:
		l = &q.feed.parts[e.inFlightOf(c).group].list
	case c.flags&visible != 0:
		l = &q.classes[c.class].list
		if q.groups != nil {
			g := e.inGroup(q, c)
			g.shown = remove(g.shown, i)
		}
	case c.flags&leased != 0:
		l = &q.leases
	case c.flags&heldBack != 0:
		l = &e.inGroup(q, c).held
	default:
		return
	}
	e.takeOut(l, c, i)
	c.flags &^= unread | visible | leased | heldBack
}

// takeOut takes a copy out of a list.
func (e *engine) takeOut(l *list, c *copyRecord, i uint32) {
	if l.head == i {
		l.head = c.next
	} else {
		e.copies.At(c.prev).next = c.next
	}
	if l.tail == i {
		l.tail = c.prev
	} else {
		e.copies.At(c.next).prev = c.prev
	}
}

// putLast puts a copy at the end of a list.
func (e *engine) putLast(l *list, c *copyRecord, i uint32) {
	last := l.end()
	c.prev, c.next = last, 0
	e.copies.At(last).next = i
	l.lengthen(i)
}

// insertAfter puts a copy into a list behind another; 0: at the front.
func (e *engine) insertAfter(l *list, i, after uint32) {
	c := e.copies.At(i)
	c.prev, c.next = after, l.head
	if after != 0 {
		c.next = e.copies.At(after).next
		e.copies.At(after).next = i
	} else {
		l.head = i
	}
	if c.next != 0 {
		e.copies.At(c.next).prev = i
	} else {
		l.tail = i
	}
}

// becomeVisible makes a message ready to be taken, unless its group is
// blocked.
func (e *engine) becomeVisible(i uint32) {
	c := e.copies.At(i)
	n := &e.nodes[c.node]
	e.waitsNoMore(c)
	if n.queue.groups == nil {
		e.show(n, i)
		return
	}
	e.readyInGroup(n, i)
}

// show makes a message visible to the links that match it.
func (e *engine) show(n *node, i uint32) {
	c := e.copies.At(i)
	q := n.queue
	if c.flags&duplicate != 0 && c.tries > 0 {
		e.leaveQueue(n, i, noFate)
		return
	}
	class := e.classOf(q, i)
	if class < 0 {
		return // no link matches: it waits for its retention to end
	}
	q.order++
	c.class = uint8(class)
	if len(q.links) > 1 {
		e.inFlightFor(c).due = q.order
	} else if q.groups == nil && e.inFlightOf(c).held == 0 {
		e.dropInFlight(c)
	}
	c.flags |= visible
	if q.groups != nil {
		g := e.inGroup(q, c)
		g.shown = append(g.shown, i)
	}
	e.putLast(&q.classes[class].list, c, i)
	e.wantPull(n)
}

// wantPull lets the readers of a queue take what is visible, behind all that is
// scheduled for this instant. Where nothing is visible, or nobody can take it,
// whoever changes that asks again.
func (e *engine) wantPull(n *node) {
	if q := n.queue; !q.pulling && (q.ready() || q.prefetches) {
		q.pulling = true
		e.ScheduleNow(evPull, uint32(n.id))
	}
}

// ready reports whether something is visible and some reader could take it.
func (q *queue) ready() bool {
	if q.plain {
		return q.front.head != 0 && q.only.takes()
	}
	for i := range q.classes {
		if q.classes[i].head == 0 {
			continue
		}
		for _, rl := range q.links {
			if rl.takes() {
				return true
			}
		}
		return false
	}
	return false
}

// classOf finds the class of the links that match a message; -1: none does.
func (e *engine) classOf(q *queue, i uint32) int {
	c := e.copies.At(i)
	mask := uint64(0)
	var m message
	for _, rl := range q.links {
		ok := rl.link.Filter.Everything
		if !ok {
			m = e.messageOf(c)
			ok = rl.link.Filter.Takes(e.eventOfMessage(&m, "message"))
		}
		if ok {
			mask |= rl.bit
		}
		if c.tries > 0 {
			continue
		}
		rl.delivery.offered++
		if ok {
			rl.delivery.matched++
		}
		if e.trace != nil {
			why := ""
			if !ok {
				why = rl.link.Filter.Why(e.eventOfMessage(&m, "message"))
			}
			e.trace.offered(e, i, rl.link, why)
		}
	}
	if mask == 0 {
		return -1
	}
	for i := range q.classes {
		if q.classes[i].mask == mask {
			return i
		}
	}
	if len(q.classes) == 256 {
		// So many combinations of filters are not told apart: first link first.
		mask &= -mask
	}
	q.classes = append(q.classes, visibleClass{mask: mask})
	return len(q.classes) - 1
}

func (q *queue) armLease(e *engine, n *node, seq uint64, due int64) {
	q.leaseSeq = seq
	e.ArmTimer(due, seq, evLease, uint32(n.id))
}

// leaseEnds comes when the oldest lease ends; messages whose lease has ended
// are visible again.
func (e *engine) leaseEnds(n *node, seq uint64) {
	q := n.queue
	if seq != q.leaseSeq {
		return
	}
	q.leaseSeq = 0
	i := q.leases.head
	if h := e.inFlightOf(e.copies.At(i)); i != 0 && h.due <= e.Now && h.timer <= seq {
		e.hide(q, i)
		e.becomeVisible(i)
		i = q.leases.head
	}
	if i != 0 {
		c := e.copies.At(i)
		h := e.inFlightOf(c)
		q.armLease(e, n, h.timer, h.due)
	}
}
