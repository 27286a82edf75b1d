package random

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestLookingAheadChangesNoDraw: an exponential number that was made ahead is the one
// that would have been made when it is asked for, and so is what is drawn after it.
func TestLookingAheadChangesNoDraw(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		seed := rapid.Uint64().Draw(t, "seed")
		ahead, plain := New(seed, 0, "f", "time"), New(seed, 0, "f", "time")
		for _, exponential := range rapid.SliceOfN(rapid.Bool(), 0, 2000).Draw(t, "which draws are exponential") {
			if exponential {
				require.Equal(t, plain.exponentialSlow(), ahead.Exponential())
			} else {
				require.Equal(t, plain.Unit(), ahead.Unit())
			}
		}
	})
}
