package text

import (
	"fmt"
	"io"
	"strings"

	"ironweir/core/check/guarantees"
	"ironweir/core/verify"
)

// Guarantees prints what holds between entries and destinations: a table, then the
// reasons for each that is not exactly once.
func Guarantees(w io.Writer, doc *guarantees.Document, s Style) error {
	p := newPage(w, s)
	if len(doc.Guarantees) == 0 {
		p.line("No message of an entry has an effect at a destination.")
	}
	var rows [][]string
	for i := range doc.Guarantees {
		g := &doc.Guarantees[i]
		rows = append(rows, []string{
			g.From, Destination(g.From, g.To), survived(g), p.effect(g.Effects.NoFault), p.effect(g.Effects.OneFault),
			orderWord(g), delayWord(g),
		})
	}
	if len(rows) > 0 {
		p.table([]string{"from", "to", ">survives", "without a fault", "with one fault", "order", "delay"}, rows)
	}
	p.reasons("Lost", doc, func(g *guarantees.Guarantee, add func(string)) {
		for _, b := range g.Losses {
			add(loss(&b))
		}
	})
	p.reasons("Repeated", doc, func(g *guarantees.Guarantee, add func(string)) {
		for _, b := range g.Repeats {
			add(repetition(&b))
		}
	})
	p.reasons("Absorbed, unless both are handled at the same time", doc, func(g *guarantees.Guarantee, add func(string)) {
		for _, x := range g.Absorbed {
			add(fmt.Sprintf("%s drops a repetition by its key %s", x.Node, x.Key))
		}
	})
	p.reasons("Parked", doc, func(g *guarantees.Guarantee, add func(string)) {
		for _, x := range g.Parks {
			when := "without a fault"
			if x.Fault {
				when = "under a fault"
			}
			add(fmt.Sprintf("in %s, %s", x.Node, when))
		}
	})
	p.reasons("Order not kept", doc, func(g *guarantees.Guarantee, add func(string)) {
		if !g.Order.Kept {
			add(g.Order.Why)
		}
	})
	p.reasons("What bounds the delay", doc, func(g *guarantees.Guarantee, add func(string)) {
		if g.Delay.Why != "" {
			add(g.Delay.Why)
		}
	})
	if len(rows) > 0 {
		p.line("")
		p.wrap("", p.paint(faint, "exactly once: no loss and no repetition · a parked message is late, not lost; a request "+
			"answered as failed has no effect, and its sender knows · delay: mean without load, and at most with every try and wait"))
	}
	p.unmet(doc.Unmet)
	return p.Flush()
}

// Destination names the destination of a guarantee; one that is the entry itself is the answer that it gives.
func Destination(from, to string) string {
	if from == to {
		return "its answer"
	}
	return to
}

func survived(g *guarantees.Guarantee) string {
	if g.Survives >= g.Searched {
		return fmt.Sprintf("%d faults or more", g.Survives)
	}
	return plural(g.Survives, "fault")
}

func (p *page) effect(word string) string {
	colour := red
	switch word {
	case "exactly_once":
		colour = green
	case "at_least_once", "at_most_once":
		colour = yellow
	}
	return p.paint(colour, strings.ReplaceAll(word, "_", " "))
}

func orderWord(g *guarantees.Guarantee) string {
	switch {
	case !g.Order.Kept:
		return "not kept"
	case len(g.Order.By) > 0:
		return "kept by " + strings.Join(g.Order.By, ", ")
	}
	return "kept"
}

func delayWord(g *guarantees.Guarantee) string {
	out := "?"
	if g.Delay.Typical != nil {
		out = seconds(*g.Delay.Typical)
	}
	if g.Delay.AtMost == nil {
		return out + ", no bound"
	}
	return out + ", at most " + seconds(*g.Delay.AtMost)
}

// reasons prints what holds for some guarantees, each reason once with all pairs that it
// affects.
func (p *page) reasons(title string, doc *guarantees.Document, of func(*guarantees.Guarantee, func(string))) {
	var order []string
	pairs := map[string]map[string][]string{} // destinations by reason and entry
	for i := range doc.Guarantees {
		g := &doc.Guarantees[i]
		of(g, func(reason string) {
			if pairs[reason] == nil {
				order = append(order, reason)
				pairs[reason] = map[string][]string{}
			}
			pairs[reason][g.From] = append(pairs[reason][g.From], Destination(g.From, g.To))
		})
	}
	if len(order) == 0 {
		return
	}
	p.heading(title)
	for _, reason := range order {
		p.wrap("  ", reason)
		var affected []string
		for _, from := range sorted(pairs[reason]) {
			affected = append(affected, from+" → "+strings.Join(pairs[reason][from], ", "))
		}
		p.wrap("      ", p.paint(faint, strings.Join(affected, "; ")))
	}
}

func loss(b *guarantees.Breach) string {
	return fmt.Sprintf("%s: %s %s", place(b), b.Why, condition(b.Fault))
}

func repetition(b *guarantees.Breach) string {
	return fmt.Sprintf("%s again, %s: %s", place(b), condition(b.Fault), b.Why)
}

// Statement says what a guarantee denies: a loss, a repetition, or that the order is kept.
func Statement(g *guarantees.Guarantee, what string, at int) string {
	switch what {
	case verify.Lost:
		return "lost, " + loss(&g.Losses[at])
	case verify.Repeated:
		return "repeated, " + repetition(&g.Repeats[at])
	}
	return "overtaken, " + g.Order.Why
}

// place names the link of a breach, or its node.
func place(b *guarantees.Breach) string {
	if b.Link != "" {
		return b.Link
	}
	return b.Node
}

// condition says under which fault something happens.
func condition(fault string) string {
	if fault == "" {
		return "without a fault"
	}
	states := map[string][]string{} // by what it happens to
	var names []string
	for _, f := range strings.Split(fault, ", ") {
		name, kind, found := strings.Cut(f, "/")
		switch {
		case !found:
			kind = "fails"
		case kind == "crash":
			kind = "crashes"
		default:
			kind = "is " + kind
		}
		if states[name] == nil {
			names = append(names, name)
		}
		states[name] = append(states[name], kind)
	}
	var out []string
	for _, name := range names {
		is := strings.Join(states[name], " or ")
		out = append(out, name+" "+strings.ReplaceAll(is, " or is ", " or "))
	}
	return "if " + strings.Join(out, " or ")
}

// Unmet prints the requirements that do not hold, if any.
func Unmet(w io.Writer, list []guarantees.Unmet, s Style) error {
	p := newPage(w, s)
	p.unmet(list)
	return p.Flush()
}

// unmet prints the requirements that do not hold.
func (p *page) unmet(list []guarantees.Unmet) {
	if len(list) == 0 {
		return
	}
	p.heading(plural(len(list), "requirement") + " not met")
	for _, u := range list {
		p.wrap("  ", fmt.Sprintf("%s → %s: %s", u.From, u.To, u.Found))
	}
}
