package check

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var lostNormally = &Rule{Code: "IW201", Title: "Messages lost in normal operation", Severity: Error,
	Doc: `Messages are lost here although nothing is broken: a topic without links, a message that no link accepts, a
link that its target refuses, runs that fail or exceed their timeout and have no failure target, messages
that find no free run until they are given up, a lease that ends before its run, a queue that hides messages
for longer than it keeps them, or that is nearly full on average. Give them a place: a link that accepts
them, or a dead-letter node.`,
	Run: func(p *Pass) {
		reportNormalLosses(p)
		reportUnmatched(p)
	}}

var singlePointOfLoss = &Rule{Code: "IW202", Title: "Single point of loss", Severity: Warning,
	Doc: `If this one node fails for longer than the time given, messages are lost: their tries are exhausted and
nothing takes what is given up. Give the link (or the function) a dead-letter node, so that they can be sent
again afterwards. A failure or dead-letter queue whose consumer keeps up with the few messages that fail as a rule
may fall behind when all of them fail: that is reported with how much more comes than its readers can take.
When the fault is over, all that it held up comes at once: where the next readers cannot take it before it
expires, more readers, or a longer retention, help.
A consumer that does not read is reported where messages are kept for less than a day; a
link that is switched off, and a dead-letter node that rejects writes, are listed with the loss sets of the
entry but are no finding.`,
	Run: reportSingleFaults}

// places lists what is lost at each place in one of two ways, by node.
func (p *Pass) lostAt(of func(*flow.PlaceLoss) *flow.Losing) []*flow.PlaceLoss {
	var out []*flow.PlaceLoss
	for k := range p.Places {
		if of(&p.Places[k]).Any {
			out = append(out, &p.Places[k])
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		a, b := out[i], out[j]
		return cmp.Or(
			cmp.Compare(a.Node, b.Node),
			cmp.Compare(a.Cause, b.Cause),
			cmp.Compare(a.Link, b.Link),
			cmp.Compare(a.Load, b.Load),
		) < 0
	})
	return out
}

// where returns the position, the links and the name of a place.
func where(l *flow.Place, p *Pass) (model.Position, []string, string) {
	if l.Link == graph.None {
		return p.Node(l.Node).Pos, nil, p.Node(l.Node).Name
	}
	link := p.Link(l.Link)
	return link.Pos, []string{link.Link.ID()}, link.Link.ID()
}

// mostNamed are as many entries as the evidence of a finding names.
const mostNamed = 8

// names returns the names of nodes, in their order: of mostNamed of them.
func (p *Pass) names(ids []int32) []string {
	var out []string
	for _, i := range ids[:min(len(ids), mostNamed)] {
		out = append(out, p.Node(int(i)).Name)
	}
	return out
}

func reportNormalLosses(p *Pass) {
	for _, at := range p.lostAt(func(l *flow.PlaceLoss) *flow.Losing { return &l.Normal }) {
		l := &at.Normal
		if l.First.Why == "behind" || l.First.Why == "bursts" && p.Capacity[p.Node(at.Node).Name].Full > busy {
			continue // IW501 and IW502 report the backlog, or that there is little room
		}
		pos, links, name := where(&at.Place, p)
		which, verb := "all messages", "are"
		if l.First.Some {
			which = "some messages"
			switch s := l.First.Share; {
			case s.Low == s.High && s.High > 0:
				which = model.FormatShare(s.High) + " of the messages"
			case (l.First.Why == "throttled" || l.First.Why == "rate") && at.Of > 0:
				which = "about " + model.FormatShare(at.Lost/at.Of) + " of the messages"
			case s.Low == 0:
				which, verb = "messages", "may be"
			}
		}
		entries := p.names(l.Entries)
		evidence := map[string]any{
			"entries":     entries,
			"entry_count": len(l.Entries),
			"cause":       at.Cause,
			"share":       [2]float64{l.First.Share.Low, l.First.Share.High},
		}
		p.report(
			pos,
			[]string{p.Node(at.Node).Name},
			links,
			evidence,
			lossRemedies(p, &at.Place),
			"%s that come from %s to `%s` %s lost there with nothing broken: %s",
			which,
			listOf(entries, len(l.Entries)),
			name,
			verb,
			causeWords(at.Cause, l.First.Why),
		)
		atTimes := l.First.Why == "crowded" || l.First.Why == "bursts"
		if h := l.First.Share.High; l.First.Stated && h < 1e-4 || atTimes && h < 0.01 {
			p.rated(Warning)
		}
	}
}

