package verify

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/flow"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// lossOf returns what the analysis says of the messages of an entry, and the share of
// them that two days of Poisson arrivals lose.
func lossOf(t *testing.T, text, entry string) (says flow.Entry, loses float64) {
	g, err := compiled(t, text)
	require.NoError(t, err)
	s := *model.DefaultScenario()
	s.Length = 48 * time.Hour
	r, err := sim.Run(sim.Plan{Graph: g, Scenario: &s, Limits: sim.Limits{Events: 20_000_000}})
	require.NoError(t, err)
	require.Empty(t, r.Stopped)
	lost := int64(0)
	for i := range r.Nodes {
		for f, k := range r.Nodes[i].Fates {
			if sim.Fate(f).Loss() {
				lost += k
			}
		}
	}
	return flow.Analyse(g, nil).Entries[entry], float64(lost) / float64(r.Nodes[g.NodeID(entry)].Copies)
}

// A call that finds no free run fails: Erlang's loss formula, to which a run comes within
// its own spread.
func TestCallsToANodeWithoutAFreeRun(t *testing.T) {
	says, loses := lossOf(t, `
nodes:
  scans: {kind: topic, rate: 1/s, links: {weigh: {to: weigh, retry: {tries: 1}}}}
  weigh: {kind: function, takes: 1s, links: {scale: {to: scale, mode: wait}}}
  scale: {kind: function, takes: {dist: exponential, mean: 1500ms}, concurrency: 2}
`, "scans")
	a := 1.5
	erlang := a * a / 2 / (1 + a + a*a/2)
	require.InDelta(t, erlang, says.LossBy["exhausted"], 1e-4)
	require.InDelta(t, erlang, loses, 0.01)
	require.Equal(t, flow.AtMost, says.Basis["loss_probability"])
	require.GreaterOrEqual(t, *says.LossProbability, loses)
}

// An intake without a free run offers its messages again until they are too old.
func TestIntakeWithoutAFreeRun(t *testing.T) {
	for _, c := range []struct {
		name, work string
		within     float64
	}{
		{"nearly full", "{kind: function, takes: 2450ms, concurrency: 5, retry: {tries: 3, give-up: 10m}}", 0.03},
		{"over-full", "{kind: function, takes: 10s, concurrency: 5, retry: {tries: 3, give-up: 10m}}", 0.03},
		{"with room", "{kind: function, takes: 1s, concurrency: 12, retry: {tries: 3, give-up: 10m}}", 1e-6},
	} {
		t.Run(c.name, func(t *testing.T) {
			says, loses := lossOf(t, `
nodes:
  news: {kind: topic, rate: 2/s, links: {work: {to: work}}}
  work: `+c.work+"\n", "news")
			require.InDelta(t, loses, says.LossBy["given-up"], c.within)
			require.GreaterOrEqual(t, *says.LossProbability+1e-9, loses)
			require.False(t, math.IsNaN(loses))
		})
	}
}

// A queue's message that finds no free run has used a try, and its reader pauses: where
// the node is always busy, few ask, and the backlog waits in the queue instead.
func TestReadersWithoutAFreeRun(t *testing.T) {
	for name, c := range map[string]struct{ rate, takes string }{
		"nearly full": {"1500/h", "4s"},
		"over-full":   {"3/s", "1s"},
	} {
		t.Run(name, func(t *testing.T) {
			g, err := compiled(t, `
nodes:
  jobs: {kind: queue, rate: `+c.rate+`, retention: 4d, lease: 30s, links: {work: {to: work, read: {parallel: 10}, retry: {tries: 3}, dead-letter: dead}}}
  work: {kind: function, takes: `+c.takes+`, concurrency: 2}
  dead: {kind: queue, retention: 14d}
`)
			require.NoError(t, err)
			e := flow.Analyse(g, nil).Entries["jobs"]
			s := *model.DefaultScenario()
			r, err := sim.Run(sim.Plan{Graph: g, Scenario: &s, Limits: sim.Limits{Events: 20_000_000}})
			require.NoError(t, err)
			parked := float64(r.Nodes[g.NodeID("dead")].Copies) / float64(r.Nodes[g.NodeID("jobs")].Copies)
			require.InDelta(t, parked, *e.Parked, 0.03)
		})
	}
}

// A dead-letter queue whose consumer keeps up with what fails usually falls behind when
// everything fails.
func TestSurgeIntoADeadLetterQueue(t *testing.T) {
	g, err := compiled(t, `
nodes:
  orders: {kind: queue, rate: 1/s, retention: 4d, lease: 1m, links: {book: {to: book, dead-letter: clerks, retry: {tries: 3}}}}
  book: {kind: function, takes: 1s, timeout: 10s, fails: 1%}
  clerks: {kind: queue, retention: 2h, links: {people: {to: people, read: {parallel: 2}}}}
  people: {kind: outside, takes: 20s}
`)
	require.NoError(t, err)
	a := flow.Analyse(g, nil)
	var found *flow.LossSet
	e := a.Entries["orders"]
	for k := range e.LossSets {
		if s := &e.LossSets[k]; s.Node == "clerks" && s.Cause == "expired" && len(s.Faults) == 1 {
			for _, f := range s.Faults[0] {
				if f == "book" {
					found = s
				}
			}
		}
	}
	require.NotNil(t, found, "%+v", e.LossSets)
	// The queue gets 1/s instead of 0, and its readers take 0.1/s: what is kept for two
	// hours lasts for 2 h / (10 − 1) of a fault, after the three tries of the first message.
	require.InDelta(t, 2*time.Hour.Seconds()/9+2*60, *found.After.Seconds, 60)
	r, err := Model(g, Options{Length: 2 * time.Hour})
	require.NoError(t, err)
	require.Empty(t, r.Contradictions, tell(r))
}

// What comes by chance over a rate limit: the share that M/D/1/K loses, to which a run comes within its own spread.
func TestRateLimits(t *testing.T) {
	for name, c := range map[string]struct {
		text   string
		within float64
	}{
		"one at a time": {`
nodes:
  news: {kind: topic, rate: 20/m, links: {press: {retry: {tries: 1}}}}
  press: {kind: outside, rate-limit: 40/m}
`, 0.01},
		"bursts of three, nearly full": {`
nodes:
  news: {kind: topic, rate: 3/s, links: {press: {retry: {tries: 1}}}}
  press: {kind: outside, rate-limit: 3/s}
`, 0.01},
		"over-full, and called": {`
nodes:
  news: {kind: topic, rate: 5/s, links: {work: {retry: {tries: 1}}}}
  work: {kind: function, links: {press: {mode: wait}}}
  press: {kind: outside, rate-limit: 2/s}
`, 0.01},
	} {
		t.Run(name, func(t *testing.T) {
			says, loses := lossOf(t, c.text, "news")
			require.InDelta(t, loses, says.LossBy["exhausted"], c.within)
			require.Greater(t, loses, 0.1)
			require.GreaterOrEqual(t, *says.LossProbability, loses-c.within)
		})
	}
	says, loses := lossOf(t, `
nodes:
  scans: {kind: stream, rate: 2/s, partition-rate: 4/s, retention: 1h, links: {work: {retry: {tries: 2}}}}
  work: {kind: function}
`, "scans")
	require.Greater(t, loses, 0.001)
	require.InDelta(t, loses, *says.LossProbability, 0.003)
}
