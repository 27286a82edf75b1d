package check

import (
	"fmt"
	"slices"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var deadResultLinks = &Rule{Code: "IW301", Title: "Result link that never fires", Severity: Warning,
	Doc: `success and failure links fire for asynchronous runs, when no caller waits for the answer. This function is
only polled or called, so they never do: the channel's own tries and dead-letter apply. Put a dead-letter
on the link that polls it, or set results: all.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if n.ResultsAll || len(n.In) == 0 && n.Rate == 0 || p.Asynchronous(i) {
				continue
			}
			for _, id := range n.Out {
				l := p.Link(id)
				if l.When == model.OfRun {
					continue
				}
				var by []string
				for _, in := range n.In {
					by = append(by, fmt.Sprintf("%s (%s)", p.Link(in).Link.ID(), p.Link(in).Relation))
				}
				p.report(
					l.Pos,
					[]string{n.Name, l.Link.To},
					[]string{l.Link.ID()},
					map[string]any{"callers": by},
					[]remedy.Remedy{
						remedy.Node(
							fmt.Sprintf("Let the result links of `%s` fire for every run", n.Name),
							n.Name,
							map[string]any{"results": "all"},
						),
					},
					"the %s link `%s` never fires: a caller waits for every run of `%s` (%s)",
					l.When,
					l.Link.ID(),
					n.Name,
					list(by),
				)
			}
		}
	}}

var impossibleFilter = &Rule{Code: "IW302", Title: "Filter that matches nothing", Severity: Warning,
	Doc: `Nothing that can reach the source of this link has such a key, type or source, so the link never
fires. Usually a name differs between the two places: compare what is sent with what is matched.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			all := p.At[l.From].All()
			if p.Reach[i] != expr.Impossible || !p.DeclinesSome(l) || len(all) == 0 {
				continue
			}
			var comes []string
			for _, m := range all {
				if words := m.String(); !slices.Contains(comes, words) {
					comes = append(comes, words)
				}
			}
			offered := remedy.Link(
				fmt.Sprintf("Take the filter of `%s` away", l.Link.ID()),
				l,
				map[string]any{"match": nil},
			)
			p.report(
				l.Pos,
				[]string{l.Link.From, l.Link.To},
				[]string{l.Link.ID()},
				map[string]any{"comes": comes},
				[]remedy.Remedy{offered},
				"`%s` never fires: its filter (%s) matches nothing that comes to `%s` (%s)",
				l.Link.ID(),
				linkFilterWords(l),
				l.Link.From,
				list(comes),
			)
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

// linkFilterWords says the whole filter of a link, the changes that it takes included.
func linkFilterWords(l *graph.Link) string {
	words := filterWords(l.Link.Match)
	if len(l.Changes) > 0 {
		words = strings.TrimPrefix(words+"; changes "+strings.Join(l.Changes, " or "), "; ")
	}
	return words
}

// FilterWords says a filter in a few words, for pictures and lists.
func FilterWords(m model.Match) string { return filterWords(m) }

var competingLinks = &Rule{Code: "IW303", Title: "Competing links on one queue", Severity: Warning,
	Doc: `A queue hands each message to one of the links that match it, not to all. Where both consumers need
every message, put a topic in front and give each a queue of its own.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if !n.Kind.Leases() {
				continue
			}
			for x, a := range n.Out {
				for _, b := range n.Out[x+1:] {
					both := false
					for _, m := range p.At[i].All() {
						both = both || p.compete(p.Link(a), p.Link(b), m)
					}
					if both {
						first, second := p.Link(a), p.Link(b)
						p.report(
							second.Pos,
							[]string{n.Name, first.Link.To, second.Link.To},
							[]string{first.Link.ID(), second.Link.ID()},
							nil,
							nil,
							"`%s` and `%s` compete for the messages of `%s`: each message goes to one of them, not to both",
							first.Link.To,
							second.Link.To,
							n.Name,
						)
					}
				}
			}
		}
	}}

// compete reports whether two links can both take a message.
func (p *Pass) compete(x, y *graph.Link, m flow.Message) bool {
	if p.FilterVerdict(x, m) == expr.Impossible || p.FilterVerdict(y, m) == expr.Impossible {
		return false
	}
	if x.Filter.Everything || y.Filter.Everything {
		return true
	}
	for _, one := range x.Filter.Clauses {
		for _, prefix := range flow.OrEmpty(one.Prefix) {
			for _, suffix := range flow.OrEmpty(one.Suffix) {
				if m.Key.HasPrefix(prefix) == expr.Impossible || m.Key.HasSuffix(suffix) == expr.Impossible {
					continue
				}
				narrow := m
				narrow.Key = m.Key.Narrow(prefix, suffix)
				if p.FilterVerdict(y, narrow) != expr.Impossible {
					return true
				}
			}
		}
	}
	return false
}

var refusedLink = &Rule{Code: "IW304", Title: "Link refused by `callers` list", Severity: Error,
	Doc: `The target's callers do not name the source (or permissions are explicit and it has none), so everything
sent over this link is refused. Add the source to callers.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			if !l.Refused {
				continue
			}
			callers := []any{}
			for _, c := range p.Node(l.To).Callers {
				callers = append(callers, c)
			}
			p.report(
				l.Pos,
				[]string{l.Link.From, l.Link.To},
				[]string{l.Link.ID()},
				nil,
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Add `%s` to the callers of `%s`", l.Link.From, l.Link.To),
						l.Link.To,
						map[string]any{"callers": append(callers, l.Link.From)},
					),
				},
				"`%s` refuses what `%s` sends: its `callers` do not name it",
				l.Link.To,
				l.Link.From,
			)
		}
	}}

