package verify

import (
	"os"
	"path/filepath"
	"slices"
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
	const each = 20
	models, claims, contradicted := 0, 0, 0
	for k, by := range generators {
		gen := rapid.Custom(by.draw)
		for seed := 9000; models < each*(k+1); seed++ {
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

// TestWitnessesOfTheDemo shows by runs what the guarantees of the demo deny; most of it is
// shown.
func TestWitnessesOfTheDemo(t *testing.T) {
	text, err := os.ReadFile("../../demo/kittiwake.yaml")
	require.NoError(t, err)
	m, err := model.Parse("kittiwake.yaml", text, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	all, shown := map[string]int{}, map[string]int{}
	findWitnesses(t, g, Options{}, all, shown)
	t.Log(all, shown)
	require.Greater(t, all[Repeated], 6)
	require.GreaterOrEqual(t, shown[Repeated], all[Repeated]-1)
	require.Greater(t, all[Lost], 10)
	require.Equal(t, all[Lost], shown[Lost])
	require.Positive(t, all[Overtaken])
	require.Equal(t, all[Overtaken], shown[Overtaken])
}

// TestWitnessesOfRandomModels holds each witness that is found for random models, always
// the same, against a run of it. Most statements have one; of those that have none, most are of messages that
// circulate without end.
func TestWitnessesOfRandomModels(t *testing.T) {
	gen := rapid.Custom(drawWhole)
	all, shown := map[string]int{}, map[string]int{}
	for seed := 1; seed <= 30; seed++ {
		if g, err := compiled(t, gen.Example(seed)); err == nil {
			findWitnesses(t, g, Options{Length: time.Hour, Events: 20_000}, all, shown)
		}
	}
	t.Log(all, shown)
	for _, what := range []string{Lost, Repeated, Overtaken} {
		require.Greater(t, all[what], 10)
		require.Greater(t, 5*shown[what], 3*all[what])
	}
}

// TestWitnessesOfWhatSeldomHappens: what a bucket writes into itself repeats an effect, and what is lost behind a dead
// letter that no message needs by itself is shown while another node fails.
func TestWitnessesOfWhatSeldomHappens(t *testing.T) {
	for name, c := range map[string]struct {
		nodes    string
		from, to string
		what     string
	}{
		"a bucket that writes into itself": {
			"  a: {kind: topic, rate: 1/m, links: {b: {}}}\n" +
				"  b: {kind: bucket, notice: 1m, links: {b: {}}}",
			"a", "b", Repeated,
		},
		"a dead letter that is sent back": {
			"  a: {kind: topic, rate: 1/m, links: {d: {}, f: {}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, retry: {tries: 2}, dead-letter: q}\n" +
				"  q: {kind: queue, retention: 1d, links: {a: {}}}\n  d: {kind: table}",
			"a", "d", Repeated,
		},
		"behind a dead letter": {
			"  a: {kind: topic, rate: 1/m, links: {f: {}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 5s, fails: {for-good: 0.1%}, dead-letter: desk, links: {d: {}}}\n" +
				"  desk: {kind: queue, links: {g: {retry: {tries: 2}}}}\n" +
				"  g: {kind: function, takes: 1s, timeout: 5s, links: {d: {}}}\n  d: {kind: table}",
			"a", "d", Lost,
		},
	} {
		t.Run(name, func(t *testing.T) {
			g, err := compiled(t, "nodes:\n"+c.nodes)
			require.NoError(t, err)
			all, shown := map[string]int{}, map[string]int{}
			findWitnesses(t, g, Options{Length: time.Hour, Events: 20_000}, all, shown)
			require.Positive(t, all[c.what])
			require.Equal(t, all[c.what], shown[c.what], "%v %v", all, shown)
		})
	}
}

// findWitnesses counts what the guarantees of a model deny, and for how much of it a
// witness is found. Each must show the same when its scenario is written, read and run.
func findWitnesses(t *testing.T, g *graph.Graph, o Options, all, shown map[string]int) {
	witnesses, err := NewWitnesses(g, o)
	require.NoError(t, err)
	for _, q := range guarantees.Of(flow.Analyse(g, nil), "", "") {
		for _, statement := range StatementsOf(&q) {
			all[statement.What]++
			found, err := witnesses.Find(&q, statement)
			require.NoError(t, err)
			if found == nil {
				continue
			}
			shown[statement.What]++
			written, err := model.ParseScenario("witness.yaml", []byte(model.WriteScenario(found.Scenario)), g.Topology)
			require.NoError(t, err)
			run, err := sim.Journeys(witnesses.v.plan(written), sim.JourneyLimits{Others: recorded})
			require.NoError(t, err)
			at := slices.IndexFunc(run, func(j sim.Journey) bool { return j.ID == found.Journeys[0].ID })
			require.GreaterOrEqual(t, at, 0)
			switch statement.What {
			case Lost:
				trials, err := witnesses.trials(&q, statement)
				require.NoError(t, err)
				forced, err := witnesses.leadingTo(&q, statement, trials)
				require.NoError(t, err)
				if forced != nil {
					trials = append(trials, forced)
				}
				require.True(t, slices.ContainsFunc(trials, func(one *trial) bool {
					return one.lacks(&q, &q.Losses[statement.At], &run[at])
				}))
			case Repeated:
				require.Contains(t, repeatedOf(effectsOf(g, &run[at])), pair{q.From, q.To})
			case Overtaken:
				require.Len(t, found.Journeys, 2)
				require.Less(t, found.Journeys[0].Began, found.Journeys[1].Began)
				require.NotEmpty(t, witnesses.beside.overtaken(&q, run))
			}
		}
	}
}
