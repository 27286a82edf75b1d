package model

import (
	"fmt"
	"strings"
)

// The operations by which a model is grown one step at a time. Each takes the text of a
// topology and returns it changed, comments and layout kept; what an operation cannot do
// is said before anything is changed.

// AddNode adds a node of a kind.
func AddNode(text []byte, name, kind string) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	switch {
	case !nameForm.MatchString(name):
		return nil, fmt.Errorf("%q is not a node's name: use 1 to 63 of a-z, 0-9 and -, a letter first", name)
	case !Kind(kind).Known():
		return nil, fmt.Errorf(
			"%q is not a kind of node%s; it is one of %s",
			kind,
			didYouMean(kind, kindNames()),
			kindList(),
		)
	case root.Get("nodes").Get(name) != nil:
		return nil, fmt.Errorf("there is a node %q already", name)
	}
	return Edit(text, nest([]string{"nodes", name}, MapValue().Add("kind", TextValue(kind))))
}

// AddLink adds a link FROM:TO, or FROM:NAME with `to` among its fields; fields may be nil.
func AddLink(text []byte, link string, fields *Value) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	from, name, ok := strings.Cut(link, ":")
	nodes := root.Get("nodes")
	if !ok || from == "" || name == "" {
		return nil, fmt.Errorf("%q is not a link: write it as FROM:TO", link)
	}
	if fields == nil {
		fields = MapValue()
	}
	if fields.Shape != Map {
		return nil, fmt.Errorf("the fields of link %s are a map, such as {match: {prefix: inbound/}}", link)
	}
	to := name
	if v := fields.Get("to"); v != nil {
		to = v.Scalar
	}
	for _, node := range []string{from, to} {
		if nodes.Get(node) == nil && !strings.Contains(node, "/") {
			return nil, fmt.Errorf("no node %q%s", node, didYouMean(node, keysOf(nodes)))
		}
	}
	if nodes.Get(from).Get("links").Get(name) != nil {
		return nil, fmt.Errorf(
			"there is a link %s already; set its fields with a path such as nodes.%s.links.%s.match",
			link,
			from,
			name,
		)
	}
	return Edit(text, nest([]string{"nodes", from, "links", name}, fields))
}

// SetField replaces the value at a dotted path, read as YAML; null removes it.
func SetField(text []byte, path, value string) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	if err := existingNode(root, "-set", path); err != nil {
		return nil, err
	}
	v, err := ReadDocument("-set "+path, []byte(value))
	if err != nil {
		return nil, err
	}
	steps := strings.Split(path, ".")
	at := root
	for _, s := range steps {
		at = at.Get(s)
	}
	return Edit(text, nest(steps, replacing(at, v)))
}

// replacing returns the merge patch that puts a value in the place of another, of which
// nothing is left.
func replacing(old, value *Value) *Value {
	if old == nil || old.Shape != Map || value.Shape != Map || len(value.Fields) == 0 {
		return value
	}
	out := MapValue()
	for _, f := range old.Fields {
		if value.Get(f.Key) == nil {
			out.Add(f.Key, &Value{})
		}
	}
	for _, f := range value.Fields {
		out.Add(f.Key, replacing(old.Get(f.Key), f.Value))
	}
	return out
}

// Remove takes a node out, with all that names it, or a link FROM:NAME.
func Remove(text []byte, name string) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	from, link, isLink := strings.Cut(name, ":")
	if !isLink {
		patch, err := Removal(root, name)
		if err != nil {
			return nil, err
		}
		return Edit(text, patch)
	}
	links := root.Get("nodes").Get(from).Get("links")
	if links.Get(link) == nil {
		return nil, fmt.Errorf("no link %q%s", name, didYouMean(link, keysOf(links)))
	}
	return Edit(text, nest([]string{"nodes", from, "links", link}, &Value{}))
}
