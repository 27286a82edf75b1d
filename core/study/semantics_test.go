package study_test

import (
	"cmp"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
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

// TestEachRuleHasATest fails on a rule of docs/semantics.md that no test cites, and on a
// citation of a rule that is not there.
func TestEachRuleHasATest(t *testing.T) {
	text, err := os.ReadFile("../../docs/semantics.md")
	require.NoError(t, err)
	rules := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^- \[([A-Z]+-\d+)\]`).FindAllStringSubmatch(string(text), -1) {
		require.False(t, rules[m[1]], "%s stands twice", m[1])
		rules[m[1]] = false
	}
	require.Greater(t, len(rules), 250)
	cites := regexp.MustCompile(`\[((?:CK|L|R|AI|WC|PR|S|RM|Q|ST|T|B|SC|EP|F|W|OS|IN|PE|SX|FO)-\d+)\]`)
	require.NoError(t, filepath.WalkDir("../..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			return cmp.Or(err, filepath.SkipDir)
		}
		if !strings.HasSuffix(path, "_test.go") && !strings.HasSuffix(path, ".txtar") &&
			!(strings.Contains(path, "/testdata/") && strings.HasSuffix(path, ".txt")) {
			return nil
		}
		text, err := os.ReadFile(path)
		for _, m := range cites.FindAllStringSubmatch(string(text), -1) {
			_, is := rules[m[1]]
			require.True(t, is, "%s cites %s, which docs/semantics.md does not have", path, m[1])
			rules[m[1]] = true
		}
		return err
	}))
	for rule, cited := range rules {
		require.True(t, cited, "no test cites %s", rule)
	}
}
