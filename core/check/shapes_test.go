package check_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// shapes are the forms of large models whose cost is measured, each for a number of
// nodes.
var shapes = []struct {
	name string
	text func(nodes int) string
}{
	{"random", randomShape}, {"calls", chainOfCalls}, {"star-in", starIn}, {"star-out", starOut},
	{"loops", manyLoops}, {"layers", denseLayers}, {"ring", keyRing}, {"estate", estate},
	{"wait", layersOfCalls},
}

const header = "ironweir: topology/1\nname: large\nnodes:\n"

// randomShape writes an acyclic model of random shape: 2.5 links a node, every
// fiftieth an entry.
func randomShape(nodes int) string {
	r := rand.New(rand.NewPCG(7, uint64(nodes)))
	var b strings.Builder
	b.WriteString(header)
	kinds := make([]string, nodes)
	for i := range kinds {
		kinds[i] = []string{"queue", "function", "topic", "function", "bucket", "function", "outside",
			"stream"}[r.IntN(8)]
		if i%50 == 0 {
			kinds[i] = "topic"
		}
	}
	fed, unfed := make([]bool, nodes), 1 // every other node is fed by one before it
	for i, k := range kinds {
		fmt.Fprintf(&b, "  n%d: {kind: %s", i, k)
		if i%50 == 0 {
			b.WriteString(", rate: 10/h")
		}
		if k == "function" {
			fmt.Fprintf(&b, ", takes: 1s, fails: %d%%", r.IntN(3))
		}
		var links []string
		for l := range 2 + r.IntN(2) {
			if i+1 >= nodes || k == "outside" || (k == "queue" || k == "stream") && l > 0 {
				continue
			}
			to := i + 1 + r.IntN(min(nodes-i-1, 400))
			for unfed < nodes && (fed[unfed] || unfed%50 == 0 || unfed <= i) {
				unfed++
			}
			if l == 0 && unfed < nodes {
				to = unfed
			}
			fed[to] = true
			fields := ""
			switch {
			case k == "function" && (kinds[to] == "function" || kinds[to] == "outside"):
				fields = ", mode: " + []string{"wait", "async"}[r.IntN(2)]
			case k != "function":
				if r.IntN(2) == 0 && to+1 < nodes {
					fields = fmt.Sprintf(", dead-letter: n%d", to+1+r.IntN(nodes-to-1))
				}
				if k == "queue" || k == "stream" {
					fields += ", retry: {tries: 3}"
				}
			}
			links = append(links, fmt.Sprintf("l%d: {to: n%d%s}", l, to, fields))
		}
		fmt.Fprintf(&b, ", links: {%s}}\n", strings.Join(links, ", "))
	}
	return b.String()
}

// chainOfCalls writes functions of which each waits for the next.
func chainOfCalls(nodes int) string {
	var b strings.Builder
	b.WriteString(header + "  t: {kind: topic, rate: 1/s, links: {f0: {}}}\n")
	for i := range nodes - 1 {
		fmt.Fprintf(&b, "  f%d: {kind: function, timeout: 9h, takes: 10ms, links: {f%d: {mode: wait}}}\n", i, i+1)
	}
	fmt.Fprintf(&b, "  f%d: {kind: function}\n", nodes-1)
	return b.String()
}

// layersOfCalls writes layers of four functions that each wait for all of the next, behind a queue: as many paths as
// four to the power of the layers.
func layersOfCalls(nodes int) string {
	var b strings.Builder
	b.WriteString(header + "  q: {kind: queue, rate: 1/m, links: {f0: {}}}\n")
	for i := range nodes {
		var links []string
		for k := (i/4 + 1) * 4; k < min((i/4+2)*4, nodes); k++ {
			links = append(links, fmt.Sprintf("f%d: {mode: wait}", k))
		}
		fmt.Fprintf(&b, "  f%d: {kind: function, timeout: 9h, concurrency: 9, links: {%s}}\n",
			i, strings.Join(links, ", "))
	}
	return b.String()
}

