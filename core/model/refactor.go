package model

import (
	"fmt"
	"sort"
	"strings"
)

// place is where a name stands in a text.
type place struct {
	pos  Position
	name string // as it stands there; new is what takes its place
	new  string
}

// Rename gives a node another name, everywhere in the text where it is meant:
// its key, links to it, dead-letters, callers, calls of workflows, groups that
// fail together, accepted findings, alarms. Comments and layout stay. Scenarios,
// which are other texts, are not changed.
func Rename(text []byte, from, to string) ([]byte, error) {
	root, err := ReadDocument("model", text)
	if err != nil {
		return nil, err
	}
	nodes := root.Get("nodes")
	if nodes == nil || nodes.Get(from) == nil {
		return nil, fmt.Errorf("no node %q%s", from, didYouMean(from, keysOf(nodes)))
	}
	if nodes.Get(to) != nil {
		return nil, fmt.Errorf("there is a node %q already", to)
	}
	if !nameForm.MatchString(to) {
		return nil, fmt.Errorf("%q is not a valid name of a node: use 1 to 63 of a-z, 0-9 and -, a letter first", to)
	}
	r := &renaming{from: from, to: to}
	r.topology(root)
	out, err := r.write(text)
	if err != nil {
		return nil, err
	}
	again, err := ReadDocument("model", out)
	if err != nil || len(again.Get("nodes").Fields) != len(nodes.Fields) || again.Get("nodes").Get(from) != nil ||
		again.Get("nodes").Get(to) == nil {
		return nil, fmt.Errorf("%q cannot be renamed in this text by itself; do it by hand", from)
	}
	return out, nil
}

func keysOf(v *Value) []string {
	if v == nil {
		return nil
	}
	var out []string
	for _, f := range v.Fields {
		out = append(out, f.Key)
	}
	return out
}

// renaming collects the places of a name.
type renaming struct {
	from, to string
	places   []place
}

func (r *renaming) scalar(v *Value) {
	switch {
	case v == nil:
	case v.Shape == List:
		for _, item := range v.Items {
			r.scalar(item)
		}
	case v.Scalar == r.from:
		r.places = append(r.places, place{v.Pos, r.from, r.to})
	}
}

// link renames in a link's name, written from:name.
func (r *renaming) link(v *Value, keyed map[string]bool) {
	if v == nil {
		return
	}
	from, name, ok := strings.Cut(v.Scalar, ":")
	if !ok {
		r.scalar(v)
		return
	}
	before := v.Scalar
	if keyed[before] && name == r.from { // its name is that of the node it leads to
		name = r.to
	}
	if from == r.from {
		from = r.to
	}
	if after := from + ":" + name; after != before {
		r.places = append(r.places, place{v.Pos, before, after})
	}
}

func (r *renaming) topology(root *Value) {
	keyed := map[string]bool{} // links that are named after the node they lead to
	for _, n := range root.Get("nodes").Fields {
		if n.Key == r.from {
			r.places = append(r.places, place{n.Pos, r.from, r.to})
		}
		r.scalar(n.Value.Get("dead-letter"))
		r.scalar(n.Value.Get("callers"))
		r.calls(n.Value.Get("do"))
		links := n.Value.Get("links")
		if links == nil {
			continue
		}
		for _, l := range links.Fields {
			if to := l.Value.Get("to"); to != nil {
				r.scalar(to)
			} else if l.Key == r.from {
				keyed[n.Key+":"+l.Key] = true
				r.places = append(r.places, place{l.Pos, r.from, r.to})
			}
			r.scalar(l.Value.Get("dead-letter"))
		}
	}
	for _, group := range fieldsOf(root.Get("fails-together")) {
		r.scalar(group.Value)
	}
	for _, alarm := range fieldsOf(root.Get("alarms")) {
		r.link(alarm.Value.Get("of"), keyed)
	}
	if accepted := root.Get("accepted"); accepted != nil {
		for _, a := range accepted.Items {
			r.scalar(a.Get("node"))
			r.link(a.Get("link"), keyed)
		}
	}
}

func fieldsOf(v *Value) []Field {
	if v == nil {
		return nil
	}
	return v.Fields
}

// calls renames in a workflow's tasks, however deep.
func (r *renaming) calls(v *Value) {
	if v == nil {
		return
	}
	for _, item := range v.Items {
		r.calls(item)
	}
	for _, f := range v.Fields {
		if f.Key == "call" {
			r.scalar(f.Value)
		} else {
			r.calls(f.Value)
		}
	}
}

