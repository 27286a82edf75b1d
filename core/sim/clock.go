package sim

import (
	"math"
	"math/bits"
)

// entry is one pending event: when, then sequence, kind and index packed into
// one word, so that ordering by (at, word) is ordering by (time, sequence).
type entry struct {
	at   uint64 // nanoseconds since the start
	word uint64 // sequence << 29 | kind << 24 | index
}

const (
	indexBits = 24
	kindBits  = 5
	maxIndex  = 1<<indexBits - 1
	seqShift  = indexBits + kindBits
)

// packed is the word of an entry.
func packed(seq uint64, kind eventKind, index uint32) uint64 {
	return seq<<seqShift | uint64(kind)<<indexBits | uint64(index)
}

func (e entry) index() uint32   { return uint32(e.word & maxIndex) }
func (e entry) kind() eventKind { return eventKind(e.word >> indexBits & (1<<kindBits - 1)) }
func (e entry) seq() uint64     { return e.word >> seqShift }

// never is the time of an event that does not come.
const never = math.MaxUint64

// nothing stands behind the end of the heap, so that a sift always meets four.
var nothing = entry{never, never}

// before compares without a branch.
func before(a, b entry) uint64 {
	_, borrow := bits.Sub64(a.word, b.word, 0)
	_, borrow = bits.Sub64(a.at, b.at, borrow)
	return borrow
}

// clock holds the pending events. Those of this very instant are in a ring: they
// happen in the order in which they were scheduled, behind those that were
// scheduled for it before. Those to come are in three heaps: what goes on; timers,
// most of which end long after what goes on now; and the next message of each source
// outside, since each is soon replaced by the one behind it.
type clock struct {
	now          int64
	seq          uint64
	enters       uint64 // when the first message from outside comes
	horizon      uint64 // what comes before this has no choice of a timer, or of the ring: 0 while something is in it
	simultaneous bool   // another event of the heaps comes at this very instant
	coming       heap
	outside      heap
	timers       heap
	alarm        uint64   // when the first timer comes
	until        uint64   // what comes then or later is not taken
	ring         []uint32 // kind << 24 | index
	head         uint32   // of the ring; its length is a power of two
	tail         uint32
}

func newClock() clock {
	return clock{
		ring:    make([]uint32, 1024),
		seq:     1,
		coming:  newHeap(),
		timers:  newHeap(),
		outside: newHeap(),
		alarm:   never,
		enters:  never,
		horizon: never,
		until:   never,
	}
}

// sequence takes the next sequence number, for a timer that is kept elsewhere.
func (c *clock) sequence() uint64 {
	s := c.seq
	c.seq++
	return s
}

// schedule schedules an event and gives its sequence number.
func (c *clock) schedule(t int64, kind eventKind, index uint32) uint64 {
	s := c.seq
	c.seq++
	if t == c.now {
		c.simultaneous = true
	}
	word := packed(s, kind, index)
	if h := &c.coming; h.last < inOrder {
		h.insertNewest(uint64(t), word)
	} else {
		h.pushHeap(entry{uint64(t), word})
	}
	return s
}

// addSource schedules the first message of a source outside.
func (c *clock) addSource(t int64, kind eventKind, source uint32) {
	c.outside.push(entry{uint64(t), packed(c.sequence(), kind, source)})
	c.enters = min(c.enters, uint64(t))
	if t == c.now {
		c.simultaneous = true
	}
}

// advanceSource schedules the message behind the one of a source that comes now, which
// only then leaves its place.
func (c *clock) advanceSource(t int64, kind eventKind, source uint32) {
	if t == c.now {
		c.simultaneous = true
	}
	word := packed(c.sequence(), kind, source)
	if h := &c.outside; h.last != unsorted && uint64(t) < h.times[(h.last-1)&(sortedSize-1)] { // it is the first again
		h.times[h.last&(sortedSize-1)], h.words[h.last&(sortedSize-1)] = uint64(t), word
		h.next, c.enters = entry{uint64(t), word}, uint64(t)
	} else {
		c.enters = h.replace(entry{uint64(t), word})
	}
}

// exhaustSource tells that none is behind the one that comes now.
func (c *clock) exhaustSource() { c.enters = c.outside.take() }

// timer schedules what seldom comes, since something else comes before.
func (c *clock) timer(t int64, kind eventKind, index uint32) uint64 {
	s := c.sequence()
	c.armTimer(t, s, kind, index)
	return s
}

