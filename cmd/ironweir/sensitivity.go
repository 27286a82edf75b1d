package main

import (
	"fmt"

	"ironweir/core/sensitivity"
	"ironweir/formats/picture"
	"ironweir/formats/text"
)

var sensitivityCommand = &command{
	name:  "sensitivity",
	args:  "MODEL",
	short: "Say which of the model's guesses decide the result of a scenario, and where an expectation turns",
	example: `ironweir sensitivity demo/kittiwake.yaml -variant demo/variants/guesses.yaml -scenario demo/friday-evening.yaml -replications 1
ironweir sensitivity model.yaml -scenario s.yaml -of "run.latency['orders:ledger'].p99_s"`,
	run: func(c *call) (int, error) {
		f := c.runFlags("text|json|svg")
		var of repeated
		c.Var(&of, "of", "look at `EXPR`, CEL over the result as run; may be repeated; none: the expectations")
		trajectories := c.Int("trajectories", 6, "of the screening: each moves every guess once")
		points := c.Int("points", defaultPoints, "of the variance shares: `N` × (guesses + 2) runs; 0 leaves them out")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := f.check(c); err != nil {
			return 0, err
		}
		if *trajectories < 2 || *trajectories > 1000 || *points < 0 || *points > 100_000 {
			return 0, fmt.Errorf("-trajectories is from 2 to 1000, -points from 0 to 100000")
		}
		p, l, err := f.plan(c, f.m.one())
		if err != nil {
			return 0, err
		}
		doc, err := c.findDecisive(f, l, sensitivity.Options{
			Plan:         p,
			Of:           of,
			Trajectories: *trajectories,
			Points:       *points,
		})
		if err != nil {
			return 0, err
		}
		if *f.m.format == "svg" {
			return exitFine, picture.Tornado(c.out, doc)
		}
		return exitFine, c.show(f, doc, func() error { return text.Sensitivity(c.out, doc, c.style()) })
	},
}

// defaultPoints are those of the variance shares.
const defaultPoints = 32

// findDecisive looks at the guesses of a model, with its progress shown.
func (c *call) findDecisive(f *runFlags, l *loaded, o sensitivity.Options) (*sensitivity.Document, error) {
	bar := c.progress("sensitivity")
	defer bar.clear()
	o.Graph, o.Workers = l.graph, *f.workers
	o.Stop = func() bool { return f.stop(c)() != "" }
	o.Progress = func(done, of int) { bar.show(float64(done) / float64(of)) }
	doc, err := sensitivity.Find(o)
	if err != nil {
		return nil, err
	}
	doc.Head = l.head("sensitivity")
	return doc, nil
}
