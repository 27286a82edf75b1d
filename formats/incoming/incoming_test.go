package incoming_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/incoming"
)

// TestAFileIsToldByWhatItIs: by its name, else by what is in it.
func TestAFileIsToldByWhatItIs(t *testing.T) {
	for file, want := range map[string][2]string{
		"a.csv":     {"name,kind\n", incoming.CSV},
		"a.ndjson":  {"{}\n", incoming.Lines},
		"a.pb":      {"\x0a", incoming.Traces},
		"t.json":    {`{"resourceSpans": []}`, incoming.Traces},
		"a.yaml":    {"asyncapi: 3.0.0", incoming.AsyncAPI},
		"o.json":    {`{"openapi": "3.1.0"}`, incoming.OpenAPI},
		"old.json":  {`{"swagger": "2.0"}`, incoming.OpenAPI},
		"w.yaml":    {"document: {dsl: '1.0.0'}\ndo: []\n", incoming.Workflow},
		"w8.yaml":   {"specVersion: '0.8'\nstates: []\n", incoming.Workflow},
		"m.yaml":    {"ironweir: topology/1\nnodes: {}\n", incoming.Model},
		"bare.yaml": {"nodes: {q: {kind: queue}}\n", incoming.Model},
		"bad.yaml":  {"nodes: [", incoming.Model}, // its reader tells the place
		"junk.json": {`{"hello": "world"}`, ""},
		"list.json": {"[1, 2, 3]", ""},
		"text.txt":  {"hello", ""},
	} {
		require.Equal(t, want[1], incoming.FormatOf(file, []byte(want[0])), file)
	}
}

func TestWhatIsNoneOfThemIsRefused(t *testing.T) {
	for _, junk := range []string{`{"hello": "world"}`, "[1, 2]", "hello"} {
		_, err := incoming.Read("", "junk.json", []byte(junk))
		require.ErrorContains(t, err, "junk.json: this is none of the files that are read", junk)
	}
	_, err := incoming.Read("soap", "a.xml", nil)
	require.ErrorContains(t, err, `no format "soap"`)
}

// TestTextsThatLookLikeVariablesStayAsTheyAre: a description may hold a dollar sign.
func TestTextsThatLookLikeVariablesStayAsTheyAre(t *testing.T) {
	source := "openapi: 3.1.0\ninfo: {title: scales, description: \"Call $client and $(client), then $weigh-all. $5\"}\n" +
		"paths: {/weighings: {get: {summary: \"as $client says\"}}}\n"
	d, err := incoming.Read("", "scales.yaml", []byte(source))
	require.NoError(t, err)
	m, err := model.Parse("scales.yaml", d.Text(), model.Options{})
	require.NoError(t, err, "%s", d.Text())
	require.Equal(t, "as $client says", m.Node("get-weighings").About)
	require.Contains(t, m.About, "then $weigh-all. $5")
	require.Contains(t, string(d.Text()), "These stand for themselves")
}

// TestEachBecomesAModel that can be used.
func TestEachBecomesAModel(t *testing.T) {
	for _, file := range []string{
		"../../demo/import/harbour-lamps.asyncapi.yaml", "../../demo/import/quay-traces.jsonl", "../../demo/kittiwake.yaml",
		"../../demo/import/sailing-close.workflow.yaml",
	} {
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		d, err := incoming.Read("", file, source)
		require.NoError(t, err, file)
		_, err = model.Parse(file, d.Text(), model.Options{})
		require.NoError(t, err, file)
	}
}
