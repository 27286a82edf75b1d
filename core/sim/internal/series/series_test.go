package series

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestStepsReadWellOnAnAxis: at most MaxPoints steps, of a length that divides the run where one does.
func TestStepsReadWellOnAnAxis(t *testing.T) {
	for length, step := range map[time.Duration]time.Duration{
		400 * time.Second:     time.Second,
		401 * time.Second:     401 * time.Second / 400, // nothing that reads well divides it
		12 * time.Hour:        2 * time.Minute,
		7 * 24 * time.Hour:    30 * time.Minute,
		30 * 24 * time.Hour:   2 * time.Hour,
		365 * 24 * time.Hour:  24 * time.Hour,
		1000 * 24 * time.Hour: 60 * time.Hour,
	} {
		got := seriesStep(length)
		require.Equal(t, step, got, "%s", length)
		require.LessOrEqual(t, int(length/got), MaxPoints)
	}
}
