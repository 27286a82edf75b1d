package study_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// TestSemantics runs testdata/semantics: small interactions, one behaviour
// each, in which a reader of docs/semantics.md finds the sentence again. A case
// is a line `== what it says`, then the nodes, `--`, the scenario, `--`, and
// conditions over the result that must hold.
func TestSemantics(t *testing.T) {
	files, err := filepath.Glob("testdata/semantics/*.txt")
	require.NoError(t, err)
	var cases []string
	for _, f := range files {
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		cases = append(cases, strings.Split("\n"+string(text), "\n== ")[1:]...)
	}
	require.NotEmpty(t, cases)
	for _, c := range cases {
		says, rest, _ := strings.Cut(c, "\n")
		t.Run(says, func(t *testing.T) {
			parts := strings.Split(rest, "\n--\n")
			require.Len(t, parts, 3, "nodes, scenario, conditions")
			top := "ironweir: topology/1\nname: case\n" + parts[0] + "\n"
			m, err := model.Parse("case.yaml", []byte(top), model.Options{})
			require.NoError(t, err)
			g, err := graph.Compile(m)
			require.NoError(t, err)
			s, err := model.ParseScenario("scenario.yaml", []byte("ironweir: scenario/1\n"+parts[1]+"\n"), m)
			require.NoError(t, err)
			for _, line := range strings.Split(strings.TrimSpace(parts[2]), "\n") {
				if line = strings.TrimSpace(line); line != "" {
					s.Expect = append(s.Expect, model.Expectation{Name: line, Expression: line})
				}
			}
			require.NotEmpty(t, s.Expect)
			res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Audit: true})
			require.NoError(t, err)
			doc, err := study.Merge(g, s, []*sim.Result{res}, document.Head{})
			require.NoError(t, err)
			for name, x := range doc.Expect {
				require.True(t, x.Holds, "%s %s\nledger %+v", name, x.Error, doc.Ledger)
			}
		})
	}
}
