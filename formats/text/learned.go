package text

import (
	"fmt"
	"io"
	"slices"
	"time"

	"ironweir/core/model"
	"ironweir/core/verify"
)

// Learned prints what was measured beside what a draft predicts.
func Learned(w io.Writer, doc *verify.LearnedDocument, replications int, s Style) error {
	p := newPage(w, s)
	p.line("The draft on the observed arrivals, beside what was measured")
	var rows [][]string
	for _, r := range doc.Rows {
		number := func(x float64) string {
			switch r.Unit {
			case "s":
				return model.FormatDuration(threeDigits(x))
			case "share":
				return share(x)
			case "per_s":
				return fmt.Sprintf("%.3g/s", x)
			}
			return fmt.Sprintf("%.3g", x)
		}
		apart := func(x float64) string {
			if r.Measured == 0 {
				return "–"
			}
			return fmt.Sprintf("%+.1f%%", 100*x)
		}
		verdict := p.paint(green, "within")
		switch {
		case r.Within:
		case r.Structural():
			verdict = p.paint(red, "beyond")
		default:
			verdict = p.paint(red, "drawn beyond")
		}
		rows = append(
			rows,
			[]string{
				r.What,
				number(r.Measured),
				number(r.Predicted),
				apart(r.Error),
				fmt.Sprintf("±%.0f%%", 100*r.Allowed),
				number(r.Drawn),
				apart(r.DrawnError),
				number(r.Range[0]) + " to " + number(r.Range[1]),
				verdict,
			},
		)
	}
	p.table(
		[]string{"number", ">measured", ">predicted", ">error", ">allowed", ">drawn", ">error", ">99 of 100 draws", ""},
		rows,
	)
	p.line("")
	p.wrap("", fmt.Sprintf("predicted: each run takes as long, and fails, as it was observed to; what differs is due to "+
		"nodes, links, waits and limits. drawn: the mean of %d simulations, in which times and failures are drawn from "+
		"the draft; what was measured is one such draw.", replications))
	p.line("")
	colour, end := green, "Every number is within the allowed error, drawn ones at least in the range of one draw."
	switch {
	case doc.Within:
	case slices.ContainsFunc(doc.Rows, verify.Row.Structural):
		colour, end = red, "Some predicted numbers are beyond the allowed error: review the links, retries, waits and "+
			"limits of the draft."
	default:
		colour, end = red, "Some drawn numbers are beyond the allowed error and the range of one draw: review the times "+
			"and failures of the draft."
	}
	p.line("%s", p.paint(colour, end))
	return p.Flush()
}

// threeDigits rounds seconds to three significant digits.
func threeDigits(seconds float64) time.Duration {
	d := time.Duration(seconds * 1e9)
	unit := time.Duration(1)
	for d/unit >= 1000 {
		unit *= 10
	}
	return d.Round(max(unit, time.Microsecond))
}
