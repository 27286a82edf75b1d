package check

import (
	"fmt"
	"sort"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// drawModel makes a random model of queues, topics, streams and functions with
// dead-letters and failure links, which one node feeds.
func drawModel(t *rapid.T) string {
	n := rapid.IntRange(3, 8).Draw(t, "nodes")
	kinds := make([]string, n)
	for i := range kinds {
		kinds[i] = rapid.SampledFrom([]string{"queue", "function", "topic", "bucket", "function", "queue", "outside", "stream"}).Draw(t, "kind")
	}
	kinds[0] = rapid.SampledFrom([]string{"queue", "topic", "bucket"}).Draw(t, "entry")
	var b strings.Builder
	b.WriteString("nodes:\n")
	for i, k := range kinds {
		fmt.Fprintf(&b, "  n%d:\n    kind: %s\n", i, k)
		if i == 0 {
			b.WriteString("    rate: 1/h\n")
		}
		links := rapid.IntRange(0, 2).Draw(t, "links")
		if i == 0 {
			links = max(links, 1)
		}
		if k == "queue" {
			links = min(links, 1) // of several, nobody knows which takes a message
		}
		if links == 0 {
			continue
		}
		b.WriteString("    links:\n")
		for l := range links {
			to := rapid.IntRange(0, n-1).Draw(t, "to")
			fields := fmt.Sprintf("to: n%d", to)
			dead := rapid.IntRange(-1, n-1).Draw(t, "dead")
			switch {
			case k == "function" && rapid.IntRange(0, 3).Draw(t, "result") == 0:
				fields += ", when: failure"
			case k == "function" && (kinds[to] == "function" || kinds[to] == "outside"):
				fields += ", mode: " + rapid.SampledFrom([]string{"wait", "async"}).Draw(t, "mode")
			case k == "function" && kinds[to] != "outside" && rapid.IntRange(0, 3).Draw(t, "careless") == 0:
				fields += ", on-error: ignore"
			case k != "function" && k != "outside":
				if k == "queue" || k == "stream" {
					fields += ", retry: {tries: 2}"
				}
				if dead >= 0 && dead != i {
					fields += fmt.Sprintf(", dead-letter: n%d", dead)
				}
			}
			fmt.Fprintf(&b, "      l%d: {%s}\n", l, fields)
		}
	}
	return b.String()
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

// TestTheSearchFindsEverySet compares it with trying all combinations.
func TestTheSearchFindsEverySet(t *testing.T) {
	larger := 0
	rapid.Check(t, func(t *rapid.T) {
		text := drawModel(t)
		a := Analyse(compiled(t, text), nil)
		for entry, e := range a.Entries {
			require.Equal(t, MaxFaults, e.Searched)
			var have []string
			for _, set := range e.LossSets {
				if names := append([]string{}, set.Faults...); len(names) > 0 {
					sort.Strings(names)
					have = append(have, strings.Join(names, "+"))
				}
				if len(set.Faults) > 1 {
					larger++
				}
			}
			want := bruteSets(a, a.Graph.NodeID(entry))
			sort.Strings(have)
			sort.Strings(want)
			require.Equal(t, want, have, "%s\n%s", entry, text)
		}
	})
	require.Greater(t, larger, 20, "sets of more than one fault")
}

// bruteSets tries all combinations of up to MaxFaults nodes and keeps the least.
func bruteSets(a *Analysis, entry int) []string {
	base, waiters := a.explore(entry), a.waiters()
	design := map[[2]int]bool{}
	for _, l := range base.losses {
		design[[2]int{l.node, l.link}] = true
	}
	loses := func(nodes []int) bool {
		for _, l := range base.under(nodes, waiters).losses {
			if !design[[2]int{l.node, l.link}] {
				return true
			}
		}
		return false
	}
	var found [][]int
	var out []string
	var names []int
	for _, g := range a.faultGroups() {
		if g.nodes[0] != entry {
			names = append(names, g.nodes[0])
		}
	}
	for size := 1; size <= MaxFaults; size++ {
		var rec func(from int, set []int)
		rec = func(from int, set []int) {
			if len(set) == size {
				for _, f := range found {
					if contains(set, f) {
						return
					}
				}
				if loses(set) {
					found = append(found, append([]int{}, set...))
					var words []string
					for _, n := range set {
						words = append(words, a.node(n).Name)
					}
					sort.Strings(words)
					out = append(out, strings.Join(words, "+"))
				}
				return
			}
			for k := from; k < len(names); k++ {
				rec(k+1, append(append([]int{}, set...), names[k]))
			}
		}
		rec(0, nil)
	}
	return out
}

func contains(set, part []int) bool {
	for _, p := range part {
		in := false
		for _, s := range set {
			in = in || s == p
		}
		if !in {
			return false
		}
	}
	return true
}

// TestLossSetsAgreeWithTheEngine fails every node of a loss set for the whole of
// a run: a message is lost. With any one of them working, none is.
func TestLossSetsAgreeWithTheEngine(t *testing.T) {
	sets := 0
	rapid.Check(t, func(t *rapid.T) {
		text := strings.ReplaceAll(drawModel(t), "kind: stream\n", "kind: stream\n    retention: 30d\n")
		g := compiled(t, text)
		a := Analyse(g, nil)
		e := a.Entries["n0"]
		if len(a.Loops) > 0 {
			t.Skip("it goes round, so that a fault may begin behind the message")
		}
		if len(e.LossSets) > 0 && len(e.LossSets[0].Faults) == 0 {
			t.Skip("lost by design")
		}
		for _, set := range e.LossSets {
			lost, ok := loseUnder(t, g, set.Faults)
			if !ok {
				t.Skip("it goes round")
			}
			require.Positive(t, lost, "%v should lose\n%s", set.Faults, text)
			for k := range set.Faults {
				rest := append(append([]string{}, set.Faults[:k]...), set.Faults[k+1:]...)
				if lost, ok = loseUnder(t, g, rest); ok {
					require.Zero(t, lost, "%v of %v should not lose\n%s", rest, set.Faults, text)
				}
			}
			sets++
		}
		if e.Survives >= 1 { // and no single fault loses, as it says
			for i := 1; i < len(g.Nodes); i++ {
				if lost, ok := loseUnder(t, g, []string{g.Nodes[i].Name}); ok {
					require.Zero(t, lost, "%s alone\n%s", g.Nodes[i].Name, text)
				}
			}
		}
	})
	require.Greater(t, sets, 100)
}

// loseUnder sends one message into n0 while nodes fail, and counts what is lost;
// false: the run did not come to an end.
func loseUnder(t *rapid.T, g *graph.Graph, down []string) (int64, bool) {
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = 72*time.Hour, true
	s.Traffic = []*model.Traffic{{Name: "u", Into: "n0", Rate: 1, Arrivals: "even", Max: 1}}
	whole := 1.0
	for _, name := range down {
		s.Incidents = append(s.Incidents, &model.Incident{Name: name, Node: name, Fails: &whole})
	}
	res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Limits: sim.Limits{Events: 50_000}})
	require.NoError(t, err)
	return res.Count(sim.Fate.Loss), res.Stopped == ""
}
