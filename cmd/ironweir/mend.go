package main

import (
	"errors"
	"fmt"
	"runtime"

	"ironweir/core/check/remedy"

	"ironweir/core/mend"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/formats/text"
)

var mendCommand = &command{
	name:  "mend",
	args:  "MODEL",
	short: "Find the smallest set of changes that removes the errors and meets the scenarios' expectations",
	example: `ironweir mend demo/kittiwake-draft.yaml
ironweir mend demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -scenario demo/registry-down.yaml
ironweir mend model.yaml -scenario scenario.yaml -write`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		var scenarios repeated
		c.Var(&scenarios, "scenario", "meet the expectations of scenario `FILE`; may be repeated")
		most := c.Int("changes", 12, "look for plans of up to `N` changes")
		workers := c.Int("workers", runtime.GOMAXPROCS(0), "replications at once")
		write := c.Bool("write", false, "write the changes into the file, comments and layout kept")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		if *most < 1 || *most > 30 {
			return 0, fmt.Errorf("-changes %d: from 1 to 30", *most)
		}
		if *write && (c.Arg(0) == "-" || len(m.variants)+len(m.sets) > 0) {
			return 0, errors.New("-write changes the file itself; leave standard input, -variant and -set out")
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		o := mend.Options{Most: *most}
		for _, file := range scenarios {
			s, inputs, err := c.loadScenario(file, l)
			if err != nil {
				return 0, err
			}
			o.Scenarios = append(o.Scenarios, study.Plan{Scenario: s, Inputs: inputs, Workers: *workers,
				Head: l.head("run"), Limits: c.limited(sim.Limits{})})
		}
		doc, err := c.findPlan(l, o)
		if err != nil {
			return 0, err
		}
		if *m.format == "json" {
			err = c.printJSON(doc)
		} else {
			err = text.Mend(c.out, doc, c.style())
		}
		if err == nil && *write && doc.Met && len(doc.Changes) > 0 {
			err = c.applyAll(doc.Changes)
		}
		return c.verdict(doc.Met), err
	},
}

// findPlan looks for the changes that a model needs, with its progress shown.
func (c *call) findPlan(l *loaded, o mend.Options) (*mend.Document, error) {
	bar := c.progress("looking for a plan")
	defer bar.clear()
	o.Graph = l.graph
	o.Stop = func() bool { return c.Err() != nil }
	o.Progress = func(tried int) { bar.show(1 - 1/(1+float64(tried)/200)) }
	doc, err := mend.Find(o)
	if err != nil {
		return nil, err
	}
	doc.Head = l.head("mend")
	return doc, nil
}

// applyAll writes changes into the file of a model, all or none.
func (c *call) applyAll(changes []remedy.Remedy) error {
	file := c.Arg(0)
	now, err := c.read(file)
	if err != nil {
		return err
	}
	for _, r := range changes {
		patch, err := r.Document()
		if err != nil {
			return err
		}
		if now, err = model.Edit(now, patch); err != nil {
			return fmt.Errorf("%s: %s: %w", file, r.Say, err)
		}
	}
	if err := c.files.Write(file, now); err != nil {
		return err
	}
	fmt.Fprintf(c.err, "%s written to %s\n", plural(len(changes), "change"), file)
	return nil
}
