package check

import (
	"fmt"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var declinedPayload = &Rule{Code: "IW307", Title: "Payload rejected by its consumer", Severity: Error,
	Doc: `What is sent never fits the consumer's accepts: each such run fails, or each such request is answered
400. Often the payload is wrapped or encoded on its way. Send what the schema asks for, remove the wrapping,
or let the schema accept it.`,
	Run: func(p *Pass) {
		type where struct{ node, link int }
		said := map[where]bool{}
		for s := range p.States.All {
			at := p.States.All[s]
			n := p.Node(at.Node)
			why := p.Payloads.Declines(n, at.Data)
			if why == nil {
				continue
			}
			for _, from := range p.Into[s] {
				for _, e := range p.States.Leaving(int(from)) {
					if e.To != s || e.Link == graph.None || said[where{at.Node, e.Link}] {
						continue
					}
					said[where{at.Node, e.Link}] = true
					l := p.Link(e.Link)
					p.reportDeclined(l, n, p.origin(int(from), 0), why)
				}
			}
			if p.IsEntry[s] && len(p.Into[s]) == 0 && !said[where{at.Node, graph.None}] {
				said[where{at.Node, graph.None}] = true
				p.report(n.Pos, []string{n.Name}, nil, map[string]any{"why": why.Error()}, nil,
					"`%s` gets a payload from outside that its `accepts` rejects: %s", n.Name, why)
			}
		}
	}}

func (p *Pass) reportDeclined(l *graph.Link, to *graph.Node, from string, why error) {
	var remedies []remedy.Remedy
	if l.Wrap != "none" && l.Wrap != "" {
		remedies = append(
			remedies,
			remedy.Link(
				fmt.Sprintf("Pass the payload over `%s` unwrapped", l.Link.ID()),
				l,
				map[string]any{"wrap": "none"},
			),
		)
	}
	p.report(l.Pos, []string{to.Name, from}, []string{l.Link.ID()}, map[string]any{"why": why.Error()}, remedies,
		"`%s` gets a payload from `%s` that its `accepts` rejects: %s", to.Name, from, why)
}

// origin returns the node that made the payload of a state: the nearest behind the
// channels that only passed it on.
func (p *Pass) origin(s, depth int) string {
	n := p.Node(p.States.All[s].Node)
	if n.Kind.Channel() && depth < 20 && len(p.Into[s]) > 0 {
		return p.origin(int(p.Into[s][0]), depth+1)
	}
	return n.Name
}

var lostOrder = &Rule{Code: "IW406", Title: "Required order lost", Severity: Warning,
	Doc: `A grouped queue, or a stream with a key, keeps order from where messages come to it. Here they come through a
queue without order, which delivers messages side by side and redelivers late what failed. Group that queue by
the same key too, or accept that order begins where it is kept.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			by := n.Node.Group + n.Node.By // a queue has the one, a stream the other
			if by == "" {
				continue
			}
			for _, id := range n.In {
				if p.Reach[id] == expr.Impossible {
					continue
				}
				from := p.Node(p.Link(id).From)
				if from.Kind != model.Function {
					p.unorderedInto(n, by, p.Link(id))
					continue
				}
				for _, in := range from.In {
					p.unorderedInto(n, by, p.Link(in))
				}
			}
		}
	}}

// unorderedInto reports a queue without order that leads, at most through one
// function, to a node that keeps it.
func (p *Pass) unorderedInto(n *graph.Node, by string, l *graph.Link) {
	q := p.Node(l.From)
	if !q.Kind.Leases() || q.Grouped || p.Reach[l.ID] == expr.Impossible || q.ID == n.ID {
		return
	}
	offered := remedy.Node(
		"Keep the order by "+by+" in `"+q.Name+"` too",
		q.Name,
		map[string]any{"order": "grouped", "group": by},
	)
	p.report(
		q.Pos,
		[]string{q.Name, n.Name},
		[]string{l.Link.ID()},
		map[string]any{"by": by, "parallel": l.Read.Parallel},
		[]remedy.Remedy{offered},
		"`%s` keeps order by %s, but its messages pass through `%s`, which does not: a message that fails there, or waits longer, comes behind later ones",
		n.Name,
		by,
		q.Name,
	)
}

var repeatedEffects = &Rule{Code: "IW408", Title: "Duplicates repeat their effects", Severity: Note,
	Doc: `The source delivers some messages twice, and the function that gets them does not recognise them: what it
sends is sent twice. Give it idempotent, an expression that identifies the message, such as event.id.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			from, to := p.Node(l.From), p.Node(l.To)
			if from.Duplicates == 0 || to.Kind != model.Function || to.Idempotent != nil || len(to.Out) == 0 ||
				p.Reach[i] == expr.Impossible {
				continue
			}
			p.report(
				l.Pos,
				[]string{to.Name, from.Name},
				[]string{l.Link.ID()},
				map[string]any{"duplicates": from.Duplicates},
				[]remedy.Remedy{
					remedy.Node(
						"Let `"+to.Name+"` recognise a message by its id",
						to.Name,
						map[string]any{"idempotent": "event.id"},
					),
				},
				"`%s` delivers %s of its messages twice, and `%s` repeats their effects, with all that it sends",
				from.Name,
				fmt.Sprintf("%g%%", from.Duplicates*100),
				to.Name,
			)
		}
	}}

