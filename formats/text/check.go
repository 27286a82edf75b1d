package text

import (
	"fmt"
	"io"
	"sort"
	"strings"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/model"
	"ironweir/core/verify"
)

// Check prints a check: the verdict in one line, findings worst first, then
// entries, outage tolerance and capacity.
func Check(w io.Writer, doc *check.Document, s Style) error {
	p := newPage(w, s)
	p.verdict(doc)
	p.byOwner(doc)
	for i := range doc.Findings {
		p.finding(&doc.Findings[i])
	}
	p.entries(doc)
	p.outages(doc)
	p.availability(doc)
	p.capacity(doc)
	if doc.Cost != nil {
		p.line(
			"\n%s",
			labelled(
				fmt.Sprintf("%s %.2f a month at the mean traffic", doc.Cost.Currency, doc.Cost.Month),
				doc.Cost.Basis,
				"month",
			),
		)
	}
	if doc.Cost != nil || len(doc.Entries) > 0 {
		p.line("")
		p.line("%s", p.paint(faint, legend))
	}
	if len(doc.Guesses) > 0 {
		p.line("")
		p.wrap("", fmt.Sprintf("Resting on %s: %s", plural(len(doc.Guesses), "guess"), strings.Join(doc.Guesses, ", ")))
	}
	return p.Flush()
}

func (p *page) verdict(doc *check.Document) {
	counts := doc.Summary
	colour := green
	switch {
	case counts.Errors > 0:
		colour = red
	case counts.Warnings > 0:
		colour = yellow
	}
	p.line(
		"%s: %s — %s, %s, %s, %d accepted",
		p.paint(bold, doc.Model),
		p.paint(colour, counts.Verdict()),
		plural(counts.Errors, "error"),
		plural(counts.Warnings, "warning"),
		plural(counts.Notes, "note"),
		counts.Accepted,
	)
}

