package sim

import (
	"fmt"
	"testing"
)

// BenchmarkPending takes the next event and schedules another an exponential time
// later, with so many pending: the work of `w3` in the C baseline.
func BenchmarkPending(b *testing.B) {
	for _, pending := range []int{1_000, 100_000, 1_000_000} {
		b.Run(fmt.Sprint(pending), func(b *testing.B) {
			c := newClock()
			luck := newStream(1, 0, "pending", "benchmark")
			next := func() int64 { return int64(luck.exponential() * 1e9) }
			for i := range pending {
				c.schedule(next(), 1, uint32(i)&maxIndex)
			}
			for range pending { // let it become as it stays
				e, _ := c.next()
				c.schedule(int64(e.at)+next(), 1, e.index())
			}
			for b.Loop() {
				e, _ := c.next()
				c.schedule(int64(e.at)+next(), 1, e.index())
			}
		})
	}
}
