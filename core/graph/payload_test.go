package graph_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/expr"
)

// Texts of a payload that start with `=` are worked out for each event; the rest is the same for all.
func TestPayloads(t *testing.T) {
	g := compiled(t, `
  f: {kind: function, links: {
    same: {to: d, data: {a: 1, list: [x, {b: true}, null]}},
    made: {to: d, data: {key: "=event.subject", list: ["=event.data.kg * 2.0", 7], same: {c: d}, text: "a = b"}},
    wrong: {to: d, data: {kg: "=event.data.kg"}}}}
  d: {kind: table}`)
	of := func(link string) func(e expr.Event) (any, error) {
		p := g.Links[g.LinkID("f:"+link)].Payload
		return func(e expr.Event) (any, error) { return p.Value(&e) }
	}
	same, constant := g.Links[g.LinkID("f:same")].Payload.Constant()
	require.True(t, constant)
	require.Equal(t, map[string]any{"a": 1.0, "list": []any{"x", map[string]any{"b": true}, nil}}, same)
	subject := []byte("in/1.csv")
	event := expr.Event{Subject: string(subject), Data: map[string]any{"kg": 4.0}}
	made, err := of("made")(event)
	require.NoError(t, err)
	require.Equal(t, map[string]any{
		"key": "in/1.csv", "list": []any{8.0, 7.0}, "same": map[string]any{"c": "d"}, "text": "a = b",
	}, made)
	_, err = of("wrong")(expr.Event{Data: map[string]any{}})
	require.Error(t, err)
	_, constant = g.Links[g.LinkID("f:made")].Payload.Constant()
	require.False(t, constant)

	payload := g.Links[g.LinkID("f:made")].Payload
	_, known := payload.KnownValue(&event, expr.KnownData)
	require.False(t, known, "its key is not known")
	value, known := payload.KnownValue(&event, expr.KnownData|expr.KnownSubject)
	require.True(t, known)
	require.Equal(t, made, value)
	value, known = g.Links[g.LinkID("f:same")].Payload.KnownValue(&event, 0)
	require.True(t, known)
	require.Equal(t, same, value)
}

// Tasks are compiled with those within them, and know the links of their calls.
func TestTasks(t *testing.T) {
	g := compiled(t, `
  w: {kind: workflow, do: [
    {first: {call: f, with: {n: "=event.data.n"}}},
    {choose: {switch: [{big: {when: "event.data.n > 3", then: end}}, {rest: {then: each}}]}},
    {each: {for: {in: event.data.list}, do: [{one: {call: g}}]}},
    {both: {fork: {branches: [{left: {call: f}}, {right: {wait: 1s}}]}}},
    {try-it: {try: [{risky: {call: g}}], catch: {errors: {with: {type: broken}}, do: [{mend: {call: f}}]}}}]}
  f: {kind: function}
  g: {kind: function}`)
	tasks := g.Nodes[0].Tasks
	require.Len(t, tasks, 5)
	require.Equal(t, g.LinkID("w:f"), tasks[0].Link)
	value, err := tasks[0].With.Value(&expr.Event{Data: map[string]any{"n": 3.0}})
	require.NoError(t, err)
	require.Equal(t, map[string]any{"n": 3.0}, value)
	require.Len(t, tasks[1].Cases, 2)
	require.NotNil(t, tasks[1].Cases[0].When)
	require.Nil(t, tasks[1].Cases[1].When, "the default")
	require.NotNil(t, tasks[2].In)
	require.Equal(t, g.LinkID("w:g"), tasks[2].Do[0].Link)
	require.Len(t, tasks[3].Fork, 2)
	require.Equal(t, g.LinkID("w:g"), tasks[4].Try[0].Link)
	require.Equal(t, g.LinkID("w:f"), tasks[4].CatchDo[0].Link)
	require.Negative(t, tasks[3].Fork[1].Link, "a wait calls nothing")
}

// A sample passes for an event of its node: keys by its templates or those of what writes there, data by its schema.
func TestSamples(t *testing.T) {
	g := compiled(t, `
  drop: {kind: bucket, keys: ["inbound/{seq}.csv"]}
  f: {kind: function, links: {made: {to: rows, key: "{stem}.json"}}}
  rows: {kind: table, links: {g: {}}}
  g: {kind: function, accepts: {type: object, properties: {kg: {type: number, minimum: 5}}, required: [kg]}}
  tick: {kind: schedule, every: 1h, data: {of: tides}, links: {f: {}}}
  bare: {kind: queue}`)
	drop := g.Sample(g.NodeID("drop"))
	require.Equal(t, "inbound/1.csv", drop["subject"])
	require.Equal(t, "1.0", drop["specversion"])
	rows := g.Sample(g.NodeID("rows"))
	require.Equal(t, "1.json", rows["subject"])
	require.GreaterOrEqual(t, g.Sample(g.NodeID("g"))["data"].(map[string]any)["kg"], 5.0)
	tick := g.Sample(g.NodeID("tick"))
	require.Equal(t, map[string]any{"of": "tides"}, tick["data"])
	require.Equal(t, []any{"tick", "tick"}, []any{tick["source"], tick["subject"]})
	bare := g.Sample(g.NodeID("bare"))
	require.NotContains(t, bare, "subject")
	require.Equal(t, map[string]any{}, bare["data"])
}
