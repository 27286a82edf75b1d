package text

import (
	"fmt"
	"io"
	"sort"
	"strings"

	"ironweir/core/check"
	"ironweir/core/model"
)

// Check prints a check: the verdict in one line, findings worst first, then
// what is known of entries, outages and capacity.
func Check(w io.Writer, doc *check.Document, s Style) error {
	p := newPage(w, s)
	p.verdict(doc)
	p.byOwner(doc)
	for i := range doc.Findings {
		p.finding(&doc.Findings[i])
	}
	p.entries(doc)
	p.outages(doc)
	p.capacity(doc)
	if doc.Cost != nil {
		p.line("\n%s %.2f a month at the mean traffic", doc.Cost.Currency, doc.Cost.Month)
	}
	if len(doc.Guesses) > 0 {
		p.line("")
		p.wrap("", fmt.Sprintf("Resting on %s: %s", plural(len(doc.Guesses), "guess"), strings.Join(doc.Guesses, ", ")))
	}
	return p.Flush()
}

func (p *page) verdict(doc *check.Document) {
	counts := doc.Summary
	colour, words := green, "nothing found"
	switch {
	case counts.Errors > 0:
		colour, words = red, "not to be built like this"
	case counts.Warnings > 0:
		colour, words = yellow, "worth a look"
	case counts.Notes > 0:
		words = "fit to build"
	}
	p.line("%s: %s — %s, %s, %s, %d accepted", p.paint(bold, doc.Model), p.paint(colour, words), plural(counts.Errors, "error"), plural(counts.Warnings, "warning"), plural(counts.Notes, "note"), counts.Accepted)
}

// byOwner counts findings by who answers for the nodes.
func (p *page) byOwner(doc *check.Document) {
	counts := map[string]int{}
	for i := range doc.Findings {
		if f := &doc.Findings[i]; f.Accepted == nil {
			for _, o := range f.Owners {
				counts[o]++
			}
		}
	}
	var parts []string
	for _, o := range sorted(counts) {
		parts = append(parts, fmt.Sprintf("%s %d", o, counts[o]))
	}
	if len(parts) > 0 {
		p.wrap("", "by owner: "+strings.Join(parts, ", "))
	}
	if doc.Gone != nil {
		p.line("%s gone since", plural(len(doc.Gone), "finding"))
		for _, g := range doc.Gone {
			p.wrap("  ", p.paint(green, "gone ")+g.Code+"  "+g.Message)
		}
	}
}

func (p *page) finding(f *check.Finding) {
	colour := map[check.Severity]paint{check.Error: red, check.Warning: yellow, check.Note: cyan}[f.Severity]
	label := string(f.Severity)
	if f.Accepted != nil {
		colour, label = faint, "accepted"
	}
	p.title(p.paint(colour, fmt.Sprintf("%-8s %s", label, f.Code)) + "  " + p.paint(bold, f.Title))
	p.wrap("    ", f.Message)
	p.line("    %s", p.paint(faint, f.Position.String()))
	if f.Accepted != nil {
		until := ""
		if f.Accepted.Until != nil {
			until = " (until " + f.Accepted.Until.Format("2006-01-02") + ")"
		}
		p.wrap("    ", "accepted: "+f.Accepted.Because+until)
		return
	}
	for _, r := range f.Remedies {
		p.wrap("    ", "→ "+r.Say)
	}
}