// first schedules what is known from the start of the run (a replayed arrival,
// an incident) or only looks (a point of the series): it comes before all else at
// its instant, and takes no number of the sequence, so that it makes no
// difference to anything else when it became known.
func (c *clock) first(t int64, kind eventKind, index uint32) { c.armTimer(t, 0, kind, index) }

// armTimer schedules the head of a timer list under the sequence that it was given
// when it was put there.
func (c *clock) armTimer(t int64, seq uint64, kind eventKind, index uint32) {
	if t == c.now {
		c.simultaneous = true
	}
	c.alarm, c.horizon = min(c.alarm, uint64(t)), min(c.horizon, uint64(t))
	c.timers.push(entry{uint64(t), packed(seq, kind, index)})
}

// scheduleNow schedules an event at this instant, behind those already scheduled.
func (c *clock) scheduleNow(kind eventKind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.ring[c.tail&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
	c.tail++
	c.horizon = 0
}

// scheduleFirstNow schedules an event at this instant, ahead of those in the ring.
func (c *clock) scheduleFirstNow(kind eventKind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.head--
	c.ring[c.head&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
	c.horizon = 0
}

func (c *clock) growRing() {
	bigger := make([]uint32, 2*len(c.ring))
	n := c.tail - c.head
	for i := uint32(0); i < n; i++ {
		bigger[i] = c.ring[(c.head+i)&uint32(len(c.ring)-1)]
	}
	c.ring, c.head, c.tail = bigger, 0, n
}

// waiting tells whether the ring holds an event of this instant.
func (c *clock) waiting() bool { return c.head != c.tail }

// goUntil lets next take only what comes before an instant.
func (c *clock) goUntil(t int64) {
	c.until = uint64(t)
	c.findHorizon()
}

func (c *clock) findHorizon() {
	c.horizon = min(c.alarm, c.until)
	if c.head != c.tail {
		c.horizon = 0
	}
}

// uncontested tells whether the next event has no rival: it is the first of few that come.
func (c *clock) uncontested() bool {
	t := c.coming.next.at
	return t < c.enters && t < c.horizon
}

// popUncontested takes that one.
func (c *clock) popUncontested() entry {
	h := &c.coming
	w := h.next
	c.now, c.simultaneous = int64(w.at), h.takeSorted() == w.at
	return w
}

// hasArrival tells whether a message from outside comes next, and has no rival.
func (c *clock) hasArrival() bool {
	return c.enters < c.coming.next.at && c.enters < c.horizon && c.coming.last != unsorted
}

// arrival lets the time be that of the message, and gives its source. It stays in its
// place until its source has said what comes behind it (advanceSource, exhaustSource).
func (c *clock) arrival() uint32 {
	w := c.outside.peek()
	c.now, c.simultaneous = int64(w.at), c.outside.second() == w.at
	return w.index()
}

// pop takes the event that comes first from where it is, and lets the time be its own;
// false: there is none. So do only and arrival, of what has no rival.
func (c *clock) pop() (entry, bool) {
	if c.head != c.tail && !c.simultaneous {
		w := c.ring[c.head&uint32(len(c.ring)-1)]
		if c.head++; c.head == c.tail {
			c.findHorizon()
		}
		return entry{uint64(c.now), uint64(w)}, true
	}
	first := c.coming.peek()
	enters, w, from := c.enters, first, &c.coming
	if w.at >= c.enters {
		if m := c.outside.peek(); before(m, w) != 0 {
			w, from = m, &c.outside
		}
	}
	if w.at >= c.alarm {
		if t := c.timers.peek(); before(t, w) != 0 {
			w, from = t, &c.timers
		}
	}
	if w.at >= c.until {
		return w, false
	}
	switch from {
	case &c.coming:
		first.at = c.coming.take()
	case &c.outside:
		enters = c.outside.second()
	default:
		c.alarm = c.timers.take()
		c.findHorizon()
	}
	c.now, c.simultaneous = int64(w.at), first.at == w.at || enters == w.at || c.alarm == w.at
	return w, true
}

// peek gives the first event that is not in the ring; nothing where there is none.
func (c *clock) peek() entry {
	w := c.coming.peek()
	for _, other := range []entry{c.timers.peek(), c.outside.peek()} {
		if before(other, w) != 0 {
			w = other
		}
	}
	return w
}

// pending counts the events that are not in the ring.
func (c *clock) pending() int {
	return c.coming.pending() + c.timers.pending() + c.outside.pending()
}
