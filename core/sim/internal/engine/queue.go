package engine

import (
	"fmt"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

const MinWait = int64(time.Millisecond)

// queue is the state of a queue: what is visible, what is handed out, and all
// that lies in it by age. The lists run through the copies.
type queue struct {
	only       *readerLink // the link that takes everything, in the order in which it comes
	front      *list       // what it can take
	plain      bool        // there is such a link
	pulling    bool
	prefetches bool // some reader takes ahead of its runs
	Ages       list
	ageSeq     uint64 // of the armed timer, 0: none
	classes    []visibleClass
	order      int64  // place of the next message that becomes visible
	idled      uint64 // counts readers that became idle
	leases     list
	leaseSeq   uint64 // of the armed timer, 0: none
	ageDue     int64  // when it comes
	Links      []*readerLink
	lease      int64
	delay      int64
	retention  int64
	carryAge   bool
	groups     *groups          // nil: order does not matter
	seen       map[string]int64 // keys of dedupe, and until when they count
	window     int64
	Feed       *feed // what reads a stream by this link, instead of readers of a queue
}

// idleOrder returns the place of a reader that becomes idle among those of all links.
func (q *queue) idleOrder() uint64 {
	q.idled++
	return q.idled
}

// list is a doubly linked list of copies; empty: its head is 0. What its tail, or
// the one before its head, then is says nothing, where it is taken from the front.
type list struct{ Head, tail uint32 }

// end gives the last of a list; 0: it is empty.
func (l *list) end() uint32 {
	last := l.tail
	if l.Head == 0 {
		last = 0
	}
	return last
}

// lengthen counts one more as the last.
func (l *list) lengthen(i uint32) {
	head := l.Head
	if head == 0 {
		head = i
	}
	l.Head, l.tail = head, i
}

// visibleClass holds the visible messages that the same links match.
type visibleClass struct {
	mask uint64
	list
}

func (e *Engine) setUpQueue(n *Node) error {
	gn := &e.Graph.Nodes[n.ID]
	q := &queue{lease: int64(gn.Lease), delay: int64(gn.Delay), retention: int64(gn.Retention), carryAge: gn.CarryAge}
	n.Queue = q
	if gn.Dedupe != nil {
		q.seen, q.window = map[string]int64{}, int64(gn.Dedupe.Within)
	}
	n.capacity = int64(gn.Capacity)
	if len(gn.Out) > 64 {
		return fmt.Errorf("%s: %d links leave one queue; at most 64 can be simulated", gn.Name, len(gn.Out))
	}
	for i, id := range gn.Out {
		l := &e.Graph.Links[id]
		rl := &readerLink{
			link:     l,
			Delivery: &e.Deliveries[id],
			bit:      1 << i,
			entry:    -1,
			first:    uint32(len(e.Readers)),
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
			e.Readers = append(e.Readers, reader{link: rl, Queue: int32(n.ID)})
		}
		q.Links = append(q.Links, rl)
	}
	if gn.Grouped {
		q.groups = newGroups(q.Links)
	}
	if !e.Plan.DisableFastPath && len(q.Links) == 1 && q.Links[0].link.Filter.Everything &&
		!e.limitsHops(q.Links[0].link) &&
		q.Links[0].ahead == nil {
		q.classes = append(q.classes, visibleClass{mask: 1})
		q.plain, q.only = q.groups == nil && q.seen == nil && q.delay == 0 && n.twice == 0 && !q.carryAge, q.Links[0]
		q.front = &q.classes[0].list
	}
	return nil
}

// limitsHops reports whether a reader leads to a function that has a hop limit.
func (e *Engine) limitsHops(l *graph.Link) bool {
	return l.Relation == model.PolledRun && e.Graph.Nodes[l.To].HopLimit != model.NoHopLimit
}

func (e *Engine) standInQueue(n *Node, i uint32) {
	c := e.Copies.At(i)
	q := n.Queue
	if q.plain && c.Flags&Duplicate == 0 && e.Trace == nil {
		e.enqueueSimple(n, c, i)
		e.WantPull(n)
		return
	}
	if q.seen != nil && e.duplicate(n, i) {
		n.Deduplicated++
		e.Finish(i, Passed)
		return
	}
	e.countDepth(n, c)
	if n.twice > 0 && c.Flags&Duplicate == 0 {
		defer e.deliverTwice(n, i)
	}
	if q.groups != nil {
		group := e.groupOf(n, i)
		c = e.Copies.At(i)
		e.inFlightFor(c).group = group
	}
	e.insertByAge(n, i)
	if len(q.Links) == 0 {
		e.rest(i)
		return
	}
	if q.delay > 0 {
		e.inFlightFor(c).Timer = e.Schedule(e.Now+q.delay, EvVisible, i)
		return
	}
	e.becomeVisible(i)
}

// enqueueSimple lets a message enter a queue of which one link takes everything, in
// the order in which it comes.
func (e *Engine) enqueueSimple(n *Node, c *Copy, i uint32) {
	q := n.Queue
	n.Depth.Rise(e.Now)
	if c.Born < e.Now { // its write was rejected at first: others may have come meanwhile
		e.insertByAge(n, i)
	} else {
		youngest := q.Ages.tail
		c.older, c.Younger = youngest, 0
		e.Copies.At(youngest).Younger = i
		q.Ages.lengthen(i)
		if q.ageSeq == 0 {
			q.armAge(e, n, c.Age, c.Born+q.retention)
		}
	}
	d := q.only.Delivery
	d.Offered++
	d.Matched++
	c.Flags |= visible | CountedInDepth
	e.putLast(q.front, c, i)
}

// duplicate reports whether a message's key has come within the window before.
func (e *Engine) duplicate(n *Node, i uint32) bool {
	q := n.Queue
	m := e.MessageOf(e.Copies.At(i))
	v, err := e.Graph.Nodes[n.ID].DedupeBy.Value(e.EventOfMessage(&m, "message"))
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
func (e *Engine) insertByAge(n *Node, i uint32) {
	q := n.Queue
	c := e.Copies.At(i)
	after := q.Ages.tail
	for after != 0 && e.Copies.At(after).Born > c.Born { // only with `age: carried`
		after = e.Copies.At(after).older
	}
	c.older, c.Younger = after, q.Ages.Head
	if after != 0 {
		c.Younger = e.Copies.At(after).Younger
		e.Copies.At(after).Younger = i
	} else {
		q.Ages.Head = i
	}
	if c.Younger != 0 {
		e.Copies.At(c.Younger).older = i
	} else {
		q.Ages.tail = i
	}
	// A timer that is armed for an earlier message, gone since, arms the next
	// when it comes.
	if due := max(c.Born+q.retention, e.Now); q.ageSeq == 0 || q.Ages.Head == i && due < q.ageDue {
		q.armAge(e, n, c.Age, due)
	}
}

func (e *Engine) unlinkAge(q *queue, c *Copy) {
	older, younger := c.older, c.Younger
	e.Copies.At(older).Younger = younger
	e.Copies.At(younger).older = older
	head, tail := q.Ages.Head, q.Ages.tail
	if older == 0 {
		head = younger
	}
	if younger == 0 {
		tail = older
	}
	q.Ages.Head, q.Ages.tail = head, tail
}

func (q *queue) armAge(e *Engine, n *Node, seq uint64, due int64) {
	q.ageSeq, q.ageDue = seq, due
	e.ArmTimer(due, seq, EvAge, uint32(n.ID))
}

// ageEnds comes when the retention of the message that was oldest ends.
func (e *Engine) ageEnds(n *Node, seq uint64) {
	q := n.Queue
	if seq != q.ageSeq {
		return
	}
	q.ageSeq = 0
	for q.Ages.Head != 0 {
		i := q.Ages.Head
		c := e.Copies.At(i)
		if e.outlives(q, i, e.Now, seq) {
			q.armAge(e, n, c.Age, c.Born+q.retention)
			return
		}
		e.expire(n, i)
	}
}

// outlives reports whether the retention of a message ends behind a timer that comes at an instant.
func (e *Engine) outlives(q *queue, i uint32, at int64, timer uint64) bool {
	c := e.Copies.At(i)
	due := c.Born + q.retention
	return due > at || due == at && c.Age > timer
}

// expire loses a message whose retention has ended, unless a run in progress may
// still finish with it.
func (e *Engine) expire(n *Node, i uint32) {
	c := e.Copies.At(i)
	e.hide(n.Queue, i)
	if e.InFlightOf(c).Busy > 0 {
		c.Flags |= expiring
		e.unlinkAge(n.Queue, c)
		c.older, c.Younger = 0, 0
		e.WaitsNoMore(c)
		return
	}
	e.LeaveQueue(n, i, Expired)
}

// LeaveQueue takes a copy out of all lists and gives it its fate.
func (e *Engine) LeaveQueue(n *Node, i uint32, f Fate) {
	c := e.Copies.At(i)
	e.hide(n.Queue, i)
	if c.Flags&expiring == 0 {
		e.unlinkAge(n.Queue, c)
	}
	e.unblock(n, i, true)
	if n.Queue.Feed != nil {
		e.leaveFeed(n.Queue.Feed, i)
	}
	e.Finish(i, f)
}

// hide takes a copy out of the visible or the leased list.
func (e *Engine) hide(q *queue, i uint32) {
	c := e.Copies.At(i)
	var l *list
	switch {
	case c.Flags&unread != 0:
		l = &q.Feed.parts[e.InFlightOf(c).group].list
	case c.Flags&visible != 0:
		l = &q.classes[c.class].list
		if q.groups != nil {
			g := e.inGroup(q, c)
			g.shown = remove(g.shown, i)
		}
	case c.Flags&Leased != 0:
		l = &q.leases
	case c.Flags&HeldBack != 0:
		l = &e.inGroup(q, c).held
	default:
		return
	}
	e.takeOut(l, c, i)
	c.Flags &^= unread | visible | Leased | HeldBack
}

// takeOut takes a copy out of a list.
func (e *Engine) takeOut(l *list, c *Copy, i uint32) {
	if l.Head == i {
		l.Head = c.next
	} else {
		e.Copies.At(c.prev).next = c.next
	}
	if l.tail == i {
		l.tail = c.prev
	} else {
		e.Copies.At(c.next).prev = c.prev
	}
}

// putLast puts a copy at the end of a list.
func (e *Engine) putLast(l *list, c *Copy, i uint32) {
	last := l.end()
	c.prev, c.next = last, 0
	e.Copies.At(last).next = i
	l.lengthen(i)
}

// insertAfter puts a copy into a list behind another; 0: at the front.
func (e *Engine) insertAfter(l *list, i, after uint32) {
	c := e.Copies.At(i)
	c.prev, c.next = after, l.Head
	if after != 0 {
		c.next = e.Copies.At(after).next
		e.Copies.At(after).next = i
	} else {
		l.Head = i
	}
	if c.next != 0 {
		e.Copies.At(c.next).prev = i
	} else {
		l.tail = i
	}
}

// becomeVisible makes a message ready to be taken, unless its group is
// blocked.
func (e *Engine) becomeVisible(i uint32) {
	c := e.Copies.At(i)
	n := &e.Nodes[c.Node]
	e.WaitsNoMore(c)
	if n.Queue.groups == nil {
		e.show(n, i)
		return
	}
	e.readyInGroup(n, i)
}

// show makes a message visible to the links that match it.
func (e *Engine) show(n *Node, i uint32) {
	c := e.Copies.At(i)
	q := n.Queue
	if c.Flags&Duplicate != 0 && c.Tries > 0 {
		e.LeaveQueue(n, i, noFate)
		return
	}
	class := e.classOf(q, i)
	if class < 0 {
		return // no link matches: it waits for its retention to end
	}
	q.order++
	c.class = uint8(class)
	if len(q.Links) > 1 {
		e.inFlightFor(c).due = q.order
	} else if q.groups == nil && e.InFlightOf(c).Held == 0 {
		e.dropInFlight(c)
	}
	c.Flags |= visible
	if q.groups != nil {
		g := e.inGroup(q, c)
		g.shown = append(g.shown, i)
	}
	e.putLast(&q.classes[class].list, c, i)
	e.WantPull(n)
}

// WantPull lets the readers of a queue take what is visible, behind all that is
// scheduled for this instant. Where nothing is visible, or no reader can take it,
// whoever changes that asks again.
func (e *Engine) WantPull(n *Node) {
	if q := n.Queue; !q.pulling && (q.ready() || q.prefetches) {
		q.pulling = true
		e.ScheduleNow(EvPull, uint32(n.ID))
	}
}

// ready reports whether something is visible and some reader could take it.
func (q *queue) ready() bool {
	if q.plain {
		return q.front.Head != 0 && q.only.takes()
	}
	for i := range q.classes {
		if q.classes[i].Head == 0 {
			continue
		}
		for _, rl := range q.Links {
			if rl.takes() {
				return true
			}
		}
		return false
	}
	return false
}

// classOf finds the class of the links that match a message; -1: none does.
func (e *Engine) classOf(q *queue, i uint32) int {
	c := e.Copies.At(i)
	mask := uint64(0)
	var m Message
	for _, rl := range q.Links {
		ok := rl.link.Filter.Everything
		if !ok {
			m = e.MessageOf(c)
			ok = rl.link.Filter.Takes(e.EventOfMessage(&m, "message"))
		}
		if ok {
			mask |= rl.bit
		}
		if c.Tries > 0 {
			continue
		}
		rl.Delivery.Offered++
		if ok {
			rl.Delivery.Matched++
		}
		if e.Trace != nil {
			why := ""
			if !ok {
				why = rl.link.Filter.Why(e.EventOfMessage(&m, "message"))
			}
			e.Trace.Offered(i, rl.link, why)
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

func (q *queue) armLease(e *Engine, n *Node, seq uint64, due int64) {
	q.leaseSeq = seq
	e.ArmTimer(due, seq, EvLease, uint32(n.ID))
}

// leaseIsOver reports whether a lease, of a message or of none, has ended when a timer comes at an instant.
func (e *Engine) leaseIsOver(i uint32, at int64, timer uint64) bool {
	h := e.InFlightOf(e.Copies.At(i))
	return i != 0 && h.due <= at && h.Timer <= timer
}

// leaseEnds comes when the oldest lease ends; messages whose lease has ended
// are visible again.
func (e *Engine) leaseEnds(n *Node, seq uint64) {
	q := n.Queue
	if seq != q.leaseSeq {
		return
	}
	q.leaseSeq = 0
	i := q.leases.Head
	if e.leaseIsOver(i, e.Now, seq) {
		e.hide(q, i)
		e.becomeVisible(i)
		i = q.leases.Head
	}
	if i != 0 {
		c := e.Copies.At(i)
		h := e.InFlightOf(c)
		q.armLease(e, n, h.Timer, h.due)
	}
}
