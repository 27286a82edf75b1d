package core

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A place is where something is added to a file: what stands there, and what then does.
type place struct{ file, stands, becomes string }

// toyKind is a kind like a topic: its name, its traits, and how it behaves in a run.
var toyKind = []place{
	{"model/kinds.go", "\tOutside  Kind = \"outside\"\n", "\tOutside  Kind = \"outside\"\n\tRelay Kind = \"relay\"\n"},
	{"model/kinds.go", "\treturn []traits{\n", `	return []traits{
		{
			kind: Relay, noun: "a relay", about: "Hands each message on.", role: Moves, channel: true, delivers: true,
			event: "relayed", fields: []string{"duplicates"}, read: (*object).topicFields,
		},
`},
	{"sim/internal/engine/engine.go", "\tmodel.Topic:    {nil, (*Engine).standInTopic},\n",
		"\tmodel.Topic:    {nil, (*Engine).standInTopic},\n\tmodel.Relay: {nil, (*Engine).standInTopic},\n"},
}

// toyField is a field of queues: where it is kept, how it is read, what is said of it, and
// that queues have it.
var toyField = []place{
	{"model/topology.go", "type Node struct {\n", "type Node struct {\n\tColour string\n"},
	{"model/nodes.go", "\tn.Group = o.text(\"group\")\n",
		"\tn.Group = o.text(\"group\")\n\tn.Colour = o.oneOf(\"colour\", \"grey\", \"grey\", \"red\")\n"},
	{"model/fields.go", "var nodeFields = []fieldSpec{\n",
		"var nodeFields = []fieldSpec{\n\t{\"colour\", general, \"grey|red\", \"grey\", \"of its shelf\", nil},\n"},
	{"model/kinds.go", `"order", "group", "retention",`, `"colour", "order", "group", "retention",`},
}

// withPlaces adds something in the places that docs/architecture.md counts, runs a program of
// the core with two models, and returns its output.
func withPlaces(t *testing.T, what string, places []place, models string) string {
	t.Helper()
	if testing.Short() {
		t.Skip("compiles the core")
	}
	docs, err := os.ReadFile("../docs/architecture.md")
	require.NoError(t, err)
	counted := map[int]string{3: "three", 4: "four"}[len(places)]
	require.Contains(t, strings.Join(strings.Fields(string(docs)), " "), "**"+what+"** takes "+counted+" places")
	root, err := filepath.Abs(".")
	require.NoError(t, err)
	dir := t.TempDir()
	replaced := map[string]string{}
	put := func(file, text string) {
		at := filepath.Join(dir, strings.ReplaceAll(file, "/", "-"))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
		replaced[filepath.Join(root, file)] = at
	}
	changed := map[string]string{}
	for _, p := range places {
		if _, ok := changed[p.file]; !ok {
			text, err := os.ReadFile(p.file)
			require.NoError(t, err)
			changed[p.file] = string(text)
		}
		require.Equal(t, 1, strings.Count(changed[p.file], p.stands), "%s: %s", p.file, p.stands)
		changed[p.file] = strings.Replace(changed[p.file], p.stands, p.becomes, 1)
	}
	for file, text := range changed {
		put(file, text)
	}
	put("toy/main.go", program+models)
	overlay, err := json.Marshal(map[string]any{"Replace": replaced})
	require.NoError(t, err)
	put("overlay.json", string(overlay))
	out, err := exec.Command("go", "run", "-overlay", filepath.Join(dir, "overlay.json"), "./toy").CombinedOutput()
	require.NoError(t, err, string(out))
	return string(out)
}

// program is one of the core that checks, runs and describes a model.
const program = `package main

import (
	"encoding/json"
	"fmt"
	"os"
	"time"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

func main() {
	for _, text := range []string{good, bad} {
		m, err := model.Parse("toy.yaml", []byte("ironweir: topology/1\nnodes:\n" + text), model.Options{})
		if err != nil {
			fmt.Println("problem:", err)
			continue
		}
		g, err := graph.Compile(m)
		if err != nil {
			panic(err)
		}
		doc := check.Run(g, nil, document.Head{}, time.Time{})
		for _, f := range doc.Findings {
			fmt.Println("finding:", f.Code)
		}
		s := model.DefaultScenario()
		s.Length = time.Hour
		r, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
		if err != nil {
			panic(err)
		}
		for i := range g.Nodes {
			fmt.Println(g.Nodes[i].Name, "copies:", r.Nodes[i].Copies, "runs:", r.Nodes[i].Runs)
		}
	}
	schema, _ := model.Schema("topology")
	for _, v := range []any{schema, model.WholeCatalogue()} {
		json.NewEncoder(os.Stdout).Encode(v)
	}
}

`

// TestAToyKind: a kind takes as many places as docs/architecture.md says, and reader, schema,
// forms, analysis and engine know it.
func TestAToyKind(t *testing.T) {
	out := withPlaces(t, "A node kind", toyKind, `
const good = "  r: {kind: relay, rate: 60/h, duplicates: 0%, links: {q: {match: {type: relayed}}}}\n" +
	"  q: {kind: queue, links: {f: {}}}\n  f: {kind: function}\n"
const bad = "  r: {kind: relay, lease: 5s}\n  s: {kind: rely}\n"
`)
	came := regexp.MustCompile(`(?m)^r copies: ([1-9]\d*) runs: 0\nq copies: (\d+) runs: 0\nf copies: 0 runs: (\d+)$`).
		FindStringSubmatch(out)
	require.NotNil(t, came, out)
	require.Equal(t, []string{came[1], came[1]}, came[2:], "its events have the type that its traits give")
	require.NotContains(t, out, "finding: IW302", "its filter takes the events")
	require.Contains(t, out, "a relay has no `lease`; that is a field of queue")
	require.Contains(t, out, "unknown kind \"rely\"; did you mean \"relay\"?")
	require.Contains(t, out, `{"const":"relay"}`)
	require.Contains(t, out, `"kind":"relay","about":"Hands each message on."`)
}

// TestAToyField: so does a field.
func TestAToyField(t *testing.T) {
	out := withPlaces(t, "A field", toyField, `
const good = "  q: {kind: queue, colour: red}\n"
const bad = "  q: {kind: queue, colour: blue}\n  p: {kind: queue, color: red}\n  t: {kind: topic, colour: red}\n"
`)
	require.Contains(t, out, "q copies: 0 runs: 0\n")
	require.Contains(t, out, "\"blue\" is not one of grey, red")
	require.Contains(t, out, "unknown field \"color\"; did you mean \"colour\"?")
	require.Contains(t, out, "a topic has no `colour`; that is a field of queue")
	require.Contains(t, out, `"colour":{"enum":["grey","red"]}`)
	require.Contains(t, out, `{"path":"colour","form":"choice","choices":["grey","red"],"default":"grey",`+
		`"about":"of its shelf"`)
}
