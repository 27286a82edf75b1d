package verify

import (
	"math"
	"math/rand/v2"
	"slices"
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

// TestRareBreakdownsAgreeWithRunsThatHaveOne holds the part of each breakdown, and of two
// that overlap, against runs that are conditioned on it, since a breakdown every two months
// seldom happens by itself: one begins at a fixed instant and lasts as long as drawn, and
// what a run then loses is weighed by how many there are in a year. Of two, the second
// begins at any instant within `near` of the first.
func TestRareBreakdownsAgreeWithRunsThatHaveOne(t *testing.T) {
	const (
		head  = "ironweir: topology/1\nname: lane\nnodes:\n"
		draws = 400
		near  = 2 * time.Hour
		at    = 3 * time.Hour
	)
	whole := 1.0
	type breaker struct{ every, lasts time.Duration } // means of exponentials
	const day = 24 * time.Hour
	cases := map[string]struct {
		body     string
		breakers map[string]breaker
		of       [][]string // the contributions that are held against runs
	}{
		"tries end before the breakdown": {
			`
  lane: {kind: topic, rate: 8/m, links: {weigh: {retry: {tries: 3, wait: 30s}}}}
  weigh: {kind: function, breaks: {every: 60d, for: 5m}, links: {store: {mode: wait, retry: {tries: 2, wait: 20s}}}}
  store: {kind: outside, breaks: {every: 45d, for: 8m}}`,
			map[string]breaker{"weigh": {60 * day, 5 * time.Minute}, "store": {45 * day, 8 * time.Minute}},
			[][]string{{"weigh"}, {"store"}},
		},
		"requests": {
			`
  lane: {kind: endpoint, rate: 8/m, links: {weigh: {mode: wait}}}
  weigh: {kind: function, breaks: {every: 60d, for: 10m}}`,
			map[string]breaker{"weigh": {60 * day, 10 * time.Minute}},
			[][]string{{"weigh"}},
		},
		"the dead-letter queue of a node that is down is down too": {
			`
  lane: {kind: queue, rate: 8/m, lease: 40s, links: {weigh: {read: {parallel: 40}, retry: {tries: 3}, dead-letter: spare}}}
  weigh: {kind: function, breaks: {every: 40d, for: 20m}, timeout: 30s}
  spare: {kind: queue, retention: 60d, breaks: {every: 3d, for: 30m}}`,
			map[string]breaker{"weigh": {40 * day, 20 * time.Minute}, "spare": {3 * day, 30 * time.Minute}},
			[][]string{{"weigh"}, {"weigh", "spare"}},
		},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			m, err := model.Parse("lane", []byte(head+c.body), model.Options{})
			require.NoError(t, err)
			g, err := graph.Compile(m)
			require.NoError(t, err)
			s := *model.DefaultScenario()
			s.Length, s.WarmUp = 9*time.Hour, 0
			s.Traffic, s.TrafficGiven = ownTraffic(g), true
			claim := flow.Analyse(g, &s).Entries["lane"].Availability
			require.NotNil(t, claim)
			for _, of := range c.of {
				rng := rand.New(rand.NewPCG(1, uint64(len(of))))
				weight := 1.0 // how often in a year what the run has happens
				for k, name := range of {
					b := c.breakers[name]
					often := 1 / (b.every + b.lasts).Seconds()
					if k == 0 {
						weight *= often * flow.Year
					} else {
						weight *= often * (2 * near).Seconds()
					}
				}
				var lost, parked, returned series
				for k := range draws {
					s.Seed, s.Incidents = uint64(k+1), nil
					for i, name := range of {
						x := &model.Incident{Name: name, Node: name, Fails: &whole, At: at}
						if i > 0 {
							x.At += time.Duration((2*rng.Float64() - 1) * float64(near))
						}
						x.For = max(1, time.Duration(rng.ExpFloat64()*float64(c.breakers[name].lasts)))
						s.Incidents = append(s.Incidents, x)
					}
					r, err := sim.Run(sim.Plan{Graph: g, Scenario: &s, Limits: sim.Limits{Events: 1 << 40}})
					require.NoError(t, err)
					lost.add(float64(r.Count(sim.Fate.Loss)) * weight)
					parked.add(float64(r.Count(is(sim.Parked))) * weight)
					returned.add(float64(r.Count(is(sim.Returned))) * weight)
				}
				part := contribution(claim, of)
				lost.agrees(t, "lost", part.Lost)
				returned.agrees(t, "returned", part.Returned)
				if len(of) == 1 { // of two, the first parks by itself too
					parked.agrees(t, "parked", part.Parked)
				}
				require.Positive(t, part.Lost+part.Parked+part.Returned)
			}
		})
	}
}

// contribution finds the part of some breakdowns.
func contribution(a *flow.Availability, of []string) flow.Contribution {
	for _, c := range a.By {
		other := func(f string) bool { return !slices.Contains(c.Faults, f) }
		if len(c.Faults) == len(of) && !slices.ContainsFunc(of, other) {
			return c
		}
	}
	return flow.Contribution{}
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
	t.Logf("%s: claimed %.4g, in runs %.4g ± %.2g", what, claimed, mean, unsure)
	require.InDelta(t, mean, claimed, 4*unsure+1e-6, what)
}
