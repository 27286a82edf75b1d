package model

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"
)

// Edit applies a JSON Merge Patch to the text of a YAML document, keeping
// comments and layout: only what changes is written anew, as one-line maps where
// it is new. What comes out is read again and compared with the merged values,
// so an edit either does exactly what the patch says or is refused.
func Edit(text []byte, patch *Value) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	var sets []set
	eachLeaf(patch, nil, func(path []string, v *Value) {
		if v.Shape == Null {
			v = nil
		}
		sets = append(sets, set{path, v})
	})
	return write(text, sets, Merge(root, patch))
}

// set is a change of a document: the value that then lies at a path; nil: none.
type set struct {
	path  []string
	value *Value
}

// write makes changes in a text, which must give what is wanted.
func write(text []byte, sets []set, want *Value) ([]byte, error) {
	out := string(text)
	for _, s := range sets {
		var err error
		if out, err = setIn(out, s.path, s.value); err != nil {
			return nil, err
		}
	}
	got, err := ReadDocument("model", []byte(out))
	if err != nil || !sameValue(got, want) {
		return nil, fmt.Errorf("the change cannot be written into this text by itself; apply the patch by hand")
	}
	return []byte(out), nil
}

// eachLeaf visits what a patch sets or deletes. An empty map is a leaf.
func eachLeaf(patch *Value, path []string, visit func(path []string, v *Value)) {
	if patch.Shape != Map || len(patch.Fields) == 0 {
		visit(path, patch)
		return
	}
	for _, f := range patch.Fields {
		eachLeaf(f.Value, append(append([]string{}, path...), f.Key), visit)
	}
}

// sameValue compares values without their places.
func sameValue(a, b *Value) bool {
	if a.Shape != b.Shape || a.Scalar != b.Scalar && a.Shape != Null || len(a.Fields) != len(b.Fields) ||
		len(a.Items) != len(b.Items) {
		return false
	}
	for _, f := range a.Fields {
		other := b.Get(f.Key)
		if other == nil || !sameValue(f.Value, other) {
			return false
		}
	}
	for i := range a.Items {
		if !sameValue(a.Items[i], b.Items[i]) {
			return false
		}
	}
	return true
}

// editor finds places in a text.
type editor struct {
	text  string
	lines []int // where each line starts
}

func newEditor(text string) *editor {
	e := &editor{text: text, lines: []int{0}}
	for i := range len(text) {
		if text[i] == '\n' {
			e.lines = append(e.lines, i+1)
		}
	}
	return e
}

// offset gives the byte of a place; columns count characters.
func (e *editor) offset(p Position) int {
	if p.Line < 1 || p.Line > len(e.lines) {
		return len(e.text)
	}
	at := e.lines[p.Line-1]
	for range p.Column - 1 {
		if at >= len(e.text) {
			break
		}
		_, size := utf8.DecodeRuneInString(e.text[at:])
		at += size
	}
	return at
}

// lineEnd gives the end of the line of a byte, before its line break.
func (e *editor) lineEnd(at int) int {
	if i := strings.IndexByte(e.text[at:], '\n'); i >= 0 {
		return at + i
	}
	return len(e.text)
}

var errEdit = fmt.Errorf("the text is written in a way that cannot be edited here; apply the patch by hand")

// end gives the byte behind a value.
func (e *editor) end(v *Value) (int, error) {
	at := e.offset(v.Pos)
	if at >= len(e.text) {
		return at, nil
	}
	switch c := e.text[at]; {
	case c == '{' || c == '[':
		return e.bracketEnd(at)
	case (c == '"' || c == '\'') && v.Shape != Map: // a map may begin with a quoted key
		return e.quoteEnd(at)
	case v.Shape == Map:
		last := v.Fields[len(v.Fields)-1]
		return e.fieldEnd(last)
	case v.Shape == List:
		return e.end(v.Items[len(v.Items)-1])
	case v.Shape == Null && !strings.HasPrefix(e.text[at:], "null") && !strings.HasPrefix(e.text[at:], "~"):
		return at, nil
	case v.Scalar != "" && strings.HasPrefix(e.text[at:], v.Scalar):
		return at + len(v.Scalar), nil
	case v.Shape == Null:
		return at + len(strings.Fields(e.text[at:])[0]), nil
	}
	return 0, errEdit // an alias, a block of text, a scalar over several lines
}

