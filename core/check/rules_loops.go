package check

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var certainLoop = &Rule{Code: "IW101", Title: "Loop", Severity: Error,
	Doc: `What a message sets off brings another one back to where it entered, and every filter on the way
accepts it. The severity follows the trend. With a gain of 1 it circulates indefinitely; with more the number
of messages doubles again and again until concurrency, a quota or the budget ends it: errors. A loop with a
gain under 1 dies out: a note, or a warning where the gain is over 0.5.

Break it at the link where it costs least: write what is derived under another prefix (or into another
bucket), narrow the filter that lets it back in, or give a function on the way a hop-limit.`,
	Run: func(p *Pass) { reportLoops(p, "certain") }}

var possibleLoop = &Rule{Code: "IW102", Title: "Possible loop", Severity: Warning,
	Doc: `What a message sets off can come back to where it entered. Whether it does depends on its content (a
condition) or on keys that are only partly known. Say more about the keys, or break the loop as under IW101.`,
	Run: func(p *Pass) { reportLoops(p, "possible") }}

var brokenLoop = &Rule{Code: "IW103", Title: "Loop prevented only by a filter", Severity: Note,
	Doc: `The links form a cycle; one filter on it declines what comes back, or a hop limit ends what does.
Widening or removing that filter, or the limit, starts the loop. A separate bucket or topic would make
that impossible.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.Ended != nil && !l.Waiting() {
				then := "is lost there"
				if p.hopLimitTakes(l.Ended) {
					then = "goes to its dead-letter node"
				}
				p.report(
					l.Ended.Pos,
					l.Nodes,
					l.All,
					map[string]any{"path": cyclePath(l), "broken_by": *l.BrokenBy, "gain": l.Gain},
					nil,
					"messages circulate %s until the hop limit of `%s` ends it, after at most %s: what comes then %s",
					cyclePath(l),
					l.Ended.Name,
					counted(p.passes(l), "pass"),
					then,
				)
				continue
			}
			if l.Verdict != "broken" || l.Fault {
				continue
			}
			first := p.Link(l.Cycle[0].Link)
			p.report(
				first.Pos,
				l.Nodes,
				l.All,
				map[string]any{"path": cyclePath(l), "broken_by": *l.BrokenBy},
				nil,
				"%s is a cycle, and only the filter of `%s` keeps messages from circulating in it",
				cyclePath(l),
				*l.BrokenBy,
			)
		}
	}}

// hopLimitTakes reports whether what a function's hop limit ends has a dead-letter
// node, whichever way it comes.
func (p *Pass) hopLimitTakes(n *graph.Node) bool {
	for _, id := range n.In {
		if l := p.Link(id); l.DeadLetter == graph.None && l.Relation != model.WaitingCall {
			return false
		}
	}
	return true
}

// passes returns how often a message passes through a loop before its hop limit ends
// it: a loop of k functions lets it pass limit/k times, and the pass that ends it.
func (p *Pass) passes(l *flow.Loop) int {
	functions := 0
	for _, e := range l.Cycle {
		if k := p.Node(e.From).Kind; k.Invoked() {
			functions++
		}
	}
	return l.Ended.HopLimit/max(functions, 1) + 1
}

var waitingCycle = &Rule{Code: "IW104", Title: "Deadlock in waiting calls", Severity: Error,
	Doc: `Each function of the cycle waits for the next, so a message makes every one of them hold a run until
the last has answered, which never happens: they time out, or use up all concurrency first. Make one of
the calls asynchronous.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.Verdict == "broken" || !l.Waiting() {
				continue
			}
			last := p.Link(l.Cycle[len(l.Cycle)-1].Link)
			var remedies []remedy.Remedy
			if k := p.Node(last.To).Kind; k == model.Function {
				remedies = append(
					remedies,
					remedy.Link(
						fmt.Sprintf("Start `%s` without waiting for it", last.Link.To),
						last,
						map[string]any{"mode": "async"},
					),
				)
			}
			p.report(
				last.Pos,
				l.Nodes,
				l.All,
				map[string]any{"path": cyclePath(l)},
				remedies,
				"%s wait for each other in a circle: no call is ever answered, and their runs last until they time out",
				cyclePath(l),
			)
		}
	}}

