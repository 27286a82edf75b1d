package mapping_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/mapping"
)

// TestTheDemosExport becomes a model that says what the export says, and what no rule took is
// listed.
func TestTheDemosExport(t *testing.T) {
	rules, err := os.ReadFile("../../demo/import/yard-export.mapping.yaml")
	require.NoError(t, err)
	source, err := os.ReadFile("../../demo/import/yard-export.json")
	require.NoError(t, err)
	got, err := mapping.Read("rules.yaml", rules, "yard-export.json", source)
	require.NoError(t, err)
	m, err := model.Parse("made.yaml", model.WriteDocument(got.Root, nil), model.Options{})
	require.NoError(t, err)
	require.Equal(t, "north-slip-yard", m.Name)
	require.Len(t, m.Nodes, 7)
	require.Equal(t, 4, m.Node("assess").Concurrency)
	require.Zero(t, m.Node("register-photo").Concurrency, "an optional field is left out")
	require.Equal(t, "odd-ones", m.Node("to-assess").Link("assess").DeadLetter)
	require.Equal(t, []string{"trailers/"}, m.Node("photos").Link("register-photo").Match[0].Prefix)
	require.Equal(t, []mapping.Left{{Path: "doc.gates", Total: 1, Names: []string{"yard/gate-terminal"}}}, got.Left)
	require.Equal(t, mapping.Matched{Rule: "links 3", Line: 40, Items: 2}, got.Rules[6])
}

// TestOtherDocuments: CSV, JSON Lines and YAML are read alike.
func TestOtherDocuments(t *testing.T) {
	rules := []byte(`
ironweir: mapping/1
links: [{each: 'doc.filter(r, r.to != "")', from: slug(r0()), to: slug(item.to)}]
nodes: []
`)
	_, err := mapping.Read("rules.yaml", rules, "a.csv", []byte("name,to\nA,B\n"))
	require.ErrorContains(t, err, "rules.yaml:3: the expression slug(r0())")
	rules = []byte(`
ironweir: mapping/1
links: [{each: 'doc.filter(r, r.to != "")', from: slug(item.name), to: slug(item.to)}]
nodes: [{each: doc, name: slug(item.name), kind: 'part("x/queue/y", "/", 1)', fields: {tags: '{"row": string(index)}'}}]
`)
	for file, source := range map[string]string{
		"a.csv":   "name,to\nTo Weigh,Done\nDone,\n",
		"a.jsonl": "{\"name\": \"To Weigh\", \"to\": \"Done\"}\n\n{\"name\": \"Done\", \"to\": \"\"}\n",
		"a.yaml":  "- {name: To Weigh, to: Done}\n- {name: Done, to: \"\"}\n",
	} {
		got, err := mapping.Read("rules.yaml", rules, file, []byte(source))
		require.NoError(t, err, file)
		require.Equal(t, "a", got.Root.Get("name").Scalar)
		nodes := got.Root.Get("nodes")
		require.Equal(t, "queue", nodes.Get("to-weigh").Get("kind").Scalar, file)
		require.Equal(t, "0", nodes.Get("to-weigh").Get("tags").Get("row").Scalar, file)
		require.NotNil(t, nodes.Get("to-weigh").Get("links").Get("done"), file)
		require.Empty(t, got.Left, file)
	}
}

// TestFaultsNameTheRuleAndTheItem.
func TestFaultsNameTheRuleAndTheItem(t *testing.T) {
	const begin = "ironweir: mapping/1\n"
	for rules, says := range map[string]string{
		"nodes: []":         "rules begin with `ironweir: mapping/1`",
		begin + "nodez: []": "r.yaml:2: rules have no `nodez`; did you mean",
		begin + "nodes: {}": "`nodes` is a list of rules",
		begin + "nodes: [{each: doc.a, name: item.id}]":                                                                            "r.yaml:2: the rule nodes 1 has no `kind`",
		begin + "nodes: [{each: doc.a, nam: item.id}]":                                                                             "a rule has no `nam`",
		begin + "nodes: [{each: doc.a[, name: item.id, kind: item.k}]":                                                             "r.yaml",
		begin + "nodes: [{each: doc.none, name: item.id, kind: item.id}]":                                                          "nodes 1: `each`: no such key: none",
		begin + "nodes: [{each: doc.b, name: item.id, kind: item.id}]":                                                             "`each` is not a list",
		begin + "nodes: [{each: doc.a, name: item.id, kind: item.kind}]":                                                           "nodes 1, item 1: `kind`: no such key: kind",
		begin + "nodes: [{each: doc.a, name: item.n, kind: item.id}]":                                                              "`name` is not a text: 1",
		begin + "nodes: [{each: doc.a + doc.a, name: item.id, kind: item.id}]":                                                     "item 2: there is a node x already",
		begin + "links: [{each: doc.a, from: item.id, to: item.id}]":                                                               "the link leaves x, which no rule has made",
		begin + "nodes: [{each: doc.a, name: item.id, kind: item.id, fields: {lease: item.l}}]":                                    "lease: no such key: l; `lease?`",
		begin + "nodes: [{each: 'doc.a.map(x, doc.big.map(y, doc.big.map(z, doc.big.map(u, 1))))', name: item.id, kind: item.id}]": "cost",
	} {
		source := `{"a": [{"id": "x", "n": 1}], "b": "text", "big": [` + "1" + string(repeat(",1", 400)) + `]}`
		_, err := mapping.Read("r.yaml", []byte(rules), "d.json", []byte(source))
		require.ErrorContains(t, err, says, rules)
	}
	_, err := mapping.Read("r.yaml", []byte(begin+"nodes: []"), "d.jsonl", []byte("{}\n{"))
	require.ErrorContains(t, err, "d.jsonl:2")
}

func repeat(s string, n int) (out []byte) {
	for range n {
		out = append(out, s...)
	}
	return out
}