// reportUnmatched reports the channels of which no link accepts a message.
func reportUnmatched(p *Pass) {
	at := map[int][]string{}
	for s := range p.Unmatched {
		sp := p.States.All[s]
		at[sp.Node] = append(at[sp.Node], sp.Message.String())
	}
	for i := range p.Graph.Nodes {
		n := p.Node(i)
		comes := at[i]
		if len(comes) == 0 || len(n.Ignore.Clauses) > 0 && p.ignoresAll(n) {
			continue
		}
		slices.Sort(comes)
		p.report(
			n.Pos,
			[]string{n.Name},
			nil,
			map[string]any{"comes": slices.Compact(comes), "cause": "unmatched"},
			nil,
			"no link of `%s` accepts %s: these messages reach no consumer",
			n.Name,
			list(slices.Compact(comes)),
		)
	}
}

// ignoresAll reports whether a topic's `ignore` covers everything that no link
// accepts.
func (p *Pass) ignoresAll(n *graph.Node) bool {
	for s := range p.Unmatched {
		sp := p.States.All[s]
		if sp.Node != n.ID {
			continue
		}
		e, _ := p.Seen(sp.Message, n.Kind.Event())
		if !n.Ignore.Takes(e) {
			return false
		}
	}
	return true
}

func reportSingleFaults(p *Pass) {
	for _, at := range p.lostAt(func(l *flow.PlaceLoss) *flow.Losing { return &l.Single }) {
		l := &at.Single
		faults := flow.SortedKeys(l.Faults)
		var nodes []string
		for _, f := range faults {
			if p.Graph.NodeID(f) != graph.None {
				nodes = append(nodes, f)
			} else if name, crash := strings.CutSuffix(f, "/crash"); crash {
				nodes = append(nodes, name)
			}
		}
		pos, links, name := where(&at.Place, p)
		who := "`" + faults[0] + "` fails"
		switch {
		case len(faults) == flow.MostFaults:
			who = fmt.Sprintf("any one of at least %d nodes fails (%s, …)", len(faults), strings.Join(faults[:3], ", "))
		case len(faults) > 4:
			who = fmt.Sprintf("any one of %d nodes fails (%s, …)", len(faults), strings.Join(faults[:3], ", "))
		case len(faults) > 1:
			who = "any one of " + strings.Join(faults, ", ") + " fails"
		case strings.HasSuffix(faults[0], "/stopped"):
			who = "`" + strings.TrimSuffix(faults[0], "/stopped") + "` is not read"
		case strings.HasSuffix(faults[0], "/crash"):
			who = "`" + strings.TrimSuffix(faults[0], "/crash") + "` crashes"
		}
		here := p.Node(at.Node).Name
		about := append([]string{here}, without(nodes, here)...)
		if len(about) > 20 {
			about = about[:20]
		}
		entries := p.names(l.Entries)
		evidence := map[string]any{
			"entries":     entries,
			"entry_count": len(l.Entries),
			"faults":      faults[:min(len(faults), 20)],
			"fault_count": len(faults),
			"cause":       at.Cause,
			"after":       l.First.After,
			"limit":       l.First.Limit,
		}
		reason, remedies := causeWords(at.Cause, l.First.Why), lossRemedies(p, &at.Place)
		if at.Surge || at.CatchUp {
			what := "what then comes is %.2g times what its readers can take"
			if at.CatchUp {
				what = "what was held up then comes at once, up to %.2g times what its readers can take in time"
			}
			reason = fmt.Sprintf(what, at.Load)
			remedies = []remedy.Remedy{moreReaders(p, p.Link(at.Link), at.Load)}
		}
		p.report(
			pos,
			about,
			links,
			evidence,
			remedies,
			"if %s, messages from %s are lost at `%s` %s: %s",
			who,
			listOf(entries, len(l.Entries)),
			name,
			flow.DescribeAfter(l.First.After),
			reason,
		)
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

func list(items []string) string { return listOf(items, len(items)) }

// listOf names the first of so many items.
func listOf(first []string, n int) string {
	if n > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(first[:2], ", "), n-2)
	}
	return strings.Join(first, ", ")
}

