package sim_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// FuzzRun simulates whatever can be read, for a while: no panic, and a ledger
// that adds up after every event.
func FuzzRun(f *testing.F) {
	const calm = "ironweir: scenario/1\nlength: 1h\n"
	for _, pattern := range []string{"../model/testdata/examples/*.yaml", "../../gallery/*.yaml", "../../demo/kittiwake*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(f, err)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(f, err)
			f.Add(string(text), calm)
		}
	}
	f.Add(
		"ironweir: topology/1\nnodes: {q: {kind: queue, links: {f: {}}}, f: {kind: function, takes: 1s, links: {q: {}}}}\n",
		"ironweir: scenario/1\nlength: 1h\ntraffic: {a: {into: q, rate: 1/s}}\nincidents: {x: {at: 1m, for: 2m, node: f, fails: 50%}, y: {at: 5m, send-back: {from: q, to: q, rate: 1/s}}}\n",
	)
	f.Fuzz(func(t *testing.T, topology, scenario string) {
		m, err := model.Parse("m.yaml", []byte(topology), model.Options{})
		if err != nil {
			return
		}
		g, err := graph.Compile(m)
		if err != nil {
			return
		}
		s, err := model.ParseScenario("s.yaml", []byte(scenario), m)
		if err != nil {
			return
		}
		plan := sim.Plan{
			Graph:    g,
			Scenario: s,
			Audit:    len(topology) < 4000,
			Limits:   sim.Limits{Events: 3000, Copies: 3000, Memory: 1 << 28},
		}
		if _, err := sim.Run(plan); err != nil {
			require.NotContains(t, err.Error(), "a fault of the engine")
		}
		live, err := sim.NewLive(sim.LivePlan{Plan: plan})
		if err != nil {
			return
		}
		for range 50 {
			if said, err := live.Step(); err != nil || said == "" {
				break
			}
		}
		live.State()
	})
}