// byOwner counts findings by the owners of their nodes.
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
	if f.Unproven > 0 {
		p.wrap(
			"    ",
			fmt.Sprintf(
				"→ %s not proven in a model of this size; `-fix %s` proves and applies them",
				plural(f.Unproven, "remedy"),
				f.Code,
			),
		)
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

// survivesWords says how many faults together an entry survives.
func survivesWords(e *flow.Entry) string {
	switch {
	case e.Survives < 0:
		return "loses without a fault"
	case e.Survives == 0:
		return "no fault"
	case e.Survives == 1:
		return "any one fault"
	case e.Survives == flow.MaxFaults:
		return "any three faults"
	}
	return fmt.Sprintf("any %d faults", e.Survives)
}

// labelled marks a number by how sure it is; the legend says what the marks mean.
func labelled(text string, basis flow.Basis, field string) string {
	if text == "" {
		return ""
	}
	return map[string]string{flow.AtMost: "≤ ", flow.AtLeast: "≥ ", flow.Estimate: "~ "}[basis[field]] + text
}

const legend = "~ estimate · ≤ at most · ≥ at least · other numbers are exact"

// faultsOf writes a loss set: one of each of its elements.
func faultsOf(set *flow.LossSet) string {
	var parts []string
	for _, f := range set.Faults {
		switch {
		case len(f) == 1:
			parts = append(parts, f[0])
		case len(f) > 3:
			parts = append(parts, fmt.Sprintf("any one of %s and %d more", strings.Join(f[:2], ", "), len(f)-2))
		default:
			parts = append(parts, "any one of "+strings.Join(f, ", "))
		}
	}
	return strings.Join(parts, " + ")
}

func (p *page) entries(doc *check.Document) {
	if len(doc.Entries) == 0 {
		return
	}
	p.heading("Entries and the faults that they survive")
	var rows [][]string
	assumed := map[string][]string{}
	for _, name := range sorted(doc.Entries) {
		e := doc.Entries[name]
		var least []string // the smallest sets
		for k := range e.LossSets {
			if set := &e.LossSets[k]; len(set.Faults) == e.Survives+1 && len(set.Faults) > 0 {
				after := ""
				if len(set.Faults) == 1 {
					after = " (" + state(set.After) + ")"
				}
				least = append(least, faultsOf(set)+after)
			}
		}
		if len(least) > 2 {
			least = append(least[:2], fmt.Sprintf("and %d more", len(least)-2))
		}
		amp := func(x *float64) string {
			if x == nil {
				return "no bound"
			}
			return labelled(number(*x), e.Basis, "amplification")
		}
		lost := "unknown"
		if e.LossProbability != nil {
			lost = labelled(share(*e.LossProbability), e.Basis, "loss_probability")
		}
		rows = append(
			rows,
			[]string{
				name,
				survivesWords(&e),
				lost,
				amp(e.Amplification.Runs),
				amp(e.Amplification.Copies),
				strings.Join(least, ", "),
			},
		)
		for _, a := range e.Assumptions {
			assumed[a] = append(assumed[a], name)
		}
	}
	p.table([]string{"entry", "survives", ">lost per message", ">runs", ">copies", "lost by (after)"}, rows)
	if len(doc.Entries) > 0 {
		for _, name := range sorted(doc.Entries) {
			p.wrap("  ", "fault kinds considered: "+strings.Join(doc.Entries[name].Considered, ", "))
			break
		}
	}
	for _, a := range sorted(assumed) {
		p.wrap("  ", fmt.Sprintf("assumed at %s: %s", strings.Join(assumed[a], ", "), a))
	}
}

func (p *page) outages(doc *check.Document) {
	if len(doc.Outages) == 0 {
		return
	}
	p.heading("Outage tolerance")
	var rows [][]string
	for _, name := range sorted(doc.Outages) {
		o := doc.Outages[name]
		backlog, drain := "", ""
		if o.Backlog != nil {
			backlog = labelled(number(*o.Backlog), o.Basis, "backlog")
			if o.Drain.State != "unknown" {
				drain = labelled(state(o.Drain), o.Basis, "drain")
			}
		}
		rows = append(
			rows,
			[]string{
				name,
				labelled(state(o.Parks), o.Basis, "parks"),
				labelled(state(o.Loses), o.Basis, "loses"),
				backlog,
				drain,
				o.Limit,
			},
		)
	}
	p.table(
		[]string{"node", ">first dead letter after", ">first loss after", ">backlog", "~>drains in", "limited by"},
		rows,
	)
}

// availability prints what the stated breakdowns do in a year, what does most of it, and
// what would be left after a change.
func (p *page) availability(doc *check.Document) {
	var rows [][]string
	assumed := map[string][]string{}
	for _, name := range sorted(doc.Entries) {
		v := doc.Entries[name].Availability
		if v == nil {
			continue
		}
		for _, a := range v.Assumptions {
			assumed[a] = append(assumed[a], name)
		}
		if v.Lost == nil || *v.Lost+*v.Parked+*v.Late+*v.Returned == 0 {
			continue
		}
		cell := func(x float64, field string) string { return labelled(number(x), v.Basis, field) }
		most := ""
		if len(v.By) > 0 {
			most = strings.Join(v.By[0].Faults, " + ")
			if n := len(v.By) - 1; n > 0 {
				most += fmt.Sprintf(" and %d more", n)
			}
		}
		rows = append(rows, []string{
			name,
			cell(*v.Lost, "lost_per_year"),
			cell(*v.Parked, "parked_per_year"),
			cell(*v.Late, "late_per_year"),
			cell(*v.Returned, "returned_per_year"),
			most,
		})
	}
	if len(rows)+len(assumed) == 0 {
		return
	}
	p.heading("Availability: messages a year, from the breakdowns that the model states")
	p.table([]string{"entry", ">lost", ">parked", ">late", ">answered with an error", "most by"}, rows)
	for _, name := range sorted(doc.Entries) {
		v := doc.Entries[name].Availability
		if v == nil {
			continue
		}
		for _, r := range v.Improvements {
			p.wrap("  ", fmt.Sprintf("→ %s: %s", r.Say, change(name, v, &r)))
		}
	}
	for _, a := range sorted(assumed) {
		p.wrap("  ", fmt.Sprintf("at %s: %s", strings.Join(assumed[a], ", "), a))
	}
}

// change says what an improvement leaves of what an entry loses and parks in a year.
func change(entry string, before *flow.Availability, after *flow.Improvement) string {
	var parts []string
	if *before.Lost > 0 {
		parts = append(parts, fmt.Sprintf("lost %s → %s", number(*before.Lost), number(after.Lost)))
	}
	if *before.Parked+after.Parked > 0 {
		parts = append(parts, fmt.Sprintf("parked %s → %s", number(*before.Parked), number(after.Parked)))
	}
	return entry + " " + strings.Join(parts, ", ")
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
			rate = labelled(model.FormatRate(*c.Rate), c.Basis, "rate")
		}
		if c.Utilisation != nil {
			used = labelled(share(*c.Utilisation), c.Basis, "utilisation")
		}
		if c.Concurrency != nil {
			busy = labelled(number(*c.Concurrency), c.Basis, "concurrency")
		}
		if c.Limit != nil {
			limit = count(int64(*c.Limit))
		}
		if c.HeadRoom != nil {
			room = labelled(times(*c.HeadRoom), c.Basis, "utilisation")
		}
		if c.Wait != nil {
			wait = labelled(seconds(*c.Wait), c.Basis, "wait_s")
		}
		rows = append(rows, []string{name, rate, busy, limit, used, wait, room, c.LimitedBy})
	}
	if len(rows) > 0 {
		p.heading("Capacity")
		p.table(
			[]string{"node", ">rate", ">concurrency", ">limit", ">utilisation", ">wait", ">headroom", "limited by"},
			rows,
		)
	}
	rows = nil
	for _, id := range sorted(doc.Links) {
		l := doc.Links[id]
		if r := l.Reading; r != nil && r.Most > 0 && *l.Rate > 0 {
			rows = append(rows, []string{
				id,
				labelled(model.FormatRate(*l.Rate), l.Basis, "rate"),
				labelled(model.FormatRate(r.Most), l.Basis, "most"),
				labelled(share(r.Utilisation), l.Basis, "utilisation"),
				labelled(times(1/r.Utilisation), l.Basis, "utilisation"),
				labelled(number(r.Batch), l.Basis, "batch"),
			})
		}
	}
	if len(rows) > 0 {
		p.heading("Readers")
		p.table([]string{"link", ">messages", ">at most", ">utilisation", ">headroom", ">batch"}, rows)
	}
}

