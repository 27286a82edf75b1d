package model

import (
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
		known := nodeSchema(Kind(k.Kind))["properties"].(schemaNode)
		have := map[string]bool{"kind": true, "links": true, "tags": true} // shown otherwise
		for _, f := range k.Fields {
			require.NotEmpty(t, f.About, "%s.%s", k.Kind, f.Path)
			require.NotEmpty(t, f.Form, "%s.%s", k.Kind, f.Path)
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
		if nested && first != "match" {
			require.Contains(t, known[first].(schemaNode)["properties"], inner)
		}
		have[first] = true
	}
	for name := range known {
		require.True(t, have[name], "%s of links is not in the catalogue", name)
	}
}
