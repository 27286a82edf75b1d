package graph_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

func compiled(t testing.TB, nodes string) *graph.Graph {
	t.Helper()
	return compiledText(t, "ironweir: topology/1\nname: t\nnodes:\n"+nodes)
}

func compiledText(t testing.TB, text string) *graph.Graph {
	t.Helper()
	m, err := model.Parse("model.yaml", []byte(text), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return g
}

// harbour has a link of each relation whose tries differ.
const harbour = `
  drop: {kind: bucket, links: {split: {dead-letter: aside}, log: {}, mail: {}}}
  split: {kind: function, retry: {tries: 6, jitter: 20%}, dead-letter: desk, links: {work: {}, mail: {mode: async}, clear: {mode: async}, rates: {to: rates, mode: wait, retry: {tries: 2, wait: 100ms}}}}
  work: {kind: queue, links: {clear: {retry: {tries: 3}}}}
  clear: {kind: function, links: {split: {mode: async, retry: {tries: 2, except: [broken]}}}}
  rows: {kind: stream, links: {clear: {retry: {give-up: 1h}}}}
  other: {kind: topic, links: {split: {}, rows: {}}}
  log: {kind: queue}
  mail: {kind: outside}
  rates: {kind: function, callers: [split]}
  nosy: {kind: function, links: {rates: {mode: wait}}}
  aside: {kind: queue}
  desk: {kind: queue}
`

// Links follow each other in the order written, and lead both ways.
func TestNodesKnowTheirLinks(t *testing.T) {
	g := compiled(t, harbour)
	require.Equal(t, graph.None, g.NodeID("nothing"))
	require.Equal(t, graph.None, g.LinkID("drop:nothing"))
	require.ErrorContains(t, g.NoNode("splitt"), `no node "splitt"; did you mean "split"?`)
	links := 0
	for i := range g.Nodes {
		n := &g.Nodes[i]
		require.Equal(t, i, g.NodeID(n.Name))
		for k, id := range n.Out {
			l := &g.Links[id]
			require.Equal(t, n.Node.Links[k], l.Link)
			require.Equal(t, id, l.ID)
			require.Equal(t, id, g.LinkID(l.Link.ID()))
			require.Equal(t, i, l.From)
			require.Contains(t, g.Nodes[l.To].In, id)
			links++
		}
	}
	require.Equal(t, len(g.Links), links)
	dead := func(link string) string {
		if to := g.Links[g.LinkID(link)].DeadLetter; to != graph.None {
			require.Contains(t, g.Nodes[to].DeadFrom, g.LinkID(link))
			return g.Nodes[to].Name
		}
		return ""
	}
	require.Equal(t, "aside", dead("drop:split"), "its own")
	require.Equal(t, "desk", dead("other:split"), "that of the intake")
	require.Empty(t, dead("drop:log"), "a write has none of its target's")
	require.True(t, g.Links[g.LinkID("nosy:rates")].Refused)
	require.False(t, g.Links[g.LinkID("split:rates")].Refused)
	require.False(t, g.Links[g.LinkID("drop:split")].Refused, "who names no callers has any")
}

// Tries are those of the relation, of the target's intake, or of the link, field by field.
func TestTries(t *testing.T) {
	g := compiled(t, harbour)
	const s = int64(time.Second)
	for link, want := range map[string]graph.Policy{
		"drop:split":  {Tries: 6, Wait: 30 * s, Factor: 2, MaxWait: 300 * s, Jitter: 0.2, GiveUp: 4 * 3600 * s},
		"drop:log":    {Tries: 3, Wait: s, Factor: 2},
		"drop:mail":   {Tries: 3, Wait: 10 * s, Factor: 2, GiveUp: 3600 * s},
		"split:mail":  {Tries: 3, Wait: 10 * s, Factor: 2, GiveUp: 3600 * s},
		"split:work":  {Tries: 1, Factor: 1},
		"split:clear": {Tries: 4, Wait: 30 * s, Factor: 2, MaxWait: 300 * s, GiveUp: 4 * 3600 * s},
		"clear:split": {Tries: 2, Wait: 30 * s, Factor: 2, MaxWait: 300 * s, GiveUp: 4 * 3600 * s, Except: []string{"broken"}},
		"split:rates": {Tries: 2, Wait: s / 10, Factor: 1, WaitSet: true},
		"nosy:rates":  {Tries: 1, Factor: 1},
		"work:clear":  {Tries: 3, Factor: 1},
		"rows:clear":  {Wait: s, Factor: 2, MaxWait: 60 * s, GiveUp: 3600 * s},
	} {
		require.Equal(t, want, g.Links[g.LinkID(link)].Policy, link)
	}
	require.Equal(t, 6, g.Nodes[g.NodeID("split")].Intake.Tries)
	require.Equal(t, graph.WritePolicy(), g.Nodes[g.NodeID("work")].Intake)
	require.Equal(t, g.Links[g.LinkID("drop:mail")].Policy, g.Nodes[g.NodeID("mail")].Intake)
}

// The wait grows by the factor up to its bound, and is at least a millisecond.
func TestBackoff(t *testing.T) {
	p := graph.Policy{Wait: 10e9, Factor: 2, MaxWait: 60e9}
	for k, want := range []int64{10e9, 20e9, 40e9, 60e9, 60e9} {
		require.Equal(t, want, p.Backoff(k+1))
	}
	require.Equal(t, int64(time.Millisecond), (&graph.Policy{Factor: 1}).Backoff(1))
	require.Equal(t, int64(7e9), (&graph.Policy{Wait: 7e9, Factor: 1}).Backoff(900))
	require.Equal(t, int64(model.MaxDuration), (&graph.Policy{Wait: 7e9, Factor: 3}).Backoff(900), "no overflow")
	require.InDelta(t, 7e9*math.Pow(1.5, 3), float64((&graph.Policy{Wait: 7e9, Factor: 1.5}).Backoff(4)), 1)
}

// What no expression reads need not be carried along.
func TestWhatIsRead(t *testing.T) {
	reads := func(field, link string) [4]bool {
		g := compiled(t, "  q: {kind: topic, links: {f: {"+link+"}}}\n  f: {kind: function"+field+"}")
		return [4]bool{g.UsesData, g.UsesSize, g.UsesSource, g.UsesIdentity}
	}
	require.Equal(t, [4]bool{}, reads("", ""))
	require.Equal(t, [4]bool{}, reads("", "match: {prefix: in/, suffix: .csv, type: a}"))
	require.Equal(t, [4]bool{true, false, false, false}, reads("", "match: {if: event.data.kg > 3}"))
	require.Equal(t, [4]bool{false, true, false, false}, reads("", "match: {if: event.size > 3}"))
	require.Equal(t, [4]bool{false, false, true, true}, reads("", "match: {source: scale}"))
	require.Equal(t, [4]bool{false, false, false, true}, reads("", "match: {if: event.id != ''}"))
	require.Equal(t, [4]bool{true, false, false, false}, reads(", accepts: {type: object}", ""))
	require.Equal(t, [4]bool{true, false, false, true}, reads(", accepts: {type: object}", "wrap: event"))
	limited := compiledText(t, "ironweir: topology/1\nlimits: {payload: 2KB}\nnodes:\n  q: {kind: topic}")
	require.True(t, limited.UsesSize)
}

// A filter takes an event if one of its alternatives holds, each field of it by any of its values.
func TestFilters(t *testing.T) {
	g := compiled(t, `
  q: {kind: topic, links: {
    all: {to: f},
    two: {to: f, match: {prefix: [in/, tmp/], suffix: .csv}},
    any: {to: f, match: [{type: a}, {source: scale}]},
    if: {to: f, match: {if: "event.data.kg > 3"}},
    off: {to: f, enabled: false}}}
  b: {kind: bucket, links: {new: {to: f}, gone: {to: f, changes: [deleted]}}}
  f: {kind: function}`)
	event := expr.Event{Subject: "in/1.csv", Type: "b", Data: map[string]any{"kg": 2.0}}
	require.Equal(t, []string{
		"", "", `type a does not match "b"; source scale does not match ""`,
		"the condition event.data.kg > 3 does not hold", "the link is switched off (`enabled: false`)",
	}, g.Declined(g.NodeID("q"), event, ""))
	event = expr.Event{Subject: "out/1.pdf", Source: "scale", Data: map[string]any{}}
	why := g.Declined(g.NodeID("q"), event, "")
	require.Equal(t, "prefix in/ or tmp/ does not match out/1.pdf", why[1])
	require.Empty(t, why[2])
	require.Contains(t, why[3], "the condition cannot be evaluated: ")
	require.Equal(t, "prefix in/ or tmp/ does not match an empty subject",
		g.Declined(g.NodeID("q"), expr.Event{}, "")[1])
	two := &g.Links[g.LinkID("q:two")].Filter
	for subject, takes := range map[string]bool{
		"in/1.csv": true, "tmp/.csv": true, "in/1.pdf": false, "x/in/1.csv": false,
	} {
		require.Equal(t, takes, two.Takes(&expr.Event{Subject: subject}), subject)
	}
	require.Equal(t, []string{"", "the link takes only what is deleted; the object is written"},
		g.Declined(g.NodeID("b"), expr.Event{Subject: "x"}, "written"))
	require.Equal(t, []string{"the link takes only what is written; the object is deleted", ""},
		g.Declined(g.NodeID("b"), expr.Event{Subject: "x"}, "deleted"))
}

// A run takes longer than its own work where it calls, waits for a write, or writes again.
func TestWhatRunsWaitFor(t *testing.T) {
	for link, asks := range map[string]bool{
		"d: {}":                                 false,
		"slow: {}":                              true,
		"d: {retry: {tries: 2}}":                true,
		"g: {mode: async}":                      false,
		"g: {mode: wait}":                       true,
		"o: {}":                                 true,
		"o: {mode: async}":                      false,
		"slow: {to: slow, when: success}":       false,
		"d: {retry: {tries: 2}, when: failure}": false,
		"d: {}, e: {to: d}, g: {mode: wait}, o: {}": true,
	} {
		g := compiled(t, "  f: {kind: function, links: {"+link+"}}\n  d: {kind: table}\n"+
			"  slow: {kind: table, takes: 1s}\n  g: {kind: function}\n  o: {kind: outside}")
		require.Equal(t, asks, g.Asks(&g.Nodes[0]), link)
	}
	w := compiled(t, "  w: {kind: workflow, do: [{rest: {wait: 1s}}]}")
	require.True(t, w.Asks(&w.Nodes[0]))
}
