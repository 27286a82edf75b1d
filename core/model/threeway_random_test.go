package model_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// missing stands for a key that a map does not have.
type missing struct{}

func at(v any, key string) any {
	if m, ok := v.(map[string]any); ok {
		if inner, ok := m[key]; ok {
			return inner
		}
	}
	return missing{}
}

func treeOf(v any) (map[string]any, bool) {
	if v == (any)(missing{}) {
		return nil, true
	}
	m, ok := v.(map[string]any)
	return m, ok
}

// together says what a three-way merge of plain values is: what only one side changed is as it is there; of maps, key
// by key; of anything else that both changed in different ways, mine stands, and its path is a clash.
func together(base, mine, theirs any, path string, clashes *[]string) any {
	switch {
	case reflect.DeepEqual(mine, base):
		return theirs
	case reflect.DeepEqual(theirs, base), reflect.DeepEqual(mine, theirs):
		return mine
	}
	_, before := treeOf(base)
	m, tree := mine.(map[string]any)
	t, other := theirs.(map[string]any)
	if !before || !tree || !other {
		*clashes = append(*clashes, path)
		return mine
	}
	out := map[string]any{}
	for _, keys := range []map[string]any{m, t} {
		for key := range keys {
			inner := path + "." + key
			if path == "" {
				inner = key
			}
			if _, done := out[key]; done {
				continue
			}
			if v := together(at(base, key), at(mine, key), at(theirs, key), inner, clashes); v != (any)(missing{}) {
				out[key] = v
			}
		}
	}
	return out
}

// drawTree draws a document of maps, lists, numbers and words; few keys, so that two edits meet.
func drawTree(r *rand.Rand, depth int) any {
	switch k := r.IntN(9); {
	case depth > 0 && (k < 5 || depth == 4):
		out := map[string]any{}
		for range r.IntN(4) {
			out[string(rune('a'+r.IntN(5)))] = drawTree(r, depth-1)
		}
		return out
	case k == 5:
		return []any{float64(r.IntN(3)), "word"}
	case k == 6:
		return nil
	case k == 7:
		return true
	}
	return float64(r.IntN(4))
}

// edited gives a copy of a value with a few changes.
func edited(r *rand.Rand, v any, depth int) any {
	m, ok := v.(map[string]any)
	if !ok || r.IntN(12) == 0 && depth < 4 {
		if r.IntN(3) > 0 {
			return v
		}
		return drawTree(r, depth)
	}
	out := map[string]any{}
	for key, inner := range m {
		switch r.IntN(6) {
		case 0:
		case 1, 2:
			out[key] = edited(r, inner, depth-1)
		default:
			out[key] = inner
		}
	}
	if r.IntN(3) == 0 {
		out[string(rune('a'+r.IntN(5)))] = drawTree(r, depth-1)
	}
	return out
}

// textOf writes a document: some of its maps as blocks, some on one line.
func textOf(t *testing.T, r *rand.Rand, v any) []byte {
	t.Helper()
	out := "ironweir: topology/1\n"
	for _, key := range slices.Sorted(keysOf(v.(map[string]any))) {
		inner := v.(map[string]any)[key]
		m, ok := inner.(map[string]any)
		if !ok || len(m) == 0 || r.IntN(2) == 0 {
			out += fmt.Sprintf("%s: %s\n", key, inOneLine(t, inner))
			continue
		}
		out += key + ": # block\n"
		for _, k := range slices.Sorted(keysOf(m)) {
			out += fmt.Sprintf("  %s: %s\n", k, inOneLine(t, m[k]))
		}
	}
	return []byte(out)
}

func keysOf(m map[string]any) func(yield func(string) bool) {
	return func(yield func(string) bool) {
		for key := range m {
			if !yield(key) {
				return
			}
		}
	}
}

func inOneLine(t *testing.T, v any) string {
	t.Helper()
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

// TestMergeThreeWayOfRandomEdits holds the merge of texts against that of plain values, on pairs of random edits.
func TestMergeThreeWayOfRandomEdits(t *testing.T) {
	clashed, changed := 0, 0
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		base := drawTree(r, 4)
		mine, theirs := edited(r, base, 4), edited(r, base, 4)
		texts := [][]byte{textOf(t, r, base), textOf(t, r, mine), textOf(t, r, theirs)}
		says := fmt.Sprintf("seed %d\n%s\n--- mine\n%s\n--- theirs\n%s", seed, texts[0], texts[1], texts[2])

		var want []string
		plain := together(base, mine, theirs, "", &want)
		merged, clashes, err := model.MergeThreeWay(texts[0], texts[1], texts[2])
		require.NoError(t, err, says)
		doc, err := model.ReadDocument("merged", merged)
		require.NoError(t, err, says)
		got := doc.Plain().(map[string]any)
		delete(got, "ironweir")
		require.JSONEq(t, inOneLine(t, plain), inOneLine(t, got), says)
		paths := []string{}
		for _, c := range clashes {
			paths = append(paths, c.Path)
		}
		require.ElementsMatch(t, want, paths, says)

		_, reversed, err := model.MergeThreeWay(texts[0], texts[2], texts[1])
		require.NoError(t, err, says)
		require.Len(t, reversed, len(clashes), "the same clashes, seen from there\n"+says)
		clashed += min(1, len(clashes))
		if !reflect.DeepEqual(plain, mine) && !reflect.DeepEqual(plain, theirs) {
			changed++
		}
	}
	require.Greater(t, clashed, 300)
	require.Greater(t, changed, 300)
}
