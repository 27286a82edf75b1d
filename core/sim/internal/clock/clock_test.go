package clock

import (
	library "container/heap"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/sim/internal/random"
)

// Kinds of events for tests.
const (
	arrivalEvent Kind = iota
	pullEvent
	runEvent
	timeoutEvent
)

// plainHeap is the library's heap of the same events, to hold the clock against.
type plainHeap []Entry

func (h plainHeap) Len() int           { return len(h) }
func (h plainHeap) Less(a, b int) bool { return before(h[a], h[b]) != 0 }
func (h plainHeap) Swap(a, b int)      { h[a], h[b] = h[b], h[a] }
func (h *plainHeap) Push(x any)        { *h = append(*h, x.(Entry)) }
func (h *plainHeap) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// next takes the event that comes first as the engine does; false: there is none.
func (c *Clock) next() (Entry, bool) {
	switch {
	case c.Uncontested():
		return c.PopUncontested(), true
	case c.HasArrival():
		w := c.outside.peek()
		return w, c.Arrival() == w.Index()
	}
	return c.Pop()
}

// TestEventsComeInOrder [CK-01] [CK-06]: by time, then as they were scheduled, whether they wait in
// a heap or on the ladder, and however they are spread in time.
func TestEventsComeInOrder(t *testing.T) {
	laddered := [3]bool{}
	rapid.Check(t, func(t *rapid.T) {
		c := New()
		luck := random.New(rapid.Uint64().Draw(t, "seed"), 0, "clock", "test")
		wide := rapid.SampledFrom([]float64{1, 50, 1e6, 1e15}).Draw(t, "spread in nanoseconds")
		many := rapid.SampledFrom([]int{3, 300, ladderAbove + 10, 3 * ladderAbove}).Draw(t, "pending")
		uneven := rapid.Bool().Draw(t, "most of it soon, some far off")
		timers := rapid.SampledFrom([]float64{0.3, 0.01, 0.9}).Draw(t, "share of timers")
		sources := rapid.SampledFrom([]float64{0.2, 0.01, 0.9}).Draw(t, "share of sources among the rest")
		waits := &plainHeap{}
		schedule := func() {
			x := luck.Unit()
			if uneven {
				x = math.Pow(x, 12)
			}
			at, seq := c.Now+int64(x*wide), c.Seq
			switch {
			case luck.Unit() < timers:
				c.Timer(at, timeoutEvent, 7)
			case luck.Unit() < sources:
				c.AddSource(at, arrivalEvent, 7)
			default:
				c.Schedule(at, runEvent, 7)
			}
			library.Push(waits, Entry{uint64(at), seq})
		}
		for range many {
			schedule()
		}
		for took := 0; waits.Len() > 0; took++ {
			for k, h := range []*Heap{&c.Coming, &c.timers, &c.outside} {
				laddered[k] = laddered[k] || h.far.count > 0
			}
			pending, first := c.Pending(), Entry{}
			looks := luck.Unit() < 0.5 // to look makes no difference
			if looks {
				first = c.peekHeaps()
			}
			next, ok := c.next()
			if !looks {
				first = next
			}
			want := library.Pop(waits).(Entry)
			tied := waits.Len() > 0 && (*waits)[0].At == next.At // whether another comes at this instant
			if got := (Entry{next.At, next.Seq()}); !ok || pending != waits.Len()+1 || got != want || first != next ||
				c.Now != int64(next.At) ||
				c.Simultaneous != tied {
				t.Fatalf(
					"event %d of %d: got %v, want %v; first %v, now %d, tie %v, want %v",
					took,
					pending,
					got,
					want,
					first,
					c.Now,
					c.Simultaneous,
					tied,
				)
			}
			if next.Kind() == arrivalEvent {
				if x := luck.Unit(); took < 2*many && x < 0.4 {
					at := c.Now + int64(luck.Unit()*wide)
					library.Push(waits, Entry{uint64(at), c.Seq})
					c.AdvanceSource(at, arrivalEvent, 7)
				} else {
					c.ExhaustSource()
				}
			}
			for took < 2*many && luck.Unit() < 0.45 {
				schedule()
			}
		}
		_, ok := c.next()
		require.False(t, ok)
		require.Zero(t, c.Pending())
	})
	require.Equal(t, [3]bool{true, true, true}, laddered, "of each heap, some went by the ladder")
}

// TestWhatIsScheduledForNow [CK-07] comes behind what was scheduled for this instant
// before, and ahead of what comes later.
func TestWhatIsScheduledForNow(t *testing.T) {
	c := New()
	c.Schedule(5, runEvent, 1)
	c.Schedule(5, runEvent, 2)
	c.Schedule(9, runEvent, 5)
	c.GoUntil(100)
	var order []uint32
	for {
		e, ok := c.next()
		if !ok {
			break
		}
		order = append(order, e.Index())
		switch e.Index() {
		case 1:
			c.ScheduleNow(pullEvent, 3)
			c.ScheduleNow(pullEvent, 4)
		case 4:
			c.ScheduleFirstNow(pullEvent, 6)
			c.ScheduleNow(pullEvent, 7)
		}
	}
	require.Equal(t, []uint32{1, 2, 3, 4, 6, 7, 5}, order)
	_, ok := c.next()
	require.False(t, ok)
	c.Schedule(200, runEvent, 1)
	_, ok = c.next()
	require.False(t, ok, "it comes later than asked for")
	require.Equal(t, 1, c.Pending())
}
