package check

import (
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

var shortLease = &Rule{Code: "IW401", Title: "a lease not longer than the function's timeout", Severity: Warning,
	Doc: `While a run is still under way its lease ends and the message is handed out again: work is done twice,
and tries are used up. Make the lease longer than the timeout, with room for the wait of a batch.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			q, to := p.node(l.From), p.node(l.To)
			if q.Kind != model.Queue || !l.Relation.Polls() || to.Timeout == 0 || q.Lease > to.Timeout+l.Read.Within {
				continue
			}
			longer := model.FormatDuration((6*(to.Timeout+l.Read.Within) + 59*time.Second).Truncate(time.Minute))
			p.report(q.Pos, []string{q.Name, to.Name}, []string{l.Link.ID()}, map[string]any{"lease_s": q.Lease.Seconds(), "timeout_s": to.Timeout.Seconds()},
				[]Remedy{patchNode("a lease of "+longer, q.Name, map[string]any{"lease": longer})},
				"%s hides a message for %s, and a run of %s may take %s: it is handed out again while the first run still works on it", q.Name, model.FormatDuration(q.Lease), to.Name, model.FormatDuration(to.Timeout))
		}
	}}

var startSendsRepeat = &Rule{Code: "IW402", Title: "sends at the start are repeated by each try", Severity: Warning,
	Doc: `What a run sends at its start stands even if the run then fails, and is sent again by its next try.
Send at the end, or make the receiver idempotent.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			if !l.AtStart {
				continue
			}
			_, most := p.inwardTries(l.From)
			if n := p.node(l.From); most != 1 && n.Idempotent == nil {
				p.report(l.Pos, []string{l.Link.From, l.Link.To}, []string{l.Link.ID()}, map[string]any{"tries": most}, []Remedy{patchLink("send at the end", l, map[string]any{"at": "end"})},
					"%s sends to %s at the start of each try, so a message that fails and is tried again is sent more than once", l.Link.From, l.Link.To)
			}
		}
	}}

var wholeBatchFails = &Rule{Code: "IW403", Title: "one bad message fails its whole batch", Severity: Warning,
	Doc: `The batch comes back as a whole when one of its messages fails, so the good ones are run again, and use
up tries. Report failures by message (fails: {per: message}, failed: each), or read singly.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			to := p.node(l.To)
			if p.node(l.From).Kind != model.Queue || l.Read.UpTo <= 1 || !to.Kind.Runs() || l.Relation != model.PolledRun {
				continue
			}
			fails := to.Fails.EachTry > 0 || to.Fails.ForGood > 0
			if l.Read.Failed != "all" && (to.Fails.PerMessage || !fails) {
				continue
			}
			p.report(l.Pos, []string{l.Link.From, to.Name}, []string{l.Link.ID()}, map[string]any{"up_to": l.Read.UpTo},
				[]Remedy{patchLink("read one at a time", l, map[string]any{"read": map[string]any{"up-to": 1}})},
				"%s takes up to %d messages of %s at a time and fails as a whole: one bad message sends the others back with it", to.Name, l.Read.UpTo, l.Link.From)
		}
	}}

var shortCallerTimeout = &Rule{Code: "IW405", Title: "a caller gives up before its callee", Severity: Warning,
	Doc: `The callee (with the tries of the call) may take longer than the caller has. The caller times out while
the work goes on, then starts it again. Give the caller more time, or the callee less.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.link(i)
			from, to := p.node(l.From), p.node(l.To)
			if l.Relation != model.WaitingCall || from.Timeout == 0 || to.Timeout == 0 {
				continue
			}
			need := to.Timeout*time.Duration(l.Policy.Tries) + triesSpan(&l.Policy)
			if from.Timeout > need {
				continue
			}
			longer := model.FormatDuration((need + 10*time.Second).Round(time.Second))
			p.report(l.Pos, []string{from.Name, to.Name}, []string{l.Link.ID()}, map[string]any{"caller_s": from.Timeout.Seconds(), "callee_s": need.Seconds()},
				[]Remedy{patchNode("give the caller "+longer, from.Name, map[string]any{"timeout": longer})},
				"%s has %s and waits for %s, which may take %s: it gives up while the work goes on", from.Name, model.FormatDuration(from.Timeout), to.Name, model.FormatDuration(need))
		}
	}}

var halfDone = &Rule{Code: "IW407", Title: "half-done work", Severity: Note,
	Doc: `A run writes in several places, one after another. When a later write is rejected the earlier ones
stand, and the next try writes them again. Use sends: together where the platform can, make the receivers
idempotent, or write once and derive the rest from it.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.node(i)
			if n.Together || n.Idempotent != nil {
				continue
			}
			var first, risky *graph.Link
			for _, id := range n.Out {
				l := p.link(id)
				if l.Relation != model.RunWrite || l.Ignore || l.Op == "read" {
					continue
				}
				target := p.node(l.To)
				if first != nil && risky == nil && (target.Fails.EachTry > 0 || target.Capacity > 0 || target.PartitionRate > 0) {
					risky = l
				}
				if first == nil {
					first = l
				}
			}
			if risky != nil {
				p.report(risky.Pos, []string{n.Name, first.Link.To, risky.Link.To}, []string{first.Link.ID(), risky.Link.ID()}, nil,
					[]Remedy{patchNode("send all or nothing", n.Name, map[string]any{"sends": "together"})},
					"%s writes to %s and then to %s, which may reject it: the first write stands, and the next try writes it again", n.Name, first.Link.To, risky.Link.To)
			}
		}
	}}
