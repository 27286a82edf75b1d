package flow

import (
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// TestMain gives the random models a seed, so that a build does not depend on
// luck; -rapid.seed=N looks at others.
func TestMain(m *testing.M) {
	flag.Parse()
	if flag.Lookup("rapid.seed").Value.String() == "0" {
		flag.Set("rapid.seed", "1")
	}
	os.Exit(m.Run())
}

// compiled reads a random model; it skips those whose kinds cannot be joined.
func compiled(t *rapid.T, text string) *graph.Graph {
	m, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nname: random\n"+text), model.Options{})
	if err != nil {
		t.Skip(err.Error())
	}
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g
}
