package stats

import (
	"math/big"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestTheAreaUnderALevel is that of the sum, step by step, in numbers of any size.
func TestTheAreaUnderALevel(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		longest := rapid.SampledFrom([]int64{10, 1e9, 1e16}).Draw(t, "longest step")
		var l TimeWeightedGauge
		now, count, most, area := int64(0), int64(0), int64(0), new(big.Int)
		for range rapid.IntRange(1, 100).Draw(t, "steps") {
			step := rapid.Int64Range(0, longest).Draw(t, "step")
			now += step
			area.Add(area, new(big.Int).Mul(big.NewInt(count), big.NewInt(step)))
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0:
				if many := rapid.Int64Range(0, count).Draw(t, "many"); many > 0 {
					l.FallBy(now, many)
					count -= many
				}
			case 1, 2:
				if count > 0 {
					l.Fall(now)
					count--
				}
			case 3:
				l.Restart(now)
				most = count
				area.SetInt64(0)
			default:
				l.Rise(now)
				count++
			}
			most = max(most, count)
		}
		want, _ := new(big.Float).SetInt(area).Float64()
		require.InEpsilon(t, want+1, l.Area(now)+1, 1e-15)
		require.Equal(t, count, l.Count)
		require.Equal(t, most, l.Most)
	})
}
