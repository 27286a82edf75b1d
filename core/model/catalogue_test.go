package model

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestTheCatalogueIsWhole: it has every field that the decoder knows, and no
// other.
func TestTheCatalogueIsWhole(t *testing.T) {
	c := WholeCatalogue()
	require.Len(t, c.Kinds, len(Kinds))
	for _, k := range c.Kinds {
		require.NotEmpty(t, k.About, k.Kind)
		known := nodeSchema(Kind(k.Kind).traits())["properties"].(schemaNode)
		have := map[string]bool{"kind": true, "links": true, "tags": true} // shown otherwise
		for _, f := range k.Fields {
			require.NotEmpty(t, f.About, "%s.%s", k.Kind, f.Path)
			require.NotEmpty(t, f.Form, "%s.%s", k.Kind, f.Path)
			require.NotEmpty(t, f.Group, "%s.%s stands under no heading", k.Kind, f.Path)
			require.Equal(t, f.Form == "choice", len(f.Choices) > 0, f.Path)
			require.Contains(t, known, f.Path, k.Kind)
			have[f.Path] = true
		}
		for name := range known {
			require.True(t, have[name], "%s.%s is not in the catalogue", k.Kind, name)
		}
	}
	known := linkSchema()["properties"].(schemaNode)
	have := map[string]bool{}
	for _, f := range c.Link {
		first, inner, nested := strings.Cut(f.Path, ".")
		require.Contains(t, known, first)
		require.NotEmpty(t, f.Group, "%s stands under no heading", f.Path)
		if nested && first != "match" {
			require.Contains(t, known[first].(schemaNode)["properties"], inner)
		}
		have[first] = true
	}
	for name := range known {
		require.True(t, have[name], "%s of links is not in the catalogue", name)
	}
}

// holders are fields whose parts docs/model.md lists one by one, as read.up-to.
var holders = map[string]bool{
	"read":       true,
	"retry":      true,
	"dedupe":     true,
	"cold-start": true,
	"cases":      true,
	"send-back":  true,
	"rewind":     true,
}

// values are words in tables of docs/model.md that a schema leaves open: forms of a
// number, of failures and of arrivals, and tasks.
var values = map[string]bool{
	"guess":    true,
	"range":    true,
	"measured": true,
	"each-try": true,
	"for-good": true,
	"error":    true,
	"poisson":  true,
	"even":     true,
	"on":       true,
	"off":      true,
	"curve":    true,
	"replay":   true,
	"set":      true,
}

// TestTheReferenceListsEveryField holds docs/model.md against the catalogue and the two
// schemas: each field of a node, a link and a scenario is named there, and each that it
// names in a table exists.
func TestTheReferenceListsEveryField(t *testing.T) {
	text, err := os.ReadFile("../../docs/model.md")
	require.NoError(t, err)
	listed := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-zA-Z.-]+)` \\|").FindAllStringSubmatch(string(text), -1) {
		path := strings.TrimPrefix(m[1], "cases.NAME.")
		listed[path] = true
		listed[path[strings.LastIndexByte(path, '.')+1:]] = true
	}
	known := map[string]bool{"NAME": true}
	var missing, unknown []string
	for _, name := range []string{"topology", "scenario"} {
		schema, err := Schema(name)
		require.NoError(t, err)
		var walk func(v any)
		walk = func(v any) {
			switch x := v.(type) {
			case map[string]any:
				for key, value := range x {
					if props, is := value.(map[string]any); is && key == "properties" {
						for field := range props {
							known[field] = true
							if !listed[field] && !holders[field] {
								missing = append(missing, field)
							}
						}
					}
					walk(value)
				}
			case []any:
				for _, item := range x {
					walk(item)
				}
			}
		}
		body, err := json.Marshal(schema)
		require.NoError(t, err)
		var plain any
		require.NoError(t, json.Unmarshal(body, &plain))
		walk(plain)
	}
	for field := range listed {
		if last := field[strings.LastIndexByte(field, '.')+1:]; !known[last] && !values[last] {
			unknown = append(unknown, field)
		}
	}
	require.Empty(t, missing, "docs/model.md does not list them")
	require.Empty(t, unknown, "docs/model.md lists what no schema has")
}
