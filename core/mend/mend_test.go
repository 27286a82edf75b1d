package mend

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"ironweir/core/check/remedy"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/study"
)

func compiled(t *testing.T, text string) *graph.Graph {
	t.Helper()
	m, err := model.Parse("lane", []byte(text), model.Options{})
	require.NoError(t, err, text)
	g, err := graph.Compile(m)
	require.NoError(t, err, text)
	return g
}

// mistakes are parts of a model, each with an error of its own.
var mistakes = []string{
	`
  drop%[1]d: {kind: bucket, keys: ["in/{seq}.csv"], rate: 6/h, links: {split%[1]d: {match: {prefix: in/}, dead-letter: rest}}}
  split%[1]d: {kind: function, takes: 1s, links: {back%[1]d: {to: drop%[1]d, key: "in/{stem}.out"}}}`,
	`
  lane%[1]d: {kind: stream, rate: 1/s, partitions: 2, links: {weigh%[1]d: {}}}
  weigh%[1]d: {kind: function, takes: 100ms, cases: {bad: {if: "!has(event.data.kg)", fails: 100%%}}}`,
	`
  book%[1]d: {kind: queue, rate: 1/m, links: {confirm%[1]d: {retry: {tries: 3}}}}
  confirm%[1]d: {kind: function, takes: 1s, fails: {for-good: 2%%}}`,
	`
  work%[1]d: {kind: queue, rate: 3/s, lease: 5m, links: {clear%[1]d: {read: {parallel: 2}, retry: {tries: 3}, dead-letter: rest}}}
  clear%[1]d: {kind: function, takes: 1s}`,
}

func errorsOf(g *graph.Graph) (out []check.Finding) {
	for _, f := range check.Unproven(model.DefaultStart)(g).Findings {
		if f.Severity == check.Error && f.Accepted == nil {
			out = append(out, f)
		}
	}
	return out
}

// TestItFindsASmallestSet plants mistakes and looks at every smaller set of the remedies
// that are offered: none of them leaves the model without an error.
func TestItFindsASmallestSet(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for round := range 12 {
		text := "ironweir: topology/1\nname: lane\nnodes:\n  rest: {kind: queue, retention: 14d}"
		for k := range 1 + r.IntN(3) {
			text += fmt.Sprintf(mistakes[r.IntN(len(mistakes))], k)
		}
		g := compiled(t, text+"\n")
		planted := len(errorsOf(g))
		require.Positive(t, planted, text)
		doc, err := Find(Options{Graph: g})
		require.NoError(t, err)
		if !doc.Met { // a mistake that no remedy removes
			require.NotEmpty(t, doc.Unsolved, text)
			require.NotZero(t, doc.After.Errors, text)
			continue
		}
		require.LessOrEqual(t, len(doc.Changes), planted, text)
		require.True(t, doc.Smallest)
		after := g
		for _, c := range doc.Changes {
			after, err = c.Apply(after)
			require.NoError(t, err)
		}
		require.Empty(t, errorsOf(after), text)
		var offered []remedy.Remedy
		for _, f := range check.Unproven(model.DefaultStart)(g).Findings {
			offered = append(offered, f.Remedies...)
		}
		each(offered, len(doc.Changes)-1, func(set []remedy.Remedy) {
			after := g
			for _, c := range set {
				next, err := c.Apply(after)
				if err != nil {
					return
				}
				after = next
			}
			require.NotEmpty(t, errorsOf(after), "round %d: %v is smaller", round, set)
		})
	}
}

// each calls do with every set of up to size remedies.
func each(of []remedy.Remedy, size int, do func([]remedy.Remedy)) {
	do(nil)
	if size == 0 {
		return
	}
	for k := range of {
		each(of[k+1:], size-1, func(set []remedy.Remedy) { do(append(slices.Clone(set), of[k])) })
	}
}

// TestTheDraftOfTheDemoIsMended to a model that meets every expectation of the evening,
// as the one that was corrected by hand does.
func TestTheDraftOfTheDemoIsMended(t *testing.T) {
	text, err := os.ReadFile("../../demo/kittiwake-draft.yaml")
	require.NoError(t, err)
	g := compiled(t, string(text))
	evening, err := os.ReadFile("../../demo/friday-evening.yaml")
	require.NoError(t, err)
	s, err := model.ParseScenario("evening", evening, g.Topology)
	require.NoError(t, err)
	s.Replications = 2
	doc, err := Find(Options{Graph: g, Scenarios: []study.Plan{{Scenario: s, Workers: 2}}})
	require.NoError(t, err)
	require.True(t, doc.Met, doc)
	require.Equal(t, 3, doc.Before.Errors)
	require.NotEmpty(t, doc.Before.Fails)
	require.Zero(t, doc.After.Errors)
	require.Empty(t, doc.After.Fails)
	require.Zero(t, doc.After.Lost)
	require.Less(t, len(doc.Changes), 9)
	for k := range doc.Changes { // none of them can be left out
		fewer := g
		for i, c := range doc.Changes {
			if i != k {
				fewer, err = c.Apply(fewer)
				require.NoError(t, err)
			}
		}
		r, err := study.Run(study.Plan{Graph: fewer, Scenario: s, Workers: 2})
		require.NoError(t, err)
		holds := len(errorsOf(fewer)) == 0
		for _, x := range r.Expect {
			holds = holds && x.Holds
		}
		require.False(t, holds, "without %q", doc.Changes[k].Say)
	}
}

// TestAnUnreachableExpectation: no plan meets it, and the nearest says what still fails.
func TestAnUnreachableExpectation(t *testing.T) {
	g := compiled(t, `ironweir: topology/1
name: lane
nodes:
  lane: {kind: topic, rate: 1/m, links: {weigh: {retry: {tries: 2}}}}
  weigh: {kind: function, takes: 1s, fails: 10%}
`)
	s, err := model.ParseScenario("s", []byte(`ironweir: scenario/1
name: hour
length: 1h
expect: {fast: "run.nodes['weigh'].run_time_s.p50 < 0.5"}
`), g.Topology)
	require.NoError(t, err)
	doc, err := Find(Options{Graph: g, Scenarios: []study.Plan{{Scenario: s}}, Runs: 30})
	require.NoError(t, err)
	require.False(t, doc.Met)
	require.Equal(t, []string{"hour: fast"}, doc.After.Fails)
	require.False(t, strings.Contains(fmt.Sprint(doc.Changes), "nil"))
}
