package picture

import (
	"fmt"
	"math"
	"strings"
	"time"

	"ironweir/core/cadence"
	"ironweir/core/check"
	"ironweir/core/model"
)

// details say what matters most about a node of each kind.
var details = map[model.Kind]func(n *model.Node) []string{
	model.Bucket:   func(n *model.Node) []string { return filters(n) },
	model.Queue:    queueDetail,
	model.Topic:    func(n *model.Node) []string { return filters(n) },
	model.Stream:   streamDetail,
	model.Table:    func(n *model.Node) []string { return []string{partitions(n), takes(n)} },
	model.Schedule: func(n *model.Node) []string { return []string{scheduleWords(n)} },
	model.Endpoint: func(n *model.Node) []string {
		return []string{strings.TrimSpace(n.Method + " " + n.Path), takes(n)}
	},
	model.Function: functionDetail,
	model.Workflow: func(n *model.Node) []string {
		return []string{counted(len(n.Do), "task"), limit("≤", n.Timeout)}
	},
	model.Outside: func(n *model.Node) []string { return []string{takes(n), limit("≤", n.Timeout)} },
}

// Detail says in a few words what matters most about a node beside its kind: how long a
// queue leases and keeps, how long a function takes and how many run at once, when a
// schedule fires, what a bucket's readers want. Empty: nothing is stated.
func Detail(n *model.Node) string {
	var parts []string
	for _, p := range details[n.Kind](n) {
		if p != "" {
			parts = append(parts, p)
		}
	}
	return strings.Join(parts, " · ")
}

func queueDetail(n *model.Node) []string {
	out := []string{limit("lease ", n.Lease), limit("keeps ", n.Retention)}
	if n.Delay > 0 {
		out = append([]string{limit("after ", n.Delay)}, out...)
	}
	if n.Capacity > 0 {
		out = append(out, fmt.Sprintf("≤%d", n.Capacity))
	}
	return out
}

func streamDetail(n *model.Node) []string {
	return []string{partitions(n), limit("keeps ", n.Retention)}
}

func functionDetail(n *model.Node) []string {
	out := []string{takes(n)}
	if n.Concurrency > 0 {
		out = append(out, fmt.Sprintf("≤%d at once", n.Concurrency))
	} else {
		out = append(out, limit("≤", n.Timeout))
	}
	return out
}

// filters gives what the readers of a node want, where they do not want all.
func filters(n *model.Node) []string {
	var out []string
	for _, l := range n.Links {
		if w := check.FilterWords(l.Match); w != "" {
			out = append(out, strings.ReplaceAll(w, "\n", " "))
		}
	}
	if len(out) > 1 {
		return []string{counted(len(out), "filter")}
	}
	return out
}

func partitions(n *model.Node) string {
	if n.Partitions <= 1 {
		return ""
	}
	return counted(n.Partitions, "partition")
}

func scheduleWords(n *model.Node) string {
	switch {
	case !n.Enabled:
		return "disabled"
	case n.Every > 0:
		return "every " + model.FormatDuration(n.Every)
	}
	c, err := cadence.Parse(n.Cron, n.CronFields, n.Sunday)
	if err != nil {
		return n.Cron
	}
	return c.Words()
}

// takes says how long a node takes on average; "~" where it varies.
func takes(n *model.Node) string {
	mean := n.Takes.Expected()
	if mean == 0 || math.IsInf(mean, 0) || math.IsNaN(mean) {
		return ""
	}
	about := ""
	if n.Takes.Largest() != mean {
		about = "~"
	}
	d := time.Duration(mean * float64(time.Second))
	unit := time.Nanosecond
	for d >= 100*unit { // two digits are enough here
		unit *= 10
	}
	d = d.Round(unit)
	return about + model.FormatDuration(d)
}

func limit(words string, d time.Duration) string {
	if d == 0 {
		return ""
	}
	return words + model.FormatDuration(d)
}

func counted(n int, what string) string {
	if n != 1 {
		what += "s"
	}
	return fmt.Sprintf("%d %s", n, what)
}
