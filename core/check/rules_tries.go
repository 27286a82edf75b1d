package check

import (
	"fmt"
	"slices"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/check/remedy"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

var shortLease = &Rule{Code: "IW401", Title: "Lease not longer than timeout", Severity: Warning,
	Doc: `While a run is in progress its lease ends and the message is delivered again: work is done twice,
and tries are exhausted. Make the lease longer than the timeout, with room for the wait of a batch.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			q, to := p.Node(l.From), p.Node(l.To)
			if !q.Kind.Leases() || !l.Relation.Polls() || to.Timeout == 0 || q.Lease > to.Timeout+l.Read.Within {
				continue
			}
			longer := model.FormatDuration((6*(to.Timeout+l.Read.Within) + 59*time.Second).Truncate(time.Minute))
			p.report(
				q.Pos,
				[]string{q.Name, to.Name},
				[]string{l.Link.ID()},
				map[string]any{"lease_s": q.Lease.Seconds(), "timeout_s": to.Timeout.Seconds()},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Give `%s` a lease of %s", q.Name, longer),
						q.Name,
						map[string]any{"lease": longer},
					),
				},
				"`%s` hides a message for %s, and %s: the queue redelivers the message while the first run is still working",
				q.Name,
				model.FormatDuration(q.Lease),
				mayTake(l, to),
			)
		}
	}}

// mayTake says how long a batch may take to fill, and a run of a node that reads it.
func mayTake(l *graph.Link, n *graph.Node) string {
	limit := model.FormatDuration(n.Timeout)
	if l.Read.Within == 0 || l.Read.UpTo <= 1 {
		return fmt.Sprintf("a run of `%s` may take %s", n.Name, limit)
	}
	fill := model.FormatDuration(l.Read.Within)
	return fmt.Sprintf("its batch may take %s to fill and a run of `%s` %s", fill, n.Name, limit)
}

var startSendsRepeat = &Rule{Code: "IW402", Title: "Retries repeat sends at start", Severity: Warning,
	Doc: `What a run sends at its start stands even if the run then fails, and its next try sends it again.
Send at the end, or make the receiver idempotent.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			if !l.AtStart {
				continue
			}
			most, fails := 0, false
			for _, s := range p.States.Of[l.From] {
				at := p.States.All[s]
				if at.How != flow.AsIntake && at.How != flow.AsPoll {
					continue
				}
				tries := p.PolicyOf(at.Context).Tries
				if tries == 0 || tries > 1 {
					most = max(most, tries, 2)
					fails = fails || p.Outcome(int(s), flow.Worst).Bad() > 0
				}
			}
			if n := p.Node(l.From); most > 1 && n.Idempotent == nil {
				p.report(
					l.Pos,
					[]string{l.Link.From, l.Link.To},
					[]string{l.Link.ID()},
					map[string]any{"tries": most},
					[]remedy.Remedy{
						remedy.Link(
							fmt.Sprintf("Send to `%s` at the end of the run", l.Link.To),
							l,
							map[string]any{"at": "end"},
						),
					},
					"`%s` sends to `%s` at the start of each try, so a message that fails and is tried again is sent more than once",
					l.Link.From,
					l.Link.To,
				)
				if !fails {
					p.rated(Note)
				}
			}
		}
	}}