// fieldEnd gives the byte behind a field: its value, or its colon where there is
// none.
func (e *editor) fieldEnd(f Field) (int, error) {
	colon, err := e.colon(f)
	if err != nil {
		return 0, err
	}
	if f.Value.Shape == Null && f.Value.Scalar == "" {
		return colon, nil
	}
	return e.end(f.Value)
}

// colon gives the byte behind the colon of a field's key.
func (e *editor) colon(f Field) (int, error) {
	at := e.offset(f.Pos)
	if at < len(e.text) && (e.text[at] == '"' || e.text[at] == '\'') {
		end, err := e.quoteEnd(at)
		if err != nil {
			return 0, err
		}
		at = end
	} else {
		at += len(f.Key)
	}
	i := strings.IndexByte(e.text[min(at, len(e.text)):], ':')
	if i < 0 || strings.TrimSpace(e.text[at:at+i]) != "" {
		return 0, errEdit
	}
	return at + i + 1, nil
}

func (e *editor) quoteEnd(at int) (int, error) {
	q := e.text[at]
	for i := at + 1; i < len(e.text); i++ {
		switch {
		case q == '"' && e.text[i] == '\\':
			i++
		case e.text[i] == q && q == '\'' && i+1 < len(e.text) && e.text[i+1] == '\'':
			i++
		case e.text[i] == q:
			return i + 1, nil
		}
	}
	return 0, errEdit
}

func (e *editor) bracketEnd(at int) (int, error) {
	depth := 0
	for i := at; i < len(e.text); i++ {
		switch c := e.text[i]; {
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			if depth--; depth == 0 {
				return i + 1, nil
			}
		case (c == '"' || c == '\'') && strings.ContainsRune("{[,: \n", rune(e.text[i-1])):
			end, err := e.quoteEnd(i)
			if err != nil {
				return 0, err
			}
			i = end - 1
		case c == '#' && (e.text[i-1] == ' ' || e.text[i-1] == '\n'):
			i = e.lineEnd(i)
		}
	}
	return 0, errEdit
}

// setIn sets what lies at a path, or removes it where the value is nil.
func setIn(text string, path []string, v *Value) (string, error) {
	root, err := ReadDocument("model", []byte(text))
	if err != nil {
		return "", err
	}
	e := newEditor(text)
	at := root
	var within *Field // whose value at is; nil: it is the root
	for k, key := range path {
		var found *Field
		for i := range at.Fields {
			if at.Fields[i].Key == key {
				found = &at.Fields[i]
			}
		}
		last := k == len(path)-1
		switch {
		case found == nil && v == nil:
			return text, nil
		case found == nil:
			return e.insert(at, key, nest(path[k+1:], v))
		case last && v == nil && within != nil && len(at.Fields) == 1:
			return e.replace(*within, MapValue()) // a block without fields would be no map
		case last && v == nil:
			return e.remove(at, *found)
		case last && isMap(v) && isMap(found.Value):
			return text, nil // an empty map changes nothing
		case last || found.Value.Shape != Map:
			return e.replace(*found, nest(path[k+1:], v))
		}
		at, within = found.Value, found
	}
	return text, nil
}

// nest wraps a value in maps; without one, the innermost is empty.
func nest(path []string, v *Value) *Value {
	if v == nil {
		path, v = path[:len(path)-1], MapValue()
	}
	for k := len(path) - 1; k >= 0; k-- {
		v = &Value{Shape: Map, Fields: []Field{{Key: path[k], Value: v}}}
	}
	return v
}

func (e *editor) splice(from, to int, with string) string { return e.text[:from] + with + e.text[to:] }

func (e *editor) replace(f Field, v *Value) (string, error) {
	colon, err := e.colon(f)
	if err != nil {
		return "", err
	}
	end, err := e.fieldEnd(f)
	if err != nil {
		return "", err
	}
	return e.splice(colon, end, " "+Flow(v)), nil
}

// emptyBlock is a line that holds an empty map and nothing else.
var emptyBlock = regexp.MustCompile(`^ *[a-z][a-z0-9-]*: \{ *\}\s*$`)

