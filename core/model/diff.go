package model

import (
	"sort"
	"strings"
)

// Change is one field that differs between two models.
type Change struct {
	Path   string `json:"path"`   // within the node, link or file
	Before string `json:"before"` // as written, on one line; empty: it was not there
	After  string `json:"after"`
}

// Changes tell two models apart in the terms of a model.
type Changes struct {
	NodesAdded   []string            `json:"nodes_added"`
	NodesRemoved []string            `json:"nodes_removed"`
	Nodes        map[string][]Change `json:"nodes"` // changed fields, by node
	LinksAdded   []string            `json:"links_added"`
	LinksRemoved []string            `json:"links_removed"`
	Links        map[string][]Change `json:"links"`    // by FROM:NAME
	Settings     []Change            `json:"settings"` // everything outside of nodes
}

// Same reports whether nothing differs.
func (c *Changes) Same() bool {
	return len(c.NodesAdded)+len(c.NodesRemoved)+len(c.Nodes)+len(
		c.LinksAdded,
	)+len(c.LinksRemoved)+len(c.Links)+len(c.Settings) == 0
}

// Compare reports what differs between two documents as written; what only a
// default says does not differ.
func Compare(before, after *Value) *Changes {
	c := &Changes{
		NodesAdded:   []string{},
		NodesRemoved: []string{},
		Nodes:        map[string][]Change{},
		LinksAdded:   []string{},
		LinksRemoved: []string{},
		Links:        map[string][]Change{},
		Settings:     []Change{},
	}
	a, b := before.Get("nodes"), after.Get("nodes")
	for _, name := range bothKeys(a, b) {
		x, y := a.Get(name), b.Get(name)
		switch {
		case x == nil:
			c.NodesAdded = append(c.NodesAdded, name)
		case y == nil:
			c.NodesRemoved = append(c.NodesRemoved, name)
		default:
			c.node(name, x, y)
		}
	}
	c.Settings = append(c.Settings, changesIn("", without(before, "nodes"), without(after, "nodes"))...)
	return c
}

func (c *Changes) node(name string, x, y *Value) {
	if fields := changesIn("", without(x, "links"), without(y, "links")); len(fields) > 0 {
		c.Nodes[name] = fields
	}
	p, q := x.Get("links"), y.Get("links")
	for _, link := range bothKeys(p, q) {
		id := name + ":" + link
		before, was := field(p, link)
		after, is := field(q, link)
		switch {
		case !was:
			c.LinksAdded = append(c.LinksAdded, id)
		case !is:
			c.LinksRemoved = append(c.LinksRemoved, id)
		default:
			if fields := changesIn("", before, after); len(fields) > 0 {
				c.Links[id] = fields
			}
		}
	}
}

func field(v *Value, key string) (*Value, bool) {
	got := v.Get(key)
	return got, got != nil
}

func without(v *Value, key string) *Value {
	out := &Value{Shape: v.Shape, Scalar: v.Scalar, Items: v.Items}
	for _, f := range v.Fields {
		if f.Key != key {
			out.Fields = append(out.Fields, f)
		}
	}
	return out
}

func bothKeys(a, b *Value) []string {
	seen := map[string]bool{}
	for _, v := range []*Value{a, b} {
		if v == nil {
			continue
		}
		for _, f := range v.Fields {
			seen[f.Key] = true
		}
	}
	out := make([]string, 0, len(seen))
	for k := range seen {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// changesIn lists the fields that differ, going into maps.
func changesIn(path string, a, b *Value) []Change {
	switch {
	case a == nil && b == nil:
		return nil
	case a == nil:
		return []Change{{path, "", Flow(b)}}
	case b == nil:
		return []Change{{path, Flow(a), ""}}
	case a.Shape == Map && b.Shape == Map:
		var out []Change
		for _, key := range bothKeys(a, b) {
			out = append(out, changesIn(strings.TrimPrefix(path+"."+key, "."), a.Get(key), b.Get(key))...)
		}
		return out
	case sameValue(a, b):
		return nil
	}
	return []Change{{path, Flow(a), Flow(b)}}
}
