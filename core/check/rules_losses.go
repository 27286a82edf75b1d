package check

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var lostByDesign = &Rule{Code: "IW201", Title: "lost by design", Severity: Error,
	Doc: `Messages are lost here although nothing is broken: a topic nobody subscribes to, a queue whose links
take none of its messages, a link that its target refuses, or messages that a function never manages and
that have nowhere to go. Give them a place: a link that takes them, or a dead-letter.`,
	Run: func(p *Pass) { reportLosses(p, 0) }}

var singlePointOfLoss = &Rule{Code: "IW202", Title: "a single point of loss", Severity: Warning,
	Doc: `If this one node fails for longer than the time given, messages are lost: their tries are used up and
nothing takes what is given up. Give the link (or the function) a dead-letter, so that they can be sent
again afterwards.`,
	Run: func(p *Pass) { reportLosses(p, 1) }}

// reportLosses reports the loss sets of one size, once for each place of loss,
// naming the faults that lead there and the entries whose messages they hit.
func reportLosses(p *Pass, size int) {
	type place struct {
		cause, node string
		link        int
	}
	entries, faults := map[place][]string{}, map[place][]string{}
	first := map[place]LossSet{}
	type fault struct {
		place
		name string
	}
	listed := map[fault]bool{}
	var order []place
	for _, i := range p.entries {
		name := p.node(i).Name
		for _, s := range p.Entries[name].LossSets {
			if len(s.Faults) != size {
				continue
			}
			k := place{s.Cause, s.Node, s.link}
			old, seen := first[k]
			if !seen {
				order = append(order, k)
			}
			if !seen || *s.After.Seconds < *old.After.Seconds {
				first[k] = s
			}
			if known := entries[k]; len(known) == 0 || known[len(known)-1] != name {
				entries[k] = append(known, name)
			}
			for _, f := range s.Faults {
				if at := (fault{k, f}); !listed[at] {
					listed[at] = true
					faults[k] = append(faults[k], f)
				}
			}
		}
	}
	sort.SliceStable(order, func(i, j int) bool { return order[i].node < order[j].node })
	for _, k := range order {
		s := first[k]
		s.Faults = faults[k]
		pos, links, at := p.node(p.Graph.NodeID(s.Node)).Pos, []string{}, s.Node
		var remedies []Remedy
		if s.link != graph.None {
			l := p.link(s.link)
			pos, links, at = l.Pos, []string{l.Link.ID()}, l.Link.ID()
			remedies = deadLetterRemedies(p, l, s)
		}
		nodes := append([]string{s.Node}, without(s.Faults, s.Node)...)
		evidence := map[string]any{"entries": entries[k], "faults": s.Faults, "cause": s.Cause, "after": s.After}
		if size == 0 {
			which := "every message"
			if s.Some {
				which = "some messages"
			}
			p.report(pos, nodes, links, evidence, remedies, "%s from %s are lost at %s with nothing broken: %s", which, list(entries[k]), at, causeWords(s.Cause))
			continue
		}
		who := s.Faults[0]
		if len(s.Faults) > 1 {
			who = "any one of " + strings.Join(s.Faults, ", ")
		}
		p.report(pos, nodes, links, evidence, remedies, "if %s fails, messages from %s are lost at %s %s: %s", who, list(entries[k]), at, describeAfter(s.After), causeWords(s.Cause))
	}
}

func without(items []string, s string) []string {
	var out []string
	for _, x := range items {
		if x != s {
			out = append(out, x)
		}
	}
	return out
}

func list(items []string) string {
	if len(items) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(items[:2], ", "), len(items)-2)
	}
	return strings.Join(items, ", ")
}

func causeWords(cause string) string {
	return map[string]string{"exhausted": "the tries are used up and there is no dead-letter", "expired": "the retention ends before anybody has consumed them",
		"rejected": "the write is rejected and nothing takes what is given up", "refused": "the target's `callers` do not name the sender", "unsubscribed": "the topic has no links"}[cause]
}

// newParked names a new queue for what is set aside on a link.
func newParked(p *Pass, l *graph.Link) string {
	name := l.Link.To + "-parked"
	for p.Graph.NodeID(name) != graph.None {
		name += "-2"
	}
	return name
}

// deadLetterRemedies offers a dead-letter: the queue that already parks others'
// messages, or a new one.
func deadLetterRemedies(p *Pass, l *graph.Link, s LossSet) []Remedy {
	canHave := l.Relation.Delivering() || l.Relation.Asynchronous()
	if !canHave || l.DeadLetter != graph.None || s.Cause == "refused" {
		return nil
	}
	fields := map[string]any{}
	if l.Policy.Tries == 0 {
		fields["retry"] = map[string]any{"tries": 5}
	}
	target := ""
	for i := range p.Graph.Nodes {
		n := p.node(i)
		if n.Kind == model.Queue && len(n.DeadFrom) > 0 && n.Name != l.Link.To && n.Name != s.Node && !slices.Contains(s.Faults, n.Name) {
			target = n.Name
			break
		}
	}
	if target != "" {
		fields["dead-letter"] = target
		return []Remedy{patchLink(fmt.Sprintf("set messages of %s aside in %s", l.Link.ID(), target), l, fields)}
	}
	target = newParked(p, l)
	fields["dead-letter"] = target
	r := patchLink(fmt.Sprintf("set messages of %s aside in a new queue %s", l.Link.ID(), target), l, fields)
	r.Patch["nodes"].(map[string]any)[target] = map[string]any{"kind": "queue", "retention": "14d"}
	return []Remedy{r}
}

