package model

import "strings"

// Clash is a value that two edits of one text changed in different ways.
type Clash struct {
	Path   string `json:"path" doc:"nodes.NAME.field"`
	Mine   string `json:"mine" doc:"as written, on one line; empty: removed"`
	Theirs string `json:"theirs" doc:"as written, on one line; empty: removed"`
}

// MergeThreeWay gives the text of theirs with what mine changed of base written into it, comments and layout of theirs
// kept. Where both changed a value in different ways, mine stands, and the clash is listed.
func MergeThreeWay(base, mine, theirs []byte) ([]byte, []Clash, error) {
	var docs [3]*Value
	for i, text := range [][]byte{base, mine, theirs} {
		doc, err := ReadDocument([]string{"base", "mine", "theirs"}[i], text)
		if err != nil {
			return nil, nil, err
		}
		docs[i] = doc
	}
	clashes := []Clash{}
	patch := changesOf(docs[0], docs[1], docs[2], nil, &clashes)
	if len(patch.Fields) == 0 {
		return theirs, clashes, nil
	}
	text, err := Edit(theirs, patch)
	return text, clashes, err
}

// changesOf gives, as a merge patch for theirs, what mine changed of base, all three of them maps.
func changesOf(base, mine, theirs *Value, path []string, clashes *[]Clash) *Value {
	patch := MapValue()
	for _, key := range bothKeys(base, mine) {
		was, is, other := base.Get(key), mine.Get(key), theirs.Get(key)
		at := append(append([]string{}, path...), key)
		switch {
		case sameOrAbsent(was, is) || sameOrAbsent(is, other):
			// It was not changed here, or both changed it in the same way.
		case isMap(was) && isMap(is) && isMap(other):
			if inner := changesOf(was, is, other, at, clashes); len(inner.Fields) > 0 {
				patch.Add(key, inner)
			}
		case was == nil && isMap(is) && isMap(other):
			// Both added it: what they do not say otherwise comes together.
			if inner := changesOf(MapValue(), is, other, at, clashes); len(inner.Fields) > 0 {
				patch.Add(key, inner)
			}
		default:
			if !sameOrAbsent(was, other) {
				*clashes = append(*clashes, Clash{strings.Join(at, "."), flowOf(is), flowOf(other)})
			}
			addWhole(patch, key, is, other)
		}
	}
	return patch
}

// addWhole has a patch replace the other value by one; a map would be merged into a map.
func addWhole(patch *Value, key string, is, other *Value) {
	switch {
	case is == nil:
		patch.Add(key, &Value{Shape: Null})
	case is.Shape == Null:
		patch.Add(key, MapValue()) // a key without a value, as `links: {q:}`: a patch would remove it
	case isMap(is) && isMap(other):
		whole := &Value{Shape: Map, Fields: append([]Field{}, is.Fields...)}
		for _, f := range other.Fields {
			if is.Get(f.Key) == nil {
				whole.Add(f.Key, &Value{Shape: Null})
			}
		}
		patch.Add(key, whole)
	default:
		patch.Add(key, is)
	}
}

func isMap(v *Value) bool { return v != nil && v.Shape == Map }

func sameOrAbsent(a, b *Value) bool {
	if a == nil || b == nil {
		return a == b
	}
	return sameValue(a, b)
}

func flowOf(v *Value) string {
	if v == nil {
		return ""
	}
	return Flow(v)
}
