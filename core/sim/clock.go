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

// clock holds the pending events: those of this very instant in a ring, which
// happen in the order in which they were scheduled, behind those that were
// scheduled for it before; those to come in a 4-ary heap; and, where there are
// very many, those that come later in a ladder.
//
// Most events schedule another: what is taken leaves a hole at the root, which
// the next one scheduled fills, so that both cost one sift.
type clock struct {
	now   int64
	seq   uint64
	near  []entry // the heap, and at least four of nothing behind it
	count int     // entries of the heap, the hole counted
	hole  bool    // near[0] has been taken
	tie   bool    // another event of the heap comes at this very instant
	far   ladder
	ring  []uint32 // kind << 24 | index
	head  uint32   // of the ring; its length is a power of two
	tail  uint32
}

func newClock() clock {
	c := clock{ring: make([]uint32, 1024), seq: 1, far: ladder{horizon: never}}
	c.grow(1024)
	return c
}

// sequence takes the next sequence number, for a timer that is kept elsewhere.
func (c *clock) sequence() uint64 {
	s := c.seq
	c.seq++
	return s
}

// at schedules an event and gives its sequence number.
func (c *clock) at(t int64, kind eventKind, index uint32) uint64 {
	s := c.seq
	c.seq++
	c.push(entry{uint64(t), s<<seqShift | uint64(kind)<<indexBits | uint64(index)})
	return s
}

// first schedules what is known from the start of the run (a replayed arrival,
// an incident) or only looks (a point of the series): it comes before all else at
// its instant, and takes no number of the sequence, so that it makes no
// difference to anything else when it became known.
func (c *clock) first(t int64, kind eventKind, index uint32) {
	c.push(entry{uint64(t), uint64(kind)<<indexBits | uint64(index)})
}

// arm schedules the head of a timer list under the sequence that it was given
// when it was put there.
func (c *clock) arm(t int64, seq uint64, kind eventKind, index uint32) {
	c.push(entry{uint64(t), seq<<seqShift | uint64(kind)<<indexBits | uint64(index)})
}

// soon schedules an event at this instant, behind those already scheduled.
func (c *clock) soon(kind eventKind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.ring[c.tail&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
	c.tail++
}

// soonFirst schedules an event at this instant, ahead of those in the ring.
func (c *clock) soonFirst(kind eventKind, index uint32) {
	if c.tail-c.head == uint32(len(c.ring)) {
		c.growRing()
	}
	c.head--
	c.ring[c.head&uint32(len(c.ring)-1)] = uint32(kind)<<indexBits | index
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

// next takes the event that comes first and lets the time be its own; false: none
// comes before an instant.
func (c *clock) next(until int64) (eventKind, uint32, uint64, bool) {
	if c.head != c.tail && !c.tie {
		w := c.ring[c.head&uint32(len(c.ring)-1)]
		c.head++
		return eventKind(w >> indexBits), w & maxIndex, 0, true
	}
	e := c.peek()
	if e.at >= uint64(until) {
		return 0, 0, 0, false
	}
	c.take()
	return e.kind(), e.index(), e.seq(), true
}

// take takes the event that peek has found.
func (c *clock) take() {
	t := c.near[0].at
	q := (*[4]entry)(c.near[1:5])
	c.now, c.hole, c.tie = int64(t), true, q[0].at == t || q[1].at == t || q[2].at == t || q[3].at == t
}

// peek gives the first event that is not in the ring; nothing where there is none.
func (c *clock) peek() entry {
	if c.hole {
		c.fill()
	}
	if c.count == 0 && c.far.count > 0 {
		c.refill()
	}
	return c.near[0]
}

// pending counts the events that are not in the ring.
func (c *clock) pending() int {
	if c.hole {
		return c.count - 1 + c.far.count
	}
	return c.count + c.far.count
}

// fill closes the hole with the last entry.
func (c *clock) fill() {
	c.hole = false
	c.count--
	e := c.near[c.count]
	c.near[c.count] = nothing
	if c.count > 0 {
		c.sink(e)
	}
}

// grow makes room for so many entries.
func (c *clock) grow(room int) {
	bigger := make([]entry, room+7)[3:] // the four below an entry share a line of the cache
	for i := range bigger {
		bigger[i] = nothing
	}
	copy(bigger, c.near[:c.count])
	c.near = bigger
}

func (c *clock) push(e entry) {
	if e.at >= c.far.horizon {
		c.far.put(e)
		return
	}
	if e.at == uint64(c.now) {
		c.tie = true
	}
	if c.hole {
		c.hole = false
		c.sink(e)
		return
	}
	c.lift(e)
	if c.count > ladderAbove && c.far.horizon == never {
		c.spread()
	}
}

// lift puts an entry at the end of the heap and lets it rise to where it belongs.
func (c *clock) lift(e entry) {
	i := c.count
	if i+4 >= len(c.near) {
		c.grow(2 * i)
	}
	c.count++
	h := c.near
	for i > 0 {
		p := (i - 1) >> 2
		if before(e, h[p]) == 0 {
			break
		}
		h[i] = h[p]
		i = p
	}
	h[i] = e
}

// sink puts an entry in the place of the root and lets it sink to where it
// belongs.
func (c *clock) sink(e entry) {
	h, n, i := c.near, c.count, 0
	for {
		first := 4*i + 1
		if first >= n {
			break
		}
		q := (*[4]entry)(h[first : first+4])
		a := before(q[1], q[0]) // the least of four, without a branch
		b := 2 + before(q[3], q[2])
		m := a ^ ((a ^ b) & -before(q[b&3], q[a&3]))
		if before(q[m&3], e) == 0 {
			break
		}
		h[i] = q[m&3]
		i = first + int(m)
	}
	h[i] = e
}
