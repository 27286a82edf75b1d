package clock

import (
	"fmt"
	"testing"

	"ironweir/core/sim/internal/arena"
	"ironweir/core/sim/internal/random"
)

// BenchmarkPending takes the next event and schedules another an exponential time
// later, with so many pending: the work of `w3` in the C baseline.
func BenchmarkPending(b *testing.B) {
	for _, pending := range []int{1_000, 100_000, 1_000_000} {
		b.Run(fmt.Sprint(pending), func(b *testing.B) {
			c := New()
			luck := random.New(1, 0, "pending", "benchmark")
			next := func() int64 { return int64(luck.Exponential() * 1e9) }
			for i := range pending {
				c.Schedule(next(), 1, uint32(i)&arena.MaxIndex)
			}
			for range pending { // let it become as it stays
				e, _ := c.next()
				c.Schedule(int64(e.At)+next(), 1, e.Index())
			}
			for b.Loop() {
				e, _ := c.next()
				c.Schedule(int64(e.At)+next(), 1, e.Index())
			}
		})
	}
}
