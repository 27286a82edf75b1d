package text

import (
	"fmt"
	"io"
	"sort"
	"strings"

	"ironweir/core/sim"
	"ironweir/core/study"
)

// Run prints the result of a run: whether it held, where messages went, what
// was slow, what would have warned.
func Run(w io.Writer, doc *study.Document, s Style, latencies []string) error {
	p := newPage(w, s)
	p.line("%s under %s: %s from %s, %s, seed %d", p.paint(bold, doc.Model), p.paint(bold, doc.Scenario), seconds(doc.Length), doc.Start.Format("Mon 2 Jan 2006 15:04 MST"),
		plural(doc.Replications, "replication"), doc.Seed)
	if doc.Partial {
		p.wrap("", p.paint(yellow, fmt.Sprintf("Partial: ended after %s of %s by %s. What follows is what it has.", seconds(doc.Reached), seconds(doc.Length), doc.Stopped)))
	}
	p.expectations(doc)
	p.ledger(doc)
	p.loops(doc)
	p.alarms(doc)
	p.nodes(doc)
	p.latency(doc, latencies)
	if doc.Cost != nil {
		p.line("\n%s %.4f for this run, %s %.2f for a month like it", doc.Cost.Currency, doc.Cost.Total, doc.Cost.Currency, doc.Cost.Month)
	}
	took := ""
	if e := doc.Engine; e.WallTime != nil {
		took = fmt.Sprintf(" in %s (%s a second)", seconds(*e.WallTime), number(*e.PerSecond))
	}
	p.line("\n%s", p.paint(faint, count(doc.Engine.Events)+" events"+took))
	return p.Flush()
}

func (p *page) expectations(doc *study.Document) {
	if len(doc.Expect) == 0 {
		return
	}
	p.heading("Expectations")
	for _, name := range sorted(doc.Expect) {
		x := doc.Expect[name]
		mark := p.paint(green, "holds")
		if !x.Holds {
			mark = p.paint(red, "fails")
		}
		in := ""
		if !x.Holds && doc.Replications > 1 {
			in = fmt.Sprintf(" (holds in %d of %d)", x.HoldsIn, doc.Replications)
		}
		p.line("  %s  %-16s %s%s", mark, name, p.paint(faint, x.Expression), in)
		if x.Error != "" {
			p.wrap("         ", x.Error)
		}
	}
}

func (p *page) ledger(doc *study.Document) {
	l := doc.Ledger
	p.heading(fmt.Sprintf("Where every message went: %s entered, %s copies", count(l.Entered), count(l.Copies)))
	rows := [][]string{}
	add := func(name string, n int64, words string) {
		if n > 0 {
			rows = append(rows, []string{name, count(n), share(float64(n) / float64(max(l.Copies, 1))), words})
		}
	}
	add("handled", l.Handled, "its consumer finished with it")
	add("stored", l.Stored, "at rest in a bucket or table")
	add("arrived", l.Arrived, "at rest at an end of the model")
	add("passed", l.Passed, "replaced by copies elsewhere")
	add("ignored", l.Ignored, "nobody is meant to take it")
	add("unmatched", l.Unmatched, "every link declined it")
	add("returned", l.Returned, "the failure was handed to who waits")
	add("parked", l.Parked, "set aside where nothing leaves")
	add("waiting", l.Waiting, "in a channel or intake at the end")
	add("running", l.Running, "in a run at the end")
	for _, f := range sim.Fates() {
		if f.Loss() {
			add("lost, "+strings.ReplaceAll(f.String(), "_", "-"), l.Lost[f.String()], sim.LossWords(f))
		}
	}
	rows = append(rows, []string{"sum", count(l.Sum()), "", "adds up to the copies"})
	p.table([]string{"fate", ">copies", ">share", ""}, rows)
	j := doc.Journeys
	p.line("  %s journeys: %s complete, %s damaged, %s open; the largest has %s copies and %s hops", count(j.Count), count(j.Complete), count(j.Damaged), count(j.Open), count(j.Largest.Copies), count(j.Largest.Hops))
	if l.Redelivered > 0 {
		p.line("  %s handed out again while an earlier run was still under way", count(l.Redelivered))
	}
}

