package main

import (
	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/model"
	"ironweir/formats/text"
)

var diffCommand = &command{
	name:    "diff",
	args:    "MODEL MODEL",
	short:   "Tell two models apart in their own terms, and what that does to findings and guarantees",
	example: `ironweir diff demo/kittiwake-draft.yaml demo/kittiwake.yaml`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json|markdown")
		if err := c.parse(2, 2); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json|markdown"); err != nil {
			return 0, err
		}
		var values [2]*model.Value
		var checks [2]*check.Document
		var held [2][]guarantees.Guarantee
		for i := range values {
			l, doc, err := c.check(c.Arg(i), m, "")
			if err != nil {
				return 0, err
			}
			source, err := c.read(c.Arg(i))
			if err != nil {
				return 0, err
			}
			if values[i], err = model.ReadDocument(c.Arg(i), source); err != nil {
				return 0, err
			}
			checks[i] = doc
			held[i] = guarantees.Of(flow.Analyse(l.graph, nil), "", "")
		}
		out := text.DiffDocument{
			Head:    document.NewHead("diff", checks[1].Model, *m.env, checks[1].Digest),
			Before:  c.Arg(0),
			After:   c.Arg(1),
			Changes: model.Compare(values[0], values[1]),
		}
		now := *checks[1]
		now.Since(checks[0])
		out.Came, out.Went = now.Findings, now.Gone
		out.Lost, out.Won = guarantees.Compare(held[0], held[1])
		var err error
		switch *m.format {
		case "json":
			err = c.printJSON(out)
		case "markdown":
			err = text.DiffMarkdown(c.out, &out)
		default:
			err = text.Diff(c.out, &out, c.style())
		}
		if err != nil {
			return 0, err
		}
		return c.verdict(out.Changes.Same() && len(out.Came) == 0 && len(out.Went) == 0), nil
	},
}

var pathsCommand = &command{
	name:    "paths",
	args:    "MODEL A B",
	short:   "List the ways that a message, or what comes of it, can go from one node to another",
	example: `ironweir paths demo/kittiwake.yaml manifest-drop clerk-desk`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		if err := c.parse(3, 3); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		analysis := flow.Analyse(l.graph, nil)
		var ids [2]int
		for i := range ids {
			name := c.Arg(i + 1)
			if ids[i] = analysis.Graph.NodeID(name); ids[i] < 0 {
				return 0, l.graph.NoNode(name)
			}
		}
		ways, more := analysis.Ways(ids[0], ids[1])
		if ways == nil {
			ways = []flow.Way{}
		}
		if *m.format == "json" {
			return exitFine, c.printJSON(struct {
				document.Head
				From string     `json:"from"`
				To   string     `json:"to"`
				Ways []flow.Way `json:"ways"`
				More bool       `json:"more"`
			}{l.head("paths"), c.Arg(1), c.Arg(2), ways, more})
		}
		return exitFine, text.Ways(c.out, c.Arg(1), c.Arg(2), ways, more, c.style())
	},
}
