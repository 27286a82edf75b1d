package admission_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/service/admission"
)

func small(person string) admission.Computation {
	return admission.Computation{Person: person, What: "check", Slots: 1}
}

func long(person string) admission.Computation {
	c := small(person)
	c.What, c.Long = "run", true
	return c
}

// enter begins a computation that must begin.
func enter(t *testing.T, c *admission.Controller, what admission.Computation) (leave func()) {
	t.Helper()
	leave, err := c.Enter(context.Background(), what)
	require.NoError(t, err)
	return leave
}

// refused tries a computation that must not begin.
func refused(t *testing.T, c *admission.Controller, what admission.Computation) *admission.Refused {
	t.Helper()
	_, err := c.Enter(context.Background(), what)
	var why *admission.Refused
	require.ErrorAs(t, err, &why)
	return why
}

func TestOnePersonHoldsHalf(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 4})
	enter(t, c, small("ana"))
	leave := enter(t, c, small("ana"))
	why := refused(t, c, small("ana"))
	require.True(t, why.Own)
	require.Contains(t, why.Error(), "you have as much running as one person may have: 2 × check by ana")
	enter(t, c, small("ben"))
	leave()
	leave() // does nothing more
	enter(t, c, small("ana"))
	require.Equal(t, admission.Load{Slots: 3, Refused: 1}, c.Load())
}

func TestTheLastSlotIsForWhoHoldsNone(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 4})
	enter(t, c, small("ana"))
	enter(t, c, small("ben"))
	enter(t, c, small("cem"))
	why := refused(t, c, small("ana"))
	require.False(t, why.Own)
	require.Contains(t, why.Error(), "the service is busy: 1 × check by ana")
	enter(t, c, small("dan"))
	refused(t, c, small("eva"))
}

func TestLongOnesHoldHalf(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 4})
	enter(t, c, long("ana"))
	enter(t, c, long("ben"))
	refused(t, c, long("cem"))
	enter(t, c, small("cem"))
}

func TestOneSlotIsEnough(t *testing.T) {
	c := admission.New(admission.Budget{})
	leave := enter(t, c, long("ana"))
	refused(t, c, small("ben"))
	leave()
	enter(t, c, small("ben"))
}

func TestMemoryIsShared(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 1, Memory: 100})
	rehearsal := func(person string, bytes int64) admission.Computation {
		return admission.Computation{Person: person, What: "rehearsal", Memory: bytes}
	}
	enter(t, c, rehearsal("ana", 30))
	require.True(t, refused(t, c, rehearsal("ana", 30)).Own, "half of the memory is 50")
	enter(t, c, rehearsal("ben", 60))
	require.False(t, refused(t, c, rehearsal("cem", 20)).Own)
	enter(t, c, rehearsal("cem", 10))
	require.Equal(t, int64(100), c.Load().Memory)
	require.Contains(t, refused(t, admission.New(admission.Budget{Memory: 5}), rehearsal("ana", 6)).Error(),
		"more memory than this service may give")
}

// TestWhoHoldsFewestIsNext: of two who wait, the one who came later but holds nothing.
func TestWhoHoldsFewestIsNext(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 3, Wait: time.Minute})
	leave := enter(t, c, small("dan"))
	enter(t, c, small("ben"))
	enter(t, c, small("ana")) // 3 slots: one for each person
	began := make(chan string, 2)
	for i, person := range []string{"ana", "cem"} {
		go func() {
			if _, err := c.Enter(context.Background(), small(person)); err == nil {
				began <- person
			}
		}()
		require.Eventually(t, func() bool { return c.Load().Waiting == i+1 }, 10*time.Second, time.Millisecond)
	}
	leave()
	require.Equal(t, "cem", <-began)
	require.Equal(t, 1, c.Load().Waiting)
}

func TestWhoHasGoneWaitsNoMore(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 1, Wait: time.Minute})
	leave := enter(t, c, small("ana"))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err := c.Enter(ctx, small("ben"))
	require.ErrorIs(t, err, context.Canceled)
	require.Zero(t, c.Load().Waiting)
	leave()
	enter(t, c, small("ben"))
}

func TestNobodyWaitsWithoutBound(t *testing.T) {
	c := admission.New(admission.Budget{Slots: 1, Wait: time.Minute})
	enter(t, c, small("ana"))
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	for range 4 {
		go c.Enter(ctx, small("ben"))
	}
	require.Eventually(t, func() bool { return c.Load().Waiting == 4 }, 10*time.Second, time.Millisecond)
	refused(t, c, small("ben"))
	go c.Enter(ctx, small("cem"))
	require.Eventually(t, func() bool { return c.Load().Waiting == 5 }, 10*time.Second, time.Millisecond)
}

// TestTheBudgetHoldsUnderAnyOrder: many people come and go; no bound is ever passed, and
// everybody who waits long enough gets a turn.
func TestTheBudgetHoldsUnderAnyOrder(t *testing.T) {
	const slots = 6
	c := admission.New(admission.Budget{Slots: slots, Wait: time.Minute})
	var all, longs, done atomic.Int64
	var own [8]atomic.Int64
	var people sync.WaitGroup
	for i := range 64 {
		people.Add(1)
		go func() {
			defer people.Done()
			random := rand.New(rand.NewPCG(1, uint64(i)))
			for range 30 {
				who := i % len(own)
				what := small(fmt.Sprint("p", who))
				what.Long = random.IntN(3) == 0
				leave, err := c.Enter(context.Background(), what)
				if err != nil {
					continue
				}
				if all.Add(1) > slots || own[who].Add(1) > slots/2 || what.Long && longs.Add(1) > slots/2 {
					t.Error("a bound was passed")
				}
				all.Add(-1)
				own[who].Add(-1)
				if what.Long {
					longs.Add(-1)
				}
				leave()
				done.Add(1)
			}
		}()
	}
	people.Wait()
	require.Greater(t, done.Load(), int64(1000))
	load := c.Load()
	require.Zero(t, load.Slots+load.Waiting)
}
