// Package model reads the files an architect writes, the topology and the
// scenario, into plain values. Every fault it finds carries file, line and
// column, and all faults of a file are reported together. It does no I/O: text
// goes in, values come out.
package model

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"
)

// Limits on what is read, so that a hostile file costs little.
const (
	MaxFileBytes = 16 << 20  // bytes of text in one file
	MaxDepth     = 100       // levels of nesting
	MaxValues    = 2_000_000 // values in one file
	MaxAliased   = 20_000    // of them, those that stand where an alias does
	maxProblems  = 200       // faults of the text itself that are told
)

// Position is a place in a file; lines and columns count from 1, and 0 means
// that the place is not known.
type Position struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
}

func (p Position) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Problem is one fault in a file.
type Problem struct {
	Position
	Path    string `json:"path,omitempty"` // such as nodes.crop.links.plates.to
	Message string `json:"message"`
}

func (p Problem) Error() string {
	s := p.Message
	if p.Path != "" {
		s = p.Path + ": " + s
	}
	if at := p.Position.String(); at != "" {
		s = at + ": " + s
	}
	return s
}

// Problems are all the faults of a reading, in the order of their places.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

func (ps Problems) sorted() Problems {
	sort.SliceStable(ps, func(i, j int) bool {
		a, b := ps[i], ps[j]
		if a.File != b.File {
			return a.File < b.File
		}
		if a.Line != b.Line {
			return a.Line < b.Line
		}
		return a.Column < b.Column
	})
	return ps
}

// Shape says what a Value holds.
type Shape uint8

const (
	Null Shape = iota
	Text
	Number
	Bool
	Map
	List
)

func (s Shape) String() string {
	return [...]string{"nothing", "text", "a number", "true or false", "a map", "a list"}[s]
}

// Field is one entry of a map.
type Field struct {
	Key   string
	Pos   Position
	Value *Value
}

// Value is a value of a file with its place. Scalars keep their text as
// written (quotes removed).
type Value struct {
	Shape  Shape
	Scalar string
	Fields []Field
	Items  []*Value
	Pos    Position
}

// Get gives the value under key, or nil.
func (v *Value) Get(key string) *Value {
	if v == nil {
		return nil
	}
	for i := range v.Fields {
		if v.Fields[i].Key == key {
			return v.Fields[i].Value
		}
	}
	return nil
}

// place gives where the value below some keys stands, as far as they lead to one.
func (v *Value) place(own Position, keys []string) Position {
	for _, key := range keys {
		if v = v.Get(key); v == nil {
			break
		}
		own = v.Pos
	}
	return own
}

// Add appends a field to a map and gives the map; the caller sees to it that
// keys do not repeat.
func (v *Value) Add(key string, value *Value) *Value {
	v.Fields = append(v.Fields, Field{Key: key, Value: value})
	return v
}

// TextValue, NumberValue and MapValue make values that stand in no file.
func TextValue(s string) *Value   { return &Value{Shape: Text, Scalar: s} }
func NumberValue(s string) *Value { return &Value{Shape: Number, Scalar: s} }
func MapValue() *Value            { return &Value{Shape: Map} }

// ListValue makes a list of values.
func ListValue(items ...*Value) *Value { return &Value{Shape: List, Items: items} }

// Without gives a map without some of its fields.
func (v *Value) Without(keys ...string) *Value {
	out := &Value{Shape: v.Shape, Scalar: v.Scalar, Items: v.Items, Pos: v.Pos}
	for _, f := range v.Fields {
		if !slices.Contains(keys, f.Key) {
			out.Fields = append(out.Fields, f)
		}
	}
	return out
}

// Same reports whether two values say the same, wherever they stand and in
// whatever order their fields are.
func (v *Value) Same(other *Value) bool { return sameValue(v, other) }

func (v *Value) put(key string, pos Position, value *Value) {
	for i := range v.Fields {
		if v.Fields[i].Key == key {
			v.Fields[i].Value = value
			return
		}
	}
	v.Fields = append(v.Fields, Field{Key: key, Pos: pos, Value: value})
}

func (v *Value) remove(key string) {
	for i := range v.Fields {
		if v.Fields[i].Key == key {
			v.Fields = append(v.Fields[:i], v.Fields[i+1:]...)
			return
		}
	}
}

// ReadDocument parses one YAML (or JSON) document.
func ReadDocument(file string, text []byte) (*Value, error) {
	fail := func(line, column int, message string) (*Value, error) {
		return nil, Problems{{Position: Position{file, line, column}, Message: message}}
	}
	if len(text) > MaxFileBytes {
		return fail(0, 0, fmt.Sprintf("the file has %d bytes; at most %d are read", len(text), MaxFileBytes))
	}
	if i := bytes.IndexByte(text, 0); i >= 0 || !utf8.Valid(text) {
		return fail(0, 0, "this is not a text file: a model is YAML in UTF-8")
	}
	if len(bytes.TrimSpace(text)) == 0 {
		return fail(
			0,
			0,
			"the file is empty; a topology starts with `ironweir: topology/1`, and `ironweir sample` or the demo folder shows one",
		)
	}
	if line := deepestFlow(text); line > 0 {
		return fail(line, 1, fmt.Sprintf("nested deeper than %d levels", MaxDepth))
	}
	var root yaml.Node
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	if err := decoder.Decode(&root); err != nil {
		return nil, Problems{syntaxProblem(file, text, err)}
	}
	var second yaml.Node
	if decoder.Decode(&second) == nil {
		return fail(second.Line, second.Column, "a second document starts here; one file holds one document")
	}
	w := walker{file: file}
	if len(root.Content) == 0 {
		return fail(0, 0, "the file holds only comments")
	}
	v := w.value(root.Content[0], 0)
	if len(w.problems) > 0 {
		return nil, w.problems.sorted()
	}
	return v, nil
}

