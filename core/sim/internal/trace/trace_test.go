package trace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/sim/internal/arena"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// TestLateBadEndsAreKept: of a journey with more steps than are written down, those with which a copy ends badly are,
// each with the twelve before it; what lies between is counted, and no step names a parent that was left out.
func TestLateBadEndsAreKept(t *testing.T) {
	e := New(&engine.Engine{}, map[uint64]bool{})
	r := &trail{}
	for k := range 1000 {
		s := Step{Parent: k, What: "held"}
		if k+1 == 700 || k+1 == 900 {
			s.What = "lost"
		}
		require.Equal(t, k+1, r.add(e, s))
	}
	all := r.written()
	require.Len(t, all, MaxSteps+2*(leadUp+1))
	require.Equal(t, MaxSteps, all[MaxSteps-1].ID)
	require.Equal(t, 700-leadUp, all[MaxSteps].ID)
	require.Zero(t, all[MaxSteps].Parent, "step 687 was left out")
	require.Equal(t, 700-leadUp, all[MaxSteps+1].Parent)
	require.Equal(t, []int{700, 900 - leadUp}, []int{all[MaxSteps+leadUp].ID, all[MaxSteps+leadUp+1].ID})
	require.Equal(t, 900, all[len(all)-1].ID)
	require.Nil(t, r.step(701))
	require.Equal(t, "lost", r.step(900).What)
}

// TestBadEndsOfATimeAreKept: those of another time do not use up the room.
func TestBadEndsOfATimeAreKept(t *testing.T) {
	e := New(&engine.Engine{}, map[uint64]bool{})
	e.Within(JourneyLimits{From: 10 * time.Second, Until: 20 * time.Second})
	r := &trail{}
	for k := range MaxSteps {
		r.add(e, Step{Parent: k, What: "held"})
	}
	for second := range int64(30) {
		e.Now = second * int64(time.Second)
		r.add(e, Step{What: "parked"})
	}
	var at []float64
	for _, s := range r.written()[MaxSteps:] {
		at = append(at, s.T)
	}
	require.Contains(t, at, 10.0)
	require.Contains(t, at, 19.0)
	require.NotContains(t, at, 20.0)
	require.NotContains(t, at, 29.0)
}

// TestASampleKeepsTheFirstBadOnes and a uniform sample of the rest; of those that failed, only those that did so within
// the time that is asked for.
func TestASampleKeepsTheFirstBadOnes(t *testing.T) {
	space := &arena.Space{}
	defer space.Free()
	e := &engine.Engine{Journeys: arena.New[engine.Journey](space)}
	s := &Sample{engine: e, limits: JourneyLimits{Bad: 2, From: 5, Until: 8}, within: map[uint64]bool{}}
	for range 10 { // journeys 1 to 10, each of which fails when it enters
		e.Now++
		_, j := e.NewJourney(0)
		j.Failed = true
		s.JourneyFails(j)
		s.JourneyEnds(j)
	}
	require.Equal(t, []uint64{5, 6}, s.Chosen())

	chosen := map[uint64]int{}
	for seed := range uint64(2000) {
		s := &Sample{engine: e, limits: JourneyLimits{Others: 2}, rng: random.New(seed, 0, "", "journeys")}
		e.NextJour = 0
		for range 8 {
			_, j := e.NewJourney(0)
			s.JourneyEnds(j)
		}
		for _, id := range s.Chosen() {
			chosen[id]++
		}
	}
	for id := range uint64(8) {
		require.InDelta(t, 500, chosen[id+1], 4*20, "one in four: a standard deviation is 19.4")
	}
}
