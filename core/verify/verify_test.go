package verify

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/check/flow"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/gallery"
)

func compiled(t require.TestingT, text string) (*graph.Graph, error) {
	m, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nname: random\n"+text), model.Options{})
	if err != nil {
		return nil, err
	}
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g, nil
}

func tell(r *Report) string {
	var b strings.Builder
	for _, c := range r.Contradictions {
		fmt.Fprintf(&b, "%s: check says: %s; the run: %s\n%s\n", c.Class, c.Claim, c.Run, c.Scenario)
	}
	return b.String()
}

// TestRandomModels holds the analysis of random models of the whole language, always the same, against runs of them.
func TestRandomModels(t *testing.T) { testRandom(t, drawWhole, 0) }

// TestRandomSystems does so with small systems as people build them.
func TestRandomSystems(t *testing.T) { testRandom(t, drawSystem, 0) }

// TestRandomStages does so with systems of two and three stages. Of one it is known: a full queue holds up the one
// before it until some of its messages expire.
func TestRandomStages(t *testing.T) { testRandom(t, drawStages, 1) }

// TestRandomWriters does so with functions that write to several nodes of which some fail, fill up or are ignored. Of
// three it is known: readers of partitions fall behind while what they call or write to is full or retried.
func TestRandomWriters(t *testing.T) { testRandom(t, drawWriters, 3) }

// TestRandomDetails does so with small systems that use the fields which the others seldom do.
func TestRandomDetails(t *testing.T) { testRandom(t, drawDetails, 0) }

// testRandom holds models that are drawn against runs of them, of which no more than are known may be contradicted.
// Surveys of others find about one in 500 (one in 400 of those of several stages, one in 130 of writers).
func testRandom(t *testing.T, draw func(*rapid.T) string, known int) {
	const all = 200
	gen := rapid.Custom(draw)
	models, claims, runs, skipped, contradicted := 0, 0, 0, 0, 0
	for seed := 0; models < all; seed++ {
		text := gen.Example(seed)
		g, err := compiled(t, text)
		if err != nil {
			continue
		}
		r, err := Model(g, Options{Length: 2 * time.Hour, Events: 60_000})
		require.NoError(t, err, text)
		models, claims, runs, skipped = models+1, claims+r.Claims, runs+r.Runs, skipped+len(r.Skipped)
		if len(r.Contradictions) > 0 {
			contradicted++
			t.Logf("seed %d\n%s\n%s", seed, text, tell(r))
		}
	}
	t.Logf(
		"%d models, %d claims, %d runs, %d skipped, %d models contradicted",
		models,
		claims,
		runs,
		skipped,
		contradicted,
	)
	require.LessOrEqual(t, contradicted, known)
	require.Greater(t, claims, 5*models)
}

// TestFoundModels holds the analysis of models on which an earlier one was wrong, one
// file for each kind of fault, and of the demo and the starters, against runs.
func TestFoundModels(t *testing.T) {
	texts := map[string][]byte{}
	for _, pattern := range []string{"testdata/*.yaml", "../../demo/kittiwake*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			texts[filepath.Base(f)] = text
		}
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
			r, err := Model(g, Options{Events: 300_000})
			require.NoError(t, err)
			require.Empty(t, r.Contradictions, tell(r))
			require.NotZero(t, r.Claims)
		})
	}
}

// TestColdStartsThatEndLate: a run that exceeds its limit takes its instance along, so that
// the next starts cold, too; how many are in time is what the engine shows.
func TestColdStartsThatEndLate(t *testing.T) {
	m, err := model.Parse("cold.yaml", []byte(`ironweir: topology/1
nodes:
  arrivals: {kind: topic, rate: 6/m, links: {work: {}}}
  work: {kind: function, takes: {dist: gamma, mean: 5s, cv: 0.5}, timeout: 2s, fails: {each-try: 10%, for-good: 2%},
    cold-start: {takes: 1s, idle: 5m}, links: {out: {}}}
  out: {kind: bucket}
`), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("s.yaml",
		[]byte("ironweir: scenario/1\nlength: 500h\ntraffic: {t: {into: arrivals, rate: 6/m}}\n"), m)
	require.NoError(t, err)
	r, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
	require.NoError(t, err)
	a := flow.Analyse(g, nil)
	written := float64(r.Nodes[g.NodeID("out")].Copies) / s.Length.Seconds()
	require.InEpsilon(t, written, a.Rates[a.Graph.NodeID("out")], 0.06)
	require.Less(t, written, 0.05*a.Rates[a.Graph.NodeID("arrivals")])
}
