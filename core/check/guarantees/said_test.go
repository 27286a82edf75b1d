package guarantees_test

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var update = flag.Bool("update", false, "write down what is said anew")

// TestWhatIsSaid holds what is said of the demo and of the models on which the analysis was wrong against what is
// written in testdata/said.txt: core/verify holds the same against runs. What changes on purpose is written anew with
// -update, and read in the difference.
func TestWhatIsSaid(t *testing.T) {
	files, err := filepath.Glob("../../verify/testdata/*.yaml")
	require.NoError(t, err)
	demo, err := filepath.Glob("../../../demo/kittiwake*.yaml")
	require.NoError(t, err)
	var out bytes.Buffer
	for _, file := range append(files, demo...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		m, err := model.Parse(file, text, model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		fmt.Fprintf(&out, "== %s\n", strings.TrimSuffix(filepath.Base(file), ".yaml"))
		for _, q := range guarantees.Of(flow.Analyse(g, nil), "", "") {
			say(&out, &q)
		}
	}
	const written = "testdata/said.txt"
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(written, out.Bytes(), 0o644))
	}
	want, err := os.ReadFile(written)
	require.NoError(t, err)
	is, was := strings.Split(out.String(), "\n"), strings.Split(string(want), "\n")
	for k := range min(len(is), len(was)) {
		require.Equal(t, was[k], is[k], "line %d of %s", k+1, written)
	}
	require.Len(t, was, len(is))
}

// say writes a guarantee: how often, in which order and how late on the first line, then the reasons.
func say(out *bytes.Buffer, q *guarantees.Guarantee) {
	seconds := func(s *float64) string {
		if s == nil {
			return "none"
		}
		return fmt.Sprintf("%.9g", *s)
	}
	to := q.To
	if q.Answer {
		to = "its answer"
	}
	fmt.Fprintf(out, "%s → %s: %s, survives %d of %d, %s, with one fault %s, typically %s s, at most %s s (%s)\n", q.From, to,
		q.Reaches, q.Survives, q.Searched, q.Effects.NoFault, q.Effects.OneFault, seconds(q.Delay.Typical),
		seconds(q.Delay.AtMost), q.Delay.Why)
	for _, list := range []struct {
		name     string
		breaches []guarantees.Breach
	}{{"lost", q.Losses}, {"repeated", q.Repeats}} {
		for _, b := range list.breaches {
			fmt.Fprintf(out, "  %s [%s] %s %s: %s", list.name, b.Fault, b.Node, b.Link, b.Why)
			if b.Shows != "" {
				fmt.Fprintf(out, " (shown by %s, slow: %t)", b.Shows, b.Slow)
			}
			fmt.Fprintln(out)
		}
	}
	if len(q.Absorbed)+len(q.Parks) > 0 {
		fmt.Fprintf(out, "  absorbed %v, parked %v\n", q.Absorbed, q.Parks)
	}
	fmt.Fprintf(out, "  order %t %v %s %s\n", q.Order.Kept, q.Order.By, q.Order.Link, q.Order.Why)
}
