package main

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"ironweir/core/check"
	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/formats/report"
)

var reportCommand = &command{
	name:  "report",
	args:  "MODEL",
	short: "Write one HTML file of a check and its runs, for readers who have nothing installed",
	example: `ironweir report demo/kittiwake.yaml -scenario demo/friday-evening.yaml -out report.html
ironweir report demo/kittiwake.yaml -scenario demo/friday-evening.yaml -scenario demo/registry-down.yaml > report.html`,
	run: func(c *call) (int, error) {
		f := c.runFlags("html")
		var scenarios repeated
		c.FlagSet.Lookup("scenario").Usage = "run scenario `FILE`; may be repeated; without one, nothing is run"
		c.FlagSet.Lookup("scenario").Value = &scenarios
		out := c.String("out", "", "write to `FILE` instead of standard output")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := f.check(c); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), f.m)
		if err != nil {
			return 0, err
		}
		var runs []report.Run
		var traffic *model.Scenario
		all := true
		for _, file := range scenarios {
			*f.scenario = file
			plan, _, err := f.plan(c, f.m.one())
			if err != nil {
				return 0, err
			}
			doc, err := c.simulate(f, plan)
			if err != nil {
				return 0, err
			}
			if traffic == nil {
				traffic = plan.Scenario
			}
			all = all && holds(doc)
			runs = append(runs, report.Run{Result: doc, Scenario: plan.Scenario})
		}
		doc := check.Run(l.graph, traffic, l.head("check"), time.Now())
		if err := c.toFile(*out, func(w io.Writer) error { return report.Write(w, l.graph, doc, runs) }); err != nil {
			return 0, err
		}
		if doc.Summary.Errors > 0 {
			all = false
		}
		return c.verdict(all), nil
	},
}

// simulate runs a plan with its progress shown.
func (c *call) simulate(f *runFlags, plan study.Plan) (*study.Document, error) {
	bar := c.progress(fmt.Sprintf("%s, %s", plan.Scenario.Name, plural(plan.Scenario.Replications, "replication")))
	defer bar.clear()
	plan.Progress = bar.show
	doc, err := study.Run(plan)
	if err != nil {
		return nil, err
	}
	doc.Variant = f.m.name()
	return doc, nil
}

// toFile lets something be written to a file, or to standard output where none
// is named.
func (c *call) toFile(file string, write func(io.Writer) error) error {
	if file == "" {
		return write(c.out)
	}
	var out bytes.Buffer
	if err := write(&out); err != nil {
		return err
	}
	if err := c.files.Write(file, out.Bytes()); err != nil {
		return fmt.Errorf("-out: %w", err)
	}
	return nil
}
