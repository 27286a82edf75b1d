package text

import (
	"fmt"
	"io"
	"strings"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/model"
)

// DiffDocument is what `diff -format json` prints.
type DiffDocument struct {
	document.Head
	Before  string            `json:"before"`
	After   string            `json:"after"`
	Renamed map[string]string `json:"renamed,omitempty"` // nodes, by what they were called before
	*model.Changes
	Came []check.Finding     `json:"findings_came"`
	Went []check.Gone        `json:"findings_went"`
	Lost []guarantees.Change `json:"guarantees_lost"`
	Won  []guarantees.Change `json:"guarantees_won"`
}

// Diff prints what differs between two models, then which findings are new and which
// are resolved.
func Diff(w io.Writer, d *DiffDocument, s Style) error {
	p := newPage(w, s)
	for _, was := range sorted(d.Renamed) {
		p.line("%s node %s → %s", p.paint(green, "~"), was, d.Renamed[was])
	}
	if d.Changes.Same() && len(d.Renamed) == 0 {
		p.line("%s", p.paint(green, "The models are the same."))
	}
	for _, n := range d.NodesAdded {
		p.line("%s node %s", p.paint(green, "+"), n)
	}
	for _, n := range d.NodesRemoved {
		p.line("%s node %s", p.paint(red, "−"), n)
	}
	for _, l := range d.LinksAdded {
		p.line("%s link %s", p.paint(green, "+"), l)
	}
	for _, l := range d.LinksRemoved {
		p.line("%s link %s", p.paint(red, "−"), l)
	}
	for _, n := range sorted(d.Nodes) {
		p.changes(n, d.Nodes[n])
	}
	for _, l := range sorted(d.Links) {
		p.changes(l, d.Links[l])
	}
	for _, c := range d.Settings {
		p.changes(c.Path, []model.Change{{Before: c.Before, After: c.After}})
	}
	if len(d.Came) == 0 && len(d.Went) == 0 {
		p.line("\nNo finding is new or resolved.")
	}
	if len(d.Came) > 0 {
		p.heading(fmt.Sprintf("New findings (%d)", len(d.Came)))
		for i := range d.Came {
			f := &d.Came[i]
			p.wrap("  ", fmt.Sprintf("%s %s  %s", p.paint(yellow, string(f.Severity)), f.Code, f.Message))
		}
	}
	if len(d.Went) > 0 {
		p.heading(fmt.Sprintf("Resolved findings (%d)", len(d.Went)))
		for _, g := range d.Went {
			p.wrap("  ", g.Code+"  "+g.Message)
		}
	}
	p.guaranteeChanges("Guarantees lost", red, d.Lost)
	p.guaranteeChanges("Guarantees won", green, d.Won)
	return p.Flush()
}

// guaranteeChanges lists what holds between entries and destinations, and did or does
// not in the other model.
func (p *page) guaranteeChanges(title string, colour paint, list []guarantees.Change) {
	if len(list) == 0 {
		return
	}
	p.heading(fmt.Sprintf("%s (%d)", title, len(list)))
	for i := range list {
		way := list[i].From + " → " + Destination(list[i].From, list[i].To)
		p.wrap("  ", p.paint(colour, way)+"  "+guaranteeChange(&list[i]))
	}
}

// guaranteeChange writes one of them, as "with one fault: any number → at least once".
func guaranteeChange(c *guarantees.Change) string {
	what := c.What
	switch what {
	case "no_fault":
		what = "without a fault"
	case "one_fault":
		what = "with one fault"
	case "at_most_s":
		what = "delay"
	}
	plain := func(s string) string { return strings.ReplaceAll(s, "_", " ") }
	if c.What == "survives" {
		return fmt.Sprintf("survives %s → %s faults", c.Before, c.After)
	}
	return fmt.Sprintf("%s: %s → %s", what, plain(c.Before), plain(c.After))
}

func (p *page) changes(what string, changes []model.Change) {
	for _, c := range changes {
		name := strings.TrimSpace(what + " " + p.paint(faint, c.Path))
		switch {
		case c.Before == "":
			p.wrap("  ", fmt.Sprintf("%s: now %s", name, p.paint(green, c.After)))
		case c.After == "":
			p.wrap("  ", fmt.Sprintf("%s: no longer %s", name, p.paint(red, c.Before)))
		default:
			p.wrap("  ", fmt.Sprintf("%s: %s → %s", name, p.paint(red, c.Before), p.paint(green, c.After)))
		}
	}
}

// DiffMarkdown writes the same for a pull request.
func DiffMarkdown(w io.Writer, d *DiffDocument) error {
	var b strings.Builder
	fmt.Fprintf(&b, "## %s\n\n", d.Model)
	list := func(word string, names []string) {
		if len(names) > 0 {
			fmt.Fprintf(&b, "- %s: `%s`\n", word, strings.Join(names, "`, `"))
		}
	}
	list("nodes added", d.NodesAdded)
	list("nodes removed", d.NodesRemoved)
	list("links added", d.LinksAdded)
	list("links removed", d.LinksRemoved)
	rows := func(what string, changes []model.Change) {
		for _, c := range changes {
			fmt.Fprintf(&b, "- `%s` %s: `%s` → `%s`\n", what, c.Path, c.Before, c.After)
		}
	}
	for _, n := range sorted(d.Nodes) {
		rows(n, d.Nodes[n])
	}
	for _, l := range sorted(d.Links) {
		rows(l, d.Links[l])
	}
	rows("model", d.Settings)
	if d.Changes.Same() {
		b.WriteString("The models are the same.\n")
	}
	fmt.Fprintf(&b, "\n%s came, %s went.\n\n", plural(len(d.Came), "finding"), plural(len(d.Went), "finding"))
	for i := range d.Came {
		fmt.Fprintf(&b, "- **%s %s** %s\n", d.Came[i].Severity, d.Came[i].Code, d.Came[i].Message)
	}
	for _, g := range d.Went {
		fmt.Fprintf(&b, "- ~~%s %s~~\n", g.Code, g.Message)
	}
	for _, part := range []struct {
		title string
		list  []guarantees.Change
	}{{"Guarantees lost", d.Lost}, {"Guarantees won", d.Won}} {
		if len(part.list) > 0 {
			fmt.Fprintf(&b, "\n**%s**\n\n", part.title)
		}
		for i := range part.list {
			c := &part.list[i]
			fmt.Fprintf(&b, "- `%s` → `%s` %s\n", c.From, Destination(c.From, c.To), guaranteeChange(c))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// Ways prints the ways between two nodes.
func Ways(w io.Writer, from, to string, ways []flow.Way, more bool, s Style) error {
	p := newPage(w, s)
	if len(ways) == 0 {
		p.line("No message can go from %s to %s.", from, to)
		return p.Flush()
	}
	p.line("%s from %s to %s, the shortest first:", plural(len(ways), "way"), p.paint(bold, from), p.paint(bold, to))
	for i, way := range ways {
		p.line("")
		p.line("%s %s", p.paint(bold, fmt.Sprintf("%d.", i+1)), way.Steps[0].Node+p.paint(faint, "  "+way.Reach))
		for _, step := range way.Steps[1:] {
			p.line("   → %s%s", step.Node, p.paint(faint, "  "+step.How))
		}
	}
	if more {
		p.line("\nThere are more; only the first %d are shown.", len(ways))
	}
	return p.Flush()
}