func causeWords(cause, why string) string {
	switch why {
	case "deadlock":
		return "its calls wait for each other, and there is no dead-letter node"
	case "accepts":
		return "the payload does not fit `accepts`, and there is no dead-letter node"
	case "lease":
		return "the lease ends before the run does, so the tries are exhausted, and there is no dead-letter node"
	case "no reader":
		return "no link reads them before the retention ends"
	case "behind":
		if cause == "given-up" {
			return "its readers cannot keep up, and what has waited for too long is given up"
		}
		if cause == "overflow" {
			return "its readers cannot keep up, and the backlog grows until the queue is full"
		}
		return "its readers cannot keep up, and the backlog grows until the retention ends"
	case "throttled":
		if cause == "given-up" {
			return "no run is free for them until `give-up` passes, and there is no dead-letter node"
		}
		if cause == "exhausted" {
			return "no run is free for its calls, the tries are exhausted, and there is no dead-letter node"
		}
	case "rate":
		if cause == "exhausted" {
			return "they are over the rate limit, the tries are exhausted, and there is no dead-letter node"
		}
	case "bursts":
		return "several come at once, and a partition takes no more than `partition-rate`"
	case "crowded":
		return "the queue holds nearly as much as it can on average, and is full at times"
	case "blocked":
		return "a record that is tried until its retention ends blocks those behind it"
	}
	return map[string]string{
		"exhausted": "the tries are exhausted and there is no dead-letter node", "expired": "the retention ends before they are consumed",
		"rejected": "the write is rejected and nothing takes what is given up", "refused": "the `callers` of the target do not name the sender",
		"unsubscribed": "the topic has no links", "given-up": "`give-up` passes and there is no dead-letter node",
		"hop-limit": "they are over the hop limit and there is no dead-letter node", "too-large": "they are over the payload limit",
		"overflow": "the queue is full", "throttled": "there is no room for the write",
	}[cause]
}

// newName returns a name for a node that no other has.
func newName(p *Pass, base string) string {
	if len(base) > 55 {
		base = base[:55]
	}
	name := base
	for k := 2; p.Graph.NodeID(name) != graph.None; k++ {
		name = fmt.Sprintf("%s-%d", base, k)
	}
	return name
}

// lossRemedies offers a dead-letter queue of its own for what is lost at a place.
func lossRemedies(p *Pass, l *flow.Place) []remedy.Remedy {
	if l.Cause == "refused" || l.Cause == "unsubscribed" {
		return nil
	}
	if l.Link == graph.None {
		n := p.Node(l.Node)
		if !n.Kind.Invoked() || n.DeadLetter != graph.None {
			return intakeRemedies(p, n)
		}
		parked := newName(p, n.Name+"-parked")
		r := remedy.Node(
			fmt.Sprintf("Add a dead-letter queue with an alarm to `%s`", n.Name),
			n.Name,
			map[string]any{"dead-letter": parked},
		)
		return append([]remedy.Remedy{withParked(r, parked)}, intakeRemedies(p, n)...)
	}
	link := p.Link(l.Link)
	if l.Cause == "too-large" || !(link.Relation.Delivering() || link.Relation.Asynchronous()) {
		return nil
	}
	fields := map[string]any{}
	say := fmt.Sprintf("Add a dead-letter queue with an alarm to `%s`", link.Link.ID())
	if link.Relation.Polls() && (link.Policy.Tries == 0 || l.Cause == "expired") {
		fields["retry"] = map[string]any{"tries": 5, "give-up": nil}
		say += ", after five tries"
	}
	if link.DeadLetter != graph.None {
		if len(fields) == 0 {
			return nil
		}
		return []remedy.Remedy{
			remedy.Link(
				fmt.Sprintf("Stop after five tries, so that `%s` gets it", p.Node(link.DeadLetter).Name),
				link,
				fields,
			),
		}
	}
	parked := newName(p, link.Link.To+"-parked")
	fields["dead-letter"] = parked
	return []remedy.Remedy{withParked(remedy.Link(say, link, fields), parked)}
}