func sorted[V any](m map[string]V) []string {
	names := make([]string, 0, len(m))
	for n := range m {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// survivesWords says how many faults at once an entry survives.
func survivesWords(e *check.Entry) string {
	switch {
	case e.Survives < 0:
		return "none: lost by design"
	case e.Survives == 0:
		return "no fault"
	case e.Survives == 1:
		return "any one fault"
	case e.Survives == e.Searched && e.Searched == check.MaxFaults:
		return "any three faults"
	}
	return fmt.Sprintf("any %d faults", e.Survives)
}

func (p *page) entries(doc *check.Document) {
	if len(doc.Entries) == 0 {
		return
	}
	p.heading("Where messages come in, and how many faults they survive")
	var rows [][]string
	for _, name := range sorted(doc.Entries) {
		e := doc.Entries[name]
		survives := survivesWords(&e)
		var least []string // the smallest sets
		for _, set := range e.LossSets {
			if len(set.Faults) == e.Survives+1 && len(set.Faults) > 0 {
				least = append(least, strings.Join(set.Faults, " + "))
			}
		}
		if len(least) > 2 {
			least = append(least[:2], fmt.Sprintf("and %d more", len(least)-2))
		}
		amp := func(x *float64) string {
			if x == nil {
				return "no bound"
			}
			return number(*x)
		}
		lost := "unknown"
		if e.LossProbability != nil {
			lost = share(*e.LossProbability)
		}
		rows = append(rows, []string{name, survives, lost, amp(e.Amplification.Runs), amp(e.Amplification.Copies), strings.Join(least, ", ")})
	}
	p.table([]string{"entry", "survives", ">lost", ">runs", ">copies", "what loses"}, rows)
}

func (p *page) outages(doc *check.Document) {
	if len(doc.Outages) == 0 {
		return
	}
	p.heading("How long each may be down")
	var rows [][]string
	for _, name := range sorted(doc.Outages) {
		o := doc.Outages[name]
		backlog := ""
		if o.Backlog != nil {
			backlog = number(*o.Backlog)
		}
		drain := ""
		if o.Backlog != nil && o.Drain.State != "unknown" {
			drain = state(o.Drain)
		}
		rows = append(rows, []string{name, state(o.Parks), state(o.Loses), backlog, drain, o.Limit})
	}
	p.table([]string{"node", ">parks after", ">loses after", ">backlog", "~>drains in", "set by"}, rows)
}

func (p *page) capacity(doc *check.Document) {
	var rows [][]string
	for _, name := range sorted(doc.Capacity) {
		c := doc.Capacity[name]
		if c.Rate != nil && *c.Rate == 0 {
			continue
		}
		rate, used, busy, limit, room, wait := "no bound", "", "", "", "", ""
		if c.Rate != nil {
			rate = model.FormatRate(*c.Rate)
		}
		if c.Utilisation != nil {
			used = share(*c.Utilisation)
		}
		if c.Concurrency != nil {
			busy = number(*c.Concurrency)
			if c.Estimate != "" {
				busy = "~" + busy
			}
		}
		if c.Limit != nil {
			limit = count(int64(*c.Limit))
		}
		if c.HeadRoom != nil {
			room = "×" + number(*c.HeadRoom)
		}
		if c.Wait != nil {
			wait = seconds(*c.Wait)
		}
		rows = append(rows, []string{name, rate, busy, limit, used, wait, room, c.LimitedBy})
	}
	if len(rows) > 0 {
		p.heading("How busy everything is in the mean")
		p.table([]string{"node", ">rate", ">runs at once", ">limit", ">in use", ">wait", ">fits traffic", "limited by"}, rows)
	}
	rows = nil
	for _, id := range sorted(doc.Links) {
		if r := doc.Links[id].Reading; r != nil && r.Most > 0 && *doc.Links[id].Rate > 0 {
			rows = append(rows, []string{id, model.FormatRate(*doc.Links[id].Rate), model.FormatRate(r.Most), share(r.Utilisation), "×" + number(1/r.Utilisation), number(r.Batch)})
		}
	}
	if len(rows) > 0 {
		p.heading("How busy readers are")
		p.table([]string{"link", ">messages", ">at most", ">in use", ">fits traffic", ">batch"}, rows)
	}
}

// CheckMarkdown writes a check for a pull request.
func CheckMarkdown(w io.Writer, doc *check.Document) error {
	p := newPage(w, Style{Width: 1 << 20})
	p.line("### %s: %s, %s, %s, %d accepted\n", doc.Model, plural(doc.Summary.Errors, "error"), plural(doc.Summary.Warnings, "warning"), plural(doc.Summary.Notes, "note"), doc.Summary.Accepted)
	if len(doc.Findings) > 0 {
		p.line("| | code | finding | where | remedy |\n|---|---|---|---|---|")
	}
	cell := strings.NewReplacer("|", "\\|", "\n", " ", "<", "&lt;").Replace
	for _, f := range doc.Findings {
		label := string(f.Severity)
		if f.Accepted != nil {
			label = "accepted: " + f.Accepted.Because
		}
		var says []string
		for _, r := range f.Remedies {
			says = append(says, r.Say)
		}
		p.line("| %s | %s | %s | %s | %s |", cell(label), f.Code, cell(f.Message), cell(f.Position.String()), cell(strings.Join(says, "; or ")))
	}
	return p.Flush()
}