// starIn writes functions that all write into one queue.
func starIn(nodes int) string {
	var b strings.Builder
	b.WriteString(header + "  hub: {kind: queue, links: {f: {retry: {tries: 3}}}}\n  f: {kind: function}\n")
	for i := range nodes {
		fmt.Fprintf(&b, "  f%d: {kind: function, rate: 1/h, takes: 1s, links: {hub: {}}}\n", i)
	}
	return b.String()
}

// starOut writes a topic with one link to each of many functions.
func starOut(nodes int) string {
	var b strings.Builder
	b.WriteString(header + "  hub: {kind: topic, rate: 1/s, links: {")
	for i := range nodes {
		if i > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "f%d: {}", i)
	}
	b.WriteString("}}\n")
	for i := range nodes {
		fmt.Fprintf(&b, "  f%d: {kind: function, takes: 1s}\n", i)
	}
	return b.String()
}

// manyLoops writes loops of two nodes that die out.
func manyLoops(nodes int) string {
	var b strings.Builder
	b.WriteString(header)
	for i := range nodes / 2 {
		fmt.Fprintf(
			&b,
			"  q%d: {kind: queue, rate: 1/h, links: {f%d: {retry: {tries: 3}}}}\n  f%d: {kind: function, takes: 1s, links: {back: {to: q%d, chance: 30%%}}}\n",
			i,
			i,
			i,
			i,
		)
	}
	return b.String()
}

// denseLayers writes two layers of which each node of the first is linked to each of
// the second: as many links as nodes squared.
func denseLayers(nodes int) string {
	var b strings.Builder
	b.WriteString(header)
	for i := range nodes {
		fmt.Fprintf(&b, "  t%d: {kind: topic, rate: 1/h, links: {", i)
		for j := range nodes {
			if j > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, "f%d: {}", j)
		}
		b.WriteString("}}\n")
		fmt.Fprintf(&b, "  f%d: {kind: function, takes: 1s}\n", i)
	}
	return b.String()
}

// keyRing writes buckets in a ring, each with keys of its own, whose functions write
// into the next.
func keyRing(nodes int) string {
	var b strings.Builder
	b.WriteString(header)
	for i := range nodes {
		fmt.Fprintf(
			&b,
			"  b%d: {kind: bucket, keys: [\"k%d/{seq}.csv\"], rate: 1/h, links: {f%d: {match: {prefix: k}}}}\n",
			i,
			i,
			i,
		)
		fmt.Fprintf(
			&b,
			"  f%d: {kind: function, takes: 1s, links: {b%d: {key: \"{dir}/{stem}.csv\"}}}\n",
			i,
			(i+1)%nodes,
		)
	}
	return b.String()
}

// estate writes systems of ten nodes each, some of them linked to the next.
func estate(nodes int) string {
	var b strings.Builder
	b.WriteString(header)
	systems := nodes / 10
	for i := range systems {
		next := ""
		if i+1 < systems && i%7 != 6 {
			next = fmt.Sprintf(", on: {to: in-%d, key: \"from-%d/{stem}.csv\"}", i+1, i)
		}
		fmt.Fprintf(
			&b,
			`  in-%[1]d: {kind: bucket, keys: ["up-%[1]d/{seq}.csv"], rate: 10/h, links: {split-%[1]d: {match: {suffix: .csv}, dead-letter: aside-%[1]d}, log-%[1]d: {dead-letter: aside-%[1]d}}}
  split-%[1]d: {kind: function, takes: 1s, links: {work-%[1]d: {count: 3}, rows-%[1]d: {key: "{stem}"}}}
  work-%[1]d: {kind: queue, lease: 5m, links: {do-%[1]d: {retry: {tries: 3}, dead-letter: aside-%[1]d}}}
  do-%[1]d: {kind: function, takes: 2s, fails: 1%%, concurrency: 5, links: {desk-%[1]d: {mode: wait}, news-%[1]d: {type: done}, rows-%[1]d: {}%[2]s}}
  desk-%[1]d: {kind: outside, takes: 1s, fails: 1%%}
  news-%[1]d: {kind: topic, links: {a-%[1]d: {match: {type: done}, to: mail-%[1]d, dead-letter: aside-%[1]d}, b-%[1]d: {to: log-%[1]d, match: {type: [done, gone]}, dead-letter: aside-%[1]d}}}
  mail-%[1]d: {kind: queue, links: {out-%[1]d: {to: desk-%[1]d, retry: {tries: 4, wait: 1m}, dead-letter: aside-%[1]d}}}
  log-%[1]d: {kind: queue, retention: 14d}
  rows-%[1]d: {kind: table}
  aside-%[1]d: {kind: queue, retention: 14d}
`,
			i,
			next,
		)
	}
	return b.String()
}

