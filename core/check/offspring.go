package check

import (
	"math"
	"time"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// span is a number known only to lie between two others.
type span struct{ low, high float64 }

func exactly(x float64) span { return span{x, x} }

func (s span) times(o span) span { return span{s.low * o.low, product(s.high, o.high)} }

// product is a·b with 0·∞ = 0: nothing times anything is nothing.
func product(a, b float64) float64 {
	if a == 0 || b == 0 {
		return 0
	}
	return a * b
}

// notYet is for numbers that are worked out when they are first asked for, by
// node: below 0, they have not been.
func (a *Analysis) notYet() []float64 {
	out := make([]float64, len(a.Graph.Nodes))
	for i := range out {
		out[i] = -1
	}
	return out
}

// runFails gives the share of a node's runs that fail: by its own share, by a
// waiting call whose tries are used up, or by a write that is rejected. A cycle
// of waiting calls is counted once.
func (a *Analysis) runFails(i int) float64 {
	if a.failing == nil {
		a.failing = a.notYet()
	}
	if a.failing[i] >= 0 {
		return a.failing[i]
	}
	n := a.node(i)
	a.failing[i] = n.Fails.EachTry
	if n.Kind == model.Function || n.Kind == model.Workflow {
		well := 1 - n.Fails.EachTry
		for _, id := range n.Out {
			l := a.link(id)
			if l.When != model.OfRun || l.Forgiven() || l.InCatch || a.Reach[id] == expr.Impossible {
				continue
			}
			var fails float64
			switch l.Relation {
			case model.WaitingCall:
				fails = a.exhausted(a.node(l.To), max(l.Policy.Tries, 1))
			case model.RunWrite:
				fails = math.Pow(a.node(l.To).Fails.EachTry, float64(max(l.Policy.Tries, 1)))
			}
			well *= 1 - l.Chance*(1-math.Pow(1-fails, l.Count.Dist.Expected()))
		}
		a.failing[i] = 1 - well
	}
	return a.failing[i]
}

// reachesCall gives the share of a node's runs that come as far as a call, or
// past all calls where none is given: they have not failed by themselves, nor by
// an earlier call.
func (a *Analysis) reachesCall(n *graph.Node, call *graph.Link) float64 {
	well := 1 - n.Fails.EachTry
	for _, id := range n.Out {
		l := a.link(id)
		if call != nil && l.ID == call.ID {
			break
		}
		if l.Relation == model.WaitingCall && l.When == model.OfRun && !l.Forgiven() && !l.InCatch && a.Reach[id] != expr.Impossible {
			well *= 1 - l.Chance*a.exhausted(a.node(l.To), max(l.Policy.Tries, 1))
		}
	}
	return well
}

// exhausted gives the share of a function's messages whose tries are used up:
// p^n for a failure share p and n tries, and all that it never manages.
func (a *Analysis) exhausted(n *graph.Node, tries int) float64 {
	p := a.runFails(n.ID)
	never := n.Fails.ForGood
	spent := 0.0
	if tries > 0 {
		spent = math.Pow(p, float64(tries))
	} else if p >= 1 {
		spent = 1
	}
	if tries == 0 && never > 0 && p < 1 {
		return never
	}
	return never + (1-never)*spent
}

// meanTries is the mean number of runs of one message: (1−p^n)/(1−p), and n for
// those that never succeed.
func (a *Analysis) meanTries(n *graph.Node, tries int) float64 {
	p := a.runFails(n.ID)
	if tries == 0 {
		if p >= 1 {
			return 1
		}
		return 1 / (1 - p)
	}
	normal := float64(tries)
	if p < 1 {
		normal = (1 - math.Pow(p, float64(tries))) / (1 - p)
	}
	return n.Fails.ForGood*float64(tries) + (1-n.Fails.ForGood)*normal
}

// inwardTries gives the least and most tries with which messages come to a
// function (0 stands for without end).
func (a *Analysis) inwardTries(i int) (least, most int) {
	n := a.node(i)
	least, most = math.MaxInt, 0
	see := func(t int) {
		if t == 0 {
			t = math.MaxInt
		}
		least, most = min(least, t), max(most, t)
	}
	for _, id := range n.In {
		see(a.link(id).Policy.Tries)
	}
	if len(n.In) == 0 {
		see(n.Intake.Tries)
	}
	zero := func(t int) int {
		if t == math.MaxInt {
			return 0
		}
		return t
	}
	return zero(least), zero(most)
}

// asynchronous tells whether some message comes to a node without anybody
// waiting for its run.
func (a *Analysis) asynchronous(i int) bool {
	n := a.node(i)
	for _, id := range n.In {
		if a.link(id).Relation.Asynchronous() {
			return true
		}
	}
	return n.Rate > 0 || a.sources[i] != nil || len(n.DeadFrom) > 0
}

// holdingTime is the mean time that a message spends at a node at no load, in
// seconds.
func (a *Analysis) holdingTime(n *graph.Node) float64 {
	if a.holding == nil {
		a.holding = a.notYet()
	}
	if a.holding[n.ID] < 0 {
		a.holding[n.ID] = a.timeAt(n)
	}
	return a.holding[n.ID]
}

func (a *Analysis) timeAt(n *graph.Node) float64 {
	t := n.Takes.Expected()
	switch n.Kind {
	case model.Bucket:
		t = n.Notice.Expected()
	case model.Queue:
		t = n.Delay.Seconds()
	case model.Function:
		t = a.runTime(n.ID, map[int]bool{})
	}
	return t
}

// runTime is the mean time of a run: its own work, the calls that it waits
// for, and the writes that it makes, in seconds. A cycle of waiting calls is
// counted once.
func (a *Analysis) runTime(i int, seen map[int]bool) float64 {
	n := a.node(i)
	t := n.Takes.Expected()
	if seen[i] {
		return t
	}
	seen[i] = true
	defer delete(seen, i)
	for _, id := range n.Out {
		l := a.link(id)
		times := l.Count.Dist.Expected() * l.Chance
		if l.InCatch {
			continue
		}
		switch {
		case l.Relation == model.WaitingCall:
			t += times * a.runTime(l.To, seen)
		case l.Relation == model.RunWrite && l.When == model.OfRun:
			t += times * a.node(l.To).Takes.Expected()
		}
	}
	if limit := n.Timeout.Seconds(); limit > 0 && t > limit {
		return limit
	}
	return t
}

// meanRun is the mean length of a run in seconds, over those that succeed and
// those that fail: a run that fails by itself makes no calls, and one whose call
// is used up makes no further ones. Calls count with their tries and the waits
// between them.
func (a *Analysis) meanRun(i int) float64 {
	if a.meanRuns == nil {
		a.meanRuns = a.notYet()
	}
	if a.meanRuns[i] >= 0 {
		return a.meanRuns[i]
	}
	n := a.node(i)
	t := n.Takes.Expected()
	a.meanRuns[i] = t // a cycle of waiting calls is counted once
	for _, id := range n.Out {
		l := a.link(id)
		if l.When != model.OfRun || l.InCatch || a.Reach[id] == expr.Impossible {
			continue
		}
		times := l.Count.Dist.Expected() * l.Chance
		switch l.Relation {
		case model.WaitingCall:
			target := a.node(l.To)
			one := a.meanTries(target, max(l.Policy.Tries, 1)) * a.meanRun(l.To)
			fails := a.runFails(l.To)
			for k := 1; k < l.Policy.Tries; k++ {
				one += math.Pow(fails, float64(k)) * float64(l.Policy.Backoff(k)) * 1e-9
			}
			t += times * a.reachesCall(n, l) * one
		case model.RunWrite:
			t += times * a.reachesCall(n, nil) * a.node(l.To).Takes.Expected()
		}
	}
	if limit := n.Timeout.Seconds(); limit > 0 && t > limit {
		t = limit
	}
	a.meanRuns[i] = t
	return t
}

// triesSpan is how long the tries of a policy last: the sum of the waits
// between them, cut off by give-up.
func triesSpan(p *graph.Policy) time.Duration {
	total := int64(0)
	for k := 1; k < p.Tries; k++ {
		w := p.Backoff(k)
		if p.GiveUp > 0 && total+w > p.GiveUp {
			break
		}
		if total > int64(model.MaxDuration)-w {
			return model.MaxDuration
		}
		total += w
	}
	return time.Duration(total)
}
