package check

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var declinedPayload = &Rule{Code: "IW307", Title: "a payload that its consumer does not accept", Severity: Error,
	Doc: `What is sent never fits the consumer's accepts: each such run fails, or each such request is answered
400. Often the payload is wrapped or encoded on its way. Send what the schema asks for, take the wrapping
away, or let the schema accept it.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			if l.Payload == nil || p.Reach[i] == expr.Impossible {
				continue
			}
			if payload, ok := l.Payload.Constant(); ok {
				p.payloadReaches(l, payload, l.Link.From, map[int]bool{})
			}
		}
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Payload == nil {
				continue
			}
			if payload, ok := n.Payload.Constant(); ok {
				for _, id := range n.Out {
					p.payloadReaches(p.link(id), payload, n.Name, map[int]bool{})
				}
			}
		}
	}}

// payloadReaches follows a payload along a link, and on through channels, to
// those that accept only some.
func (p *Pass) payloadReaches(l *graph.Link, payload any, from string, seen map[int]bool) {
	if seen[l.ID] || p.Reach[l.ID] == expr.Impossible {
		return
	}
	seen[l.ID] = true
	switch l.Wrap {
	case "event":
		payload = map[string]any{"specversion": "1.0", "id": "1", "source": from, "type": "message", "data": payload}
	case "base64":
		text, err := json.Marshal(payload)
		if err != nil {
			return
		}
		payload = base64.StdEncoding.EncodeToString(text)
	}
	to := p.node(l.To)
	if to.Accepts != nil {
		if why := to.Accepts.Fits(payload); why != nil {
			var remedies []Remedy
			if l.Wrap != "none" && l.Wrap != "" {
				remedies = append(remedies, patchLink("hand it over unwrapped", l, map[string]any{"wrap": "none"}))
			}
			p.report(l.Pos, []string{to.Name, from}, []string{l.Link.ID()}, map[string]any{"why": why.Error()}, remedies,
				"%s gets a payload from %s that it does not accept: %s", to.Name, from, why)
		}
		return
	}
	if to.Kind.Channel() {
		for _, id := range to.Out {
			p.payloadReaches(p.link(id), payload, from, seen)
		}
	}
}

var lostOrder = &Rule{Code: "IW406", Title: "order that is needed is lost on the way", Severity: Warning,
	Doc: `A grouped queue, or a stream with a key, keeps order from where messages come to it. Here they come by a
queue without order, which hands out beside each other what came one after the other and brings back late
what failed. Group that queue by the same key too, or accept that order begins where it is kept.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			by := n.Node.Group + n.Node.By // a queue has the one, a stream the other
			if by == "" {
				continue
			}
			for _, id := range n.In {
				if p.Reach[id] == expr.Impossible {
					continue
				}
				from := p.node(p.link(id).From)
				if from.Kind != model.Function {
					p.unorderedInto(n, by, p.link(id))
					continue
				}
				for _, in := range from.In {
					p.unorderedInto(n, by, p.link(in))
				}
			}
		}
	}}

// unorderedInto reports a queue without order that leads, at most through one
// function, to a node that keeps it.
func (p *Pass) unorderedInto(n *graph.Node, by string, l *graph.Link) {
	q := p.node(l.From)
	if q.Kind != model.Queue || q.Grouped || p.Reach[l.ID] == expr.Impossible || q.ID == n.ID {
		return
	}
	remedy := patchNode("keep order by "+by+" in "+q.Name+" too", q.Name, map[string]any{"order": "grouped", "group": by})
	p.report(q.Pos, []string{q.Name, n.Name}, []string{l.Link.ID()}, map[string]any{"by": by, "parallel": l.Read.Parallel}, []Remedy{remedy},
		"%s keeps order by %s, but what comes to it passes through %s, which does not: a message that fails there, or waits longer, comes behind later ones", n.Name, by, q.Name)
}