func largeGraph(t testing.TB, text string) *graph.Graph {
	m, err := model.Parse("large.yaml", []byte(text), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g
}

// BenchmarkShapes checks large models of each shape.
func BenchmarkShapes(b *testing.B) {
	sizes := map[string][]int{
		"random": {2_500, 5_000, 10_000},
		"calls":  {1_250, 2_500, 5_000},
		"layers": {75, 150, 300},
		"ring":   {200, 400, 800},
		"loops": {
			2_500,
			5_000,
			10_000,
		},
		"star-in":  {2_500, 5_000, 10_000},
		"star-out": {2_500, 5_000, 10_000},
		"estate":   {1_000, 10_000, 100_000},
	}
	for _, s := range shapes {
		for _, n := range sizes[s.name] {
			b.Run(fmt.Sprintf("%s/%d", s.name, n), func(b *testing.B) {
				g := largeGraph(b, s.text(n))
				b.ReportAllocs()
				var doc *check.Document
				for b.Loop() {
					doc = check.Run(g, nil, document.Head{}, today)
				}
				text, err := json.Marshal(doc)
				require.NoError(b, err)
				b.ReportMetric(float64(len(text))/1e6, "MB-of-JSON")
				b.ReportMetric(float64(len(g.Links)), "links")
			})
		}
	}
}

// TestLargeModelsStaySmall checks a model of each shape: what is said of it does not
// grow faster than the model.
func TestLargeModelsStaySmall(t *testing.T) {
	for _, s := range shapes {
		t.Run(s.name, func(t *testing.T) {
			size := func(n int) float64 {
				g := largeGraph(t, s.text(n))
				text, err := json.Marshal(check.Run(g, nil, document.Head{}, today))
				require.NoError(t, err)
				return float64(len(text)) / float64(len(g.Nodes)+len(g.Links))
			}
			small, large := size(40), size(160)
			require.Less(t, large, 3*small+1000, "bytes of JSON for a node or link")
			require.Less(t, size(400), 6_000.0)
		})
	}
}

// BenchmarkGuarantees works out the guarantees of large models whose analysis is done. (The
// other shapes have no destinations, or as many pairs as the square of their nodes.)
func BenchmarkGuarantees(b *testing.B) {
	for _, s := range shapes {
		if s.name != "random" && s.name != "estate" {
			continue
		}
		for _, nodes := range []int{1_000, 10_000} {
			b.Run(fmt.Sprintf("%s/%d", s.name, nodes), func(b *testing.B) {
				m, err := model.Parse("large", []byte(s.text(nodes)), model.Options{})
				require.NoError(b, err)
				g, err := graph.Compile(m)
				require.NoError(b, err)
				a := flow.Analyse(g, nil)
				found := 0
				for b.Loop() {
					found = len(guarantees.Of(a, "", ""))
				}
				b.ReportMetric(float64(found), "pairs")
			})
		}
	}
}