var oversizedPayload = &Rule{Code: "IW305", Title: "Payload over the size limit", Severity: Error,
	Doc: `The platform's limits.payload does not let a message of this size through, so every write of it is
rejected. Put the payload into a bucket and send its key.`,
	Run: func(p *Pass) {
		limit := p.Graph.Topology.Limits.Payload
		if limit == 0 {
			return
		}
		for i := range p.Graph.Links {
			l := p.Link(i)
			k := p.Node(l.To).Kind
			if size := p.sizeOver(l); size > limit && k.Channel() && !k.Keeps() {
				p.report(
					l.Pos,
					[]string{l.Link.From, l.Link.To},
					[]string{l.Link.ID()},
					map[string]any{"size": size, "limit": limit},
					[]remedy.Remedy{
						remedy.Link(
							fmt.Sprintf("Let `%s` send a reference of 1KB", l.Link.From),
							l,
							map[string]any{"size": "1KB"},
						),
					},
					"`%s` sends %s to `%s`, over the limit of %s: every one is rejected",
					l.Link.From,
					model.FormatSize(size),
					l.Link.To,
					model.FormatSize(limit),
				)
			}
		}
	}}

// sizeOver returns the largest size that is known of what a link sends.
func (p *Pass) sizeOver(l *graph.Link) int64 {
	if l.Size >= 0 || p.Node(l.From).Kind == model.Bucket || p.Reach[l.ID] == expr.Impossible {
		return l.Size
	}
	most := int64(flow.UnknownSize)
	for _, m := range p.At[l.From].All() {
		if p.FilterVerdict(l, p.ResultOf(l, m)) != expr.Impossible {
			most = max(most, m.Size)
		}
	}
	return most
}

var unreachedNode = &Rule{Code: "IW306", Title: "Node that nothing reaches", Severity: Note,
	Doc: `No link, rate, key or traffic brings anything to this node. A link to it is missing, or its name differs
from the one that is linked to.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if len(n.In) > 0 || len(n.DeadFrom) > 0 || n.Kind.Fires() || n.Kind.Answers() ||
				n.Rate > 0 ||
				len(n.Node.Keys) > 0 ||
				len(n.Types) > 0 ||
				len(n.Sources) > 0 ||
				p.Sources[i] != nil ||
				len(p.DeadLetterFor[i]) > 0 {
				continue
			}
			remedies, why := p.switchOn(func(l *graph.Link) bool { return l.Link.To == n.Name })
			if remedies == nil {
				remedies = []remedy.Remedy{remedy.Node(fmt.Sprintf("Remove `%s`", n.Name), n.Name, nil)}
				why = "no link leads to it"
			}
			p.report(n.Pos, []string{n.Name}, nil, nil, remedies,
				"nothing reaches `%s`: %s, and no `rate` or traffic says that external senders use it", n.Name, why)
		}
	}}

// switchOn lists those of the links that are switched off that a finding is about, with a remedy for each.
func (p *Pass) switchOn(about func(*graph.Link) bool) (remedies []remedy.Remedy, why string) {
	var off []string
	for _, l := range p.Off {
		if about(l) {
			say := fmt.Sprintf("Switch `%s` on", l.Link.ID())
			remedies = append(remedies, remedy.Link(say, l, map[string]any{"enabled": true}))
			off = append(off, "`"+l.Link.ID()+"`")
		}
	}
	if off == nil {
		return nil, ""
	}
	if len(off) == 1 {
		return remedies, off[0] + " is switched off"
	}
	return remedies, strings.Join(off, ", ") + " are switched off"
}
