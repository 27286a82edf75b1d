package text

import (
	"fmt"
	"io"
	"sort"
	"strings"

	"ironweir/core/sim"
	"ironweir/core/study"
)

// Run prints the result of a run: expectations, the ledger, failures, alarms, nodes
// and latencies.
func Run(w io.Writer, doc *study.Document, s Style, latencies []string) error {
	p := newPage(w, s)
	p.line(
		"%s under %s: %s from %s, %s, seed %d",
		p.paint(bold, doc.Model),
		p.paint(bold, doc.Scenario),
		seconds(doc.Length),
		doc.Start.Format("Mon 2 Jan 2006 15:04 MST"),
		plural(doc.Replications, "replication"),
		doc.Seed,
	)
	if doc.Partial {
		p.wrap(
			"",
			p.paint(
				yellow,
				fmt.Sprintf(
					"Partial: the run ended after %s of %s by %s. The numbers below cover that time.",
					seconds(doc.Reached),
					seconds(doc.Length),
					doc.Stopped,
				),
			),
		)
	}
	p.expectations(doc)
	p.ledger(doc)
	p.loops(doc)
	p.alarms(doc)
	p.failures(doc)
	p.entered(doc)
	p.nodes(doc)
	p.latency(doc, latencies)
	if doc.Cost != nil {
		p.line(
			"\n%s %.4f for this run, %s %.2f for a month like it",
			doc.Cost.Currency,
			doc.Cost.Total,
			doc.Cost.Currency,
			doc.Cost.Month,
		)
	}
	p.line("\n%s", p.paint(faint, count(doc.Engine.Events)+" simulated events"))
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
	p.heading(fmt.Sprintf("Ledger: %s entered, %s copies", count(l.Entered), count(l.Copies)))
	rows := [][]string{}
	add := func(name string, n int64, words string) {
		if n > 0 {
			rows = append(rows, []string{name, count(n), share(float64(n) / float64(max(l.Copies, 1))), words})
		}
	}
	add("handled", l.Handled, "the consumer finished with it")
	add("stored", l.Stored, "stored in a bucket or table")
	add("arrived", l.Arrived, "stored in a queue or stream that nothing reads")
	add("passed", l.Passed, "replaced by copies at other nodes")
	add("ignored", l.Ignored, "covered by a topic's `ignore`")
	add("unmatched", l.Unmatched, "declined by every link")
	add("returned", l.Returned, "the caller received its failure")
	add("parked", l.Parked, "stored as a dead letter, without a consumer")
	add("waiting", l.Waiting, "in a channel or intake at the end")
	add("running", l.Running, "in a run at the end")
	for _, f := range sim.Fates() {
		if f.Loss() {
			add("lost, "+strings.ReplaceAll(f.String(), "_", "-"), l.Lost[f.String()], sim.LossWords(f))
		}
	}
	rows = append(rows, []string{"sum", count(l.Sum()), "", "equals the copies"})
	p.table([]string{"fate", ">copies", ">share", ""}, rows)
	j := doc.Journeys
	p.line(
		"  %s: %s complete, %s failed, %s in flight; the largest has %s and %s",
		plural(j.Count, "journey"),
		count(j.Complete),
		count(j.Failed),
		count(j.InFlight),
		plural(j.Largest.Copies, "copy"),
		plural(j.Largest.Hops, "hop"),
	)
	if l.Redelivered > 0 {
		p.line("  %s redelivered while an earlier run of the same copy was in progress", plural(l.Redelivered, "copy"))
	}
}

