package text

import (
	"fmt"
	"io"

	"ironweir/core/learn"
)

// Drift prints where a model and what was observed differ.
func Drift(w io.Writer, name string, d *learn.Drift, s Style) error {
	p := newPage(w, s)
	if d.None() {
		p.line("%s: %s", p.paint(bold, name), p.paint(green, "what was observed agrees with the model"))
		return p.Flush()
	}
	p.line("%s: %s", p.paint(bold, name), p.paint(yellow, "the model and what was observed differ"))
	list := func(title string, n learn.Names) {
		if len(n.Nodes)+len(n.Links) == 0 {
			return
		}
		p.heading(title)
		for _, x := range n.Nodes {
			p.line("  node %s", x)
		}
		for _, x := range n.Links {
			p.line("  link %s", x)
		}
	}
	list("Observed, and not in the model", d.Unmodelled)
	list("In the model, and not observed", d.Unobserved)
	var rows [][]string
	for _, x := range d.Different {
		say := seconds
		what := "mean time"
		if x.What == "fails" {
			say, what = share, "share that fails"
		}
		rows = append(
			rows,
			[]string{
				x.Node,
				what,
				say(x.Model),
				say(x.Observed),
				fmt.Sprintf("%s to %s", say(max(x.Interval[0], 0)), say(x.Interval[1])),
				count(int64(x.Seen)),
			},
		)
	}
	if len(rows) > 0 {
		p.heading("Significant differences (99%)")
		p.table([]string{"node", "number", ">modelled", ">observed", "99% interval", ">seen"}, rows)
	}
	return p.Flush()
}
