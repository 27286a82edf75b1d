package incident

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// TestBreakdownsComeAsStated: with the mean that is stated, later than now, and none past the end.
func TestBreakdownsComeAsStated(t *testing.T) {
	e := &Incidents{Engine: &engine.Engine{End: int64(1000 * time.Hour)}}
	b := &breakdown{
		every:  random.NewSampler(model.Distribution{Dist: "exponential", Mean: 3600}),
		random: random.New(5, 0, "q", "breakdowns"),
	}
	n := 0
	for e.Now < e.End {
		at := b.next(e, &b.every)
		require.Greater(t, at, e.Now)
		require.LessOrEqual(t, at, e.End)
		e.Now = at
		n++
	}
	require.InDelta(t, 1000, n, 4*32)
}