func (p *page) loops(doc *study.Document) {
	for _, l := range doc.Loops {
		p.line("")
		p.wrap("  ", p.paint(red, "loop: ")+fmt.Sprintf("%s — %s rounds in the mean, %s at most", strings.Join(l.Nodes, ", "), number(l.Rounds.Mean), count(l.Rounds.Max)))
		if l.Grows {
			p.wrap("  ", p.paint(red, "it grows: ")+fmt.Sprintf("%s came to %s a second in the first tenth of the run, %s in the last", number(l.Rate[0]), l.At, number(l.Rate[1])))
		}
	}
}

func (p *page) alarms(doc *study.Document) {
	if len(doc.Alarms) == 0 && doc.FirstLoss.Seconds == nil {
		return
	}
	p.heading("Alarms")
	for _, name := range sorted(doc.Alarms) {
		a := doc.Alarms[name]
		if a.Fired {
			p.line("  %s  %s  first after %s, %s", p.paint(yellow, "went off"), name, state(a.First), plural(int(a.Count), "time"))
		} else {
			p.line("  quiet     %s", name)
		}
	}
	switch {
	case doc.FirstLoss.Seconds == nil:
	case doc.Unnoticed.Seconds == nil:
		p.wrap("  ", p.paint(red, "unnoticed: ")+fmt.Sprintf("the first message is lost after %s, and no alarm ever says so", state(doc.FirstLoss)))
	case *doc.Unnoticed.Seconds > 0:
		p.wrap("  ", p.paint(yellow, "noticed late: ")+fmt.Sprintf("the first message is lost after %s, and no alarm says so for up to %s", state(doc.FirstLoss), state(doc.Unnoticed)))
	}
}

func (p *page) nodes(doc *study.Document) {
	p.heading("Nodes")
	var rows [][]string
	for _, name := range sorted(doc.Nodes) {
		n := doc.Nodes[name]
		used := ""
		if n.Utilisation != nil {
			used = share(*n.Utilisation)
		}
		deep, oldest, wait, run := "", "", "", ""
		if n.Depth.Max > 0 {
			deep = count(n.Depth.Max)
		}
		if n.Oldest.Max > 0 {
			oldest = seconds(n.Oldest.Max)
		}
		if n.Wait.Count > 0 {
			wait = seconds(n.Wait.P99)
		}
		if n.RunTime.Count > 0 {
			run = seconds(n.RunTime.P99)
		}
		rows = append(rows, []string{name, blankCount(n.Copies), blankCount(n.Runs), blankCount(n.Failures), blankCount(n.Throttled), blankCount(n.Parked), blankCount(n.Lost["total"]), used, deep, oldest, run, wait})
	}
	p.table([]string{"node", ">copies", ">runs", ">failed", ">throttled", ">parked", ">lost", ">in use", ">deepest", "~>oldest", "~>run p99", "~>wait p99"}, rows)
}

func (p *page) latency(doc *study.Document, only []string) {
	names := sorted(doc.Latency)
	if len(only) > 0 {
		names = only
	} else {
		sort.SliceStable(names, func(i, j int) bool { return doc.Latency[names[i]].Count > doc.Latency[names[j]].Count })
		names = names[:min(len(names), 12)]
	}
	if len(names) == 0 {
		return
	}
	p.heading("From entry to end")
	var rows [][]string
	for _, name := range names {
		t, ok := doc.Latency[name]
		if !ok {
			rows = append(rows, []string{name, "none came there", "", "", "", "", ""})
			continue
		}
		rows = append(rows, []string{name, count(t.Count), seconds(t.Mean), interval(t.MeanCI, seconds), seconds(t.P50), seconds(t.P99), seconds(t.Max)})
	}
	p.table([]string{"way", ">copies", ">mean", "95% interval", ">p50", ">p99", "~>max"}, rows)
}
