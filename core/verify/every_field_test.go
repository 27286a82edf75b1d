package verify

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"

	"ironweir/core/model"
)

// generators draw the models of these tests.
var generators = []struct {
	name string
	draw func(*rapid.T) string
}{
	{"whole", drawWhole}, {"systems", drawSystem}, {"stages", drawStages}, {"writers", drawWriters},
	{"details", drawDetails},
}

// notDrawn lists the fields that a check and a run need not look at, and those of a schedule that are about what is
// sent to a node: nothing is sent to one.
var notDrawn = map[string]bool{
	"about": true, "owner": true, "tags": true, "public": true, "observed-as": true, "method": true, "path": true,
	"hook": true, "read.from": true, "schedule.rate": true, "schedule.takes": true, "schedule.fails": true,
	"schedule.keys": true, "schedule.types": true, "schedule.sources": true, "schedule.callers": true,
}

// TestEveryFieldIsDrawn sees that the random models use every field of every kind, and every field of links.
func TestEveryFieldIsDrawn(t *testing.T) {
	used := map[string]bool{}
	var mark func(path string, value any)
	mark = func(path string, value any) {
		used[path] = true
		if fields, ok := value.(map[string]any); ok {
			for name, v := range fields {
				mark(path+"."+name, v)
			}
		}
	}
	models := 0
	for _, by := range generators {
		gen := rapid.Custom(by.draw)
		for seed := range 400 {
			text := gen.Example(seed)
			if _, err := compiled(t, text); err != nil {
				continue
			}
			models++
			var m map[string]any
			require.NoError(t, yaml.Unmarshal([]byte(text), &m))
			for _, value := range asMap(m["nodes"]) {
				n := asMap(value)
				for _, l := range asMap(n["links"]) {
					mark("link", l)
				}
				delete(n, "links")
				mark(n["kind"].(string), n)
			}
			delete(m, "nodes")
			mark("topology", m)
		}
	}
	require.Greater(t, models, 200*len(generators))
	var missing []string
	want := func(of, field string) {
		if path := of + "." + field; !notDrawn[field] && !notDrawn[path] && !used[path] {
			missing = append(missing, path)
		}
	}
	c := model.WholeCatalogue()
	for _, k := range c.Kinds {
		for _, f := range k.Fields {
			want(k.Kind, f.Path)
		}
	}
	for _, f := range c.Link {
		want("link", f.Path)
	}
	for _, field := range []string{"limits.payload", "pools", "permissions", "fails-together"} {
		want("topology", field)
	}
	require.Empty(t, missing, strings.Join(missing, "\n"))
}

func asMap(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}
