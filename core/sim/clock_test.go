package sim

import (
	library "container/heap"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// plainHeap is the library's heap of the same events, to hold the clock against.
type plainHeap []entry

func (h plainHeap) Len() int           { return len(h) }
func (h plainHeap) Less(a, b int) bool { return before(h[a], h[b]) != 0 }
func (h plainHeap) Swap(a, b int)      { h[a], h[b] = h[b], h[a] }
func (h *plainHeap) Push(x any)        { *h = append(*h, x.(entry)) }
func (h *plainHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// next takes the event that comes first as the engine does; false: there is none.
func (c *clock) next() (entry, bool) {
	switch {
	case c.uncontested():
		return c.popUncontested(), true
	case c.hasArrival():
		w := c.peek()
		return w, c.arrival() == w.index()
	}
	return c.pop()
}

// TestEventsComeInOrder [CK-01] [CK-06]: by time, then as they were scheduled, whether they wait in
// a heap or on the ladder, and however they are spread in time.
func TestEventsComeInOrder(t *testing.T) {
	laddered := false
	rapid.Check(t, func(t *rapid.T) {
		c := newClock()
		luck := newStream(rapid.Uint64().Draw(t, "seed"), 0, "clock", "test")
		wide := rapid.SampledFrom([]float64{1, 50, 1e6, 1e15}).Draw(t, "spread in nanoseconds")
		many := rapid.SampledFrom([]int{3, 300, ladderAbove + 10, 3 * ladderAbove}).Draw(t, "pending")
		uneven := rapid.Bool().Draw(t, "most of it soon, some far off")
		waits := &plainHeap{}
		schedule := func() {
			x := luck.unit()
			if uneven {
				x = math.Pow(x, 12)
			}
			at, seq := c.now+int64(x*wide), c.seq
			switch x := luck.unit(); {
			case x < 0.3:
				c.timer(at, evTimeout, 7)
			case x < 0.5:
				c.addSource(at, evArrive, 7)
			default:
				c.schedule(at, evRun, 7)
			}
			library.Push(waits, entry{uint64(at), seq})
		}
		for range many {
			schedule()
		}
		for took := 0; waits.Len() > 0; took++ {
			laddered = laddered || c.coming.far.count > 0
			pending, first := c.pending(), c.peek()
			next, ok := c.next()
			want := library.Pop(waits).(entry)
			tied := waits.Len() > 0 && (*waits)[0].at == next.at // whether another comes at this instant
			if got := (entry{next.at, next.seq()}); !ok || pending != waits.Len()+1 || got != want || first != next ||
				c.now != int64(next.at) ||
				c.simultaneous != tied {
				t.Fatalf(
					"event %d of %d: got %v, want %v; first %v, now %d, tie %v, want %v",
					took,
					pending,
					got,
					want,
					first,
					c.now,
					c.simultaneous,
					tied,
				)
			}
			if next.kind() == evArrive {
				if x := luck.unit(); took < 2*many && x < 0.4 {
					at := c.now + int64(luck.unit()*wide)
					library.Push(waits, entry{uint64(at), c.seq})
					c.advanceSource(at, evArrive, 7)
				} else {
					c.exhaustSource()
				}
			}
			for took < 2*many && luck.unit() < 0.45 {
				schedule()
			}
		}
		_, ok := c.next()
		require.False(t, ok)
		require.Zero(t, c.pending())
	})
	require.True(t, laddered, "some went by the ladder")
}

// TestWhatIsScheduledForNow [CK-07] comes behind what was scheduled for this instant
// before, and ahead of what comes later.
func TestWhatIsScheduledForNow(t *testing.T) {
	c := newClock()
	c.schedule(5, evRun, 1)
	c.schedule(5, evRun, 2)
	c.schedule(9, evRun, 5)
	c.goUntil(100)
	var order []uint32
	for {
		e, ok := c.next()
		if !ok {
			break
		}
		order = append(order, e.index())
		switch e.index() {
		case 1:
			c.scheduleNow(evPull, 3)
			c.scheduleNow(evPull, 4)
		case 4:
			c.scheduleFirstNow(evPull, 6)
			c.scheduleNow(evPull, 7)
		}
	}
	require.Equal(t, []uint32{1, 2, 3, 4, 6, 7, 5}, order)
	_, ok := c.next()
	require.False(t, ok)
	c.schedule(200, evRun, 1)
	_, ok = c.next()
	require.False(t, ok, "it comes later than asked for")
	require.Equal(t, 1, c.pending())
}
