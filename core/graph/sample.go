package graph

import (
	"time"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// SampleKey makes a key for a node: from its own templates, else from those of
// a link that leads to it; empty where neither is.
func (g *Graph) SampleKey(id int) string {
	n := &g.Nodes[id]
	f := expr.Filling{Subject: n.Name + "/1.json", ID: 1, Seq: 1, Time: model.DefaultStart}
	if len(n.Keys) > 0 {
		return string(n.Keys[0].Append(nil, &f))
	}
	for _, in := range n.In {
		if t := g.Links[in].Key; t != nil {
			return string(t.Append(nil, &f))
		}
	}
	return ""
}

// Sample makes an example event for a node, as a CloudEvent in its JSON form: a
// key from templates, a payload from the schema that it accepts.
func (g *Graph) Sample(id int) map[string]any {
	n := &g.Nodes[id]
	event := map[string]any{
		"specversion":     "1.0",
		"id":              "1",
		"source":          "outside",
		"type":            n.Kind.Event(),
		"time":            model.DefaultStart.Format(time.RFC3339),
		"datacontenttype": "application/json",
		"data":            map[string]any{},
	}
	if n.Accepts != nil {
		event["data"] = expr.Example(n.Accepts.Document)
	}
	if key := g.SampleKey(id); key != "" {
		event["subject"] = key
	}
	if n.Kind.Fires() {
		event["source"], event["subject"] = n.Name, n.Name
		if n.Data != nil {
			event["data"] = n.Data.Plain()
		}
	}
	return event
}
