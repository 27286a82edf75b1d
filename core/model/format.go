package model

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	yaml "go.yaml.in/yaml/v4"
)

// usualOrder is the order of fields in the usual form of a file; others stand
// between, as they were written, and what is in lastFields comes last.
var (
	usualOrder = map[string][]string{
		"topology": {
			"ironweir",
			"name",
			"about",
			"variables",
			"environments",
			"defaults",
			"limits",
			"pools",
			"permissions",
			"fails-together",
			"parts",
			"prices",
			"accepted",
		},
		"scenario": {
			"ironweir",
			"name",
			"about",
			"start",
			"length",
			"warm-up",
			"seed",
			"replications",
			"traffic",
			"incidents",
		},
		"node": {"kind", "about", "owner", "tags", "public", "callers", "observed-as"},
		"link": {"to"},
	}
	lastFields = map[string][]string{"topology": {"nodes", "alarms"}, "scenario": {"expect"}, "node": {"links"}}
)

// lineWidth is how long a map in braces may make a line, in characters.
const lineWidth = 120

// Format gives the text of a topology or scenario in its usual form: fields in
// their usual order, two spaces a level, maps in braces where they fit a line.
// Comments and single empty lines stay. The values are those of the text, or the
// text is refused.
func Format(file string, text []byte) ([]byte, error) {
	before, err := ReadDocument(file, text)
	if err != nil {
		return nil, err
	}
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, err
	}
	w := &writer{source: strings.Split(string(text), "\n")}
	if at := w.findAlias(&root); at != nil {
		return nil, Problems{
			{
				Position: Position{file, at.Line, at.Column},
				Message:  "the usual form has no anchors (& and *); write what is repeated as a variable or under `defaults`",
			},
		}
	}
	w.comment(root.HeadComment, 0)
	top := root.Content[0]
	foot := root.FootComment
	if n := len(top.Content); n > 1 { // comments at the ends are about the file
		w.comment(top.HeadComment, 0)
		w.comment(top.Content[0].HeadComment, 0)
		foot = strings.Trim(top.Content[n-2].FootComment+"\n"+top.FootComment+"\n"+foot, "\n")
		top.Content[0].HeadComment, top.Content[n-2].FootComment = "", ""
	}
	w.block(top, 0, documentPlace(before))
	w.comment(foot, 0)
	after, err := ReadDocument(file, w.out.Bytes())
	if err != nil || !sameValue(before, after) || !w.hasComments(&root) {
		return nil, fmt.Errorf("%s: the usual form would not keep all that the text says; nothing was changed", file)
	}
	return w.out.Bytes(), nil
}

// WriteDocument gives a document in the usual form. The comments, where there are any,
// stand before the things they are about, by dotted path.
func WriteDocument(v *Value, comments map[string]string) []byte {
	w := &writer{}
	node := nodeOf(v, nil, comments)
	w.block(node, 0, documentPlace(v))
	return w.out.Bytes()
}

func documentPlace(v *Value) string {
	if kind := v.Get("ironweir"); kind != nil && strings.HasPrefix(kind.Scalar, "scenario/") {
		return "scenario"
	}
	return "topology"
}

// nodeOf makes a tree for the writer out of values.
func nodeOf(v *Value, path []string, comments map[string]string) *yaml.Node {
	n := &yaml.Node{Value: v.Scalar, Kind: yaml.ScalarNode}
	switch v.Shape {
	case Map:
		n.Kind = yaml.MappingNode
		for _, f := range v.Fields {
			at := append(slices.Clone(path), f.Key)
			key := &yaml.Node{Kind: yaml.ScalarNode, Value: f.Key, HeadComment: comments[strings.Join(at, ".")]}
			n.Content = append(n.Content, key, nodeOf(f.Value, at, comments))
		}
	case List:
		n.Kind = yaml.SequenceNode
		for _, item := range v.Items {
			n.Content = append(n.Content, nodeOf(item, path, nil))
		}
	case Text:
		n.Tag = "!!str"
	case Null:
		n.Value, n.Tag = "null", "!!null"
	default:
		n.Tag = "!!int"
	}
	return n
}

// writer writes a tree as text.
type writer struct {
	out    bytes.Buffer
	source []string // lines of the text that is formatted; empty lines in it stay
}

func (w *writer) findAlias(n *yaml.Node) *yaml.Node {
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		return n
	}
	for _, c := range n.Content {
		if at := w.findAlias(c); at != nil {
			return at
		}
	}
	return nil
}

// hasComments reports whether every comment of a tree has been written.
func (w *writer) hasComments(n *yaml.Node) bool {
	for _, line := range strings.Split(n.HeadComment+"\n"+n.LineComment+"\n"+n.FootComment, "\n") {
		if !bytes.Contains(w.out.Bytes(), []byte(strings.TrimSpace(line))) {
			return false
		}
	}
	for _, c := range n.Content {
		if !w.hasComments(c) {
			return false
		}
	}
	return true
}

func (w *writer) comment(text string, indent int) {
	if text == "" {
		return
	}
	for _, line := range strings.Split(text, "\n") {
		if line = strings.TrimSpace(line); line == "" {
			w.out.WriteByte('\n')
			continue
		}
		if !strings.HasPrefix(line, "#") {
			line = "# " + line
		}
		fmt.Fprintf(&w.out, "%s%s\n", strings.Repeat("  ", indent), line)
	}
}

// emptyLine keeps an empty line that stood before a line of the source, or
// before the comments above it.
func (w *writer) emptyLine(n *yaml.Node) {
	line := n.Line - 1 // index of the line itself
	if line <= 0 || line > len(w.source) || w.out.Len() == 0 {
		return
	}
	for line--; line >= 0 && strings.HasPrefix(strings.TrimSpace(w.source[line]), "#"); line-- {
	}
	if line >= 0 && strings.TrimSpace(w.source[line]) == "" {
		w.out.WriteByte('\n')
	}
}