// deepestFlow finds the first line that opens more than MaxDepth brackets, so
// that the parser is never given a bracket bomb. Brackets in quotes count too:
// no sensible file has that many unclosed ones.
func deepestFlow(text []byte) int {
	depth, line := 0, 1
	for _, c := range text {
		switch c {
		case '\n':
			line++
		case '[', '{':
			if depth++; depth > MaxDepth*2 {
				return line
			}
		case ']', '}':
			if depth > 0 {
				depth--
			}
		}
	}
	return 0
}

func syntaxProblem(file string, text []byte, err error) Problem {
	p := Problem{Position: Position{File: file}, Message: "not YAML: " + strings.TrimPrefix(err.Error(), "yaml: ")}
	var load *yaml.LoadError
	if !errors.As(err, &load) {
		return p
	}
	p.Line, p.Column = load.Mark.Line, load.Mark.Column
	p.Message = "not YAML: " + load.Message
	if load.ContextMsg != "" {
		p.Message += " (" + load.ContextMsg + ")"
	}
	lines := strings.Split(string(text), "\n")
	for _, n := range []int{load.Mark.Line, load.ContextMark.Line} {
		if n < 1 || n > len(lines) {
			continue
		}
		if hint := quotingHint(lines[n-1]); hint != "" {
			p.Line = n
			p.Message += "; " + hint
			break
		}
	}
	return p
}

// closeColon is a name in a one-line map with its value, or map, right behind the colon.
var closeColon = regexp.MustCompile(`[{,]\s*[a-z][a-z-]*:[^\s"']`)

// quotingHint names what has to be quoted in a line on which YAML trips.
func quotingHint(line string) string {
	switch {
	case strings.Contains(line, "*/"), strings.Contains(line, ": *"):
		return "a value that starts with `*` must be quoted, as in `cron: \"*/15 * * * *\"`"
	case strings.Contains(line, " ? ") || strings.Contains(line, "|| ") && strings.Contains(line, "{"):
		return "an expression in a one-line map must be quoted, as in `if: \"a ? b : c\"`"
	case strings.Contains(line, "\t"):
		return "indent with spaces, not tabs"
	case closeColon.MatchString(line):
		return "a name and its value in a one-line map have `: ` between them, as in `{match: {suffix: .csv}}`"
	case strings.Count(line, "{") > 1:
		return "a key template in a one-line map must be quoted, as in `key: \"stamped/{stem}.pdf\"`"
	case strings.Count(line, ": ") > 1:
		return "a value that contains `: ` must be quoted"
	}
	return ""
}

type walker struct {
	file     string
	count    int
	aliased  int // values in the place of aliases
	within   int // aliases that are being followed
	problems Problems
}

func (w *walker) problem(n *yaml.Node, format string, args ...any) {
	switch at := (Position{w.file, n.Line, n.Column}); {
	case len(w.problems) < maxProblems:
		w.problems = append(w.problems, Problem{Position: at, Message: fmt.Sprintf(format, args...)})
	case len(w.problems) == maxProblems:
		w.problems = append(w.problems, Problem{Position: at, Message: "more is wrong from here on"})
	}
}

func (w *walker) value(n *yaml.Node, depth int) *Value {
	v := &Value{Pos: Position{w.file, n.Line, n.Column}}
	w.count++
	if w.within > 0 {
		w.aliased++
	}
	switch {
	case w.count == MaxValues:
		w.problem(n, "more than %d values", MaxValues)
	case w.aliased == MaxAliased:
		w.problem(n, "aliases stand for more than %d values; write out less of the document by them", MaxAliased)
		w.count, w.aliased = MaxValues, MaxAliased+1
	}
	if w.count >= MaxValues {
		return v
	}
	if depth > MaxDepth {
		w.problem(n, "nested deeper than %d levels", MaxDepth)
		w.count = MaxValues
		return v
	}
	switch n.Kind {
	case yaml.AliasNode:
		w.within++
		defer func() { w.within-- }()
		return w.value(n.Alias, depth+1)
	case yaml.MappingNode:
		v.Shape = Map
		keys := make(map[string]bool, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			k := n.Content[i]
			if k.Kind != yaml.ScalarNode {
				if k.Kind == yaml.MappingNode {
					w.problem(k, "a map cannot be a key; a template such as `{stem}` must be quoted: \"{stem}\"")
				} else {
					w.problem(k, "a key must be text")
				}
				continue
			}
			if keys[k.Value] {
				w.problem(k, "the key %q stands twice in this map", k.Value)
				continue
			}
			keys[k.Value] = true
			child := w.value(n.Content[i+1], depth+1)
			v.Fields = append(v.Fields, Field{Key: k.Value, Pos: Position{w.file, k.Line, k.Column}, Value: child})
		}
	case yaml.SequenceNode:
		v.Shape = List
		for _, c := range n.Content {
			v.Items = append(v.Items, w.value(c, depth+1))
		}
	case yaml.ScalarNode:
		v.Scalar = n.Value
		switch n.ShortTag() {
		case "!!null":
			v.Shape = Null
		case "!!bool":
			v.Shape = Bool
		case "!!int", "!!float":
			v.Shape = Number
		default:
			v.Shape = Text
		}
	}
	return v
}
