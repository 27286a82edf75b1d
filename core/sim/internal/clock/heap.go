package clock

import "math/bits"

// Heap holds pending events: where they are few, in order; more in a 4-ary heap;
// and of very many those that come later in a ladder.
//
// In the heap, most events schedule another: what is taken leaves a hole at the
// root, which the next one put in fills, so that both cost one sift.
type Heap struct {
	next  Entry              // the next among the few, at hand; nothing: there are none, or not few
	Last  int                // its place; crowded: there are not few
	times [sortedSize]uint64 // while there are few: those of their entries, the next last; never before all
	words [sortedSize]uint64 // and the rest of them
	near  []Entry            // the heap, and at least four of nothing behind it
	count int                // entries of the heap, the hole counted
	hole  bool               // near[0] has been taken
	far   ladder
}

const (
	sortedSize  = 32
	none        = 2              // the place of the next where there is none: in it and before it stands nothing
	unsorted    = sortedSize - 1 // in its place stands nothing
	InOrder     = sortedSize - 2 // the last place of what is kept in order
	sortedAgain = 7              // so many have become few again
)

func newHeap() Heap {
	h := Heap{far: ladder{horizon: never}, Last: none, next: nothing}
	for _, i := range []int{0, 1, none, unsorted} {
		h.times[i], h.words[i] = never, never
	}
	h.grow(1024)
	return h
}

// peek gives the first event; nothing: there is none.
func (h *Heap) peek() Entry {
	if h.Last == unsorted {
		return h.root()
	}
	return h.next
}

// root closes the hole of the heap, and gives its first.
//
//go:noinline
func (h *Heap) root() Entry {
	if h.hole || h.count == 0 {
		h.fill()
	}
	return h.near[0]
}

// take takes the event that peek has given, and gives when the one behind it comes.
func (h *Heap) take() uint64 {
	if h.Last == unsorted {
		return h.takeHeap()
	}
	return h.takeSorted()
}

// takeSorted does so where there are few.
func (h *Heap) takeSorted() uint64 {
	h.Last--
	h.next = Entry{h.times[h.Last&(sortedSize-1)], h.words[h.Last&(sortedSize-1)]}
	return h.next.At
}

func (h *Heap) takeHeap() uint64 {
	if h.count <= sortedAgain && h.far.count == 0 {
		return h.thin()
	}
	h.hole = true
	if h.count == 1 { // the one behind it is in the ladder
		return h.root().At
	}
	return h.second()
}

// second gives when the one behind that which peek has given comes.
func (h *Heap) second() uint64 {
	if h.Last != unsorted {
		return h.times[(h.Last-1)&(sortedSize-1)]
	}
	q := (*[4]Entry)(h.near[1:5])
	return min(q[0].At, q[1].At, q[2].At, q[3].At)
}

// replace puts an entry in the place of the one that peek has given, and gives when
// the one comes that is then the first.
func (h *Heap) replace(e Entry) uint64 {
	if h.Last == unsorted {
		h.takeHeap()
		h.push(e)
		return h.peek().At
	}
	h.takeSorted()
	h.insert(e.At, e.word)
	return h.next.At
}

// thin takes the first event of a heap that has become small, and puts the others
// in order.
func (h *Heap) thin() uint64 {
	h.Last, h.next = none, nothing
	for i := 1; i < h.count; i++ {
		h.insert(h.near[i].At, h.near[i].word)
	}
	for i := range h.count {
		h.near[i] = nothing
	}
	h.count = 0
	return h.next.At
}

// insert puts an entry among the few.
func (h *Heap) insert(at, word uint64) {
	i := h.Last
	h.Last++
	for {
		t, w := h.times[i&(sortedSize-1)], h.words[i&(sortedSize-1)]
		if t > at || t == at && w > word {
			break
		}
		h.times[(i+1)&(sortedSize-1)], h.words[(i+1)&(sortedSize-1)] = t, w
		i--
	}
	h.times[(i+1)&(sortedSize-1)], h.words[(i+1)&(sortedSize-1)] = at, word
	h.next = Entry{h.times[h.Last&(sortedSize-1)], h.words[h.Last&(sortedSize-1)]}
}