func (p *page) loops(doc *study.Document) {
	for _, l := range doc.Loops {
		p.line("")
		passes := "at most " + count(l.Rounds.Max)
		if l.Rounds.Capped {
			passes = count(l.Rounds.Max) + " or more"
		}
		p.wrap(
			"  ",
			p.paint(
				red,
				"Loop: ",
			)+fmt.Sprintf(
				"%s. Each message that enters makes %s passes of %s on average, all its copies together; one copy makes %s.",
				strings.Join(l.Nodes, ", "),
				number(l.Rounds.Mean),
				l.At,
				passes,
			),
		)
		if l.Grows {
			p.wrap(
				"  ",
				p.paint(
					red,
					"Growing: ",
				)+fmt.Sprintf(
					"%s receives %s messages a second in the first tenth of the run and %s in the last.",
					l.At,
					number(l.Rate[0]),
					number(l.Rate[1]),
				),
			)
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
			p.line(
				"  %s  %s  first after %s, %s",
				p.paint(yellow, "fired   "),
				name,
				state(a.First),
				plural(int(a.Count), "time"),
			)
		} else {
			p.line("  silent    %s", name)
		}
	}
	switch {
	case doc.FirstLoss.Seconds == nil:
	case doc.Unnoticed.Seconds == nil:
		p.wrap(
			"  ",
			p.paint(
				red,
				"Unnoticed: ",
			)+fmt.Sprintf(
				"the first message is lost after %s, and in at least one replication no alarm fires after it",
				state(doc.FirstLoss),
			),
		)
	case *doc.Unnoticed.Seconds > 0:
		p.wrap(
			"  ",
			p.paint(
				yellow,
				"Noticed late: ",
			)+fmt.Sprintf(
				"the first message is lost after %s, and no alarm fires for up to %s",
				state(doc.FirstLoss),
				state(doc.Unnoticed),
			),
		)
	}
}

// failures lists the runs that failed, by node and reason.
func (p *page) failures(doc *study.Document) {
	var rows [][]string
	for _, name := range sorted(doc.Nodes) {
		n := doc.Nodes[name]
		for _, reason := range sorted(n.FailedBy) {
			rows = append(
				rows,
				[]string{
					name,
					reason,
					count(n.FailedBy[reason]),
					share(float64(n.FailedBy[reason]) / float64(max(n.Runs, 1))),
				},
			)
		}
		for _, status := range sorted(n.Answers) {
			if status >= "400" {
				rows = append(
					rows,
					[]string{
						name,
						"answered " + status,
						count(n.Answers[status]),
						share(float64(n.Answers[status]) / float64(max(n.Copies, 1))),
					},
				)
			}
		}
	}
	if rows == nil {
		return
	}
	p.heading("Failures")
	p.table([]string{"node", "reason", ">runs", ">share"}, rows)
}

// entered lists where messages entered, and whether a schedule sent them.
func (p *page) entered(doc *study.Document) {
	var rows [][]string
	for _, name := range sorted(doc.Nodes) {
		n := doc.Nodes[name]
		if n.Entered == 0 {
			continue
		}
		by := "external senders"
		if n.Kind == "schedule" {
			by = "its calendar"
		}
		rows = append(rows, []string{name, n.Kind, count(n.Entered), by})
	}
	if len(rows) < 2 {
		return
	}
	p.heading("Entries")
	p.table([]string{"node", "kind", ">entered", "sent by"}, rows)
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
		rows = append(
			rows,
			[]string{
				name,
				blankCount(n.Copies),
				blankCount(n.Runs),
				blankCount(n.Failures),
				blankCount(n.Throttled),
				blankCount(n.Parked),
				blankCount(n.Lost["total"]),
				used,
				deep,
				oldest,
				run,
				wait,
			},
		)
	}
	p.table(
		[]string{
			"node",
			">copies",
			">runs",
			">failed",
			">throttled",
			">parked",
			">lost",
			">utilisation",
			">max depth",
			"~>oldest",
			"~>run p99",
			"~>wait p99",
		},
		rows,
	)
}

func (p *page) latency(doc *study.Document, only []string) {
	names := sorted(doc.Latency)
	if len(only) > 0 {
		names = only
	} else {
		sort.SliceStable(names, func(i,
			j int) bool {
			return doc.Latency[names[i]].Count > doc.Latency[names[j]].Count
		})
		names = names[:min(len(names), 12)]
	}
	if len(names) == 0 {
		return
	}
	p.heading("Latency from entry to end")
	var rows [][]string
	for _, name := range names {
		t, ok := doc.Latency[name]
		if !ok {
			rows = append(rows, []string{name, "none arrived", "", "", "", "", "", "", ""})
			continue
		}
		rows = append(
			rows,
			[]string{
				name,
				count(t.Count),
				seconds(t.Mean),
				interval(t.MeanCI, seconds),
				seconds(t.P50),
				seconds(t.P90),
				seconds(t.P95),
				seconds(t.P99),
				seconds(t.Max),
			},
		)
	}
	p.table([]string{"from:to", ">copies", ">mean", "~95% interval", ">p50", "~>p90", ">p95", ">p99", "~>max"}, rows)
}
