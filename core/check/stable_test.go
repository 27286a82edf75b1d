package check_test

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// TestFindingsDoNotDependOnOrder writes the nodes of the draft in other orders, and
// with other line ends and comments: the findings, their ids and their words stay.
func TestFindingsDoNotDependOnOrder(t *testing.T) {
	source, err := os.ReadFile("../../demo/kittiwake-draft.yaml")
	require.NoError(t, err)
	head, rest, _ := strings.Cut(string(source), "\nnodes:\n")
	body, tail := rest, ""
	if i := regexp.MustCompile(`(?m)^[a-z]`).FindStringIndex(rest); i != nil {
		body, tail = rest[:i[0]], rest[i[0]:]
	}
	starts := regexp.MustCompile(`(?m)^  [a-z][a-z-]*:`).FindAllStringIndex(body, -1)
	require.Greater(t, len(starts), 15)
	var nodes []string
	for i, at := range starts {
		end := len(body)
		if i+1 < len(starts) {
			end = starts[i+1][0]
		}
		nodes = append(nodes, body[at[0]:end])
	}
	findings := func(text string) []string {
		v, err := model.ReadDocument("draft.yaml", []byte(text))
		require.NoError(t, err)
		var out []string
		for _, f := range checked(t, v).Findings {
			say := ""
			for _, r := range f.Remedies {
				say += " / " + r.Say
			}
			out = append(out, f.ID+" "+f.Code+" "+f.Message+say)
		}
		slices.Sort(out)
		return out
	}
	want := findings(string(source))
	require.Greater(t, len(want), 10)
	for seed := range uint64(3) {
		shuffled := slices.Clone(nodes)
		rand.New(rand.NewPCG(seed, 1)).Shuffle(
			len(shuffled),
			func(i, j int) { shuffled[i], shuffled[j] = shuffled[j], shuffled[i] },
		)
		text := head + "\nnodes:\n  # in another order\n" + strings.Join(shuffled, "") + tail
		require.Equal(t, want, findings(strings.ReplaceAll(text, "\n", "\r\n")), "seed %d", seed)
	}
}

// A check prints the same numbers each time, to the last digit: sums and products do not depend on the order of a map.
func TestTheSameNumbersEachTime(t *testing.T) {
	text, err := os.ReadFile("../verify/testdata/calls-after-what-is-never-processed.yaml")
	require.NoError(t, err)
	first := ""
	for range 30 {
		m, err := model.Parse("calls.yaml", text, model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		said, err := json.Marshal(check.Run(g, nil, document.Head{}, today))
		require.NoError(t, err)
		if first == "" {
			first = string(said)
		}
		require.Equal(t, first, string(said))
	}
}
