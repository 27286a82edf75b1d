package verify

import (
	"cmp"
	"slices"
	"time"

	"ironweir/core/check/guarantees"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// overtaking returns a witness of two messages of one key, or of any where no two have the
// same, of which the later has its effect before the earlier, or nil. Those that enter are
// half a second apart, at least. Where runs alone do not show it, the nodes on the way fail
// for a moment, one after the other, so that a message waits there for its next try.
func (w *trial) overtaking(q *guarantees.Guarantee) (*Witness, error) {
	if found := w.overtaken(q, w.run); found != nil {
		return &Witness{w.normal, found}, nil
	}
	run, found, err := w.tryDense(q, nil)
	if err != nil || found != nil {
		return found, err
	}
	for _, x := range w.momentary(q, run) {
		if w.v.o.Stop != nil && w.v.o.Stop() {
			return nil, nil
		}
		if _, found, err = w.tryDense(q, x); err != nil || found != nil {
			return found, err
		}
	}
	return nil, nil
}

// tryDense runs a dense scenario with an incident, or none, and returns its messages and what they show.
func (w *trial) tryDense(q *guarantees.Guarantee, x *model.Incident) (run []sim.Journey, found *Witness, err error) {
	s := w.dense(q, x)
	if run, err = w.v.journeys(s); err != nil {
		return nil, nil, err
	}
	if two := w.overtaken(q, run); two != nil {
		found = &Witness{s, two}
	}
	return run, found, nil
}

// momentary lists incidents that hold one message up: a node on the way of one in the middle of a run fails for a
// moment as it comes, or is slow.
func (w *trial) momentary(q *guarantees.Guarantee, run []sim.Journey) []*model.Incident {
	var all, having []*sim.Journey // of the entry, and those of them that have the effect
	for k := range run {
		j := &run[k]
		if j.Entry != q.From {
			continue
		}
		all = append(all, j)
		if slices.ContainsFunc(effectsOf(w.v.g, j), func(x effect) bool { return x.node == q.To }) {
			having = append(having, j)
		}
	}
	if len(having) == 0 {
		having = all
	}
	if len(having) == 0 {
		return nil
	}
	slices.SortStableFunc(having, func(x, y *sim.Journey) int { return cmp.Compare(x.Began, y.Began) })
	var out []*model.Incident
	tried := map[string]bool{}
	for _, on := range instantsOf(having[len(having)/2]) {
		i := w.v.g.NodeID(on.node)
		if i < 0 || tried[on.node] {
			continue
		}
		tried[on.node] = true
		at := max(time.Duration(on.at*float64(time.Second))-time.Millisecond, 0)
		for _, length := range []time.Duration{2 * time.Millisecond, 2 * time.Second} {
			out = append(out, w.v.incident(on.node, at, length))
		}
		if !w.v.g.Nodes[i].Kind.Runs() {
			continue
		}
		for _, factor := range []float64{10, slowness} { // one that is slow is overtaken by the next
			out = append(out, &model.Incident{Name: "slow", At: at, For: time.Second, Node: on.node, Slow: &factor})
		}
	}
	return out
}

// dense returns a scenario in which a minute of messages enters at one node, two a second
// at least, or twenty firings of a schedule.
func (w *trial) dense(q *guarantees.Guarantee, incident *model.Incident) *model.Scenario {
	length := time.Minute
	if w.v.schedule[q.From] {
		length = w.spacing(q.From) * leastSent
	}
	s := w.scenario(length, length+w.v.drained-w.v.base.Length)
	sampled := false // of the samples, one is enough: they come together
	s.Traffic = slices.DeleteFunc(s.Traffic, func(t *model.Traffic) bool {
		out := t.Into != q.From || !w.reached(q, t) || isSample(t) && sampled
		sampled = sampled || !out && isSample(t)
		return out
	})
	for _, t := range s.Traffic {
		t.Rate = max(t.Rate, 2/float64(len(s.Traffic)))
		t.Max = int64(t.Rate * length.Seconds())
	}
	if incident != nil {
		s.Incidents = append(s.Incidents, incident)
	}
	return s
}

// overtaken finds two messages of a run of which the later took effect first.
func (w *trial) overtaken(q *guarantees.Guarantee, run []sim.Journey) []sim.Journey {
	var list []effect
	byID := map[uint64]int{}
	for k := range run {
		byID[run[k].ID] = k
		list = append(list, effectsOf(w.v.g, &run[k])...)
	}
	for _, key := range []func(*effect) string{
		func(x *effect) string { return x.key + " " + x.lineage },
		func(x *effect) string { return x.lineage },
	} {
		if x, before := overtaking(q, list, key); x != nil {
			return []sim.Journey{run[byID[x.journey]], run[byID[before.journey]]}
		}
	}
	return nil
}