func (e *editor) insert(at *Value, key string, v *Value) (string, error) {
	entry := flowText(key) + ": " + Flow(v)
	if len(at.Fields) > 0 && at.Fields[0].Pos.Column == 1 && v.Shape == Map &&
		len(v.Fields) > 0 { // a new section goes on in lines
		entry = flowText(key) + ":"
		for _, f := range v.Fields {
			entry += "\n  " + flowText(f.Key) + ": " + Flow(f.Value)
		}
	}
	start := e.offset(at.Pos)
	if start < len(e.text) && e.text[start] == '{' {
		if len(at.Fields) == 0 {
			end, err := e.bracketEnd(start)
			if err != nil {
				return "", err
			}
			if line := e.lines[at.Pos.Line-1]; emptyBlock.MatchString(
				e.text[line:e.lineEnd(end)],
			) { // a map of its own line goes on in lines
				indent := len(e.text[line:start]) - len(strings.TrimLeft(e.text[line:start], " "))
				return e.splice(start-1, end, "\n"+strings.Repeat(" ", indent+2)+entry), nil
			}
			return e.splice(start, max(end, start), "{"+entry+"}"), nil
		}
		end, err := e.fieldEnd(at.Fields[len(at.Fields)-1])
		if err != nil {
			return "", err
		}
		return e.splice(end, end, ", "+entry), nil
	}
	if len(at.Fields) == 0 {
		return "", errEdit
	}
	end, err := e.fieldEnd(at.Fields[len(at.Fields)-1])
	if err != nil {
		return "", err
	}
	end = e.lineEnd(end)
	indent := strings.Repeat(" ", at.Fields[0].Pos.Column-1)
	return e.splice(end, end, "\n"+indent+entry), nil
}

func (e *editor) remove(at *Value, f Field) (string, error) {
	from := e.offset(f.Pos)
	to, err := e.fieldEnd(f)
	if err != nil {
		return "", err
	}
	if start := e.offset(at.Pos); e.text[start] == '{' {
		rest := strings.TrimLeft(e.text[to:], " \n")
		if strings.HasPrefix(rest, ",") {
			to = len(e.text) - len(strings.TrimLeft(rest[1:], " "))
		} else {
			from = len(strings.TrimRight(strings.TrimRight(e.text[:from], " \n"), ","))
		}
		return e.splice(from, to, ""), nil
	}
	line := e.lines[f.Pos.Line-1]
	return e.splice(line, min(e.lineEnd(to)+1, len(e.text)), ""), nil
}

// Flow writes a value as YAML on one line.
func Flow(v *Value) string {
	switch v.Shape {
	case Map:
		parts := make([]string, len(v.Fields))
		for i, f := range v.Fields {
			parts[i] = flowText(f.Key) + ": " + Flow(f.Value)
		}
		return "{" + strings.Join(parts, ", ") + "}"
	case List:
		parts := make([]string, len(v.Items))
		for i, item := range v.Items {
			parts[i] = Flow(item)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case Null:
		return "null"
	case Text:
		return flowText(v.Scalar)
	}
	return v.Scalar
}

// otherType is text that some readers of YAML take for something else.
var otherType = regexp.MustCompile(
	`(?i)^(true|false|yes|no|on|off|null|y|n|[0-9.]+e[0-9]+|0x[0-9a-f]+|0o?[0-7]+|[0-9][0-9_]*|[0-9]+:[0-9:.]+)$`,
)

// plain reports whether a text needs no quotes, within braces or without.
func plain(s string, braces bool) bool {
	if s == "" || strings.TrimSpace(s) != s || otherType.MatchString(s) ||
		strings.ContainsAny(s[:1], "!&*?|>@%`\"'#{}[],:=-~<") && !strings.HasPrefix(s, "=") {
		return false
	}
	if strings.Contains(s, ": ") || strings.Contains(s, " #") || strings.HasSuffix(s, ":") ||
		braces && strings.ContainsAny(s, ",[]{}:") {
		return false
	}
	for _, r := range s {
		if !unicode.IsPrint(r) {
			return false
		}
	}
	tag := (&yaml.Node{Kind: yaml.ScalarNode, Value: s}).ShortTag()
	return tag == "!!str" || tag == "!!timestamp"
}

// flowText writes a text within braces, in quotes where YAML needs them.
func flowText(s string) string {
	if plain(s, true) {
		return s
	}
	return strconv.Quote(s)
}
