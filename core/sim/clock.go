package sim

import "math/bits"

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

// before compares without a branch.
func before(a, b entry) uint64 {
	_, borrow := bits.Sub64(a.word, b.word, 0)
	_, borrow = bits.Sub64(a.at, b.at, borrow)
	return borrow
}

// clock holds the pending events: a 4-ary heap of those to come, and a ring of
// those of this very instant, which happen in the order in which they were
// scheduled, behind the ones of the heap that were scheduled for it before.
type clock struct {
	now  int64
	seq  uint64
	heap []entry
	ring []uint32 // kind << 24 | index
	head uint32   // of the ring; its length is a power of two
	tail uint32
}

func newClock() clock {
	return clock{heap: make([]entry, 0, 1024), ring: make([]uint32, 1024), seq: 1}
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

func (c *clock) growRing() {
	bigger := make([]uint32, 2*len(c.ring))
	n := c.tail - c.head
	for i := uint32(0); i < n; i++ {
		bigger[i] = c.ring[(c.head+i)&uint32(len(c.ring)-1)]
	}
	c.ring, c.head, c.tail = bigger, 0, n
}

func (c *clock) push(e entry) {
	i := len(c.heap)
	c.heap = append(c.heap, e)
	h := c.heap
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

func (c *clock) pop() entry {
	h := c.heap
	top := h[0]
	n := len(h) - 1
	e := h[n]
	h = h[:n]
	c.heap = h
	if n == 0 {
		return top
	}
	i := 0
	for {
		first := 4*i + 1
		if first+3 < n {
			// The least of four without a branch.
			q := h[first : first+4 : first+4]
			a := before(q[1], q[0])
			b := 2 + before(q[3], q[2])
			m := a ^ ((a ^ b) & -before(q[b&3], q[a&3]))
			if before(q[m&3], e) == 0 {
				break
			}
			h[i] = q[m&3]
			i = first + int(m)
			continue
		}
		if first >= n {
			break
		}
		m := first
		for k := first + 1; k < n; k++ {
			if before(h[k], h[m]) != 0 {
				m = k
			}
		}
		if before(h[m], e) == 0 {
			break
		}
		h[i] = h[m]
		i = m
	}
	h[i] = e
	return top
}