var wholeBatchFails = &Rule{Code: "IW403", Title: "One failure returns whole batch", Severity: Warning,
	Doc: `The batch comes back as a whole when one of its messages fails, so the good ones are run again, and use
up tries. Report failures by message (fails: {per: message}, failed: each), or read singly.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			to := p.Node(l.To)
			if !p.Node(l.From).Kind.Leases() || l.Read.UpTo <= 1 || !to.Kind.Runs() ||
				l.Relation != model.PolledRun {
				continue
			}
			fails := false
			for _, s := range p.States.Of[l.To] {
				fails = fails || p.Outcome(int(s), flow.Worst).Bad() > flow.Rare
			}
			if !fails && to.Fails.EachTry == 0 && to.Fails.ForGood == 0 ||
				l.Read.Failed != "all" && to.Fails.PerMessage {
				continue
			}
			p.report(
				l.Pos,
				[]string{l.Link.From, to.Name},
				[]string{l.Link.ID()},
				map[string]any{"up_to": l.Read.UpTo},
				[]remedy.Remedy{
					remedy.Link(
						fmt.Sprintf("Read `%s` one message at a time", l.Link.From),
						l,
						map[string]any{"read": map[string]any{"up-to": 1}},
					),
				},
				"`%s` takes up to %d messages of `%s` at a time and fails as a whole: one bad message returns the others with it",
				to.Name,
				l.Read.UpTo,
				l.Link.From,
			)
		}
	}}

var shortCallerTimeout = &Rule{Code: "IW405", Title: "Caller timeout not above callee's", Severity: Warning,
	Doc: `The callee (with the tries of the call) can take longer than the caller has. The caller times out while
the work goes on, then starts it again. Give the caller more time, or the callee less. Where both have the
default timeout, it is reported only if the times in the model let it happen.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Links {
			l := p.Link(i)
			from, to := p.Node(l.From), p.Node(l.To)
			if l.Relation != model.WaitingCall || from.Timeout == 0 || to.Timeout == 0 ||
				p.Reach[i] == expr.Impossible ||
				p.inCircle(l) {
				continue
			}
			need := to.Timeout*time.Duration(l.Policy.Tries) + time.Duration(flow.WaitsOf(&l.Policy)*1e9)
			if from.Timeout > need ||
				l.Policy.Tries <= 1 && defaultTimeout(from) && defaultTimeout(to) &&
					!p.tooSlow(l, from.Timeout.Seconds()) {
				continue
			}
			longer := model.FormatDuration((need + 10*time.Second).Round(time.Second))
			p.report(
				l.Pos,
				[]string{from.Name, to.Name},
				[]string{l.Link.ID()},
				map[string]any{"caller_s": from.Timeout.Seconds(), "callee_s": need.Seconds()},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Give `%s` %s", from.Name, longer),
						from.Name,
						map[string]any{"timeout": longer},
					),
				},
				"`%s` has %s and waits for `%s`, which may take %s: it gives up while the work goes on",
				from.Name,
				model.FormatDuration(from.Timeout),
				to.Name,
				model.FormatDuration(need),
			)
		}
	}}

// inCircle reports whether a call is one of a circle of waiting calls, which IW104
// reports.
func (p *Pass) inCircle(l *graph.Link) bool {
	return slices.ContainsFunc(p.Loops, func(loop flow.Loop) bool {
		return loop.Calls && loop.Verdict != "broken" && slices.Contains(loop.All, l.Link.ID())
	})
}

// defaultTimeout reports whether a node has the timeout that it has if none is stated.
func defaultTimeout(n *graph.Node) bool {
	return n.Kind.Answers() && n.Timeout == model.DefaultAnswer ||
		n.Kind == model.Function && n.Timeout == model.DefaultTimeout
}

// tooSlow reports whether a call, with the times in the model, can take longer than
// its caller has.
func (p *Pass) tooSlow(l *graph.Link, limit float64) bool {
	return slices.ContainsFunc(p.States.Of[l.To], func(s int32) bool {
		return p.States.All[s].How == flow.AsCall && p.Outcome(int(s), flow.Worst).Length.Tail(limit) > flow.Rare
	})
}

