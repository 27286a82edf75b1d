package study_test

import (
	"os"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/sim"
	"ironweir/core/study"
)

// TestResultsAreDocumented: docs/results.md names every field of the documents.
func TestResultsAreDocumented(t *testing.T) {
	page, err := os.ReadFile("../../docs/results.md")
	require.NoError(t, err)
	named := map[string]bool{}
	for _, span := range regexp.MustCompile("`[^`]*`").FindAllString(string(page), -1) {
		for _, word := range regexp.MustCompile(`[a-z][a-z0-9_]*`).FindAllString(span, -1) {
			named[word] = true
		}
	}
	var missing []string
	seen := map[reflect.Type]bool{}
	var walk func(typ reflect.Type, path string)
	walk = func(typ reflect.Type, path string) {
		switch typ.Kind() {
		case reflect.Pointer, reflect.Slice, reflect.Map, reflect.Array:
			walk(typ.Elem(), path)
			return
		case reflect.Struct:
		default:
			return
		}
		if seen[typ] {
			return
		}
		seen[typ] = true
		for i := range typ.NumField() {
			f := typ.Field(i)
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			if name != "" && !named[name] && !named[strings.TrimSuffix(name, "_ci")] {
				missing = append(missing, path+"."+name)
			}
			if strings.HasPrefix(typ.PkgPath(), "ironweir/") {
				walk(f.Type, path+"."+name)
			}
		}
	}
	for name, doc := range map[string]any{"run": study.Document{}, "beside": study.Variants{}, "sweep": study.Sweep{}, "size": study.Size{}, "compare": study.Comparison{},
		"follow": study.FollowDocument{}, "journey": sim.Journey{}, "where": sim.Found{}, "look": sim.Resting{}} {
		walk(reflect.TypeOf(doc), name)
	}
	require.Greater(t, len(seen), 15)
	require.Empty(t, missing, "add these to docs/results.md")
}
