package check

import (
	"fmt"
	"strings"
	"time"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var certainLoop = &Rule{Code: "IW101", Title: "a loop that certainly goes round", Severity: Error,
	Doc: `What a message sets off brings another one back to where it came in, and every filter on the way
takes it. With a gain of 1 it goes round for ever; with more the number of messages doubles again and
again until concurrency, a quota or the budget ends it.

Break it at the link where it costs least: write what is derived under another prefix (or into another
bucket), narrow the filter that lets it back in, or give a function on the way a hop-limit.`,
	Run: func(p *Pass) { reportLoops(p, "certain") }}

var possibleLoop = &Rule{Code: "IW102", Title: "a loop that may go round", Severity: Warning,
	Doc: `What a message sets off can come back to where it came in. Whether it does depends on its content (a
condition), on a failure, or on keys that are only partly known. Say more about the keys, or break the
loop as under IW101.`,
	Run: func(p *Pass) { reportLoops(p, "possible") }}

var brokenLoop = &Rule{Code: "IW103", Title: "a loop that only a filter or hop limit breaks", Severity: Note,
	Doc: `The links form a cycle; one filter on it declines what comes round, or a hop limit ends what does.
Whoever widens or removes that filter, or the limit, starts the loop. A separate bucket or topic would
make that impossible.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.ended != nil && !l.calls {
				rounds := float64(l.ended.HopLimit) / float64(max(len(l.cycle), 1))
				then := "is lost there"
				if l.ended.DeadLetter != graph.None {
					then = "goes to " + p.node(l.ended.DeadLetter).Name
				}
				p.report(l.ended.Pos, l.Nodes, l.Links, map[string]any{"path": cyclePath(l), "broken_by": *l.BrokenBy, "gain": l.Gain}, nil,
					"messages go round %s until the hop limit of %s ends it, after at most %.3g rounds: what then comes %s", cyclePath(l), l.ended.Name, rounds, then)
				continue
			}
			if l.Verdict != "broken" {
				continue
			}
			first := p.link(l.cycle[0].Link)
			p.report(first.Pos, l.Nodes, l.Links, map[string]any{"path": cyclePath(l), "broken_by": *l.BrokenBy}, nil,
				"%s is a cycle, and only the filter of %s keeps messages from going round it", cyclePath(l), *l.BrokenBy)
		}
	}}

var waitingCycle = &Rule{Code: "IW104", Title: "waiting calls in a cycle", Severity: Error,
	Doc: `Each function of the cycle waits for the next, so a message makes every one of them hold a run until
the last has answered, which never happens: they time out, or use up all concurrency first. Make one of
the calls asynchronous.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.Verdict == "broken" || !l.calls {
				continue
			}
			last := p.link(l.cycle[len(l.cycle)-1].Link)
			var remedies []Remedy
			if k := p.node(last.To).Kind; k == model.Function {
				remedies = append(remedies, patchLink(fmt.Sprintf("start %s without waiting for it", last.Link.To), last, map[string]any{"mode": "async"}))
			}
			p.report(last.Pos, l.Nodes, l.Links, map[string]any{"path": cyclePath(l)}, remedies,
				"%s wait for each other in a circle: no call is ever answered, and their concurrency is used up until they time out", cyclePath(l))
		}
	}}

var endlessSendBack = &Rule{Code: "IW105", Title: "parked messages are sent back without a limit", Severity: Warning,
	Doc: `A dead-letter or failure link leads back to where the message came from. A message that can never
succeed then goes round for as long as it is kept. Count the rounds (hop-limit), or set it aside after
the first.`,
	Run: func(p *Pass) {
		for i := range p.Loops {
			l := &p.Loops[i]
			if l.Verdict == "broken" || l.calls || l.ended != nil || !throughFailure(p, l) {
				continue
			}
			p.report(p.link(l.cycle[0].Link).Pos, l.Nodes, l.Links, map[string]any{"path": cyclePath(l)}, nil,
				"%s sends what failed back to where it failed, without a limit: a message that never succeeds goes round for as long as it is kept", cyclePath(l))
		}
	}}

// throughFailure tells whether a cycle goes by a dead-letter or failure link.
func throughFailure(p *Pass, l *Loop) bool {
	for _, e := range l.cycle {
		if e.Dead || p.link(e.Link).When == model.Failure {
			return true
		}
	}
	return false
}

func cyclePath(l *Loop) string {
	n := min(len(l.cycle), len(l.Nodes))
	return strings.Join(append(append([]string{}, l.Nodes[:n]...), l.Nodes[0]), " → ")
}