// write puts the new names into the text, the last place first.
func (r *renaming) write(text []byte) ([]byte, error) {
	sort.Slice(r.places, func(i, j int) bool {
		a, b := r.places[i].pos, r.places[j].pos
		return a.Line > b.Line || a.Line == b.Line && a.Column > b.Column
	})
	lines := strings.SplitAfter(string(text), "\n")
	for _, p := range r.places {
		line := lines[p.pos.Line-1]
		at := byteOf(line, p.pos.Column)
		if at < len(line) && (line[at] == '"' || line[at] == '\'') {
			at++
		}
		if !strings.HasPrefix(line[min(at, len(line)):], p.name) {
			return nil, fmt.Errorf(
				"line %d: %q is written in a way that cannot be renamed by itself; do it by hand",
				p.pos.Line,
				p.name,
			)
		}
		lines[p.pos.Line-1] = line[:at] + p.new + line[at+len(p.name):]
	}
	return []byte(strings.Join(lines, "")), nil
}

// byteOf gives the index of a column, which counts characters from 1.
func byteOf(line string, column int) int {
	for i := range line {
		if column--; column == 0 {
			return i
		}
	}
	return len(line)
}

// Removal gives the patch that takes a node out of a topology, with the links and
// all else that names it.
func Removal(root *Value, node string) (*Value, error) {
	nodes := root.Get("nodes")
	if nodes == nil || nodes.Get(node) == nil {
		return nil, fmt.Errorf("no node %q%s", node, didYouMean(node, keysOf(nodes)))
	}
	gone := &Value{}
	patch, changed := MapValue(), MapValue()
	for _, n := range nodes.Fields {
		if n.Key == node {
			changed.Add(node, gone)
			continue
		}
		of, links := MapValue(), MapValue()
		for _, l := range fieldsOf(n.Value.Get("links")) {
			to := l.Key
			if v := l.Value.Get("to"); v != nil {
				to = v.Scalar
			}
			switch dead := l.Value.Get("dead-letter"); {
			case to == node:
				links.Add(l.Key, gone)
			case dead != nil && dead.Scalar == node:
				one := MapValue()
				one.Add("dead-letter", gone)
				links.Add(l.Key, one)
			}
		}
		addDeleting(of, "links", links, n.Value.Get("links"))
		if v := n.Value.Get("dead-letter"); v != nil && v.Scalar == node {
			of.Add("dead-letter", gone)
		}
		if left, ok := leaving(n.Value.Get("callers"), node); ok {
			of.Add("callers", left)
		}
		if len(of.Fields) > 0 {
			changed.Add(n.Key, of)
		}
	}
	patch.Add("nodes", changed)
	groups, alarms := MapValue(), MapValue()
	for _, g := range fieldsOf(root.Get("fails-together")) {
		if left, ok := leaving(g.Value, node); ok {
			groups.Add(g.Key, left)
		}
	}
	for _, a := range fieldsOf(root.Get("alarms")) {
		if of := a.Value.Get("of"); of != nil && concerns(of.Scalar, node) {
			alarms.Add(a.Key, gone)
		}
	}
	addDeleting(patch, "fails-together", groups, root.Get("fails-together"))
	addDeleting(patch, "alarms", alarms, root.Get("alarms"))
	if accepted := root.Get("accepted"); accepted != nil {
		left := ListValue()
		for _, a := range accepted.Items {
			n, l := a.Get("node"), a.Get("link")
			if n != nil && n.Scalar == node || l != nil && concerns(l.Scalar, node) {
				continue
			}
			left.Items = append(left.Items, a)
		}
		if len(left.Items) < len(accepted.Items) {
			if len(left.Items) == 0 {
				left = gone
			}
			patch.Add("accepted", left)
		}
	}
	return patch, nil
}

// addDeleting adds what changes of a map; where all of the map goes, the map
// goes.
func addDeleting(patch *Value, key string, changes, whole *Value) {
	if len(changes.Fields) == 0 {
		return
	}
	for _, f := range changes.Fields {
		if f.Value.Shape != Null {
			patch.Add(key, changes)
			return
		}
	}
	if len(changes.Fields) == len(whole.Fields) {
		changes = &Value{}
	}
	patch.Add(key, changes)
}

// concerns reports whether a node, or a link written from:name, is or touches a
// node.
func concerns(name, node string) bool {
	from, to, _ := strings.Cut(name, ":")
	return from == node || to == node
}

// leaving gives a list, or a single text, without a name; null where nothing is
// left. ok is false where the name is not in it.
func leaving(v *Value, name string) (left *Value, ok bool) {
	switch {
	case v == nil:
		return nil, false
	case v.Shape != List:
		return &Value{}, v.Scalar == name
	}
	list := ListValue()
	for _, item := range v.Items {
		if item.Scalar != name {
			list.Items = append(list.Items, item)
		}
	}
	if len(list.Items) == len(v.Items) {
		return nil, false
	}
	if len(list.Items) == 0 {
		return &Value{}, true
	}
	return list, true
}
