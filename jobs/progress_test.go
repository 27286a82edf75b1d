package jobs

import (
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// A listener that does not read misses updates, but never the last.
func TestTheLastUpdateComesThrough(t *testing.T) {
	h := newProgressBroker(nil, slog.New(slog.DiscardHandler))
	slow, stopSlow := h.Listen(7)
	other, stopOther := h.Listen(8)
	for k := range 100 {
		h.publish(Update{Run: 7, State: store.Running, Progress: float64(k) / 100})
	}
	h.publish(Update{Run: 7, State: store.Done, Progress: 1})
	require.Empty(t, other, "those of other runs are not sent")
	var last Update
	for len(slow) > 0 {
		u := <-slow
		require.GreaterOrEqual(t, u.Progress, last.Progress, "in their order")
		last = u
	}
	require.Equal(t, Update{Run: 7, State: store.Done, Progress: 1}, last)

	require.ElementsMatch(t, []int64{7, 8}, h.listened())
	stopSlow()
	stopOther()
	require.Empty(t, h.listened())
	h.publish(Update{Run: 7, State: store.Done})
	require.Empty(t, slow, "who has stopped is sent nothing")
}

// The time left is estimated from the share that is done.
func TestTimeLeft(t *testing.T) {
	start := time.Now().Add(-30 * time.Second)
	r := &store.Run{ID: 3, State: store.Running, Progress: 0.75, StartedAt: &start, Entered: 9, Lost: 2, Parked: 1}
	u := UpdateOf(r)
	require.InDelta(t, 10, u.Left, 1)
	require.Equal(t, []int64{9, 2, 1}, []int64{u.Entered, u.Lost, u.Parked})
	require.False(t, u.Ended())
	for _, state := range []string{store.Done, store.Failed, store.Cancelled} {
		r.State = state
		require.True(t, UpdateOf(r).Ended())
		require.Zero(t, UpdateOf(r).Left)
	}
	r.State, r.Progress = store.Running, 0.005
	require.Zero(t, UpdateOf(r).Left, "too little is done to tell")
}

// What looks lost is given back when it has for long enough, once, and not if it was seen alive in between.
func TestPatience(t *testing.T) {
	p := patience[string]{}
	require.Empty(t, p.over([]string{"a", "b"}))
	long := time.Now().Add(-2 * outOfSight)
	p["a"], p["b"] = long, long
	require.Equal(t, []string{"a"}, p.over([]string{"a"}), "b is alive again")
	require.Empty(t, p.over([]string{"a", "b"}), "patience begins anew")
	p["a"] = long
	require.Equal(t, []string{"a"}, p.over([]string{"a", "b"}))
	require.Empty(t, p.over(nil))
	require.Empty(t, p)
}