var endlessSendBack = &Rule{Code: "IW105", Title: "Dead letters sent back without limit", Severity: Warning,
	Doc: `A dead-letter or failure link leads back to where the message came from. A message that can never
succeed then circulates for as long as it is kept. Count the passes (hop-limit), or park it after the first.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.Waiting() || l.Ended != nil || !l.Fault && (l.Verdict == "broken" || !throughFailure(p, l)) {
				continue
			}
			p.report(
				p.positionOf(l),
				l.Nodes,
				l.All,
				map[string]any{"path": cyclePath(l), "gain": l.Gain, "trend": l.Trend},
				nil,
				"%s sends what failed back to where it failed, without a limit: a message that never succeeds circulates for as long as it is kept",
				cyclePath(l),
			)
		}
	}}

// positionOf returns the position of the first link of a cycle.
func (p *Pass) positionOf(l *flow.Loop) model.Position {
	for _, e := range l.Cycle {
		if e.Link != graph.None {
			return p.Link(e.Link).Pos
		}
	}
	return p.Node(l.Cycle[0].From).Pos
}

// throughFailure reports whether a cycle goes by a dead-letter or failure link.
func throughFailure(p *Pass, l *flow.Loop) bool {
	for _, e := range l.Cycle {
		if e.Dead || e.Link != graph.None && p.Link(e.Link).When == model.Failure {
			return true
		}
	}
	return false
}

func cyclePath(l *flow.Loop) string {
	n := min(len(l.Cycle), len(l.Nodes))
	return strings.Join(append(append([]string{}, l.Nodes[:n]...), l.Nodes[0]), " → ")
}

func reportLoops(p *Pass, verdict string) {
	for i := range p.Loops {
		l := &p.Loops[i]
		if l.Verdict != verdict || l.Waiting() || l.Ended != nil || throughFailure(p, l) {
			continue
		}
		closing := l.Cycle[len(l.Cycle)-1]
		pos := p.positionOf(l)
		if closing.Link != graph.None {
			pos = p.Link(closing.Link).Pos
		}
		evidence := map[string]any{
			"path":     cyclePath(l),
			"gain":     l.Gain,
			"trend":    l.Trend,
			"doubling": l.Doubling,
			"limit":    l.Limit,
		}
		p.report(
			pos,
			l.Nodes,
			l.All,
			evidence,
			loopRemedies(p, l),
			"messages circulate %s: %s%s",
			cyclePath(l),
			trendWords(l),
			limitWords(p, l),
		)
		p.rated(loopSeverity(l))
	}
}

// loopSeverity is the severity of a loop by its trend.
func loopSeverity(l *flow.Loop) Severity {
	switch l.Trend {
	case "grows", "sustains":
		return Error
	case "dies-out":
		if high := l.Gain[1]; high != nil && *high <= 0.5 {
			return Note
		}
	}
	return Warning
}

func trendWords(l *flow.Loop) string {
	gain := "an unknown number of messages"
	more := func(x float64) string {
		if x > 1000 {
			return "> 1,000"
		}
		return fmt.Sprintf("%.3g", x)
	}
	switch {
	case l.Gain[0] != nil && l.Gain[1] != nil && math.Abs(*l.Gain[0]-*l.Gain[1]) < 1e-6:
		gain = more(*l.Gain[0])
	case l.Gain[0] != nil && l.Gain[1] != nil:
		gain = more(*l.Gain[0]) + " to " + more(*l.Gain[1])
	case l.Gain[0] != nil:
		gain = more(*l.Gain[0]) + " or more"
	case l.Unbounded:
		gain = "ever more"
	}
	s := fmt.Sprintf("each message produces %s on the next pass, ", gain)
	switch l.Trend {
	case "sustains":
		return s + "so it circulates indefinitely"
	case "could-sustain":
		return s + "so it could circulate indefinitely"
	case "grows":
		if l.Doubling.Seconds != nil && *l.Doubling.Seconds > 0 {
			return s + "so their number doubles every " + model.FormatDuration(rounded(*l.Doubling.Seconds))
		}
		return s + "so their number grows without bound"
	case "dies-out":
		return s + "so the loop dies out"
	}
	return s + "so their number could grow"
}

// rounded returns seconds as a duration with no more digits than matter.
func rounded(seconds float64) time.Duration {
	if seconds > 1e9 {
		seconds = 1e9
	}
	d := time.Duration(seconds * 1e9)
	for _, unit := range []time.Duration{time.Hour, time.Minute, time.Second, 100 * time.Millisecond} {
		if d >= 100*unit {
			return d.Round(unit)
		}
	}
	return d.Round(10 * time.Millisecond)
}

// limitWords says when a loop meets a limit, and what it costs then.
func limitWords(p *Pass, l *flow.Loop) string {
	if l.Limit == nil || l.Limit.After.Seconds == nil || l.Limit.Node == "" {
		return ""
	}
	from := "the first message"
	if l.Limit.Arrives > 0 {
		from = "traffic of " + model.FormatRate(l.Limit.Arrives) + " starts"
	}
	s := fmt.Sprintf(
		"; about %s after %s, `%s` reaches its limit",
		model.FormatDuration(rounded(*l.Limit.After.Seconds)),
		from,
		l.Limit.Node,
	)
	if l.Limit.Runs != nil {
		s += fmt.Sprintf(", at %s in the loop", strings.Replace(model.FormatRate(*l.Limit.Runs), "/", " runs/", 1))
	}
	if l.Limit.Cost != nil {
		s += fmt.Sprintf(" and %s %.2f an hour", p.Graph.Topology.Prices.Currency, *l.Limit.Cost)
	}
	return s
}

// loopRemedies offers another prefix for a key that comes back under a prefix
// filter, where the filter then declines it, and a hop limit for a function that
// everything in the loop passes.
func loopRemedies(p *Pass, l *flow.Loop) []remedy.Remedy {
	var out []remedy.Remedy
	for k, e := range l.Cycle {
		following := l.Cycle[(k+1)%len(l.Cycle)]
		if e.Dead || e.Link == graph.None || following.Link == graph.None {
			continue
		}
		send, next := p.Link(e.Link), p.Link(following.Link)
		if send.Key == nil || next.Filter.Everything {
			continue
		}
		shape := expr.KeyShape{Prefix: "derived/"}
		declines := true
		for i := range next.Filter.Clauses {
			c := &next.Filter.Clauses[i]
			declines = declines && len(c.Prefix) > 0 &&
				!slices.ContainsFunc(
					c.Prefix,
					func(prefix string) bool { return shape.HasPrefix(prefix) != expr.Impossible },
				)
		}
		if declines {
			out = append(
				out,
				remedy.Link(
					fmt.Sprintf(
						"Let `%s` write under derived/, which `%s` does not accept",
						send.Link.From,
						next.Link.ID(),
					),
					send,
					map[string]any{"key": "derived/{name}"},
				),
			)
		}
	}
	return append(out, hopLimitRemedy(p, l)...)
}

// hopLimitRemedy offers a hop limit of one pass, with a dead-letter node where what
// it ends would be lost.
func hopLimitRemedy(p *Pass, l *flow.Loop) []remedy.Remedy {
	functions := 0
	for _, e := range l.Cycle {
		if k := p.Node(e.From).Kind; k.Invoked() {
			functions++
		}
	}
	for _, e := range l.Cycle {
		n := p.Node(e.From)
		if n.Kind != model.Function || circulatesWithout(l, n.ID) {
			continue
		}
		// What enters may have passed through functions before, at most as many as there
		// are outside of the loop.
		hops := max(3*functions, 1)
		r := remedy.Node(
			fmt.Sprintf(
				"Give `%s` a hop limit of %d: %s of %s",
				n.Name,
				hops,
				counted(3, "pass"),
				counted(functions, "function"),
			),
			n.Name,
			map[string]any{"hop-limit": hops},
		)
		fields := r.Patch["nodes"].(map[string]any)
		parked := newName(p, n.Name+"-hops")
		needed := false
		for _, id := range n.In {
			in := p.Link(id)
			if in.DeadLetter != graph.None || in.Relation == model.WaitingCall {
				continue
			}
			needed = true
			from, ok := fields[in.Link.From].(map[string]any)
			if !ok {
				from = map[string]any{}
				fields[in.Link.From] = from
			}
			links, ok := from["links"].(map[string]any)
			if !ok {
				links = map[string]any{}
				from["links"] = links
			}
			links[in.Link.Name] = map[string]any{"dead-letter": parked}
		}
		if needed {
			r = withParked(r, parked)
		}
		return []remedy.Remedy{r}
	}
	return nil
}

// circulatesWithout reports whether a loop still circulates without a node.
func circulatesWithout(l *flow.Loop, node int) bool {
	place := map[int]int{}
	at := func(n int) int {
		if _, ok := place[n]; !ok {
			place[n] = len(place)
		}
		return place[n]
	}
	var rest []graph.Edge
	for _, e := range l.Cycle {
		if e.To != node && e.From != node {
			rest = append(rest, graph.Edge{From: at(e.From), To: at(e.To)})
		}
	}
	return len(graph.Loops(len(place), rest)) > 0
}

func counted(n int, what string) string {
	switch {
	case n == 1:
		return "1 " + what
	case strings.HasSuffix(what, "s") || strings.HasSuffix(what, "ch"):
		return fmt.Sprintf("%d %ses", n, what)
	}
	return fmt.Sprintf("%d %ss", n, what)
}
