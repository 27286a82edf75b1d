package sim

import (
	"ironweir/core/expr"
	"ironweir/core/sim/internal/trace"
)

// Journeys simulates a plan and records a sample of its journeys step by step.
// The run is simulated twice: once to see how each journey ends, and once more,
// being the same to the last draw, to write down those that were chosen. What
// is written down costs nothing where no journey is asked for.
func Journeys(plan Plan, limits JourneyLimits) ([]Journey, error) {
	r, err := newReplication(&plan)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	sample := trace.NewSample(r.Engine, limits)
	r.Sampler = sample
	if _, err := r.run(); err != nil {
		return nil, err
	}
	return record(plan, sample.Chosen(), limits)
}

// OneJourney records one journey of a plan by its number; nil: the run has none of that number. Of a journey with more
// steps than are recorded, bad ends within the time of the limits are.
func OneJourney(plan Plan, id uint64, limits JourneyLimits) (*Journey, error) {
	recorded, err := record(plan, []uint64{id}, limits)
	if err != nil || len(recorded) == 0 {
		return nil, err
	}
	return &recorded[0], nil
}

// record simulates a plan and records some journeys, by number.
func record(plan Plan, ids []uint64, limits JourneyLimits) ([]Journey, error) {
	wanted := map[uint64]bool{}
	for _, id := range ids {
		wanted[id] = true
	}
	r, err := newReplication(&plan)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	t := trace.New(r.Engine, wanted)
	t.Within(limits)
	r.Observe(t)
	r.Sampler = t
	if _, err := r.run(); err != nil {
		return nil, err
	}
	return t.Recorded(), nil
}

// Find simulates a plan and returns the journeys of which an event, at any node, meets a
// condition: how many there are, how they ended, and the first of them, at most `most`,
// step by step. An event of which the condition cannot be evaluated does not meet it.
func Find(plan Plan, where *expr.Expression, most int) (*Found, error) {
	r, err := newReplication(&plan)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	s := trace.NewSearch(r.Engine, where, most)
	r.Observe(s)
	r.Sampler = s
	if _, err := r.run(); err != nil {
		return nil, err
	}
	found, first := s.Found()
	found.Journeys, err = record(plan, first, JourneyLimits{})
	return found, err
}