var unreadParked = &Rule{Code: "IW203", Title: "parked messages that nobody reads", Severity: Warning,
	Doc: `Dead letters or failures come to rest here and nothing leaves. Unless somebody looks, they are found
when their retention has ended, or never. Link a function or a person's desk to it, put an alarm on its
depth, or accept the finding and say who works it off.`,
	Run: func(p *Pass) {
		failing := p.deadLettersOfNodes()
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if len(n.Out) > 0 || !n.Kind.Channel() || n.Kind == model.Topic {
				continue
			}
			var from []string
			for _, id := range n.DeadFrom {
				from = append(from, p.link(id).Link.ID())
			}
			for _, id := range n.In {
				if p.link(id).When == model.Failure {
					from = append(from, p.link(id).Link.ID())
				}
			}
			from = append(from, failing[i]...)
			if len(from) == 0 || watched(p, n.Name) {
				continue
			}
			alarm := "in-" + n.Name
			remedies := []Remedy{{Say: "an alarm as soon as something lies there", Patch: map[string]any{"alarms": map[string]any{alarm: map[string]any{"watch": "parked", "of": n.Name, "above": 0}}}}}
			if desk := n.Name + "-desk"; p.Graph.NodeID(desk) == graph.None {
				remedy := patchNode("have somebody work it off: an outside system that takes its messages", n.Name, map[string]any{"links": map[string]any{desk: map[string]any{}}})
				remedy.Patch["nodes"].(map[string]any)[desk] = map[string]any{"kind": "outside", "takes": "5m"}
				remedies = append(remedies, remedy)
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"from": from}, remedies,
				"what fails at %s comes to rest in %s, and nothing reads it: it is noticed when its retention of %s has ended, or never", list(from), n.Name, model.FormatDuration(n.Retention))
		}
	}}

// watched tells whether an alarm looks at what rests in a node.
func watched(p *Pass, node string) bool {
	for _, a := range p.Graph.Topology.Alarms {
		if a.Of == node && (a.Watch == "depth" || a.Watch == "oldest" || a.Watch == "parked") {
			return true
		}
	}
	return false
}

var shortDeadLetterRetention = &Rule{Code: "IW204", Title: "a dead-letter keeps messages no longer than its source", Severity: Warning,
	Doc: `With age: carried a message brings the time that it has already waited. Where the dead-letter's
retention is not longer than the source's, it may be gone as soon as it comes. Make the retention longer.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			if l.DeadLetter == graph.None || !l.Relation.Polls() {
				continue
			}
			source, dead := p.node(l.From), p.node(l.DeadLetter)
			if dead.Kind != model.Queue || !dead.CarryAge || dead.Retention > source.Retention {
				continue
			}
			longer := model.FormatDuration(2 * source.Retention)
			p.report(dead.Pos, []string{dead.Name, source.Name}, []string{l.Link.ID()}, map[string]any{"retention_s": dead.Retention.Seconds(), "source_retention_s": source.Retention.Seconds()},
				[]Remedy{patchNode("keep what is set aside for "+longer, dead.Name, map[string]any{"retention": longer})},
				"%s keeps messages for %s and counts the time that they waited in %s, which keeps them for %s: an old message is lost as soon as it is set aside", dead.Name, model.FormatDuration(dead.Retention), source.Name, model.FormatDuration(source.Retention))
		}
	}}

var untakenKeys = &Rule{Code: "IW205", Title: "keys that no link takes", Severity: Warning,
	Doc: `Outsiders write keys that every link's filter declines, so nothing happens to them: often a suffix in
another case, or a folder that moved. Widen a filter, or take the key out of keys.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if len(n.Out) == 0 {
				continue
			}
			for k, t := range n.Keys {
				s := state{t.Shape(expr.AnyKey), ""}
				taken := false
				for _, id := range n.Out {
					taken = taken || p.filterVerdict(p.link(id), s) != expr.Impossible
				}
				if taken {
					continue
				}
				rest := []any{}
				for j, other := range n.Node.Keys {
					if j != k {
						rest = append(rest, other)
					}
				}
				p.report(n.Pos, []string{n.Name, t.Source}, nil, map[string]any{"key": t.Source}, []Remedy{patchNode("say that such keys are not written", n.Name, map[string]any{"keys": rest})},
					"%s takes keys like %s, and none of its links takes them: they lie there and nothing happens", n.Name, t.Source)
			}
		}
	}}

var unreadQueue = &Rule{Code: "IW206", Title: "a queue at an end of the model", Severity: Note,
	Doc: `Messages come to this queue and nothing in the model reads them, so they are lost when their retention
ends. If something outside reads it, say so with a link to an outside node.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Queue || len(n.Out) > 0 || len(n.In) == 0 {
				continue
			}
			plain := false
			for _, id := range n.In {
				plain = plain || p.link(id).When != model.Failure
			}
			if !plain {
				continue
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"retention_s": n.Retention.Seconds()}, nil,
				"nothing reads %s: its messages are gone %s after they came", n.Name, model.FormatDuration(n.Retention))
		}
	}}
