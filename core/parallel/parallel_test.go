package parallel_test

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/parallel"
)

func TestEachPartIsDoneOnce(t *testing.T) {
	for _, workers := range []int{0, 1, 3, 40} {
		done := make([]atomic.Int64, 20)
		var begun atomic.Int64
		parallel.Each(len(done), workers, func() func(int) bool {
			begun.Add(1)
			return func(i int) bool { done[i].Add(1); return true }
		})
		require.EqualValues(t, max(1, min(workers, len(done))), begun.Load(), "%d workers", workers)
		for i := range done {
			require.EqualValues(t, 1, done[i].Load(), "part %d, %d workers", i, workers)
		}
	}
	parallel.Each(0, 4, func() func(int) bool {
		return func(int) bool { t.Error("there is no part"); return true }
	})
}

// TestEachStops: a worker that returns false does no other part.
func TestEachStops(t *testing.T) {
	var done atomic.Int64
	parallel.Each(20, 3, func() func(int) bool {
		return func(int) bool { done.Add(1); return false }
	})
	require.EqualValues(t, 3, done.Load())
}
