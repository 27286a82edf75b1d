package guarantees

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCompareGuarantees lists what is lost and what is won; a pair that is new is
// neither.
func TestCompareGuarantees(t *testing.T) {
	bound := 60.0
	was := []Guarantee{
		{From: "a", To: "x", Survives: 1, Effects: Effects{"exactly_once", "at_least_once"},
			Order: Order{Kept: true}, Delay: Delay{AtMost: &bound}},
		{From: "a", To: "gone"},
	}
	now := []Guarantee{
		{From: "a", To: "x", Survives: 0, Effects: Effects{"exactly_once", "at_most_once"}},
		{From: "b", To: "new"},
	}
	lost, won := Compare(was, now)
	require.Equal(t, []Change{
		{"a", "x", "one_fault", "at_least_once", "at_most_once"},
		{"a", "x", "survives", "1", "0"},
		{"a", "x", "order", "kept", "not kept"},
		{"a", "x", "at_most_s", "bounded", "no bound"},
	}, lost)
	require.Equal(t, []Change{{"a", "x", "one_fault", "at_least_once", "at_most_once"}}, won)
	lost, won = Compare(now, was)
	require.Len(t, lost, 1)
	require.Len(t, won, 4)
}
