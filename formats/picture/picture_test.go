package picture

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

func draft(t *testing.T) (*graph.Graph, Options) {
	t.Helper()
	text, err := os.ReadFile("../../demo/kittiwake-draft.yaml")
	require.NoError(t, err)
	m, err := model.Parse("draft.yaml", text, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g, Options{Check: check.Run(g, nil, document.Head{}, time.Now())}
}

func TestTheLoopIsMarked(t *testing.T) {
	g, o := draft(t)
	dot := DOT(g, o)
	require.Equal(t, dot, DOT(g, o), "the same model gives the same text")
	require.Equal(t, 5, strings.Count(dot, `fillcolor="#f6d5ea"`), "five nodes")
	require.Equal(t, 5, loopEdges(dot), "five links")
	require.NotContains(t, DOT(g, Options{}), "#9a1f6a", "nothing is marked without a check")
	mermaid := Mermaid(g, o)
	require.Equal(t, 5, strings.Count(mermaid, " loops\n"))
	require.Contains(t, mermaid, "split-manifest")
}

func loopEdges(dot string) int {
	n := 0
	for _, line := range strings.Split(dot, "\n") {
		if strings.Contains(line, "->") && strings.Contains(line, "#9a1f6a") {
			n++
		}
	}
	return n
}

func TestAroundShowsNeighboursOnly(t *testing.T) {
	g, _ := draft(t)
	mermaid := Mermaid(g, Options{Around: "announcements"})
	for name, shown := range map[string]bool{"announcements": true, "departures": true, "mail": true,
		"customs-archive": true, "clear-consignment": true, "mail-relay": false, "tide-times": false} {
		require.Equal(
			t,
			shown,
			strings.Contains(mermaid, fmt.Sprintf("%q", name)) || strings.Contains(mermaid, `"`+name+"<br/>"),
			name,
		)
	}
}

// Text from a model must stay text in a picture.
func TestTextIsEscaped(t *testing.T) {
	top := "ironweir: topology/1\nname: x\nnodes:\n  q: {kind: bucket, links: {f: {match: {prefix: '\"><script>alert(1)</script>|'}}}}\n  f: {kind: function}\n"
	m, err := model.Parse("x.yaml", []byte(top), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	require.NotContains(t, Mermaid(g, Options{}), "<script>")
	svg, err := Render(DOT(g, Options{}), "svg")
	require.NoError(t, err)
	require.NotContains(t, string(svg), "<script>")
	require.Contains(t, string(svg), "&lt;script&gt;")
}

// TestRates writes on each link how much it carries.
func TestRates(t *testing.T) {
	m, err := model.Parse(
		"m.yaml",
		[]byte(
			"ironweir: topology/1\nname: m\nnodes:\n  q: {kind: queue, rate: 2/s, links: {f: {}}}\n  f: {kind: function, takes: 1s, links: {t: {count: 3}}}\n  t: {kind: table}\n",
		),
		model.Options{},
	)
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	doc := check.Run(g, nil, document.Head{}, time.Now())
	dot := DOT(g, Options{Check: doc, Rates: true})
	require.Contains(t, dot, `[label="2/s"`)
	require.Contains(t, dot, `[label="×3\n6/s"`)
	require.Contains(t, dot, "#e8daff", "one reader cannot keep up: the queue is full")
	require.NotContains(t, DOT(g, Options{Check: doc, Rates: true, Plain: true}), "IW501")
}

func TestANodeSaysWhatMattersMost(t *testing.T) {
	topology, err := model.Parse("m.yaml", []byte(`ironweir: topology/1
name: details
nodes:
  photos: {kind: bucket, links: {resize: {match: {prefix: raw/}}}}
  drop: {kind: bucket, links: {resize: {match: {prefix: a/}}, other: {to: resize, match: {prefix: b/}}}}
  jobs: {kind: queue, lease: 2m, delay: 10m, capacity: 50, links: {resize: {}}}
  news: {kind: topic, links: {resize: {}}}
  scale: {kind: stream, partitions: 4, links: {resize: {}}}
  rows: {kind: table}
  nightly: {kind: schedule, cron: "30 4 * * *", links: {resize: {}}}
  often: {kind: schedule, every: 15m, enabled: false, links: {resize: {}}}
  front: {kind: endpoint, method: POST, path: /bookings, links: {resize: {}}}
  resize: {kind: function, takes: {dist: lognormal, p50: 400ms, p95: 1.2s}, concurrency: 8, links: {rows: {}}}
  plain: {kind: function, takes: 300ms, timeout: 45s}
  relay: {kind: outside, takes: 1234ms}
`), model.Options{})
	require.NoError(t, err)
	said := map[string]string{}
	for _, n := range topology.Nodes {
		said[n.Name] = Detail(n)
	}
	require.Equal(t, map[string]string{
		"photos": "prefix raw/", "drop": "2 filters", "jobs": "after 10m · lease 2m · keeps 7d · ≤50", "news": "",
		"scale": "4 partitions · keeps 2d", "rows": "", "nightly": "at 04:30 every day", "often": "disabled",
		"front": "POST /bookings", "resize": "~500ms · ≤8 at once", "plain": "300ms · ≤45s", "relay": "1.2s",
	}, said)
}
