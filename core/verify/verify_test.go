package verify

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/gallery"
)

// TestMain gives the random models a seed, so that a build does not depend on
// chance; -rapid.seed=N looks at others.
func TestMain(m *testing.M) {
	flag.Parse()
	if flag.Lookup("rapid.seed").Value.String() == "0" {
		flag.Set("rapid.seed", "1")
	}
	os.Exit(m.Run())
}

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

// TestRandomModels holds the analysis of random models against runs of them.
func TestRandomModels(t *testing.T) {
	models, claims, runs, skipped := 0, 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		text := drawWhole(t)
		g, err := compiled(t, text)
		if err != nil {
			t.Skip(err.Error())
		}
		r, err := Model(g, Options{Length: 2 * time.Hour, Events: 60_000})
		require.NoError(t, err, text)
		require.Empty(t, r.Contradictions, "%s\n%s", text, tell(r))
		models, claims, runs, skipped = models+1, claims+r.Claims, runs+r.Runs, skipped+len(r.Skipped)
	})
	t.Logf("%d models, %d claims, %d runs, %d skipped", models, claims, runs, skipped)
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