var blockedPartition = &Rule{Code: "IW404", Title: "Failing batch blocks its partition", Severity: Warning,
	Doc: `A stream delivers in order: while one batch fails, everything behind it in its partition waits. With unlimited
tries, one record that never succeeds blocks the partition until its retention ends, and then what waited
behind it may be gone too. Limit the tries and add a dead-letter queue; failed: halve finds the bad record.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			n := p.Node(l.From)
			if !n.Kind.InPartitions() || p.Reach[i] == expr.Impossible ||
				l.Relation == model.PolledMove {
				continue
			}
			to := p.PolledState(l)
			if _, _, ends := p.ReaderPatience(n, l, to); ends {
				continue
			}
			fails := to != graph.None && p.Outcome(to, flow.Worst).Bad() > 0
			fields := map[string]any{"retry": map[string]any{"tries": 5}}
			if l.Read.UpTo > 1 && l.Read.Failed == "all" {
				fields["read"] = map[string]any{"failed": "halve"}
			}
			say := fmt.Sprintf("Stop after five tries at `%s`", l.Link.ID())
			if l.DeadLetter == graph.None {
				parked := newName(p, l.Link.To+"-parked")
				fields["dead-letter"] = parked
				r := withParked(remedy.Link(say+", and add a dead-letter queue with an alarm", l, fields), parked)
				p.reportBlocked(l, n, r, fails)
				continue
			}
			p.reportBlocked(l, n, remedy.Link(say, l, fields), fails)
		}
	}}

func (p *Pass) reportBlocked(l *graph.Link, n *graph.Node, r remedy.Remedy, fails bool) {
	p.report(
		l.Pos,
		[]string{n.Name, p.Node(l.To).Name},
		[]string{l.Link.ID()},
		map[string]any{"retention_s": n.Retention.Seconds()},
		[]remedy.Remedy{r},
		"one record that never succeeds in `%s` blocks its partition of `%s` for %s: its tries are unlimited, and everything behind it waits",
		p.Node(l.To).Name,
		n.Name,
		model.FormatDuration(n.Retention),
	)
	if !fails {
		p.rated(Note)
	}
}

var everySecond = &Rule{Code: "IW602", Title: "Cron fields in wrong layout", Severity: Warning,
	Doc: `The declared layout has a field for seconds in front, and it holds a * or a step: the schedule fires every few
seconds. Probably five fields were meant, or one is missing. Fields that do not fit the declared layout
at all are an error when the file is read, with the layout that they fit.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if !n.Kind.Fires() || n.CronFields != "with-seconds" && n.CronFields != "with-both" {
				continue
			}
			fields := strings.Fields(n.Cron)
			if len(fields) < 6 || !strings.HasPrefix(fields[0], "*") {
				continue
			}
			p.report(
				n.Pos,
				[]string{n.Name},
				nil,
				map[string]any{"cron": n.Cron},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Fire `%s` at the first second only", n.Name),
						n.Name,
						map[string]any{"cron": strings.Join(append([]string{"0"}, fields[1:]...), " ")},
					),
				},
				"`%s` has %q in front, which is the field for seconds: it fires %s",
				n.Name,
				fields[0],
				secondsWords(fields[0]),
			)
		}
	}}

func secondsWords(field string) string {
	if step, ok := strings.CutPrefix(field, "*/"); ok {
		return "every " + step + " seconds of each minute that the other fields name"
	}
	return "every second of each minute that the other fields name"
}
