package text

import (
	"fmt"
	"io"
	"strings"

	"ironweir/core/check/remedy"

	"ironweir/core/mend"
)

// Mend prints a plan: its changes, how the model stands before and after, and other
// plans.
func Mend(w io.Writer, doc *mend.Document, s Style) error {
	p := newPage(w, s)
	switch {
	case doc.Partial:
		p.line("%s: %s", p.paint(bold, doc.Model), p.paint(yellow, "interrupted; this is as near as it came"))
	case !doc.Met:
		p.line("%s: %s", p.paint(bold, doc.Model), p.paint(red, "no plan meets everything; this comes nearest"))
	case len(doc.Changes) == 0:
		p.line("%s: %s", p.paint(bold, doc.Model), p.paint(green, "nothing has to be changed"))
	default:
		p.line("%s: %s", p.paint(bold, doc.Model), p.paint(green, plural(len(doc.Changes), "change")+" will do"))
	}
	p.changeList(doc.Changes)
	if !doc.Met && len(doc.Unsolved) > 0 {
		p.heading("No remedy removes")
		for _, message := range doc.Unsolved {
			p.wrap("  ", message)
		}
	}
	p.heading("Before and after")
	row := func(what string, s *mend.State) []string {
		fails := strings.Join(s.Fails, ", ")
		if fails == "" {
			fails = "none"
		}
		month := ""
		if s.CostMonth != nil {
			month = fmt.Sprintf("%.2f", *s.CostMonth)
		}
		return []string{what, number(float64(s.Errors)), number(float64(s.Warnings)), count(s.Lost), count(s.Parked),
			month, fails}
	}
	p.table([]string{"", ">errors", ">warnings", ">lost", ">parked", ">cost a month", "expectations that fail"},
		[][]string{row("before", &doc.Before), row("after", &doc.After)})
	for i, a := range doc.Alternatives {
		cost := ""
		if a.CostMonth != nil {
			cost = fmt.Sprintf(", %.2f a month", *a.CostMonth)
		}
		p.heading(fmt.Sprintf("Instead (%d): lost %s, parked %s%s", i+1, count(a.Lost), count(a.Parked), cost))
		p.changeList(a.Changes)
	}
	p.line("")
	smallest := "There may be a smaller one: "
	if doc.Smallest {
		smallest = "No smaller set of the known changes will do: "
	}
	if !doc.Met || len(doc.Changes) == 0 {
		smallest = ""
	}
	p.wrap("", p.paint(faint, smallest+plural(doc.Tried, "set")+" of changes tried"))
	return p.Flush()
}

func (p *page) changeList(changes []remedy.Remedy) {
	for i := range changes {
		p.wrap("  ", fmt.Sprintf("%d. %s", i+1, changes[i].Say))
	}
}
