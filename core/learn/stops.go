package learn

import (
	"maps"
	"slices"
	"sort"
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

// findStops finds whiles in which a consumer was stopped: messages waited, and nothing ran for long.
func (o *observer) findStops() {
	runs := o.runsByLink()
	for _, key := range slices.SortedFunc(maps.Keys(runs), compareLinks) {
		n, from := o.Nodes[key.To], o.Nodes[key.From]
		if n == nil || from == nil {
			continue
		}
		var gaps []Stop
		busy := int64(0) // until when something ran
		seen := map[int]bool{}
		for k, i := range runs[key] {
			s := &o.spans[i]
			// What runs again, or was put back by its consumer, has waited elsewhere.
			if by := o.sentBy(s); by >= 0 && !seen[by] && o.spans[by].Service != s.Service && k > 0 {
				seen[by] = true
				waits := o.spans[by].Start
				if run := o.runs[by]; run >= 0 {
					waits = o.spans[run].Start
				}
				gaps = append(gaps, Stop{max(busy, waits+int64(from.Delay*1e9)), s.Start})
			}
			busy = max(busy, s.End)
		}
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

// runsByLink lists the timed runs for what channels hold, by link, in the order of their starts.
func (o *observer) runsByLink() map[LinkKey][]int {
	runs := map[LinkKey][]int{}
	for i, key := range o.timedRuns() {
		runs[key] = append(runs[key], i)
	}
	for _, list := range runs {
		sort.Slice(list, func(a, b int) bool { return o.spans[list[a]].Start < o.spans[list[b]].Start })
	}
	return runs
}
