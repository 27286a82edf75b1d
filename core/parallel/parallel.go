// Package parallel does the parts of a task beside each other.
package parallel

import (
	"sync"
	"sync/atomic"
)

// Each does the parts 0 to n-1 of a task on at most so many goroutines, at least one.
// Each of them calls begin once, so that it can keep what it works with, and then the
// function that begin returned, for one part after the other, until none is left or the
// function returns false. Which of them does a part is not determined.
func Each(n, workers int, begin func() func(i int) bool) {
	var next atomic.Int64
	var all sync.WaitGroup
	for range max(1, min(workers, n)) {
		all.Go(func() {
			do := begin()
			for i := int(next.Add(1)) - 1; i < n && do(i); i = int(next.Add(1)) - 1 {
			}
		})
	}
	all.Wait()
}
