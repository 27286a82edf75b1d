package text

import (
	"fmt"
	"io"
	"time"

	"ironweir/core/model"
	"ironweir/core/verify"
)

// Learned prints what was measured beside what a draft predicts.
func Learned(w io.Writer, doc *verify.LearnedDocument, replications int, s Style) error {
	p := newPage(w, s)
	p.line("The draft, simulated %d times on the observed arrivals", replications)
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
		apart := fmt.Sprintf("%+.1f%%", 100*r.Error)
		if r.Measured == 0 {
			apart = "–"
		}
		verdict := p.paint(green, "within")
		if !r.Within {
			verdict = p.paint(red, "beyond")
		}
		rows = append(
			rows,
			[]string{
				r.What,
				number(r.Measured),
				number(r.Predicted),
				number(r.Range[0]) + " to " + number(r.Range[1]),
				apart,
				fmt.Sprintf("±%.0f%%", 100*r.Allowed),
				verdict,
			},
		)
	}
	p.table([]string{"number", ">measured", ">predicted", ">99 of 100 simulations", ">error", ">allowed", ""}, rows)
	p.line("")
	if doc.Within {
		p.line(
			"%s",
			p.paint(green, "Every number is within its allowed error, or measured within the range of one simulation."),
		)
	} else {
		p.line("%s", p.paint(red, "Some numbers are beyond both: review the times, shares and limits of the draft before you rely on it."))
	}
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