// withParked adds a dead-letter queue to a remedy, and an alarm on the first message
// in it: dead letters are of use only with a consumer or an alarm.
func withParked(r remedy.Remedy, name string) remedy.Remedy {
	r.Patch["nodes"].(map[string]any)[name] = map[string]any{"kind": "queue", "retention": "14d"}
	r.Patch["alarms"] = map[string]any{"in-" + name: map[string]any{"watch": "parked", "of": name, "above": 0}}
	return r
}

// intakeRemedies offers a dead-letter queue for every link whose messages a node's
// intake holds without one.
func intakeRemedies(p *Pass, n *graph.Node) []remedy.Remedy {
	nodes := map[string]any{}
	parked := newName(p, n.Name+"-parked")
	var ids []string
	for _, id := range n.In {
		l := p.Link(id)
		if l.DeadLetter != graph.None || !l.Relation.Asynchronous() {
			continue
		}
		from, ok := nodes[l.Link.From].(map[string]any)
		if !ok {
			from = map[string]any{"links": map[string]any{}}
			nodes[l.Link.From] = from
		}
		from["links"].(map[string]any)[l.Link.Name] = map[string]any{"dead-letter": parked}
		ids = append(ids, "`"+l.Link.ID()+"`")
	}
	if len(ids) == 0 {
		return nil
	}
	return []remedy.Remedy{
		withParked(
			remedy.Remedy{Say: "Add a dead-letter queue with an alarm to " + list(ids), Patch: map[string]any{"nodes": nodes}},
			parked,
		),
	}
}

var parkedNormally = &Rule{Code: "IW208", Title: "Messages parked in normal operation", Severity: Warning,
	Doc: `Messages come to a dead-letter or failure node although nothing is broken and no ` + "`fails`" + ` share says so:
they are older than give-up before their first try, or what a run calls fails every time. It is an error where
all messages end there.`,
	Run: func(p *Pass) {
		type where struct {
			node, to, link int
			why            string
		}
		found := map[where]flow.Park{}
		for s, parks := range p.Parks {
			for _, k := range parks {
				if k.Stated || k.Share.High < flow.Rare || k.Why == "lease" || k.Why == "for-good" || p.lateAt(s) {
					continue
				}
				switch k.Why { // these have a finding of their own
				case "accepts", "refused", "too-large", "deadlock", "behind":
					continue
				}
				if k.Cause == "hop-limit" {
					continue
				}
				if k.Why == "" && k.Cause != "given-up" {
					continue
				}
				w := where{p.States.All[s].Node, p.States.All[k.To].Node, k.Link, k.Why}
				if old, ok := found[w]; !ok || old.Share.High < k.Share.High {
					found[w] = k
				}
			}
		}
		for _, w := range slices.SortedFunc(maps.Keys(found), func(a, b where) int {
			return cmp.Or(cmp.Compare(a.node, b.node), cmp.Compare(a.to, b.to), cmp.Compare(a.link, b.link))
		}) {
			k := found[w]
			n, to := p.Node(w.node), p.Node(w.to)
			var links []string
			pos, at := n.Pos, n.Name
			if w.link != graph.None {
				links, pos, at = []string{p.Link(w.link).Link.ID()}, p.Link(w.link).Pos, p.Link(w.link).Link.ID()
			}
			p.report(
				pos,
				[]string{n.Name, to.Name},
				links,
				map[string]any{"share": [2]float64{k.Share.Low, k.Share.High}, "cause": k.Cause, "why": k.Why},
				nil,
				"%s of `%s` are parked in `%s` with nothing broken: %s",
				shareWords(k.Share),
				at,
				to.Name,
				parkWords(k),
			)
			if k.Share.Low > 0.99 {
				p.rated(Error)
			}
		}
	}}