// entry is one field of a map in the tree.
type entry struct{ key, value *yaml.Node }

// ordered gives the fields of a map in their usual order.
func ordered(n *yaml.Node, place string) []entry {
	var out []entry
	for i := 0; i+1 < len(n.Content); i += 2 {
		out = append(out, entry{n.Content[i], n.Content[i+1]})
	}
	rank := func(e entry) int {
		if k := slices.Index(usualOrder[place], e.key.Value); k >= 0 {
			return k
		}
		return 500 + slices.Index(lastFields[place], e.key.Value)
	}
	slices.SortStableFunc(out, func(x, y entry) int { return rank(x) - rank(y) })
	return out
}

// inner reports what stands in a field.
func inner(place, key string) string {
	switch {
	case place == "topology" && key == "nodes":
		return "nodes"
	case place == "nodes":
		return "node"
	case place == "node" && key == "links":
		return "links"
	case place == "links":
		return "link"
	}
	return ""
}

// block writes the fields of a map, or the items of a list, each on lines of its
// own.
func (w *writer) block(n *yaml.Node, indent int, place string) {
	pad := strings.Repeat("  ", indent)
	if n.Kind == yaml.SequenceNode {
		for _, item := range n.Content {
			w.emptyLine(item)
			w.comment(item.HeadComment, indent)
			if line, ok := w.oneLine(item, place, false); ok && !wantsBlock(item, place) {
				fmt.Fprintf(&w.out, "%s- %s%s\n", pad, line, lineComment(item))
			} else {
				inside := &writer{source: nil}
				inside.block(item, indent+1, place)
				w.out.WriteString(pad + "- " + strings.TrimLeft(inside.out.String(), " "))
			}
			w.comment(item.FootComment, indent)
		}
		return
	}
	for _, e := range ordered(n, place) {
		w.emptyLine(e.key)
		w.comment(e.key.HeadComment, indent)
		key := pad + keyText(e.key.Value) + ":"
		in := inner(place, e.key.Value)
		line, flat := w.oneLine(e.value, in, false)
		comment := lineComment(e.key, e.value)
		width := utf8.RuneCountInString(key) + 1 + utf8.RuneCountInString(line)
		switch {
		case e.value.Kind == yaml.ScalarNode && strings.Contains(e.value.Value, "\n") && isText(e.value):
			w.literal(key, e.value, indent)
		case flat && (e.value.Kind == yaml.ScalarNode || width <= lineWidth && !wantsBlock(e.value, in)):
			fmt.Fprintf(&w.out, "%s %s%s\n", key, line, comment)
		default:
			fmt.Fprintf(&w.out, "%s%s\n", key, comment)
			w.block(e.value, indent+1, in)
		}
		w.comment(e.key.FootComment, indent)
	}
}

// wantsBlock reports whether a map or list is written on lines of its own even
// where it would fit one: what holds nodes, and what was written so.
func wantsBlock(n *yaml.Node, place string) bool {
	return len(n.Content) > 0 && (place == "nodes" || n.Line > 0 && n.Style&yaml.FlowStyle == 0)
}

// literal writes text of several lines.
func (w *writer) literal(key string, n *yaml.Node, indent int) {
	text := n.Value
	chomp := "-"
	if strings.HasSuffix(text, "\n") {
		chomp, text = "", strings.TrimSuffix(text, "\n")
	}
	if strings.HasPrefix(text, " ") || strings.HasSuffix(text, "\n") || strings.ContainsAny(text, "\t\r") {
		fmt.Fprintf(&w.out, "%s %s\n", key, flowText(n.Value))
		return
	}
	fmt.Fprintf(&w.out, "%s |%s\n", key, chomp)
	for _, line := range strings.Split(text, "\n") {
		if line != "" {
			line = strings.Repeat("  ", indent+1) + line
		}
		w.out.WriteString(line + "\n")
	}
}

// oneLine writes a value on one line, within braces or not; it cannot where
// comments stand in it.
func (w *writer) oneLine(n *yaml.Node, place string, braces bool) (string, bool) {
	switch n.Kind {
	case yaml.MappingNode:
		parts := make([]string, 0, len(n.Content)/2)
		for _, e := range ordered(n, place) {
			s, ok := w.oneLine(e.value, inner(place, e.key.Value), true)
			if !ok || e.key.HeadComment != "" || e.key.FootComment != "" || e.key.LineComment != "" ||
				e.value.LineComment != "" {
				return "", false
			}
			parts = append(parts, keyText(e.key.Value)+": "+s)
		}
		return "{" + strings.Join(parts, ", ") + "}", true
	case yaml.SequenceNode:
		parts := make([]string, 0, len(n.Content))
		for _, item := range n.Content {
			s, ok := w.oneLine(item, place, true)
			if !ok || item.HeadComment != "" || item.LineComment != "" || item.FootComment != "" {
				return "", false
			}
			parts = append(parts, s)
		}
		return "[" + strings.Join(parts, ", ") + "]", true
	}
	if !isText(n) {
		if n.ShortTag() == "!!null" {
			return "null", true
		}
		return n.Value, true
	}
	if plain(n.Value, braces) {
		return n.Value, true
	}
	return strconv.Quote(n.Value), true
}

func isText(n *yaml.Node) bool {
	switch n.ShortTag() {
	case "!!null", "!!bool", "!!int", "!!float":
		return false
	}
	return true
}

func keyText(key string) string { return flowText(key) }

func lineComment(nodes ...*yaml.Node) string {
	for _, n := range nodes {
		if n.LineComment != "" {
			return "  " + n.LineComment
		}
	}
	return ""
}
