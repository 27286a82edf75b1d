package main

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/mend"
	"ironweir/core/model"
	"ironweir/core/sensitivity"
	"ironweir/core/study"
	"ironweir/formats/report"
)

var reportCommand = &command{
	name:  "report",
	args:  "MODEL",
	short: "Write one HTML file of a check and its runs, for readers who have nothing installed",
	example: `ironweir report demo/kittiwake.yaml -scenario demo/friday-evening.yaml -out report.html
ironweir report demo/kittiwake.yaml -scenario demo/friday-evening.yaml -scenario demo/registry-down.yaml > report.html
ironweir report demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -plan -out report.html`,
	run: func(c *call) (int, error) {
		f := c.runFlags("html")
		var scenarios repeated
		c.FlagSet.Lookup("scenario").Usage = "run scenario `FILE`; may be repeated; without one, nothing is run"
		c.FlagSet.Lookup("scenario").Value = &scenarios
		guesses := c.Bool("sensitivity", false, "say which of the model's guesses decide the result of each scenario")
		plan := c.Bool("plan", false, "say which changes remove the errors and meet the expectations")
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
		of, all, err := c.contents(f, l, scenarios, *guesses, *plan)
		if err != nil {
			return 0, err
		}
		err = c.toFile(*out, func(w io.Writer) error { return report.Write(w, l.graph, *of) })
		return c.verdict(all && of.Check.Summary.Errors == 0), err
	},
}

// contents are what a report holds, and whether every expectation is met.
func (c *call) contents(
	f *runFlags,
	l *loaded,
	scenarios []string,
	guesses, plan bool,
) (*report.Contents, bool, error) {
	of := &report.Contents{}
	var plans []study.Plan
	var traffic *model.Scenario
	all := true
	for _, file := range scenarios {
		*f.scenario = file
		p, _, err := f.plan(c, f.m.one())
		if err != nil {
			return nil, false, err
		}
		doc, err := c.simulate(f, p)
		if err != nil {
			return nil, false, err
		}
		if traffic == nil {
			traffic = p.Scenario
		}
		all = all && holds(doc)
		of.Runs = append(of.Runs, report.Run{Result: doc, Scenario: p.Scenario})
		plans = append(plans, p)
		if guesses {
			found, err := c.findDecisive(f, l, sensitivity.Options{Plan: p, Points: defaultPoints})
			if err != nil {
				return nil, false, err
			}
			of.Sensitivity = append(of.Sensitivity, found)
		}
	}
	if plan {
		var err error
		if of.Plan, err = c.findPlan(l, mend.Options{Scenarios: plans}); err != nil {
			return nil, false, err
		}
	}
	of.Check = check.Run(l.graph, traffic, l.head("check"), time.Now())
	of.Guarantees = &guarantees.Document{
		Head:       l.head("guarantees"),
		Guarantees: guarantees.Of(flow.Analyse(l.graph, traffic), "", ""),
	}
	return of, all, nil
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
