package text

import (
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"strconv"
	"strings"

	"ironweir/core/check"
)

// ListParts are the parts of an inventory, in the order in which they are printed.
var ListParts = []string{"nodes", "links", "triggers", "schedules"}

// List prints parts of an inventory as tables.
func List(w io.Writer, in *check.Inventory, parts []string, s Style) error {
	p := newPage(w, s)
	for _, part := range parts {
		head, rows := listTable(in, part, monthly)
		if len(rows) == 0 {
			continue
		}
		p.heading(strings.ToUpper(part[:1]) + part[1:])
		p.table(head, rows)
	}
	p.line("")
	p.line("%s", p.paint(faint, "a month is 30 days of the mean traffic · ~ estimate · other numbers are exact"))
	return p.Flush()
}

// ListCSV writes one part of an inventory, numbers in full.
func ListCSV(w io.Writer, in *check.Inventory, part string) error {
	head, rows := listTable(in, part, func(n *float64, estimate bool) string {
		if n == nil {
			return ""
		}
		return strconv.FormatFloat(*n, 'g', -1, 64)
	})
	out := csv.NewWriter(w)
	if err := out.WriteAll(append([][]string{head}, rows...)); err != nil {
		return err
	}
	return out.Error()
}

func listTable(
	in *check.Inventory,
	part string,
	number func(n *float64, estimate bool) string,
) (head []string, rows [][]string) {
	priced := len(in.Nodes) > 0 && in.Nodes[0].Cost != nil
	cost := func(row []string, x *float64) []string {
		if priced {
			row = append(row, number(x, true))
		}
		return row
	}
	costHead := func(head ...string) []string {
		if priced {
			head = append(head, in.Nodes[0].Currency+" a month")
		}
		return head
	}
	switch part {
	case "nodes":
		head = append(costHead("node", "kind", "owner", "messages a month"), "removed with it")
		for i := range in.Nodes {
			n := &in.Nodes[i]
			rows = append(
				rows,
				append(
					cost([]string{n.Node, n.Kind, n.Owner, number(n.Month, n.Basis["month"] != "")}, n.Cost),
					strings.Join(n.Removes, ", "),
				),
			)
		}
	case "schedules":
		head = append(costHead("schedule", "fires", "zone", "enabled", "starts", "firings a month"), "removed with it")
		for i := range in.Schedules {
			n := &in.Schedules[i]
			enabled := "yes"
			if !n.Enabled {
				enabled = "no"
			}
			rows = append(
				rows,
				append(
					cost(
						[]string{n.Node, n.When, n.Zone, enabled, strings.Join(n.Starts, ", "), number(n.Month, false)},
						n.Cost,
					),
					strings.Join(n.Removes, ", "),
				),
			)
		}
	default:
		links := in.Links
		if part == "triggers" {
			links = in.Triggers
		}
		head = []string{"link", "does", "filter", "batch", "tries", "dead-letter", "a month"}
		for i := range links {
			l := &links[i]
			batch := ""
			if l.Batch > 1 {
				batch = strconv.Itoa(l.Batch)
			}
			tries := strconv.Itoa(l.Tries)
			if l.Tries == 0 {
				tries = "no limit"
			}
			times := number(l.Month, l.Basis["month"] != "")
			if l.Reach == "impossible" {
				times = "never"
			}
			rows = append(rows, []string{l.Link, l.Does, l.Filter, batch, tries, l.DeadLetter, times})
		}
	}
	return head, rows
}

func monthly(n *float64, estimate bool) string {
	if n == nil {
		return "no bound"
	}
	s := count(int64(math.Round(*n)))
	if *n > 0 && *n < 100 {
		s = fmt.Sprintf("%.3g", *n)
	}
	if *n > 0 && *n < 0.001 {
		s = "under 0.001"
	}
	if estimate && *n > 0 {
		return "~ " + s
	}
	return s
}
