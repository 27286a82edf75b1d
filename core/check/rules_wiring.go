package check

import (
	"fmt"
	"strings"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var deadResultLinks = &Rule{Code: "IW301", Title: "result links that can never fire", Severity: Warning,
	Doc: `success and failure links fire for asynchronous runs, when nobody waits for the answer. This function is
only polled or called, so they never do: the channel's own tries and dead-letter apply. Put a dead-letter
on the link that polls it, or set results: all.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.ResultsAll || len(n.In) == 0 && n.Rate == 0 || p.asynchronous(i) {
				continue
			}
			for _, id := range n.Out {
				l := p.link(id)
				if l.When == model.OfRun {
					continue
				}
				var by []string
				for _, in := range n.In {
					by = append(by, fmt.Sprintf("%s (%s)", p.link(in).Link.ID(), p.link(in).Relation))
				}
				p.report(l.Pos, []string{n.Name, l.Link.To}, []string{l.Link.ID()}, map[string]any{"callers": by},
					[]Remedy{patchNode("let it fire for every run", n.Name, map[string]any{"results": "all"})},
					"the %s link %s never fires: somebody waits for every run of %s (%s)", l.When, l.Link.ID(), n.Name, list(by))
			}
		}
	}}

var impossibleFilter = &Rule{Code: "IW302", Title: "a filter that nothing can match", Severity: Warning,
	Doc: `Nothing that can reach the source of this link has such a key, type or source, so the link never
fires. Mostly a name differs between the two places: compare what is sent with what is matched.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			states := p.At[l.From].states()
			if p.Reach[i] != expr.Impossible || l.Filter.Everything || len(states) == 0 {
				continue
			}
			var comes []string
			for _, s := range states {
				words := s.key.String()
				if s.kind != "" && s.kind != anyType {
					words += " of type " + s.kind
				}
				comes = append(comes, words)
			}
			remedy := patchLink("take everything", l, map[string]any{"match": nil})
			p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, map[string]any{"comes": comes}, []Remedy{remedy},
				"%s never fires: its filter (%s) takes nothing of what comes to %s (%s)", l.Link.ID(), filterWords(l.Link.Match), l.Link.From, list(comes))
		}
	}}

func filterWords(m model.Match) string {
	var clauses []string
	for _, c := range m {
		var fields []string
		for _, f := range []struct {
			name   string
			values []string
		}{{"prefix", c.Prefix}, {"suffix", c.Suffix}, {"type", c.Type}, {"source", c.Source}} {
			if len(f.values) > 0 {
				fields = append(fields, f.name+" "+strings.Join(f.values, " or "))
			}
		}
		if c.If != "" {
			fields = append(fields, "if "+c.If)
		}
		clauses = append(clauses, strings.Join(fields, ", "))
	}
	return strings.Join(clauses, "; or ")
}

// FilterWords says a filter in a few words, for pictures and lists.
func FilterWords(m model.Match) string { return filterWords(m) }

var competingLinks = &Rule{Code: "IW303", Title: "links that compete for one queue", Severity: Warning,
	Doc: `A queue hands each message to one of the links that match it, not to all. Where both consumers need
every message, put a topic in front and give each a queue of its own.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Kind != model.Queue {
				continue
			}
			for x, a := range n.Out {
				for _, b := range n.Out[x+1:] {
					both := false
					for _, s := range p.At[i].states() {
						both = both || p.filterVerdict(p.link(a), s) != expr.Impossible && p.filterVerdict(p.link(b), s) != expr.Impossible
					}
					if both {
						first, second := p.link(a), p.link(b)
						p.report(second.Pos, []string{n.Name, first.Link.To, second.Link.To}, []string{first.Link.ID(), second.Link.ID()}, nil, nil,
							"%s and %s compete for the messages of %s: each message goes to one of them, not to both", first.Link.To, second.Link.To, n.Name)
					}
				}
			}
		}
	}}

var refusedLink = &Rule{Code: "IW304", Title: "a link that its target refuses", Severity: Error,
	Doc: `The target's callers do not name the source (or permissions are explicit and it has none), so everything
sent over this link is refused. Add the source to callers.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			if !l.Refused {
				continue
			}
			callers := []any{}
			for _, c := range p.node(l.To).Callers {
				callers = append(callers, c)
			}
			p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, nil,
				[]Remedy{patchNode(fmt.Sprintf("let %s use %s", l.Link.From, l.Link.To), l.Link.To, map[string]any{"callers": append(callers, l.Link.From)})},
				"%s refuses what %s sends: its `callers` do not name it", l.Link.To, l.Link.From)
		}
	}}

var oversizedPayload = &Rule{Code: "IW305", Title: "a payload over the limit", Severity: Error,
	Doc: `The platform's limits.payload does not let a message of this size through, so every write of it is
rejected. Put the payload into a bucket and send its key.`,
	Run: func(p *Pass) {
		limit := p.Graph.Topology.Limits.Payload
		if limit == 0 {
			return
		}
		for i := range p.Graph.Links {
			l := p.link(i)
			k := p.node(l.To).Kind
			if l.Size > limit && k.Channel() && k != model.Bucket && k != model.Table {
				p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, map[string]any{"size": l.Size, "limit": limit},
					[]Remedy{patchLink("send a reference of 1KB", l, map[string]any{"size": "1KB"})},
					"%s sends %s to %s, over the limit of %s: every one is rejected", l.Link.From, model.FormatSize(l.Size), l.Link.To, model.FormatSize(limit))
			}
		}
	}}

var unreachedNode = &Rule{Code: "IW306", Title: "a node that nothing reaches", Severity: Note,
	Doc: `No link, rate, key or traffic brings anything to this node. A link to it is missing, or its name differs
from the one that is linked to.`,
	Run: func(p *Pass) {
		failing := p.deadLettersOfNodes()
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if len(n.In) > 0 || len(n.DeadFrom) > 0 || n.Kind == model.Schedule || n.Kind == model.Endpoint || n.Rate > 0 || len(n.Node.Keys) > 0 || p.sources[i] != nil || len(failing[i]) > 0 {
				continue
			}
			p.report(n.Pos, []string{n.Name}, nil, nil, []Remedy{patchNode("take the node out", n.Name, nil)},
				"nothing reaches %s: no link leads to it, and no `rate` or traffic says that outsiders send to it", n.Name)
		}
	}}

// deadLettersOfNodes gives, by dead-letter, the names of the nodes that state it
// for what comes to them.
func (a *Analysis) deadLettersOfNodes() map[int][]string {
	out := map[int][]string{}
	for i := range a.Graph.Nodes {
		if n := a.node(i); n.DeadLetter != graph.None {
			out[n.DeadLetter] = append(out[n.DeadLetter], n.Name)
		}
	}
	return out
}
