package text

import (
	"encoding/csv"
	"fmt"
	"io"
	"strconv"
	"strings"

	"ironweir/core/sim"
	"ironweir/core/study"
)

// RunMarkdown writes the result of a run for a pull request: expectations, the
// ledger, and the nodes at which something went wrong.
func RunMarkdown(w io.Writer, doc *study.Document) error {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"## %s under %s\n\n%s, %s, seed %d\n\n",
		doc.Model,
		doc.Scenario,
		seconds(doc.Length),
		plural(doc.Replications, "replication"),
		doc.Seed,
	)
	if doc.Partial {
		fmt.Fprintf(&b, "**Partial**: ended after %s by %s.\n\n", seconds(doc.Reached), doc.Stopped)
	}
	if len(doc.Expect) > 0 {
		b.WriteString("| expectation | | condition |\n|---|---|---|\n")
		for _, name := range sorted(doc.Expect) {
			x := doc.Expect[name]
			word := "holds"
			if !x.Holds {
				word = fmt.Sprintf("**fails** (holds in %d of %d)", x.HoldsIn, doc.Replications)
			}
			fmt.Fprintf(&b, "| %s | %s | `%s` |\n", name, word, strings.ReplaceAll(x.Expression, "|", "\\|"))
		}
		b.WriteString("\n")
	}
	l := doc.Ledger
	fmt.Fprintf(&b, "%s entered, %s copies.\n\n| fate | copies |\n|---|---:|\n", count(l.Entered), count(l.Copies))
	for _, row := range fateRows(&l.Fates) {
		if row.count > 0 {
			fmt.Fprintf(&b, "| %s | %s |\n", row.name, count(row.count))
		}
	}
	var troubled []string
	for _, name := range sorted(doc.Nodes) {
		if n := doc.Nodes[name]; n.Lost["total"]+n.Parked+n.Throttled > 0 {
			troubled = append(
				troubled,
				fmt.Sprintf(
					"| %s | %s | %s | %s | %s |\n",
					name,
					count(n.Copies),
					count(n.Lost["total"]),
					count(n.Parked),
					count(n.Throttled),
				),
			)
		}
	}
	if len(troubled) > 0 {
		b.WriteString(
			"\n| node | copies | lost | parked | throttled |\n|---|---:|---:|---:|---:|\n" + strings.Join(troubled, ""),
		)
	}
	_, err := io.WriteString(w, b.String())
	return err
}

type fateRow struct {
	name  string
	count int64
}

// fateRows lists fates, what is under way, and the causes of loss.
func fateRows(f *study.Fates) []fateRow {
	rows := []fateRow{
		{"handled", f.Handled},
		{"stored", f.Stored},
		{"arrived", f.Arrived},
		{"passed", f.Passed},
		{"ignored", f.Ignored},
		{"unmatched", f.Unmatched},
		{"returned", f.Returned},
		{"parked", f.Parked},
		{"waiting", f.Waiting},
		{"running", f.Running},
	}
	for _, x := range sim.Fates() {
		if x.Loss() {
			rows = append(rows, fateRow{"lost_" + x.String(), f.Lost[x.String()]})
		}
	}
	return rows
}

// RunCSV writes a row for each node and for each link that reads a stream or
// table: its copies, fates, runs and times, in totals over the replications.
func RunCSV(w io.Writer, doc *study.Document) error {
	out := csv.NewWriter(w)
	head := []string{"what", "name", "copies"}
	for _, row := range fateRows(&study.Fates{}) {
		head = append(head, row.name)
	}
	head = append(
		head,
		"redelivered",
		"runs",
		"failures",
		"timeouts",
		"throttled",
		"depth_mean",
		"depth_max",
		"wait_mean_s",
		"wait_p99_s",
		"run_time_mean_s",
		"run_time_p99_s",
	)
	if err := out.Write(head); err != nil {
		return err
	}
	number := func(x float64) string { return strconv.FormatFloat(x, 'g', -1, 64) }
	whole := func(n int64) string { return strconv.FormatInt(n, 10) }
	for _, name := range sorted(doc.Nodes) {
		n := doc.Nodes[name]
		row := []string{n.Kind, name, whole(n.Copies)}
		for _, f := range fateRows(&n.Fates) {
			row = append(row, whole(f.count))
		}
		row = append(
			row,
			whole(n.Redelivered),
			whole(n.Runs),
			whole(n.Failures),
			whole(n.Timeouts),
			whole(n.Throttled),
			number(n.Depth.Mean),
			whole(n.Depth.Max),
			number(n.Wait.Mean),
			number(n.Wait.P99),
			number(n.RunTime.Mean),
			number(n.RunTime.P99),
		)
		if err := out.Write(row); err != nil {
			return err
		}
	}
	for _, name := range sorted(doc.Links) {
		l := doc.Links[name]
		if l.Fates == nil {
			continue
		}
		row := []string{"reader", name, whole(l.Copies)}
		for _, f := range fateRows(l.Fates) {
			row = append(row, whole(f.count))
		}
		row = append(row, whole(l.Redelivered))
		for len(row) < len(head) {
			row = append(row, "")
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