// InsertNewest puts an entry among the few that was scheduled after all of them: where
// at most two come before it, without a branch, since nobody could guess where it goes.
func (h *Heap) InsertNewest(at, word uint64) {
	t, w := (*[4]uint64)(h.times[(h.Last-2)&(sortedSize-1):]), (*[4]uint64)(h.words[(h.Last-2)&(sortedSize-1):])
	if t[0] <= at {
		h.insert(at, word)
		return
	}
	h.Last++
	_, first := bits.Sub64(at, t[2], 0)
	_, second := bits.Sub64(at, t[1], 0)
	// The earlier of it and the first, then the earlier of the later one and the second.
	h.next.At = min(at, t[2])
	t[3], t[2], t[1] = h.next.At, max(t[2], min(at, t[1])), max(at, t[1])
	dw := (word ^ w[2]) & -first
	h.next.word, word = w[2]^dw, word^dw
	w[3] = h.next.word
	dw = (word ^ w[1]) & -second
	w[2], w[1] = w[1]^dw, word^dw
}

// leaveSorted moves the few into the heap.
func (h *Heap) leaveSorted() {
	for i := h.Last; i > none; i-- {
		h.lift(Entry{h.times[i], h.words[i]})
	}
	h.Last, h.next = unsorted, nothing
}

// fill closes the hole with the last entry, or with what is in the ladder.
func (h *Heap) fill() {
	if h.hole {
		h.hole = false
		h.count--
		e := h.near[h.count]
		h.near[h.count] = nothing
		if h.count > 0 {
			h.sink(e)
		}
	}
	if h.count == 0 && h.far.count > 0 {
		h.refill()
	}
}

func (h *Heap) pending() int {
	if h.Last != unsorted {
		return h.Last - none
	}
	n := h.count + h.far.count
	if h.hole {
		n--
	}
	return n
}

// grow makes room for so many entries.
func (h *Heap) grow(room int) {
	bigger := make([]Entry, room+7)[3:] // the four below an entry share a line of the cache
	for i := range bigger {
		bigger[i] = nothing
	}
	copy(bigger, h.near[:h.count])
	h.near = bigger
}

func (h *Heap) push(e Entry) {
	if h.Last < InOrder {
		h.insert(e.At, e.word)
		return
	}
	h.pushHeap(e)
}

// pushHeap puts an entry among many.
func (h *Heap) pushHeap(e Entry) {
	if h.Last != unsorted {
		h.leaveSorted()
	}
	switch {
	case e.At >= h.far.horizon:
		h.far.put(e)
	case h.hole:
		h.hole = false
		h.sink(e)
	default:
		h.lift(e)
		if h.count > ladderAbove && h.far.horizon == never {
			h.spread()
		}
	}
}

// lift puts an entry at the end of the heap and lets it rise to where it belongs.
func (h *Heap) lift(e Entry) {
	i := h.count
	if i+4 >= len(h.near) {
		h.grow(2 * i)
	}
	h.count++
	a := h.near
	for i > 0 {
		p := (i - 1) >> 2
		if before(e, a[p]) == 0 {
			break
		}
		a[i] = a[p]
		i = p
	}
	a[i] = e
}

// sink puts an entry in the place of the root and lets it sink to where it
// belongs. The least of the four below is found by times alone, without a branch,
// unless two times are the same.
func (h *Heap) sink(e Entry) {
	a, n, i := h.near, h.count, 0
	for first := 1; first < n; first = 4*i + 1 {
		q := (*[4]Entry)(a[first : first+4])
		t0, t1, t2, t3 := q[0].At, q[1].At, q[2].At, q[3].At
		_, m := bits.Sub64(t1, t0, 0) // 1 where t1 < t0
		_, u := bits.Sub64(t3, t2, 0)
		t, v := min(t0, t1), min(t2, t3)
		_, second := bits.Sub64(v, t, 0)
		m ^= (m ^ (2 + u)) & -second
		if t = min(t, v); t > e.At {
			break
		}
		if t == e.At || q[(m^1)&3].At == t || v == t && m < 2 {
			if m = least(q); before(q[m&3], e) == 0 {
				break
			}
		}
		a[i] = q[m&3]
		i = first + int(m)
	}
	a[i] = e
}

// least gives the place of the first of four events, without a branch.
func least(q *[4]Entry) uint64 {
	a := before(q[1], q[0])
	b := 2 + before(q[3], q[2])
	return a ^ ((a ^ b) & -before(q[b&3], q[a&3]))
}
