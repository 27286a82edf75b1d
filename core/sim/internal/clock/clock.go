// Package clock holds the pending events of a simulation, and virtual time.
package clock

import (
	"math"
	"math/bits"
	"slices"

	"ironweir/core/sim/internal/arena"
)

// Entry is one pending event: when, then sequence, kind and index packed into
// one word, so that ordering by (at, word) is ordering by (time, sequence).
type Entry struct {
	At   uint64 // nanoseconds since the start
	word uint64 // sequence << 29 | kind << 24 | index
}

const (
	indexBits = arena.IndexBits
	kindBits  = 5
	seqShift  = indexBits + kindBits
)

// Kind says what kind of event is pending: below 32, and its meaning is the caller's.
type Kind uint8

// Word is the word of an entry.
func Word(seq uint64, kind Kind, index uint32) uint64 {
	return seq<<seqShift | uint64(kind)<<indexBits | uint64(index)
}

func (e Entry) Index() uint32 { return uint32(e.word & arena.MaxIndex) }
func (e Entry) Kind() Kind    { return Kind(e.word >> indexBits & (1<<kindBits - 1)) }
func (e Entry) Seq() uint64   { return e.word >> seqShift }

// never is the time of an event that does not come.
const never = math.MaxUint64

// nothing stands behind the end of the heap, so that a sift always meets four.
var nothing = Entry{never, never}

// before compares without a branch.
func before(a, b Entry) uint64 {
	_, borrow := bits.Sub64(a.word, b.word, 0)
	_, borrow = bits.Sub64(a.At, b.At, borrow)
	return borrow
}

// Clock holds the pending events. Those of this very instant are in a ring: they
// happen in the order in which they were scheduled, behind those that were
// scheduled for it before. Those to come are in three heaps: what goes on; timers,
// most of which end long after what goes on now; and the next message of each source
// outside, since each is soon replaced by the one behind it.
type Clock struct {
	Now          int64
	Seq          uint64
	enters       uint64 // when the first message from outside comes
	Horizon      uint64 // what comes before this has no choice of a timer, or of the ring: 0 while something is in it
	Simultaneous bool   // another event of the heaps comes at this very instant
	Coming       Heap
	outside      Heap
	timers       Heap
	alarm        uint64   // when the first timer comes
	until        uint64   // what comes then or later is not taken
	ring         []uint32 // kind << 24 | index
	head         uint32   // of the ring; its length is a power of two
	tail         uint32
}

func New() Clock {
	return Clock{
		ring:    make([]uint32, 1024),
		Seq:     1,
		Coming:  newHeap(),
		timers:  newHeap(),
		outside: newHeap(),
		alarm:   never,
		enters:  never,
		Horizon: never,
		until:   never,
	}
}

// Sequence takes the next sequence number, for a timer that is kept elsewhere.
func (c *Clock) Sequence() uint64 {
	s := c.Seq
	c.Seq++
	return s
}

// Schedule schedules an event and gives its sequence number.
func (c *Clock) Schedule(t int64, kind Kind, index uint32) uint64 {
	s := c.Seq
	c.Seq++
	if t == c.Now {
		c.Simultaneous = true
	}
	word := Word(s, kind, index)
	if h := &c.Coming; h.Last < InOrder {
		h.InsertNewest(uint64(t), word)
	} else {
		h.pushHeap(Entry{uint64(t), word})
	}
	return s
}

// AddSource schedules the first message of a source outside.
func (c *Clock) AddSource(t int64, kind Kind, source uint32) {
	c.outside.push(Entry{uint64(t), Word(c.Sequence(), kind, source)})
	c.enters = min(c.enters, uint64(t))
	if t == c.Now {
		c.Simultaneous = true
	}
}

// AdvanceSource schedules the message behind the one of a source that comes now, which
// only then leaves its place.
func (c *Clock) AdvanceSource(t int64, kind Kind, source uint32) {
	if t == c.Now {
		c.Simultaneous = true
	}
	word := Word(c.Sequence(), kind, source)
	if h := &c.outside; h.Last != unsorted && uint64(t) < h.times[(h.Last-1)&(sortedSize-1)] { // it is the first again
		h.times[h.Last&(sortedSize-1)], h.words[h.Last&(sortedSize-1)] = uint64(t), word
		h.next, c.enters = Entry{uint64(t), word}, uint64(t)
	} else {
		c.enters = h.replace(Entry{uint64(t), word})
	}
}

// ExhaustSource says that none is behind the one that comes now.
func (c *Clock) ExhaustSource() { c.enters = c.outside.take() }

// Timer schedules what seldom comes, since something else comes before.
func (c *Clock) Timer(t int64, kind Kind, index uint32) uint64 {
	s := c.Sequence()
	c.ArmTimer(t, s, kind, index)
	return s
}

// First schedules what is known from the start of the run (a replayed arrival,
// an incident) or only looks (a point of the series): it comes before all else at
// its instant, and takes no number of the sequence, so that it makes no
// difference to anything else when it became known.
func (c *Clock) First(t int64, kind Kind, index uint32) { c.ArmTimer(t, 0, kind, index) }

