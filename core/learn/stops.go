package learn

import (
	"cmp"
	"iter"
	"slices"
)

// Stop is a while in which nothing took the messages that waited for a node.
type Stop struct {
	From  int64 `json:"from"` // nanoseconds since 1970
	Until int64 `json:"until"`
}

// What is taken for a stop: at least so long, and so many times longer than a message usually waits for its run, or is
// worked on, while nothing runs.
const (
	leastStop = int64(1e9)
	stopRatio = 10
)

// findStops finds whiles in which a consumer was stopped: messages waited for it, and it ran nothing for long.
func (o *observer) findStops() {
	byNode := map[string][]int{}
	for key, list := range o.runsByLink() {
		byNode[key.To] = append(byNode[key.To], list...)
	}
	for name, list := range byNode {
		n := o.Nodes[name]
		if n == nil {
			continue
		}
		o.byStart(list)
		gaps := o.idleWhileWaiting(list)
		if len(gaps) == 0 {
			continue
		}
		lengths := make([]int64, len(gaps))
		for k, g := range gaps {
			lengths[k] = g.Until - g.From
		}
		slices.Sort(lengths)
		usual := max(lengths[len(lengths)/2], int64(momentsOf(n.Times).Mean()*1e9))
		for _, g := range gaps {
			if g.Until-g.From >= max(leastStop, stopRatio*usual) {
				n.Stops = append(n.Stops, g)
			}
		}
	}
}

// idleWhileWaiting lists from when to when nothing ran though a message waited, up to the first run of each message.
// runs are all of a consumer, in the order of their starts.
func (o *observer) idleWhileWaiting(runs []int) (gaps []Stop) {
	busy, next := int64(0), 0 // until when something ran, of those before the next
	for k, by := range o.firstRuns(runs) {
		for ; next < k; next++ {
			busy = max(busy, o.spans[runs[next]].End)
		}
		from := o.Nodes[channelOf(&o.spans[runs[k]])]
		if k == 0 || from == nil {
			continue
		}
		waits := o.spans[by].Start
		if run := o.runs[by]; run >= 0 {
			waits = o.spans[run].Start
		}
		gaps = append(gaps, Stop{max(busy, waits+int64(from.Delay*1e9)), o.spans[runs[k]].Start})
	}
	return gaps
}

// firstRuns gives the places in a list of a consumer's runs of those that are the first of a message which another
// sent, each with the span that sent it. What runs again, or was put back by its consumer, has waited elsewhere.
func (o *observer) firstRuns(runs []int) iter.Seq2[int, int] {
	return func(yield func(int, int) bool) {
		seen := map[int]bool{}
		for k, i := range runs {
			by := o.sentBy(&o.spans[i])
			if by < 0 || seen[by] || o.spans[by].Service == o.spans[i].Service {
				continue
			}
			if seen[by] = true; !yield(k, by) {
				return
			}
		}
	}
}

// runsByLink lists the timed runs for what channels hold, by link, in the order of their starts.
func (o *observer) runsByLink() map[LinkKey][]int {
	runs := map[LinkKey][]int{}
	for i, key := range o.timedRuns() {
		runs[key] = append(runs[key], i)
	}
	for _, list := range runs {
		o.byStart(list)
	}
	return runs
}

// byStart sorts runs by their starts.
func (o *observer) byStart(runs []int) {
	slices.SortStableFunc(runs, func(a, b int) int { return cmp.Compare(o.spans[a].Start, o.spans[b].Start) })
}
