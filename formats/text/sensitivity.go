package text

import (
	"fmt"
	"io"
	"math"
	"slices"
	"strings"

	"ironweir/core/sensitivity"
)

// Sensitivity prints for each output which guesses decide it, as a table with a tornado
// chart, and what to measure first.
func Sensitivity(w io.Writer, doc *sensitivity.Document, s Style) error {
	p := newPage(w, s)
	p.line("%s under %s: %s", p.paint(bold, doc.Model), p.paint(bold, doc.Scenario), plural(doc.Runs, "run"))
	if doc.Partial {
		p.line("%s", p.paint(yellow, "Ended early; there is nothing to show yet."))
		return p.Flush()
	}
	for _, o := range doc.Outputs() {
		p.output(o)
	}
	return p.Flush()
}

// tornado is how many characters the longest bar has on either side.
const tornado = 12

func (p *page) output(o *sensitivity.Output) {
	now := number(o.Value)
	if o.Holds != nil {
		now += map[bool]string{true: ": holds", false: ": fails"}[*o.Holds]
	}
	p.heading(fmt.Sprintf("%s (%s)", o.Of, now))
	widest := 0.0
	for _, in := range o.Inputs {
		widest = max(widest, math.Abs(in.Values[0]-o.Value), math.Abs(in.Values[1]-o.Value))
	}
	if !o.Moved() {
		p.line("  No guess changes it within its range.")
		return
	}
	var rows [][]string
	for _, in := range o.Inputs {
		first, total, turns := "", "", ""
		if in.Share != nil {
			first, total = shareWithin(in.Share.First, in.Share.FirstCI), shareWithin(in.Share.Total, in.Share.TotalCI)
		}
		if in.TurnsAt != nil {
			turns = *in.TurnsAt
		}
		rows = append(rows, []string{in.Path, in.Range[0] + " to " + in.Range[1],
			number(in.Values[0]) + " to " + number(in.Values[1]), bars(in.Values, o.Value, widest),
			first, total, turns})
	}
	head := []string{"guess", "range", "result at its ends", "tornado", ">alone", ">in all", ">turns at"}
	if p.html { // the chart stands above the tables, as a picture
		head = slices.Delete(head, 3, 4)
		for k := range rows {
			rows[k] = slices.Delete(rows[k], 3, 4)
		}
	}
	p.table(head, rows)
	p.wrap("  ", fmt.Sprintf("Measure `%s` first: it decides most.", o.Inputs[0].Path))
	for _, in := range o.Inputs {
		if in.TurnsAt != nil {
			p.wrap("  ", fmt.Sprintf("It turns where `%s` is about %s, the other guesses being as written.",
				in.Path, *in.TurnsAt))
		}
	}
}

// shareWithin writes a part of the variance with its 95% interval.
func shareWithin(x float64, ci [2]float64) string {
	return fmt.Sprintf("%.0f%% (%.0f–%.0f)", 100*x, 100*ci[0], 100*ci[1])
}

// bars draws how far the result moves to either side of where it is.
func bars(ends [2]float64, now, widest float64) string {
	left, right := 0.0, 0.0
	for _, x := range ends {
		left, right = max(left, now-x), max(right, x-now)
	}
	part := func(x float64) int {
		if widest == 0 {
			return 0
		}
		return int(math.Round(x / widest * tornado))
	}
	l, r := part(left), part(right)
	return strings.Repeat(" ", tornado-l) + strings.Repeat("█", l) + "│" + strings.Repeat("█", r) +
		strings.Repeat(" ", tornado-r)
}
