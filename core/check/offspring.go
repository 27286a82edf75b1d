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

// offspring is one entry of the mean-offspring matrix: for one message that
// reaches from, the mean number that reaches to, and how long it takes.
type offspring struct {
	from, to int
	mean     span
	expected float64 // what the traffic equations use
	delay    float64 // seconds, mean
	link     int     // or None
	dead     bool
}

// edge names the way of an offspring, as edgeKey does.
func (o *offspring) edge() [2]int { return edgeKey(graph.Edge{Link: o.link, Dead: o.dead}) }

// runFails gives the share of a node's runs that fail: by its own share, by a
// waiting call whose tries are used up, or by a write that is rejected. A cycle
// of waiting calls is counted once.
func (a *Analysis) runFails(i int) float64 {
	if a.failing == nil {
		a.failing = make([]float64, len(a.Graph.Nodes))
		for k := range a.failing {
			a.failing[k] = -1
		}
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
			if l.When != model.OfRun || l.Ignore || l.InCatch || a.Reach[id] == expr.Impossible {
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

// reachesCall gives the share of a node's runs that come as far as a call: they
// have not failed by themselves, nor by an earlier call.
func (a *Analysis) reachesCall(n *graph.Node, call *graph.Link) float64 {
	well := 1 - n.Fails.EachTry
	for _, id := range n.Out {
		l := a.link(id)
		if l.ID == call.ID {
			break
		}
		if l.Relation == model.WaitingCall && l.When == model.OfRun && !l.Ignore && !l.InCatch && a.Reach[id] != expr.Impossible {
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

// offsprings gives the mean-offspring matrix over everything that is not
// impossible.
func (a *Analysis) offsprings() []offspring {
	var out []offspring
	for i := range a.Graph.Nodes {
		n := a.node(i)
		delay := a.holdingTime(n)
		for _, id := range n.Out {
			l := a.link(id)
			if l.Op == "read" || a.Reach[id] == expr.Impossible {
				continue
			}
			mean, expected := a.linkMean(n, l)
			out = append(out, offspring{from: i, to: l.To, mean: mean, expected: expected, delay: delay, link: id})
		}
	}
	for _, e := range a.Graph.Edges(true) {
		if !e.Dead {
			continue
		}
		l := a.link(e.Link)
		target := a.node(l.To)
		share := 0.0
		if target.Kind.Runs() {
			share = a.exhausted(target, l.Policy.Tries)
		}
		wait := 0.0
		for k := 1; k < max(l.Policy.Tries, 1); k++ {
			wait += float64(l.Policy.Backoff(k)) * 1e-9
		}
		out = append(out, offspring{from: e.From, to: e.To, mean: span{share, share}, expected: share, delay: wait, link: e.Link, dead: true})
	}
	return out
}

// linkMean gives how many messages a link makes of one that reaches its
// source.
func (a *Analysis) linkMean(n *graph.Node, l *graph.Link) (span, float64) {
	mean := exactly(1)
	expected := 1.0
	if a.Reach[l.ID] == expr.Possible && l.When != model.Failure {
		mean = span{0, 1}
	}
	if n.Kind == model.Queue && len(n.Out) > 1 { // the links compete
		mean = mean.times(span{0, 1})
		expected = 1 / float64(len(n.Out))
	}
	if !n.Kind.Runs() {
		return mean, expected
	}
	least, most := a.inwardTries(l.From)
	success := span{1 - a.exhausted(n, least), 1 - a.exhausted(n, most)}
	switch {
	case l.When == model.Failure:
		share := span{a.exhausted(n, most), a.exhausted(n, least)}
		if !a.asynchronous(l.From) && !n.ResultsAll {
			return exactly(0), 0
		}
		return share, share.high
	case l.When == model.Success && !a.asynchronous(l.From) && !n.ResultsAll:
		return exactly(0), 0
	case l.Relation == model.WaitingCall:
		reached := a.reachesCall(n, l) * a.meanTries(a.node(l.To), max(l.Policy.Tries, 1))
		success = span{a.meanTries(n, least) * reached, a.meanTries(n, most) * reached}
	case l.AtStart:
		success = span{a.meanTries(n, least), a.meanTries(n, most)}
	}
	count := exactly(l.Count.Dist.Expected())
	expectedCount := count.high
	if l.CountExpr != nil || l.ForEach != nil {
		count = span{0, math.Inf(1)} // the payload says how many
		if l.ForEach != nil {
			expectedCount = l.Count.Dist.Expected()
		}
	}
	if l.Sometimes || l.InCatch { // the tasks of a workflow decide
		count = count.times(span{0, 1})
	}
	if l.InCatch {
		expectedCount = 0 // where nothing goes wrong
	}
	mean = mean.times(success).times(count).times(exactly(l.Chance))
	return mean, expected * success.high * expectedCount * l.Chance
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
	return n.Rate > 0 || a.sources[i] != nil || len(a.deadInto(i)) > 0
}

// deadInto lists the links whose dead-letter a node is.
func (a *Analysis) deadInto(i int) []int { return a.node(i).DeadFrom }

// holdingTime is the mean time that a message spends at a node at no load, in
// seconds.
func (a *Analysis) holdingTime(n *graph.Node) float64 {
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