// times writes a headroom: how many times the present traffic fits.
func times(x float64) string {
	if x > 1000 {
		return "> 1,000×"
	}
	return number(x) + "×"
}

// CheckMarkdown writes a check for a pull request.
func CheckMarkdown(w io.Writer, doc *check.Document) error {
	p := newPage(w, Style{Width: 1 << 20})
	p.line(
		"### %s: %s, %s, %s, %d accepted\n",
		doc.Model,
		plural(doc.Summary.Errors, "error"),
		plural(doc.Summary.Warnings, "warning"),
		plural(doc.Summary.Notes, "note"),
		doc.Summary.Accepted,
	)
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
		p.line(
			"| %s | %s | %s | %s | %s |",
			cell(label),
			f.Code,
			cell(f.Message),
			cell(f.Position.String()),
			cell(strings.Join(says, "; or ")),
		)
	}
	return p.Flush()
}

// Verification prints what simulated runs say of the claims of a check.
func Verification(w io.Writer, r *verify.Report, s Style) error {
	p := newPage(w, s)
	p.heading("Verification by simulation")
	colour, words := green, "no run contradicts one"
	if n := len(r.Contradictions); n > 0 {
		colour, words = red, plural(n, "contradiction")
	}
	p.line("%s compared in %s: %s", plural(r.Claims, "claim"), plural(r.Runs, "run"), p.paint(colour, words))
	for _, what := range r.Skipped {
		p.wrap("", p.paint(faint, "not verified: ")+what)
	}
	for i := range r.Contradictions {
		c := &r.Contradictions[i]
		p.line("")
		p.wrap("", p.paint(red, "check says: ")+c.Claim)
		p.wrap("", p.paint(red, "the run:    ")+c.Run)
		if c.Scenario != "" {
			p.line("with this scenario:")
			for _, l := range strings.Split(strings.TrimSpace(c.Scenario), "\n") {
				p.line("    %s", l)
			}
		}
	}
	return p.Flush()
}
