package traffic

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// arrivals draws all instants at which a source sends within an hour.
func arrivals(spec *model.Traffic) []time.Duration {
	e := &Sources{Engine: &engine.Engine{End: int64(time.Hour)}}
	luck := random.New(3, 0, "in", "arrivals")
	t := &source{spec: spec, pattern: patterns[spec.Arrivals], most: 1 << 40, arrivals: luck}
	if spec.Rate > 0 {
		t.gap = 1e9 / spec.Rate
	}
	var out []time.Duration
	for {
		at := e.nextArrival(t)
		if !e.within(at) {
			return out
		}
		e.Now = at
		t.sent++
		out = append(out, time.Duration(at))
	}
}

// within counts those between two instants.
func within(list []time.Duration, from, until time.Duration) int {
	n := 0
	for _, at := range list {
		if at >= from && at < until {
			n++
		}
	}
	return n
}

// TestMessagesArriveAsThePatternStates: as many in each phase as its rate gives, within four standard deviations.
func TestMessagesArriveAsThePatternStates(t *testing.T) {
	require.Len(t, arrivals(&model.Traffic{Arrivals: "even", Rate: 0.1}), 359, "every ten seconds, from ten on")
	require.InDelta(t, 7200, len(arrivals(&model.Traffic{Arrivals: "poisson", Rate: 2})), 4*85)
	require.Empty(t, arrivals(&model.Traffic{Arrivals: "poisson"}))

	bursts := arrivals(&model.Traffic{
		Arrivals: "burst", Rate: 0.1, Burst: &model.Burst{On: 10 * time.Minute, Off: 20 * time.Minute, Rate: 5},
	})
	require.InDelta(t, 3000, within(bursts, 0, 10*time.Minute), 4*55)
	require.InDelta(t, 120, within(bursts, 10*time.Minute, 30*time.Minute), 4*11)
	require.InDelta(t, 3000, within(bursts, 30*time.Minute, 40*time.Minute), 4*55)

	curve := arrivals(&model.Traffic{Arrivals: "curve", Curve: []model.CurvePoint{
		{At: 10 * time.Minute, Rate: 1}, {At: 20 * time.Minute, Rate: 0}, {At: 40 * time.Minute, Rate: 3},
	}})
	require.Zero(t, within(curve, 0, 10*time.Minute))
	require.InDelta(t, 600, within(curve, 10*time.Minute, 20*time.Minute), 4*25)
	require.Zero(t, within(curve, 20*time.Minute, 40*time.Minute))
	require.InDelta(t, 3600, within(curve, 40*time.Minute, time.Hour), 4*60)
}