var nonAtomicSends = &Rule{Code: "IW407", Title: "Non-atomic sends in one run", Severity: Note,
	Doc: `A run writes in several places, one after another. When a later write is rejected the earlier ones
stand, and the next try writes them again. Use sends: together where the platform can, make the receivers
idempotent, or write once and derive the rest from it.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if n.Together || n.Idempotent != nil {
				continue
			}
			var first, risky *graph.Link
			for _, id := range n.Out {
				l := p.Link(id)
				if l.Relation != model.RunWrite || l.Ignore || l.Op == "read" {
					continue
				}
				target := p.Node(l.To)
				if first != nil && risky == nil &&
					(target.Fails.EachTry > 0 || target.Capacity > 0 || target.PartitionRate > 0) {
					risky = l
				}
				if first == nil {
					first = l
				}
			}
			if risky == nil {
				continue
			}
			var remedies []remedy.Remedy
			if n.Kind == model.Function {
				remedies = []remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Let `%s` send all or nothing", n.Name),
						n.Name,
						map[string]any{"sends": "together"},
					),
				}
			}
			p.report(
				risky.Pos,
				[]string{n.Name, first.Link.To, risky.Link.To},
				[]string{first.Link.ID(), risky.Link.ID()},
				nil,
				remedies,
				"`%s` writes to `%s` and then to `%s`, which may reject it: the first write stands, and the next try writes it again",
				n.Name,
				first.Link.To,
				risky.Link.To,
			)
		}
	}}

// seldom is a share of late runs, or of messages given up by them, that is no finding:
// what is lost by them is one of its own.
const seldom = 1e-3

var lateRuns = &Rule{Code: "IW409", Title: "Runs exceed their timeout", Severity: Warning,
	Doc: `A run takes longer than its timeout, or than what its caller has left, often enough that tries are used
up by it: the messages are lost or parked though nothing has failed. It is an error where half of the runs
or more are late. Give the run more time, or make it shorter. A run that reads a batch makes its calls and
writes for each message in turn, within one timeout: that it has time for one says nothing of ten.`,
	Run: func(p *Pass) {
		for i := range p.Graph.Nodes {
			n := p.Node(i)
			if !n.Kind.Runs() && !n.Kind.Answers() || n.Timeout == 0 {
				continue
			}
			late, given, mean, asked := 0.0, 0.0, 0.0, false
			for _, s := range p.States.Of[i] {
				o := p.Outcome(int(s), flow.Worst)
				if o.Late < flow.Rare || o.Why == "deadlock" {
					continue
				}
				if many := p.TooMany(int(s)); many > 0 && p.Outcome(int(s), flow.Usual).Late < seldom {
					p.lateBatches(n, p.Link(int(p.States.All[s].Link)), many)
					continue
				}
				late, mean = max(late, o.Late), max(mean, p.Outcome(int(s), flow.Usual).Length.Mean())
				switch p.States.All[s].How {
				case flow.AsRequest:
					asked = asked || o.Late > seldom
				case flow.AsCall:
					given = max(given, p.sufferedBy(int(s), map[int]bool{}))
				default:
					given = max(given, p.FateOf(int(s), flow.Worst).Given)
				}
			}
			if late < seldom || given < seldom && !asked {
				continue
			}
			longer := model.FormatDuration(rounded(2 * max(n.Timeout.Seconds(), n.Takes.Expected())).Round(time.Second))
			p.report(
				n.Pos,
				[]string{n.Name},
				nil,
				map[string]any{"late": late, "timeout_s": n.Timeout.Seconds(), "run_s": mean},
				[]remedy.Remedy{
					remedy.Node(
						fmt.Sprintf("Give `%s` a timeout of %s", n.Name, longer),
						n.Name,
						map[string]any{"timeout": longer},
					),
				},
				"%s of the runs of `%s` take longer than its timeout of %s and fail",
				model.FormatShare(late),
				n.Name,
				model.FormatDuration(n.Timeout),
			)
			if late >= 0.5 {
				p.rated(Error)
			}
		}
	}}

// lateBatches reports that runs of a node for so many messages of a link, or more, take too long.
func (p *Pass) lateBatches(n *graph.Node, l *graph.Link, many int) {
	run := p.FullRun(l)
	longer := model.FormatDuration(rounded(2 * run).Round(time.Second))
	fewer := fmt.Sprintf("Read `%s` at most %d messages at a time", l.Link.From, many-1)
	if many == 2 {
		fewer = fmt.Sprintf("Read `%s` one message at a time", l.Link.From)
	}
	remedies := []remedy.Remedy{
		remedy.Node(
			fmt.Sprintf("Give `%s` a timeout of %s", n.Name, longer), n.Name, map[string]any{"timeout": longer},
		),
		remedy.Link(fewer, l,
			map[string]any{"read": map[string]any{"up-to": many - 1}},
		),
	}
	p.report(
		n.Pos,
		[]string{n.Name},
		[]string{l.Link.ID()},
		map[string]any{"messages": many, "up_to": l.Read.UpTo, "timeout_s": n.Timeout.Seconds(), "run_s": run},
		remedies,
		"`%s` works on up to %d messages of `%s` at a time, and has %s for all of them: with %d or more it takes longer and fails",
		n.Name,
		l.Read.UpTo,
		l.Link.From,
		model.FormatDuration(n.Timeout),
		many,
	)
}

// sufferedBy returns the largest share of messages that those who wait for a call
// give up.
func (p *Pass) sufferedBy(s int, seen map[int]bool) float64 {
	if seen[s] || len(seen) > 200 {
		return 0
	}
	seen[s] = true
	most := 0.0
	for _, from := range p.Into[s] {
		switch p.States.All[from].How {
		case flow.AsCall:
			most = max(most, p.sufferedBy(int(from), seen))
		case flow.AsRequest:
			most = max(most, p.Outcome(int(from), flow.Worst).Fails)
		case flow.AsIntake, flow.AsPoll:
			most = max(most, p.FateOf(int(from), flow.Worst).Given)
		}
	}
	return most
}

// lateAt reports whether the runs of a message at a state fail by being late.
func (p *Pass) lateAt(s int) bool {
	at := p.States.All[s]
	if p.Node(at.Node).Kind.Runs() {
		return p.Outcome(s, flow.Worst).Late >= flow.Rare
	}
	for _, e := range p.States.Leaving(s) {
		if e.Kind == flow.Polls && p.Node(p.States.All[e.To].Node).Kind.Runs() &&
			p.Outcome(e.To, flow.Worst).Late >= flow.Rare {
			return true
		}
	}
	return false
}