func shareWords(s flow.Span) string {
	switch {
	case s.Low >= 1-1e-9:
		return "all messages"
	case s.High-s.Low > 0.01:
		return "some messages"
	}
	return model.FormatShare(s.High) + " of the messages"
}

func parkWords(k flow.Park) string {
	switch {
	case k.Cause == "given-up":
		return "`give-up` passes before the tries are exhausted"
	}
	return "every run fails"
}

var unreadParked = &Rule{Code: "IW203", Title: "Dead letters without a consumer", Severity: Warning,
	Doc: `Dead letters or failures come to rest here and nothing leaves. Unless somebody looks, they are found
when their retention has ended, or never. Add a consumer (a function, or an outside system for a person's desk),
put an alarm on its depth, or accept the finding and say how they are processed.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if len(n.Out) > 0 || !n.Kind.Channel() || n.Kind == model.Topic {
				continue
			}
			var from []string
			for _, id := range n.DeadFrom {
				from = append(from, p.Link(id).Link.ID())
			}
			for _, id := range n.In {
				if p.Link(id).When == model.Failure {
					from = append(from, p.Link(id).Link.ID())
				}
			}
			from = append(from, p.DeadLetterFor[i]...)
			slices.Sort(from)
			if len(from) == 0 || watched(p, n.Name) {
				continue
			}
			alarm := "in-" + n.Name
			remedies := []remedy.Remedy{
				{
					Say: fmt.Sprintf("Add an alarm on the first message in `%s`", n.Name),
					Patch: map[string]any{
						"alarms": map[string]any{alarm: map[string]any{"watch": "parked", "of": n.Name, "above": 0}},
					},
				},
			}
			if desk := newName(p, n.Name+"-desk"); n.Kind.Leases() {
				remedy := remedy.Node(
					fmt.Sprintf("Add a consumer to `%s`: an outside system for the people who process it", n.Name),
					n.Name,
					map[string]any{"links": map[string]any{desk: map[string]any{}}},
				)
				remedy.Patch["nodes"].(map[string]any)[desk] = map[string]any{"kind": "outside", "takes": "5m"}
				remedies = append(remedies, remedy)
			}
			until := ", or never"
			if n.Retention > 0 {
				until = fmt.Sprintf(" when its retention of %s ends", model.FormatDuration(n.Retention))
			}
			p.report(
				n.Pos,
				[]string{n.Name},
				nil,
				map[string]any{"from": from},
				remedies,
				"what fails at %s comes to rest in `%s`, and nothing reads it: it is noticed%s",
				list(from),
				n.Name,
				until,
			)
		}
	}}

// watched reports whether an alarm watches what rests in a node.
func watched(p *Pass, node string) bool {
	for _, a := range p.Graph.Topology.Alarms {
		if a.Of == node && (a.Watch == "depth" || a.Watch == "oldest" || a.Watch == "parked") {
			return true
		}
	}
	return false
}

var shortDeadLetterRetention = &Rule{Code: "IW204", Title: "Dead-letter retention too short", Severity: Warning,
	Doc: `With age: carried a message brings the time that it has already waited. Where the dead-letter queue's
retention is not longer than the source's, it may be gone as soon as it comes. Make the retention longer.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			if l.DeadLetter == graph.None || !l.Relation.Polls() {
				continue
			}
			source, dead := p.Node(l.From), p.Node(l.DeadLetter)
			if !dead.Kind.Leases() || !dead.CarryAge || dead.Retention > source.Retention {
				continue
			}
			longer := model.FormatDuration(2 * source.Retention)
			p.report(
				dead.Pos,
				[]string{dead.Name, source.Name},
				[]string{l.Link.ID()},
				map[string]any{
					"retention_s":        dead.Retention.Seconds(),
					"source_retention_s": source.Retention.Seconds(),
				},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Keep messages in `%s` for %s", dead.Name, longer),
						dead.Name,
						map[string]any{"retention": longer},
					),
				},
				"`%s` keeps messages for %s and counts the time that they waited in `%s`, which keeps them for %s: an old message is lost as soon as it is parked",
				dead.Name,
				model.FormatDuration(dead.Retention),
				source.Name,
				model.FormatDuration(source.Retention),
			)
		}
	}}

