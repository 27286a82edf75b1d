package model

import (
	"slices"
	"strings"
)

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
	m := threeWay{clashes: []Clash{}}
	want := m.merge(docs[0], docs[1], docs[2], nil)
	text, err := write(theirs, m.sets, want)
	return text, m.clashes, err
}

// threeWay gathers what is to be changed in theirs, and where both changed a value in different ways.
type threeWay struct {
	sets    []set
	clashes []Clash
}

// merge gives theirs with what mine changed of base. All three are maps; base may be absent.
func (m *threeWay) merge(base, mine, theirs *Value, path []string) *Value {
	out := &Value{Shape: Map, Fields: slices.Clone(theirs.Fields)}
	for _, key := range bothKeys(base, mine) {
		was, is, other := base.Get(key), mine.Get(key), theirs.Get(key)
		at := append(append([]string{}, path...), key)
		switch {
		case sameOrAbsent(was, is) || sameOrAbsent(is, other):
			// It was not changed here, or both changed it in the same way.
		case (was == nil || isMap(was)) && isMap(is) && isMap(other):
			out.put(key, Position{}, m.merge(was, is, other, at))
		default:
			if !sameOrAbsent(was, other) {
				m.clashes = append(m.clashes, Clash{strings.Join(at, "."), flowOf(is), flowOf(other)})
			}
			switch {
			case is == nil:
				out.remove(key)
				m.sets = append(m.sets, set{at, nil})
			case isMap(is) && isMap(other):
				out.put(key, Position{}, m.merge(other, is, other, at)) // theirs as they were: nothing clashes
			default:
				out.put(key, Position{}, is)
				m.sets = append(m.sets, set{at, is})
			}
		}
	}
	return out
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
