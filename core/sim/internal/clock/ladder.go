package clock

import "unsafe"

const (
	ladderAbove = 4096 // entries of the heap: above, later ones go to the ladder
	ladderBelow = 512  // entries of the ladder: below, they go back
)

// ladder keeps very many pending events that come later than those of the heap,
// unsorted: a rung of buckets, one after another in time, and behind the rung
// everything else. When the heap is empty the next bucket goes into it, so that
// it stays small; when the rung is through it is made anew of what is behind.
// (A ladder queue of one rung: Tang, Goh and Thng, ACM TOMACS 15, 2005.)
type ladder struct {
	horizon uint64 // what comes from here on is put here; never: nothing is
	count   int
	start   uint64   // of the first bucket
	shift   uint     // a bucket is 2^shift nanoseconds long
	current uint64   // the next bucket
	buckets []uint32 // of each, the chunk that is being filled << chunkBits | how much is in it
	chunks  []ladderChunk
	free    uint32
	behind  []Entry
	least   uint64 // of the times of what is behind
	most    uint64
}

// ladderChunk holds some entries of a bucket, so that few places of memory have to be
// visited for all of them. Index 0 stands for none.
type ladderChunk struct {
	entries [chunkRoom]Entry
	next    uint32 // a chunk that is full
	_       [12]byte
}

const (
	chunkRoom = 3
	chunkBits = 2
)

func (l *ladder) put(e Entry) {
	l.count++
	if b := (e.At - l.start) >> l.shift; e.At >= l.start && b < uint64(len(l.buckets)) {
		l.putInto(b, e)
		return
	}
	if len(l.behind) == 0 {
		l.least, l.most = e.At, e.At
	}
	l.least, l.most = min(l.least, e.At), max(l.most, e.At)
	l.behind = append(l.behind, e)
}

func (l *ladder) putInto(b uint64, e Entry) {
	at := l.buckets[b]
	n := at & (1<<chunkBits - 1)
	if at == 0 || n == chunkRoom {
		at, n = l.newChunk(at>>chunkBits)<<chunkBits, 0
	}
	l.chunks[at>>chunkBits].entries[n] = e
	l.buckets[b] = at + 1
}

// newChunk gives a chunk that is empty, ahead of one that is full.
func (l *ladder) newChunk(next uint32) uint32 {
	i := l.free
	if i != 0 {
		l.free = l.chunks[i].next
	} else {
		l.chunks = append(l.chunks, ladderChunk{})
		i = uint32(len(l.chunks) - 1)
	}
	l.chunks[i].next = next
	return i
}

// spread moves what is in a heap that has become large into the ladder.
func (h *Heap) spread() {
	l := &h.far
	if len(l.chunks) == 0 {
		l.chunks = make([]ladderChunk, 1, ladderAbove)
	}
	l.start, l.shift, l.current, l.buckets = 0, 0, 0, l.buckets[:0]
	for i := range h.count {
		l.put(h.near[i])
		h.near[i] = nothing
	}
	h.count = 0
	h.refill()
}

// refill moves the next bucket of the ladder into the heap, which is empty.
func (h *Heap) refill() {
	l := &h.far
	l.horizon = never // for what is pushed here
	for h.count == 0 && l.count > 0 {
		for l.current < uint64(len(l.buckets)) && l.buckets[l.current] == 0 {
			l.current++
		}
		if l.current == uint64(len(l.buckets)) {
			if len(l.behind) < ladderBelow {
				h.together()
				return
			}
			l.rung()
			continue
		}
		at := l.buckets[l.current]
		l.buckets[l.current] = 0
		l.current++
		i, n := at>>chunkBits, at&(1<<chunkBits-1)
		for i != 0 {
			chunk := &l.chunks[i]
			for k := range chunk.entries[:n] {
				h.lift(chunk.entries[k])
			}
			l.count -= int(n)
			i, chunk.next, l.free, n = chunk.next, l.free, i, chunkRoom
		}
	}
	l.horizon = l.start + l.current<<l.shift
}

// rung makes the buckets anew, about as many as there are entries behind.
func (l *ladder) rung() {
	span := l.most - l.least
	l.start, l.shift, l.current = l.least, 0, 0
	for span>>l.shift >= uint64(len(l.behind)) {
		l.shift++
	}
	n := int(span>>l.shift) + 1
	if cap(l.buckets) < n {
		l.buckets = make([]uint32, n)
	}
	l.buckets = l.buckets[:n]
	for _, e := range l.behind {
		l.putInto((e.At-l.start)>>l.shift, e)
	}
	l.behind = l.behind[:0]
}

// together moves all that is left into the heap, which is enough for it.
func (h *Heap) together() {
	l := &h.far
	for _, e := range l.behind {
		h.lift(e)
	}
	l.behind, l.buckets, l.current, l.count = l.behind[:0], l.buckets[:0], 0, 0
}

// bytes is what the pending events take, about.
func (h *Heap) bytes() int64 {
	return int64(len(h.near)+cap(h.far.behind))*16 + int64(
		cap(h.far.chunks),
	)*int64(unsafe.Sizeof(ladderChunk{})) + int64(
		cap(h.far.buckets),
	)*4
}