var repeatedEffects = &Rule{Code: "IW408", Title: "second deliveries that do their work again", Severity: Note,
	Doc: `The source delivers some messages twice, and the function that takes them does not know them again: what it
sends is sent twice. Give it idempotent, an expression that names the message, such as event.id.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			from, to := p.node(l.From), p.node(l.To)
			if from.Duplicates == 0 || to.Kind != model.Function || to.Idempotent != nil || len(to.Out) == 0 || p.Reach[i] == expr.Impossible {
				continue
			}
			p.report(l.Pos, []string{to.Name, from.Name}, []string{l.Link.ID()}, map[string]any{"duplicates": from.Duplicates},
				[]Remedy{patchNode("let "+to.Name+" know a message again by its id", to.Name, map[string]any{"idempotent": "event.id"})},
				"%s delivers %s of its messages twice, and %s does their work again, with all that it sends", from.Name, fmt.Sprintf("%g%%", from.Duplicates*100), to.Name)
		}
	}}

var unusedDeadLetter = &Rule{Code: "IW207", Title: "a dead-letter that nothing ever reaches", Severity: Warning,
	Doc: `A reader's dead-letter gets what its tries could not manage. Here the tries have no end before the message's
retention does: what fails for good is lost there as expired, and the dead-letter stays empty. Limit the
tries, or keep messages for longer.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			n := p.node(l.From)
			if l.DeadLetter == graph.None || !l.Relation.Polls() || p.Reach[i] == expr.Impossible {
				continue
			}
			span, ends := patience(n, l)
			if ends && span <= n.Retention {
				continue
			}
			why := "it is tried without end"
			if ends {
				why = "its tries last " + model.FormatDuration(span)
			}
			p.report(l.Pos, []string{l.Link.From, p.node(l.DeadLetter).Name}, []string{l.Link.ID()}, map[string]any{"retention_s": n.Retention.Seconds()},
				[]Remedy{patchLink("give it five tries", l, map[string]any{"retry": map[string]any{"tries": 5, "wait": nil, "give-up": nil}})},
				"what %s cannot manage never comes to %s: %s, and the retention of %s, %s, ends first", l.Link.ID(), p.node(l.DeadLetter).Name, why, n.Name, model.FormatDuration(n.Retention))
		}
	}}

var blockedPartition = &Rule{Code: "IW404", Title: "a record that can block its partition until retention ends", Severity: Warning,
	Doc: `A stream hands on in order: while one batch fails, all behind it in its partition waits. Tried without end, one
record that can never be managed holds everything up until its retention ends, and then what waited
behind it may be gone too. Limit the tries and set aside what is spent; failed: halve finds the bad record.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			n := p.node(l.From)
			if n.Kind != model.Stream && n.Kind != model.Table || p.Reach[i] == expr.Impossible || l.Relation == model.PolledMove {
				continue
			}
			if span, ends := patience(n, l); ends && span <= n.Retention {
				continue
			}
			fields := map[string]any{"retry": map[string]any{"tries": 5}}
			if l.Read.UpTo > 1 && l.Read.Failed == "all" {
				fields["read"] = map[string]any{"failed": "halve"}
			}
			say := "stop after five tries"
			if l.DeadLetter == graph.None {
				aside := newParked(p, l)
				fields["dead-letter"] = aside
				r := patchLink(say+" and set aside what is spent", l, fields)
				r.Patch["nodes"].(map[string]any)[aside] = map[string]any{"kind": "queue", "retention": "14d"}
				p.reportBlocked(l, n, r)
				continue
			}
			p.reportBlocked(l, n, patchLink(say, l, fields))
		}
	}}

func (p *Pass) reportBlocked(l *graph.Link, n *graph.Node, r Remedy) {
	p.report(l.Pos, []string{n.Name, p.node(l.To).Name}, []string{l.Link.ID()}, map[string]any{"retention_s": n.Retention.Seconds()}, []Remedy{r},
		"one record that %s cannot manage blocks its partition of %s for %s: it is tried without end, and all behind it waits", p.node(l.To).Name, n.Name, model.FormatDuration(n.Retention))
}

var everySecond = &Rule{Code: "IW602", Title: "cron fields that do not say what was probably meant", Severity: Warning,
	Doc: `The layout declared has a field for seconds in front, and it holds a * or a step: the schedule fires every few
seconds. Probably five fields were meant, or one was left out. Fields that do not fit the declared layout
at all are an error when the file is read, with the layout that they fit.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Schedule || n.CronFields != "with-seconds" && n.CronFields != "with-both" {
				continue
			}
			fields := strings.Fields(n.Cron)
			if len(fields) < 6 || !strings.HasPrefix(fields[0], "*") {
				continue
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"cron": n.Cron},
				[]Remedy{patchNode("fire at the first second", n.Name, map[string]any{"cron": strings.Join(append([]string{"0"}, fields[1:]...), " ")})},
				"%s has %q in front, which is the field for seconds: it fires %s", n.Name, fields[0], secondsWords(fields[0]))
		}
	}}

func secondsWords(field string) string {
	if step, ok := strings.CutPrefix(field, "*/"); ok {
		return "every " + step + " seconds of each minute that the rest names"
	}
	return "every second of each minute that the rest names"
}