func reportLoops(p *Pass, verdict string) {
	for i := range p.Loops {
		l := &p.Loops[i]
		if l.Verdict != verdict || l.calls || l.ended != nil || throughFailure(p, l) {
			continue
		}
		closing := p.link(l.cycle[len(l.cycle)-1].Link)
		evidence := map[string]any{"path": cyclePath(l), "gain": l.Gain, "trend": l.Trend, "doubling": l.Doubling, "limit": l.Limit}
		p.report(closing.Pos, l.Nodes, l.Links, evidence, loopRemedies(p, l), "messages go round %s: %s", cyclePath(l), trendWords(l)+limitWords(p, l))
	}
}

func trendWords(l *Loop) string {
	gain := "an unknown number"
	switch {
	case l.Gain[0] != nil && l.Gain[1] != nil && *l.Gain[0] == *l.Gain[1]:
		gain = fmt.Sprintf("%.4g", *l.Gain[0])
	case l.Gain[0] != nil && l.Gain[1] != nil:
		gain = fmt.Sprintf("%.4g to %.4g", *l.Gain[0], *l.Gain[1])
	case l.Gain[0] != nil:
		gain = fmt.Sprintf("%.4g or more", *l.Gain[0])
	case l.Unbounded:
		gain = "ever more"
	}
	s := fmt.Sprintf("for each one that goes in %s come back, ", gain)
	switch l.Trend {
	case "sustains":
		return s + "so it goes round for ever"
	case "grows":
		if l.Doubling.Seconds != nil && *l.Doubling.Seconds > 0 {
			return s + "so their number doubles every " + model.FormatDuration(time.Duration(*l.Doubling.Seconds*1e9).Round(time.Millisecond))
		}
		return s + "so their number grows without bound"
	case "dies-out":
		return s + "so it dies out"
	}
	return s + "so their number could grow"
}

// limitWords says when a loop meets a limit, and what it costs then.
func limitWords(p *Pass, l *Loop) string {
	if l.Limit == nil || l.Limit.After.Seconds == nil {
		return ""
	}
	from := "the first message"
	if l.Limit.Arrives > 0 {
		from = model.FormatRate(l.Limit.Arrives) + " have begun to come in"
	}
	s := fmt.Sprintf("; about %s after %s, %s is at its limit", model.FormatDuration(time.Duration(*l.Limit.After.Seconds*1e9).Round(time.Second)), from, l.Limit.Node)
	if l.Limit.Runs != nil {
		s += fmt.Sprintf(", at %s", strings.Replace(model.FormatRate(*l.Limit.Runs), "/", " runs/", 1))
	}
	if l.Limit.Cost != nil {
		s += fmt.Sprintf(" and %s %.2f an hour", p.Graph.Topology.Prices.Currency, *l.Limit.Cost)
	}
	return s
}

// loopRemedies offers another prefix for a key that comes back under a prefix
// filter, where the filter then declines it, and a hop limit for a function that
// everything in the loop passes.
func loopRemedies(p *Pass, l *Loop) []Remedy {
	var out []Remedy
	for k, e := range l.cycle {
		if e.Dead {
			continue
		}
		send := p.link(e.Link)
		next := p.link(l.cycle[(k+1)%len(l.cycle)].Link)
		if send.Key == nil || next.Filter.Everything {
			continue
		}
		key := "derived/{name}"
		shape := expr.KeyShape{Prefix: "derived/"}
		declines := true
		for i := range next.Filter.Clauses {
			c := &next.Filter.Clauses[i]
			declines = declines && len(c.Prefix) > 0
			for _, prefix := range c.Prefix {
				declines = declines && shape.HasPrefix(prefix) == expr.Impossible
			}
		}
		if declines {
			out = append(out, patchLink(fmt.Sprintf("let %s write under derived/, which %s does not take", send.Link.From, next.Link.ID()), send, map[string]any{"key": key}))
		}
	}
	return append(out, hopLimitRemedy(p, l)...)
}

func hopLimitRemedy(p *Pass, l *Loop) []Remedy {
	for _, e := range l.cycle {
		n := p.node(e.From)
		if n.Kind != model.Function || p.goesRoundWithout(l.spots, l.inner, func(other *graph.Node) bool { return other.ID == n.ID }) {
			continue
		}
		hops := 3 * len(l.cycle)
		return []Remedy{patchNode(fmt.Sprintf("a hop limit of %d for %s, so that nothing goes round more than three times", hops, n.Name), n.Name, map[string]any{"hop-limit": hops})}
	}
	return nil
}
