package main

import (
	"fmt"

	"ironweir/core/sensitivity"
	"ironweir/formats/text"
)

var sensitivityCommand = &command{
	name:  "sensitivity",
	args:  "MODEL",
	short: "Say which of the model's guesses decide the result of a scenario, and where an expectation turns",
	example: `ironweir sensitivity demo/kittiwake.yaml -variant demo/variants/guesses.yaml -scenario demo/friday-evening.yaml -replications 1
ironweir sensitivity model.yaml -scenario s.yaml -of "run.latency['orders:ledger'].p99_s"`,
	run: func(c *call) (int, error) {
		f := c.runFlags("text|json")
		var of repeated
		c.Var(&of, "of", "look at `EXPR`, CEL over the result as run; may be repeated; none: the expectations")
		trajectories := c.Int("trajectories", 6, "of the screening: each moves every guess once")
		points := c.Int("points", 32, "of the variance shares: `N` × (guesses + 2) runs; 0 leaves them out")
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
		bar := c.progress("sensitivity")
		doc, err := sensitivity.Find(sensitivity.Options{
			Graph:        l.graph,
			Plan:         p,
			Of:           of,
			Trajectories: *trajectories,
			Points:       *points,
			Workers:      *f.workers,
			Stop:         func() bool { return f.stop(c)() != "" },
			Progress:     func(done, of int) { bar.show(float64(done) / float64(of)) },
		})
		bar.clear()
		if err != nil {
			return 0, err
		}
		doc.Head = l.head("sensitivity")
		return exitFine, c.show(f, doc, func() error { return text.Sensitivity(c.out, doc, c.style()) })
	},
}
