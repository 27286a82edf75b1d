package verify

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/flow"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// TestAvailabilityAgreesWithDrawnBreakdowns holds the messages lost, parked and returned
// in a year against runs in which the engine draws the breakdowns: within four standard
// errors of the mean of their replications.
func TestAvailabilityAgreesWithDrawnBreakdowns(t *testing.T) {
	const head = "ironweir: topology/1\nname: lane\nnodes:\n"
	cases := map[string]string{
		"series of asynchronous functions": `
  lane: {kind: topic, rate: 8/m, links: {weigh: {}}}
  weigh: {kind: function, breaks: {every: 1h, for: 3m}, retry: {tries: 3, wait: 30s}, links: {stamp: {retry: {tries: 2, wait: 20s}}}}
  stamp: {kind: function, breaks: {every: 50m, for: {dist: uniform, min: 10s, max: 4m}}}`,
		"queue with a dead-letter queue that breaks down too": `
  lane: {kind: queue, rate: 8/m, lease: 40s, links: {weigh: {read: {parallel: 40}, retry: {tries: 3}, dead-letter: spare}}}
  weigh: {kind: function, breaks: {every: 40m, for: 4m}, timeout: 30s}
  spare: {kind: queue, retention: 60d, breaks: {every: 30m, for: 6m}}`,
		"one dependency met twice": `
  lane: {kind: topic, rate: 8/m, links: {weigh: {retry: {tries: 2, wait: 15s}}}}
  weigh: {kind: function, takes: 10s, timeout: 30s, links: {scale: {mode: wait}, later: {}}}
  later: {kind: queue, delay: 40s, links: {stamp: {read: {parallel: 40}, retry: {tries: 1}, dead-letter: spare}}}
  stamp: {kind: function, links: {scale: {mode: wait}}}
  scale: {kind: outside, breaks: {every: 30m, for: 2m}}
  spare: {kind: queue, retention: 60d}`,
		"requests": `
  lane: {kind: endpoint, rate: 8/m, links: {weigh: {mode: wait}}}
  weigh: {kind: function, links: {scale: {mode: wait}}}
  scale: {kind: outside, breaks: {every: 1h, for: {dist: gamma, mean: 3m, cv: 0.5}}}`,
		"a group": `
  lane: {kind: topic, rate: 8/m, links: {weigh: {retry: {tries: 2, wait: 45s}}, stamp: {retry: {tries: 4, wait: 20s, factor: 2}, dead-letter: spare}}}
  weigh: {kind: function}
  stamp: {kind: function}
  spare: {kind: queue, retention: 60d}
fails-together: {shed: {nodes: [weigh, stamp], breaks: {every: 45m, for: {dist: lognormal, p50: 1m, p95: 6m}}}}`,
		"two readers of one stream": `
  lane: {kind: stream, rate: 8/m, retention: 24h, links: {weigh: {retry: {tries: 1}}, stamp: {retry: {tries: 1}}}}
  weigh: {kind: function, links: {scale: {mode: wait}}}
  stamp: {kind: function, links: {scale: {mode: wait}}}
  scale: {kind: outside, breaks: {every: 30m, for: 2m}}`,
		"requests that are accepted": `
  lane: {kind: endpoint, rate: 8/m, links: {later: {}}}
  later: {kind: queue, retention: 60d, breaks: {every: 30m, for: 2m}, links: {weigh: {}}}
  weigh: {kind: function}`,
		"a workflow that calls another system instead": `
  lane: {kind: topic, rate: 8/m, links: {weigh: {retry: {tries: 1}}}}
  weigh:
    kind: workflow
    do:
      - any: {try: [{first: {call: scale}}], catch: {do: [{second: {call: spare}}]}}
  scale: {kind: outside, breaks: {every: 30m, for: 4m}}
  spare: {kind: outside, breaks: {every: 40m, for: 6m}}`,
		"a part of the messages": `
  lane: {kind: topic, rate: 12/m, types: [in, out], links: {weigh: {match: {type: in}, retry: {tries: 1}}, stamp: {match: {type: out}, retry: {tries: 1}}}}
  weigh: {kind: function, breaks: {every: 20m, for: 1m}}
  stamp: {kind: function}`,
	}
	for name, body := range cases {
		t.Run(name, func(t *testing.T) {
			m, err := model.Parse("lane", []byte(head+body), model.Options{})
			require.NoError(t, err)
			g, err := graph.Compile(m)
			require.NoError(t, err)
			s := *model.DefaultScenario()
			s.Length, s.Breakdowns, s.WarmUp = 400*time.Hour, true, 0
			s.Traffic, s.TrafficGiven = ownTraffic(g), true
			claim := flow.Analyse(g, &s).Entries["lane"].Availability
			require.NotNil(t, claim)
			t.Logf("%+v", claim)
			var lost, parked, returned series
			const replications = 8
			for k := range replications {
				s.Seed = uint64(k + 1)
				r, err := sim.Run(sim.Plan{Graph: g, Scenario: &s, Limits: sim.Limits{Events: 1 << 40}})
				require.NoError(t, err)
				scale := 365 * 24 / s.Length.Hours()
				lost.add(float64(r.Count(sim.Fate.Loss)) * scale)
				parked.add(float64(r.Count(is(sim.Parked))) * scale)
				returned.add(float64(r.Count(is(sim.Returned))) * scale)
			}
			lost.agrees(t, "lost", *claim.Lost)
			parked.agrees(t, "parked", *claim.Parked)
			returned.agrees(t, "returned", *claim.Returned)
			require.Positive(t, *claim.Lost+*claim.Parked+*claim.Returned)
		})
	}
}

func is(fate sim.Fate) func(sim.Fate) bool { return func(f sim.Fate) bool { return f == fate } }

// series are equally distributed numbers.
type series []float64

func (s *series) add(x float64) { *s = append(*s, x) }

func (s series) agrees(t *testing.T, what string, claimed float64) {
	t.Helper()
	mean, squares := 0.0, 0.0
	for _, x := range s {
		mean += x / float64(len(s))
	}
	for _, x := range s {
		squares += (x - mean) * (x - mean)
	}
	unsure := math.Sqrt(squares / float64(len(s)-1) / float64(len(s)))
	t.Logf("%s: claimed %.0f, in runs %.0f ± %.0f", what, claimed, mean, unsure)
	require.InDelta(t, mean, claimed, 4*unsure+1e-6, what)
}
