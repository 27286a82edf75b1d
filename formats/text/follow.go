package text

import (
	"fmt"
	"io"
	"strings"

	"ironweir/core/sim"
)

// Follow prints a trace as a tree: each copy below what made it.
func Follow(w io.Writer, t *sim.Trace, s Style) error {
	p := newPage(w, s)
	p.tree(t.Steps)
	p.line("")
	if t.Stopped != "" {
		p.line("%s", p.paint(red, "Cut off "+t.Stopped+": the message circulates, or fans out very widely."))
	}
	var fates []string
	for _, name := range sorted(t.Fates) {
		fates = append(fates, fmt.Sprintf("%d %s", t.Fates[name], strings.ReplaceAll(name, "_", "-")))
	}
	colour := green
	if t.Outcome() == "failed" {
		colour = red
	}
	p.line("%s: %s", p.paint(colour, t.Outcome()), strings.Join(fates, ", "))
	return p.Flush()
}

// tree prints steps, each below the one that it came from.
func (p *page) tree(steps []sim.Step) {
	children := map[int][]int{}
	for i, step := range steps {
		children[step.Parent] = append(children[step.Parent], i)
	}
	var show func(i int, indent string)
	show = func(i int, indent string) {
		p.step(&steps[i], indent)
		for _, k := range children[steps[i].ID] {
			show(k, indent+"  ")
		}
	}
	for _, i := range children[0] {
		show(i, "")
	}
}

func (p *page) step(s *sim.Step, indent string) {
	at := fmt.Sprintf("%9s  ", seconds(s.T))
	colour := paint("")
	words := s.Why
	var head string
	switch s.What {
	case "enters", "held":
		head = s.Node + " receives"
	case "offered":
		head, colour = "✓ "+s.Link, green
	case "declined":
		head, colour = "✗ "+s.Link, faint
	case "runs":
		if rest, ok := strings.CutPrefix(s.Why, "task "); ok { // of a workflow
			head, words = s.Node+": task "+rest, ""
			break
		}
		head = s.Node + " runs"
		if s.Try > 1 {
			head += fmt.Sprintf(" (try %d)", s.Try)
		}
	case "calls":
		head = s.Node + " calls " + target(s.Link)
	case "sends":
		head = s.Node + " sends"
		if s.Link != "" {
			head += " " + s.Link
		}
	case "ends":
		if rest, ok := strings.CutPrefix(s.Why, "task "); ok {
			head, words = s.Node+": task "+rest+" is done", ""
			break
		}
		head = s.Node + " ends"
		if strings.HasPrefix(s.Why, "failed") {
			colour = red
		}
	case "waits":
		head = s.Node + " waits"
	case "parked":
		head, colour = "parked in "+s.Node, yellow
	case "lost":
		head, colour = "LOST at "+s.Node, red
	case "returned":
		head = s.Node + " answers"
	}
	if subject, ok := s.Event["subject"]; ok && s.What == "enters" {
		words = strings.Trim(words+" "+fmt.Sprint(subject), " ")
	}
	if s.Fate != "" && (s.What == "enters" || s.What == "held") {
		head += " → " + strings.ReplaceAll(s.Fate, "_", "-")
	}
	line := p.paint(faint, at) + indent + p.paint(colour, head)
	if words != "" {
		line += p.paint(faint, "  "+words)
	}
	p.line("%s", line)
}

func target(link string) string { return link[strings.IndexByte(link, ':')+1:] }

// MatchTable tells which links take which keys.
type MatchTable struct {
	Links []string
	Rows  []MatchRow
}

// MatchRow is one key, with why each link declines it (empty: it takes it).
type MatchRow struct {
	Key string
	Why []string
}

// Match prints a table of keys against links.
func Match(w io.Writer, t *MatchTable, s Style) error {
	p := newPage(w, s)
	rows := [][]string{}
	var whys []string
	for _, r := range t.Rows {
		row := []string{r.Key}
		for k, why := range r.Why {
			if why == "" {
				row = append(row, "accepts")
			} else {
				row = append(row, "–")
				whys = append(whys, fmt.Sprintf("%s, %s: %s", r.Key, t.Links[k], why))
			}
		}
		rows = append(rows, row)
	}
	p.table(append([]string{"key"}, t.Links...), rows)
	if len(whys) > 0 {
		p.line("")
	}
	for _, why := range whys {
		p.wrap("  ", why)
	}
	return p.Flush()
}