var unmatchedKeys = &Rule{Code: "IW205", Title: "Keys matched by no link", Severity: Warning,
	Doc: `External senders use keys that every link's filter declines, so nothing happens to them: often a suffix in
another case, or a folder that moved. Widen a filter, or take the key out of keys.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if len(n.Out) == 0 {
				continue
			}
			for k, t := range n.Keys {
				m := flow.Message{
					Key:    t.Shape(expr.AnyKey),
					Kind:   flow.AnyText,
					Source: flow.AnyText,
					Size:   flow.UnknownSize,
					Data:   flow.UnknownData,
					Row:    graph.None,
				}
				if n.Kind.Keeps() {
					m = p.Arriving(n, nil, m)
				}
				taken := false
				for _, id := range n.Out {
					taken = taken || p.FilterVerdict(p.Link(id), m) != expr.Impossible
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
				p.report(
					n.Pos,
					[]string{n.Name, t.Source},
					nil,
					map[string]any{"key": t.Source},
					[]remedy.Remedy{remedy.Node("State that such keys are not used", n.Name, map[string]any{"keys": rest})},
					"`%s` gets keys like %s, and none of its links accepts them: nothing happens to them",
					n.Name,
					t.Source,
				)
			}
		}
	}}

var unreadQueue = &Rule{Code: "IW206", Title: "Terminal queue without a consumer", Severity: Note,
	Doc: `Messages come to this queue and nothing in the model reads them, so they are lost when their retention
ends. If something outside reads it, say so with a link to an outside node.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			_, plain := p.Entries[n.Name]
			if !n.Kind.Leases() || len(n.Out) > 0 {
				continue
			}
			for _, id := range n.In {
				plain = plain || p.Link(id).When != model.Failure
			}
			if !plain {
				continue
			}
			remedies, why := p.switchOn(func(l *graph.Link) bool { return l.Link.From == n.Name })
			if remedies != nil {
				why = ", since " + why
			}
			p.report(n.Pos, []string{n.Name}, nil, map[string]any{"retention_s": n.Retention.Seconds()}, remedies,
				"nothing reads `%s`%s: its messages expire after %s", n.Name, why, model.FormatDuration(n.Retention))
		}
	}}

var unusedDeadLetter = &Rule{Code: "IW207", Title: "Dead-letter node that nothing reaches", Severity: Warning,
	Doc: `A reader's dead-letter node gets what is left when the tries are exhausted. Here the tries do not end before the
message's retention does: what keeps failing is lost there as expired, and the dead-letter node stays empty.
Limit the tries, or keep messages for longer.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			n := p.Node(l.From)
			if l.DeadLetter == graph.None || !l.Relation.Polls() || p.Reach[i] == expr.Impossible {
				continue
			}
			to := p.PolledState(l)
			after, _, ends := p.ReaderPatience(n, l, to)
			if ends {
				continue
			}
			why := "there is no limit on the tries"
			if l.Policy.Tries > 0 {
				why = fmt.Sprintf("only %s of the tries pass before", model.FormatDuration(rounded(after.At)))
			}
			p.report(
				l.Pos,
				[]string{l.Link.From, p.Node(l.DeadLetter).Name},
				[]string{l.Link.ID()},
				map[string]any{"retention_s": n.Retention.Seconds()},
				[]remedy.Remedy{
					remedy.Link(
						fmt.Sprintf("Give `%s` five tries", l.Link.ID()),
						l,
						map[string]any{"retry": map[string]any{"tries": 5, "wait": nil, "give-up": nil}},
					),
				},
				"what keeps failing at `%s` never comes to `%s`: %s, and the retention of `%s`, %s, ends first",
				l.Link.ID(),
				p.Node(l.DeadLetter).Name,
				why,
				n.Name,
				model.FormatDuration(n.Retention),
			)
		}
	}}
