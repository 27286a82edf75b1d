package main

import (
	"errors"
	"slices"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/document"
	"ironweir/formats/text"
)

var listCommand = &command{
	name:  "list",
	args:  "MODEL [nodes|links|triggers|schedules|all]",
	short: "List what a model holds: who triggers what, how often, and what would go with it",
	example: `ironweir list demo/kittiwake.yaml
ironweir list demo/kittiwake.yaml schedules
ironweir list demo/kittiwake.yaml nodes -format csv > nodes.csv`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json|csv")
		if err := c.parse(1, 2); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json|csv"); err != nil {
			return 0, err
		}
		parts := []string{"triggers", "schedules"}
		if what := c.Arg(1); what == "all" {
			parts = text.ListParts
		} else if what != "" {
			if !slices.Contains(text.ListParts, what) {
				return 0, errors.New(what + ": it lists nodes, links, triggers, schedules or all")
			}
			parts = []string{what}
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		in := check.InventoryOf(flow.Analyse(l.graph, nil))
		switch *m.format {
		case "json":
			return exitFine, c.printJSON(struct {
				document.Head
				*check.Inventory
			}{l.head("list"), in})
		case "csv":
			if len(parts) != 1 {
				return 0, errors.New("-format csv writes one table: say nodes, links, triggers or schedules")
			}
			return exitFine, text.ListCSV(c.out, in, parts[0])
		}
		return exitFine, text.List(c.out, in, parts, c.style())
	},
}
