package stats

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/sim/internal/arena"
)

// TestTimesAreCountedInTheirBuckets [SX-02]: each in the bucket that it is in by itself, its
// sum and the greatest exactly, whether what they are counted in lies in reserved
// address space or not, and also after they have been asked for.
func TestTimesAreCountedInTheirBuckets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s arena.Space
		defer s.Free()
		all := NewHistograms(&s)
		for range rapid.IntRange(0, 70).Draw(t, "others before") {
			other := all.New()
			other.Add(1)
		}
		counted := all.New()
		if rapid.Bool().Draw(t, "in no space") {
			counted = LiveHistogram{slots: new([timeSlots]int64)}
		}
		want := Histogram{Counts: make([]int64, timeSlots)}
		for range rapid.IntRange(0, 3).Draw(t, "rounds") {
			for _, ns := range rapid.SliceOf(rapid.OneOf(rapid.Int64Range(0, 3000), rapid.Int64Range(0,
				math.MaxInt64>>10), rapid.Just(int64(math.MaxInt64)))).Draw(t, "times") {
				counted.Add(ns)
				want.Counts[bucketOf(float64(ns))]++
				want.Sum += float64(ns)
				want.Max = max(want.Max, ns)
			}
			got := counted.Clone()
			require.Equal(t, want.Sum, got.Sum)
			require.Equal(t, want.Max, got.Max)
			require.Equal(t, want.Counts[:len(got.Counts)], got.Counts)
			require.Equal(t, want.Count(), got.Count())
		}
	})
}
