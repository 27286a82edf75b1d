package text

import (
	"encoding/json"
	"fmt"
	"io"
	"math"
	"sort"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// Variants prints models side by side: what they expect, the main counts, then
// what else differs beyond chance.
func Variants(w io.Writer, doc *study.Variants, s Style) error {
	p := newPage(w, s)
	base := doc.Variants[doc.Base]
	names := []string{doc.Base}
	for _, name := range sorted(doc.Variants) {
		if name != doc.Base {
			names = append(names, name)
		}
	}
	p.line(
		"%s under %s, %s, seed %d: %s side by side, with common random numbers",
		p.paint(bold, doc.Model),
		p.paint(bold, base.Scenario),
		plural(base.Replications, "replication"),
		base.Seed,
		plural(len(names), "variant"),
	)
	for _, name := range names {
		if v := doc.Variants[name]; v.Partial {
			p.wrap(
				"",
				p.paint(
					yellow,
					fmt.Sprintf("%s is partial: ended after %s by %s.", name, seconds(v.Reached), v.Stopped),
				),
			)
		}
	}
	if len(base.Expect) > 0 {
		p.heading("Expectations")
		var rows [][]string
		for _, x := range sorted(base.Expect) {
			row := []string{x}
			for _, name := range names {
				e := doc.Variants[name].Expect[x]
				word := "holds"
				if !e.Holds {
					word = fmt.Sprintf("holds in %d of %d", e.HoldsIn, doc.Variants[name].Replications)
				}
				row = append(row, word)
			}
			rows = append(rows, row)
		}
		p.table(append([]string{""}, names...), rows)
	}
	p.heading("Mean per replication")
	var rows [][]string
	for _, count := range []string{"entered", "copies", "handled", "stored", "arrived", "parked", "lost", "waiting",
		"redelivered", "runs", "failures"} {
		row := []string{count, number(base.PerReplication[count].Mean)}
		for _, name := range names[1:] {
			row = append(row, number(doc.Variants[name].PerReplication[count].Mean))
		}
		rows = append(rows, row)
	}
	if base.Cost != nil {
		row := []string{base.Cost.Currency + " a month"}
		for _, name := range names {
			row = append(row, fmt.Sprintf("%.2f", doc.Variants[name].Cost.Month))
		}
		rows = append(rows, row)
	}
	head := []string{""}
	for _, name := range names {
		head = append(head, ">"+name)
	}
	p.table(head, rows)
	for _, name := range names[1:] {
		p.differences(doc, name)
	}
	return p.Flush()
}

// shownDifferences bounds the list of what differs.
const shownDifferences = 25

// differences lists what differs beyond chance between a variant and the base,
// the largest shares first.
func (p *page) differences(doc *study.Variants, name string) {
	type row struct {
		path   string
		before float64
		d      study.Difference
	}
	var rows []row
	numbers := study.NumbersOf(doc.Variants[doc.Base])
	for path, d := range doc.Differences {
		rest, ok := strings.CutPrefix(path, name+".")
		if !ok || !d.Significant() && doc.Variants[name].Replications > 1 {
			continue
		}
		rows = append(rows, row{rest, numbers[rest], d})
	}
	p.heading(fmt.Sprintf("Significant differences of %s (95%%)", name))
	if len(rows) == 0 {
		p.line("  none")
		return
	}
	weight := func(r row) float64 { return math.Abs(r.d.Mean) / max(math.Abs(r.before), math.Abs(r.d.Mean), 1e-9) }
	sort.Slice(rows, func(a, b int) bool {
		if x, y := partRank(rows[a].path), partRank(rows[b].path); x != y {
			return x < y
		}
		x, y := weight(rows[a]), weight(rows[b])
		if x != y {
			return x > y
		}
		return rows[a].path < rows[b].path
	})
	var cells [][]string
	for _, r := range rows[:min(len(rows), shownDifferences)] {
		ci := ""
		if r.d.CI != nil {
			ci = fmt.Sprintf("%s to %s", signed(r.d.CI[0]), signed(r.d.CI[1]))
		}
		cells = append(cells, []string{r.path, signed(r.d.Mean), ci})
	}
	p.table([]string{"number", ">mean difference", "95% interval"}, cells)
	if more := len(rows) - shownDifferences; more > 0 {
		p.line("  and %d more; -format json has them all", more)
	}
}

func signed(x float64) string {
	if x > 0 {
		return "+" + number(x)
	}
	return number(x)
}

// Sweep prints one row for each point.
func Sweep(w io.Writer, doc *study.Sweep, s Style) error {
	p := newPage(w, s)
	p.line(
		"%s under %s, seed %d: %s of %s each",
		p.paint(bold, doc.Model),
		p.paint(bold, doc.Scenario),
		doc.Seed,
		plural(len(doc.Points), "point"),
		plural(doc.Replications, "replication"),
	)
	if doc.Partial {
		p.line("%s", p.paint(yellow, "Partial: it was ended early; what follows is what it has."))
	}
	p.line("")
	paths := sorted(doc.Sweep)
	head := []string{}
	for _, path := range paths {
		head = append(head, ">"+strings.TrimPrefix(path, "nodes."))
	}
	head = append(head, "holds", ">handled", ">parked", ">lost", ">waiting", ">redelivered", "~>a month")
	var rows [][]string
	for i := range doc.Points {
		pt := &doc.Points[i]
		var row []string
		for _, path := range paths {
			row = append(row, pt.Values[path])
		}
		holds := "all"
		var failing []string
		for _, x := range sorted(pt.Expect) {
			if !pt.Expect[x].Holds {
				failing = append(failing, x)
			}
		}
		switch {
		case len(pt.Expect) == 0:
			holds = ""
		case len(failing) > 0:
			holds = "not " + strings.Join(failing, ", ")
		}
		cost := ""
		if pt.Cost != nil {
			cost = fmt.Sprintf("%s %.2f", pt.Cost.Currency, pt.Cost.Month)
		}
		per := func(name string) string {
			x := pt.PerReplication[name]
			if x.Mean == 0 {
				return ""
			}
			return number(x.Mean)
		}
		rows = append(
			rows,
			append(row, holds, per("handled"), per("parked"), per("lost"), per("waiting"), per("redelivered"), cost),
		)
	}
	p.table(head, rows)
	p.line("\n%s", p.paint(faint, "Counts are means of a replication."))
	return p.Flush()
}

// Size prints the least values that were found, and how sure that is.
func Size(w io.Writer, doc *study.Size, s Style) error {
	p := newPage(w, s)
	p.line("%s under %s, seed %d", p.paint(bold, doc.Model), p.paint(bold, doc.Scenario), doc.Seed)
	switch {
	case doc.Partial:
		p.line("%s", p.paint(yellow, "Ended early; nothing has been found yet."))
	case !doc.Met:
		p.line("%s", p.paint(red, "No values within the bounds meet the expectations, not even the upper bounds:"))
	default:
		p.line("%s", p.paint(green, "Least values that meet all expectations:"))
		for _, path := range sorted(doc.Values) {
			below := ""
			if t, ok := doc.Below[path]; ok {
				below = fmt.Sprintf("   %s meets them in %d of %d replications", t.Values[path], t.HoldIn, t.Of)
			} else {
				below = "   the lower bound"
			}
			p.line("  %s = %s%s", path, p.paint(bold, doc.Values[path]), p.paint(faint, below))
		}
		c := doc.Confirm
		p.line("")
		p.wrap(
			"",
			fmt.Sprintf(
				"Confirmed with another seed (%d): the expectations are met in %d of %d replications, that is in %s to %s of all (95%% interval).",
				c.Seed,
				c.HoldIn,
				c.Of,
				share(c.CI[0]),
				share(c.CI[1]),
			),
		)
	}
	p.heading("Tried")
	var rows [][]string
	paths := sorted(doc.Vary)
	for _, t := range doc.Tried {
		var row []string
		for _, path := range paths {
			row = append(row, t.Values[path])
		}
		word := "meets them"
		if !t.Meets {
			word = "does not"
		}
		rows = append(rows, append(row, word, fmt.Sprintf("in %d of %d", t.HoldIn, t.Of)))
	}
	var head []string
	for _, path := range paths {
		head = append(head, ">"+strings.TrimPrefix(path, "nodes."))
	}
	p.table(append(head, "", ""), rows)
	return p.Flush()
}

// partOrder is the order in which the parts of a result matter to a reader.
var partOrder = []string{"per_replication", "ledger", "journeys", "alarms", "cost", "nodes", "links"}

// partRank is the place of a number's part in that order.
func partRank(path string) int {
	for i, part := range partOrder {
		if strings.HasPrefix(path, part+".") {
			return i
		}
	}
	return len(partOrder)
}

// Compare prints what differs between saved results.
func Compare(w io.Writer, doc *study.Comparison, s Style) error {
	p := newPage(w, s)
	if doc.Same {
		p.line("%s", p.paint(green, "No number differs."))
		return p.Flush()
	}
	p.line("%s", plural(len(doc.Differences), "number")+" differ:")
	type row struct {
		path   string
		part   int // of the document
		weight float64
		known  int
	}
	var order []row
	for path, d := range doc.Differences {
		r := row{path: path, known: 1, part: partRank(path)}
		if d.Significant != nil {
			r.known = 0
			if !*d.Significant {
				r.known = 2
			}
		}
		if d.Values[0] == nil {
			r.weight = 2
		} else {
			for _, v := range d.Values[1:] {
				if v == nil {
					r.weight = 2
				} else {
					r.weight = max(r.weight, math.Abs(*v-*d.Values[0])/max(math.Abs(*v), math.Abs(*d.Values[0])))
				}
			}
		}
		order = append(order, r)
	}
	sort.Slice(order, func(a, b int) bool {
		x, y := order[a], order[b]
		if x.part != y.part {
			return x.part < y.part
		}
		if x.known != y.known {
			return x.known < y.known
		}
		if x.weight != y.weight {
			return x.weight > y.weight
		}
		return x.path < y.path
	})
	head := []string{"number"}
	for _, name := range doc.Results {
		head = append(head, ">"+name)
	}
	var rows [][]string
	const shown = 60
	for _, r := range order[:min(len(order), shown)] {
		d := doc.Differences[r.path]
		cells := []string{r.path}
		for _, v := range d.Values {
			if v == nil {
				cells = append(cells, "–")
			} else {
				cells = append(cells, number(*v))
			}
		}
		word := ""
		if d.Significant != nil {
			word = map[bool]string{true: "significant (95%)", false: "not significant"}[*d.Significant]
		}
		rows = append(rows, append(cells, word))
	}
	p.table(append(head, ""), rows)
	if more := len(order) - shown; more > 0 {
		p.line("  and %d more; -format json has them all", more)
	}
	return p.Flush()
}

// Rest prints what lies in a node at an instant.
func Rest(w io.Writer, node string, at time.Duration, rests []sim.Resting, total int, s Style) error {
	p := newPage(w, s)
	p.line("%s after %s: %s", p.paint(bold, node), model.FormatDuration(at), plural(total, "message"))
	var rows [][]string
	for _, r := range rests {
		tries := ""
		if r.Tries > 0 {
			tries = fmt.Sprint(r.Tries)
		}
		rows = append(
			rows,
			[]string{fmt.Sprint(r.Journey), seconds(r.Age), tries, r.State, r.Key, r.Link, briefly(r.Event)},
		)
	}
	if len(rows) > 0 {
		p.table([]string{">journey", ">age", ">tries", "state", "key", "reader", "payload"}, rows)
	}
	if total > len(rests) {
		p.line("  the oldest %s of %s", count(int64(len(rests))), count(int64(total)))
	}
	if total > 0 {
		p.line("\n%s", p.paint(faint, "-journey N shows one of them step by step."))
	}
	return p.Flush()
}

// briefly writes the payload of an event in a table.
func briefly(event map[string]any) string {
	data, ok := event["data"]
	if !ok {
		if data, ok = event["data_base64"]; !ok {
			return ""
		}
	}
	source, err := json.Marshal(data)
	if err != nil {
		return ""
	}
	if text := []rune(string(source)); len(text) > 72 {
		return string(text[:71]) + "…"
	}
	return string(source)
}

// Found prints which journeys met a condition.
func Found(w io.Writer, where string, f *sim.Found, s Style) error {
	p := newPage(w, s)
	p.line(
		"%s where %s: %s complete, %s failed, %s in flight",
		p.paint(bold, plural(int(f.Count), "journey")),
		where,
		count(f.Complete),
		count(f.Failed),
		count(f.InFlight),
	)
	var rows [][]string
	for i := range f.Journeys {
		j := &f.Journeys[i]
		payload := ""
		if len(j.Steps) > 0 {
			payload = briefly(j.Steps[0].Event)
		}
		rows = append(
			rows,
			[]string{fmt.Sprint(j.ID), seconds(j.Began), j.Entry, j.Outcome, count(int64(j.Copies)), j.Key, payload},
		)
	}
	if len(rows) == 0 {
		if f.Unevaluated > 0 {
			of := plural(int(f.Unevaluated), "event") + " of " + count(f.Events)
			if f.Unevaluated == f.Events {
				of = "any of the " + plural(int(f.Events), "event")
			}
			why := strings.TrimPrefix(f.Reason, where+": ")
			p.wrap("  ", fmt.Sprintf("It cannot be evaluated for %s: %s.", of, why))
		}
		return p.Flush()
	}
	p.table([]string{">journey", ">entered", "at", "outcome", ">copies", "key", "payload"}, rows)
	if int64(len(rows)) < f.Count {
		p.line("  the first %d of %s", len(rows), count(f.Count))
	}
	p.line("\n%s", p.paint(faint, "-journey N shows one of them step by step, with its payloads by -v."))
	return p.Flush()
}

// Journey prints one journey of a run as a tree, with or without the payloads of its events.
func Journey(w io.Writer, j *sim.Journey, payloads bool, s Style) error {
	p := newPage(w, s)
	p.line(
		"%s %s entered %s %s into the run",
		p.paint(bold, fmt.Sprintf("journey %d", j.ID)),
		p.paint(faint, j.Key),
		j.Entry,
		seconds(j.Began),
	)
	p.tree(j.Steps, payloads)
	p.line("")
	if j.More > 0 {
		p.line("%s", p.paint(yellow, fmt.Sprintf("%s steps are left out in all.", count(int64(j.More)))))
	}
	colour := green
	if j.Outcome == "failed" {
		colour = red
	}
	p.line("%s: %s", p.paint(colour, j.Outcome), copies(j.Copies))
	return p.Flush()
}

func copies(n int) string {
	if n == 1 {
		return "1 copy"
	}
	return fmt.Sprintf("%d copies", n)
}
