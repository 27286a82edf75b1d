package main

import (
	"fmt"
	"io"
	"strings"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/text"
	"ironweir/rehearsal"
)

// clock writes a simulated instant: hours, minutes and seconds since the start.
func clock(seconds float64) string {
	s := int64(seconds)
	return fmt.Sprintf("%02d:%02d:%06.3f", s/3600, s/60%60, seconds-float64(s/60*60))
}

// writeState writes how every node stands.
func writeState(w io.Writer, g *graph.Graph, s *rehearsal.State, style text.Style) error {
	stands := "time is paused"
	switch {
	case s.Behind:
		stands = "as fast as it can"
	case s.Running:
		stands = fmt.Sprintf("%g×", s.Pace)
	}
	fmt.Fprintf(
		w,
		"%s, %s: %d entered, %d in flight, %d parked, %d lost\n",
		clock(s.Now),
		stands,
		s.Entered,
		s.Underway,
		s.Parked,
		s.Lost,
	)
	if s.Stopped != "" {
		fmt.Fprintf(w, "ended by %s\n", s.Stopped)
	}
	var rows [][]string
	for i := range g.Nodes {
		n := s.Nodes[g.Nodes[i].Name]
		blank := func(n int64) string {
			if n == 0 {
				return ""
			}
			return text.Count(n)
		}
		oldest := ""
		if n.Oldest > 0 {
			oldest = model.FormatDuration(time.Duration(n.Oldest * 1e9).Round(time.Millisecond))
		}
		rows = append(
			rows,
			[]string{
				g.Nodes[i].Name,
				blank(n.Copies),
				blank(n.Depth),
				oldest,
				blank(n.Running),
				blank(n.Runs),
				blank(n.Failures),
				blank(n.Throttled),
				blank(n.Parked),
				blank(n.Lost),
				activeAt(n),
			},
		)
	}
	if err := text.Table(w, []string{"node", ">received", ">depth", ">oldest", ">running", ">runs", ">failed",
		">throttled", ">parked", ">lost", "active"}, rows, style); err != nil {
		return err
	}
	for i := range g.Links {
		if id := g.Links[i].Link.ID(); s.Links[id].Paused {
			fmt.Fprintf(w, "%s is paused\n", id)
		}
	}
	return nil
}

// activeAt says what active incidents do to a node.
func activeAt(n rehearsal.Node) string {
	var out []string
	if n.Fails != nil {
		out = append(out, fmt.Sprintf("fails %g%%", *n.Fails*100))
	}
	if n.Slow != nil {
		out = append(out, fmt.Sprintf("%g× slow", *n.Slow))
	}
	if n.Concurrency != nil {
		out = append(out, fmt.Sprintf("concurrency %d", *n.Concurrency))
	}
	if n.Stopped {
		out = append(out, "stopped")
	}
	if n.Off {
		out = append(out, "off")
	}
	if n.Hook != nil && n.Hook.Answers > 0 {
		out = append(out, hookTime(n.Hook))
	}
	return strings.Join(out, ", ")
}

// hookTime says how long the handler of a function takes in real time.
func hookTime(h *rehearsal.HookTimes) string {
	return "hook " + model.FormatDuration(time.Duration(h.Last*1e9).Round(100*time.Microsecond))
}

// writeResting writes what lies in a node, with the names by which it is moved.
func writeResting(w io.Writer, node string, list []sim.Resting, all int, style text.Style) error {
	fmt.Fprintf(w, "%s: %s\n", node, plural(all, "message"))
	var rows [][]string
	for _, r := range list {
		tries := ""
		if r.Tries > 0 {
			tries = fmt.Sprint(r.Tries)
		}
		rows = append(
			rows,
			[]string{
				fmt.Sprint(r.Message),
				fmt.Sprint(r.Journey),
				model.FormatDuration(time.Duration(r.Age * 1e9).Round(time.Millisecond)),
				tries,
				r.State,
				r.Key,
				r.Link,
			},
		)
	}
	if len(rows) == 0 {
		return nil
	}
	if err := text.Table(w, []string{">message", ">journey", ">age", ">tries", "state", "key", "reader"}, rows,
		style); err != nil {
		return err
	}
	if all > len(list) {
		fmt.Fprintf(w, "  the oldest %d of %d\n", len(list), all)
	}
	return nil
}

// happened says in a line what has changed from one state to the next; empty:
// nothing that matters.
func happened(g *graph.Graph, was, now *rehearsal.State) string {
	var parts []string
	for i := range g.Nodes {
		name := g.Nodes[i].Name
		a, b := was.Nodes[name], now.Nodes[name]
		var said []string
		for _, c := range []struct {
			before, after int64
			what          string
		}{{a.Runs, b.Runs, "runs"}, {a.Failures, b.Failures, "failed"}, {a.Throttled, b.Throttled, "throttled"}, {a.Parked, b.Parked, "parked"}, {a.Lost, b.Lost, "LOST"}} {
			if c.after != c.before {
				said = append(said, fmt.Sprintf("%+d %s", c.after-c.before, c.what))
			}
		}
		if a.Depth != b.Depth && g.Nodes[i].Kind.Channel() {
			said = append(said, fmt.Sprintf("depth %d", b.Depth))
		}
		if b.Hook != nil && (a.Hook == nil || b.Hook.Answers > a.Hook.Answers) {
			said = append(said, hookTime(b.Hook))
		}
		if len(said) > 0 {
			parts = append(parts, name+" "+strings.Join(said, " "))
		}
	}
	for _, act := range now.Acts {
		if len(was.Acts) == 0 || act.Clock.After(was.Acts[len(was.Acts)-1].Clock) {
			parts = append(parts, act.Who+" "+act.What)
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return clock(now.Now) + "  " + strings.Join(parts, "; ")
}