// ArmTimer schedules the head of a timer list under the sequence that it was given
// when it was put there.
func (c *Clock) ArmTimer(t int64, seq uint64, kind Kind, index uint32) {
	if t == c.Now {
		c.Simultaneous = true
	}
	c.alarm, c.Horizon = min(c.alarm, uint64(t)), min(c.Horizon, uint64(t))
	c.timers.push(Entry{uint64(t), Word(seq, kind, index)})
}

// ScheduleNow schedules an event at this instant, behind those already scheduled.
func (c *Clock) ScheduleNow(kind Kind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.ring[c.tail&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
	c.tail++
	c.Horizon = 0
}

// ScheduleFirstNow schedules an event at this instant, ahead of those in the ring.
func (c *Clock) ScheduleFirstNow(kind Kind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.head--
	c.ring[c.head&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
	c.Horizon = 0
}

func (c *Clock) growRing() {
	bigger := make([]uint32, 2*len(c.ring))
	n := c.tail - c.head
	for i := uint32(0); i < n; i++ {
		bigger[i] = c.ring[(c.head+i)&uint32(len(c.ring)-1)]
	}
	c.ring, c.head, c.tail = bigger, 0, n
}

// Waiting reports whether the ring holds an event of this instant.
func (c *Clock) Waiting() bool { return c.head != c.tail }

// Clone gives a clock with the same pending events, which shares nothing with this one.
func (c *Clock) Clone() Clock {
	d := *c
	d.ring = slices.Clone(c.ring)
	for _, h := range []*Heap{&d.Coming, &d.timers, &d.outside} {
		h.near = slices.Clone(h.near)
		h.far.buckets, h.far.behind = slices.Clone(h.far.buckets), slices.Clone(h.far.behind)
		h.far.chunks = slices.Clone(h.far.chunks)
	}
	return d
}

// GoUntil lets next take only what comes before an instant.
func (c *Clock) GoUntil(t int64) {
	c.until = uint64(t)
	c.findHorizon()
}

func (c *Clock) findHorizon() {
	c.Horizon = min(c.alarm, c.until)
	if c.head != c.tail {
		c.Horizon = 0
	}
}

// Uncontested reports whether the next event has no rival: it is the first of few that come.
func (c *Clock) Uncontested() bool {
	t := c.Coming.next.At
	return t < c.enters && t < c.Horizon
}

// PopUncontested takes that one.
func (c *Clock) PopUncontested() Entry {
	h := &c.Coming
	w := h.next
	c.Now, c.Simultaneous = int64(w.At), h.takeSorted() == w.At
	return w
}

// HasArrival reports whether a message from outside comes next, and has no rival.
func (c *Clock) HasArrival() bool {
	return c.enters < c.Coming.next.At && c.enters < c.Horizon && c.Coming.Last != unsorted
}

// Arrival lets the time be that of the message, and gives its source. It stays in its
// place until its source has said what comes behind it (AdvanceSource, ExhaustSource).
func (c *Clock) Arrival() uint32 {
	w := c.outside.peek()
	c.Now, c.Simultaneous = int64(w.At), c.outside.second() == w.At
	return w.Index()
}

// Pop takes the event that comes first from where it is, and lets the time be its own;
// false: there is none. So do only and arrival, of what has no rival.
func (c *Clock) Pop() (Entry, bool) {
	if c.head != c.tail && !c.Simultaneous {
		w := c.ring[c.head&uint32(len(c.ring)-1)]
		if c.head++; c.head == c.tail {
			c.findHorizon()
		}
		return Entry{uint64(c.Now), uint64(w)}, true
	}
	first := c.Coming.peek()
	enters, w, from := c.enters, first, &c.Coming
	if w.At >= c.enters {
		if m := c.outside.peek(); before(m, w) != 0 {
			w, from = m, &c.outside
		}
	}
	if w.At >= c.alarm {
		if t := c.timers.peek(); before(t, w) != 0 {
			w, from = t, &c.timers
		}
	}
	if w.At >= c.until {
		return w, false
	}
	switch from {
	case &c.Coming:
		first.At = c.Coming.take()
	case &c.outside:
		enters = c.outside.second()
	default:
		c.alarm = c.timers.take()
		c.findHorizon()
	}
	c.Now, c.Simultaneous = int64(w.At), first.At == w.At || enters == w.At || c.alarm == w.At
	return w, true
}

// Upcoming gives the event that comes next; nothing where there is none.
func (c *Clock) Upcoming() Entry {
	if next := c.peekHeaps(); !c.Waiting() || int64(next.At) == c.Now {
		return next
	}
	return Entry{uint64(c.Now), uint64(c.ring[c.head&uint32(len(c.ring)-1)])}
}

// Bytes is what the pending events take.
func (c *Clock) Bytes() int64 { return c.Coming.bytes() + c.timers.bytes() + c.outside.bytes() }

// peekHeaps gives the first event that is not in the ring; nothing where there is none.
func (c *Clock) peekHeaps() Entry {
	w := c.Coming.peek()
	for _, other := range []Entry{c.timers.peek(), c.outside.peek()} {
		if before(other, w) != 0 {
			w = other
		}
	}
	return w
}

// Pending counts the events that are not in the ring.
func (c *Clock) Pending() int {
	return c.Coming.pending() + c.timers.pending() + c.outside.pending()
}
