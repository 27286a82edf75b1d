package main

import (
	"fmt"
	"path/filepath"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/model"
	"ironweir/core/verify"
	"ironweir/formats/text"
)

var guaranteesCommand = &command{
	name:  "guarantees",
	args:  "MODEL",
	short: "Say how often, in which order and how late each message has its effect",
	example: `ironweir guarantees demo/kittiwake.yaml
ironweir guarantees demo/kittiwake.yaml -from close-sailing -witness /tmp/witnesses
ironweir guarantees demo/kittiwake.yaml -require requirements.yaml`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		from := c.String("from", "", "only messages that enter at `NODE`")
		to := c.String("to", "", "only effects at `NODE`; it may be any node")
		require := c.String("require", "", "end with 1 unless the requirements in `FILE` hold")
		witness := c.String("witness", "", "write into `DIR` a scenario for each loss, repetition and lost order that a run shows")
		scenario := c.String("scenario", "", "traffic of the witnesses, from `FILE`; without one, the nodes' own rates")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		for flag, name := range map[string]string{"from": *from, "to": *to} {
			if name != "" && l.graph.NodeID(name) < 0 {
				return 0, fmt.Errorf("-%s: %w", flag, l.graph.NoNode(name))
			}
		}
		a := flow.Analyse(l.graph, nil)
		doc := &guarantees.Document{
			Head:       l.head("guarantees"),
			Guarantees: guarantees.Of(a, *from, *to),
			Unmet:      []guarantees.Unmet{},
		}
		if *require != "" {
			if doc.Unmet, err = c.unmet(l, *require); err != nil {
				return 0, err
			}
		}
		if *m.format == "json" {
			err = c.printJSON(doc)
		} else {
			err = text.Guarantees(c.out, doc, c.style())
		}
		if err == nil && *witness != "" {
			err = c.witnesses(l, doc, *witness, *scenario)
		}
		if err != nil {
			return 0, err
		}
		return c.verdict(len(doc.Unmet) == 0), nil
	},
}

// unmet returns the requirements of a file that a model does not meet.
func (c *call) unmet(l *loaded, file string) ([]guarantees.Unmet, error) {
	source, err := c.read(file)
	if err != nil {
		return nil, err
	}
	list, err := guarantees.ReadRequirements(file, source)
	if err != nil {
		return nil, err
	}
	out, err := guarantees.Require(flow.Analyse(l.graph, nil), list)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return out, nil
}

// witnesses writes a scenario for each statement that a run of it shows.
func (c *call) witnesses(l *loaded, doc *guarantees.Document, dir, traffic string) error {
	if err := c.makeFolder(dir); err != nil {
		return err
	}
	o := verify.Options{Events: c.limits.Events, Stop: func() bool { return c.Err() != nil }}
	if traffic != "" {
		var err error
		if o.Scenario, o.Inputs, err = c.loadScenario(traffic, l); err != nil {
			return err
		}
	}
	witnesses, err := verify.NewWitnesses(l.graph, o)
	if err != nil {
		return err
	}
	shown, all := 0, 0
	for i := range doc.Guarantees {
		g := &doc.Guarantees[i]
		for _, s := range verify.StatementsOf(g) {
			all++
			found, err := witnesses.Find(g, s)
			if err != nil {
				return err
			}
			if found == nil {
				fmt.Fprintf(
					c.err,
					"no run showed: %s → %s %s\n",
					g.From,
					text.Destination(g.From, g.To),
					text.Statement(g, s.What, s.At),
				)
				continue
			}
			shown++
			file := filepath.Join(dir, found.Scenario.Name+".yaml")
			if err := c.files.Write(file, []byte(model.WriteScenario(found.Scenario))); err != nil {
				return fmt.Errorf("-witness: %w", err)
			}
		}
	}
	fmt.Fprintf(c.err, "%d of %s shown by a run; scenarios in %s\n", shown, plural(all, "statement"), dir)
	return nil
}
