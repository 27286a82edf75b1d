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

// changesOf gives, as a merge patch for theirs, what mine changed of base. All three are maps; base may be absent.
func changesOf(base, mine, theirs *Value, path []string, clashes *[]Clash) *Value {
	patch := MapValue()
	for _, key := range bothKeys(base, mine) {
		was, is, other := base.Get(key), mine.Get(key), theirs.Get(key)
		at := append(append([]string{}, path...), key)
		switch {
		case sameOrAbsent(was, is) || sameOrAbsent(is, other):
			// It was not changed here, or both changed it in the same way.
		case (was == nil || isMap(was)) && isMap(is) && isMap(other):
			if inner := changesOf(was, is, other, at, clashes); len(inner.Fields) > 0 {
				patch.Add(key, inner)
			}
		default:
			if !sameOrAbsent(was, other) {
				*clashes = append(*clashes, Clash{strings.Join(at, "."), flowOf(is), flowOf(other)})
			}
			patch.Add(key, patchTo(other, is))
		}
	}
	return patch
}

// patchTo gives the merge patch that makes a value of another one.
func patchTo(other, is *Value) *Value {
	switch {
	case is == nil:
		return &Value{Shape: Null}
	case is.Shape == Null:
		return MapValue() // a key without a value, as `links: {q:}`: a patch would remove it
	case isMap(is) && isMap(other):
		return changesOf(other, is, other, nil, nil) // theirs as they were: nothing clashes
	}
	return is
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
