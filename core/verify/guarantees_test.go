package verify

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/gallery"
)

// TestGuaranteesOfRandomModels holds what is denied (a repetition, overtaking, a delay
// beyond the bound) of random models, always the same, against runs of them.
func TestGuaranteesOfRandomModels(t *testing.T) {
	const all = 50
	gen := rapid.Custom(drawWhole)
	models, claims, contradicted := 0, 0, 0
	for seed := 9000; models < all; seed++ {
		text := gen.Example(seed)
		g, err := compiled(t, text)
		if err != nil {
			continue
		}
		r, err := Guarantees(g, Options{Length: time.Hour, Events: 20_000})
		require.NoError(t, err, text)
		models, claims = models+1, claims+r.Claims
		if len(r.Contradictions) > 0 {
			contradicted++
			t.Logf("seed %d\n%s\n%s", seed, text, tell(r))
		}
	}
	t.Logf("%d models, %d claims, %d models contradicted", models, claims, contradicted)
	require.Zero(t, contradicted)
	require.Greater(t, claims, 10*models)
}

// TestGuaranteesOfTheDemo and of the starters.
func TestGuaranteesOfTheDemo(t *testing.T) {
	texts := map[string][]byte{}
	for _, name := range []string{"kittiwake", "kittiwake-draft"} {
		text, err := os.ReadFile(filepath.Join("../../demo", name+".yaml"))
		require.NoError(t, err)
		texts[name] = text
	}
	for _, s := range gallery.Starters() {
		texts[s.Name] = s.Text
	}
	for name, text := range texts {
		t.Run(name, func(t *testing.T) {
			m, err := model.Parse(name, text, model.Options{})
			require.NoError(t, err)
			g, err := graph.Compile(m)
			require.NoError(t, err)
			r, err := Guarantees(g, Options{Length: time.Hour, Events: 60_000})
			require.NoError(t, err)
			require.Empty(t, r.Contradictions, tell(r))
		})
	}
}

// TestWitnessesOfTheDemo shows the repetitions of the demo by runs: each scenario that is
// written shows one, and all but one of them are shown.
func TestWitnessesOfTheDemo(t *testing.T) {
	text, err := os.ReadFile("../../demo/kittiwake.yaml")
	require.NoError(t, err)
	m, err := model.Parse("kittiwake.yaml", text, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	witnesses, err := NewWitnesses(g, Options{})
	require.NoError(t, err)
	shown, all := 0, 0
	for _, q := range guarantees.Of(flow.Analyse(g, nil), "", "") {
		for k := range q.Repeats {
			all++
			s, err := witnesses.Find(&q, &q.Repeats[k])
			require.NoError(t, err)
			if s == nil {
				continue
			}
			shown++
			written, err := model.ParseScenario("witness.yaml", []byte(model.WriteScenario(s)), g.Topology)
			require.NoError(t, err)
			journeys, err := sim.Journeys(sim.Plan{Graph: g, Scenario: written}, sim.JourneyLimits{Others: recorded})
			require.NoError(t, err)
			var found []effect
			for k := range journeys {
				found = append(found, effectsOf(g, &journeys[k])...)
			}
			require.Contains(t, repeatedOf(found), pair{q.From, q.To})
		}
	}
	require.Greater(t, all, 6)
	require.GreaterOrEqual(t, shown, all-1)
}
