package learn

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sort"

	"gonum.org/v1/gonum/stat/distuv"
)

// A model draws each time, failure and arrival by itself. What follows finds where that would mislead: arrivals that
// come in bursts, slow runs that follow slow ones, failures that come together.

// rare is the chance at which dependence is reported that is none.
const rare = 0.001

// seenRun is one run as it was seen.
type seenRun struct {
	start   int64
	took    float64 // seconds of its own work; of one that went well
	failed  bool    // by itself
	byCall  bool    // it failed since a call did
	untimed bool    // its span does not say for how long it worked
}

// Dispersion says how unevenly messages come, beside those that come independently of each other.
type Dispersion struct {
	Index   float64 // variance of the counts over their mean, within hours; 1: independent
	Window  float64 // seconds in which they are counted
	Windows int
	Bursts  bool // by chance alone the index is as high once in a thousand times, and it is half as high again as 1
}

// Windows of counts: so many messages are expected in each, and there are at least so many.
const (
	perWindow    = 5
	leastWindows = 20
)

// dispersionOf counts what came in windows. Windows are compared with the mean of their hour, as a scenario's curve is
// by the hour: that there is more by day than by night is no burst. Under independence the sum of (count − mean)²/mean
// is chi-squared, with as many degrees of freedom as there are windows less hours. ok is false of too few.
func dispersionOf(times []int64, from, until int64) (d Dispersion, ok bool) {
	const hour = int64(3600e9)
	windows := int64(len(times) / perWindow)
	if windows < leastWindows || until <= from {
		return d, false
	}
	width := max((until-from)/windows, 1)
	if width < hour { // whole windows in each hour
		width = hour / ((hour + width - 1) / width)
	} else {
		width = hour
	}
	counts := map[int64]int{}
	for _, at := range times {
		counts[(at-from)/width]++
	}
	perHour := max(hour/width, 1)
	whole := (until - from) / width // the last window may be cut off
	sum, free := 0.0, 0
	for first := int64(0); first < whole; first += perHour {
		last := min(first+perHour, whole)
		mean := 0.0
		for w := first; w < last; w++ {
			mean += float64(counts[w]) / float64(last-first)
		}
		if mean == 0 || last-first < 2 {
			continue
		}
		for w := first; w < last; w++ {
			apart := float64(counts[w]) - mean
			sum += apart * apart / mean
		}
		free += int(last - first - 1)
	}
	if free < leastWindows-1 {
		return d, false
	}
	d = Dispersion{Index: sum / float64(free), Window: float64(width) * 1e-9, Windows: int(whole)}
	d.Bursts = d.Index > 1.5 && distuv.ChiSquared{K: float64(free)}.Survival(sum) < rare
	return d, true
}

// String says what a scenario would miss.
func (d Dispersion) String() string {
	return fmt.Sprintf(
		"They come in bursts: counted every %s, their number varies %.2g times as much as that of messages which come "+
			"independently of each other (%d windows). Independent ones show shorter queues; `burst` or `replay` comes nearer.",
		duration(d.Window), d.Index, d.Windows)
}

// slowTogether gives the rank correlation of each run's time with that of the next, and whether it is more than chance
// and worth a word.
func slowTogether(runs []seenRun) (correlation float64, n int, found bool) {
	var times []float64
	for _, r := range runs {
		if !r.failed {
			times = append(times, r.took)
		}
	}
	n = len(times)
	if n < leastSure {
		return 0, n, false
	}
	ranks := ranksOf(times)
	mean := float64(n-1) / 2
	both, all := 0.0, 0.0
	for i, r := range ranks {
		all += (r - mean) * (r - mean)
		if i > 0 {
			both += (ranks[i-1] - mean) * (r - mean)
		}
	}
	if all == 0 {
		return 0, n, false
	}
	correlation = both / all
	return correlation, n, correlation > max(0.1, quantileOf(1-2*rare)/math.Sqrt(float64(n)))
}

// ranksOf gives the place of each value in their order, the mean place to equal ones.
func ranksOf(values []float64) []float64 {
	order := make([]int, len(values))
	for i := range order {
		order[i] = i
	}
	sort.Slice(order, func(a, b int) bool { return values[order[a]] < values[order[b]] })
	ranks := make([]float64, len(values))
	for from := 0; from < len(order); {
		to := from
		for to < len(order) && values[order[to]] == values[order[from]] {
			to++
		}
		for _, i := range order[from:to] {
			ranks[i] = float64(from+to-1) / 2
		}
		from = to
	}
	return ranks
}

// failTogether gives the share of runs that fail right after one that failed, and after one that went well; found:
// they differ by more than chance (chi-squared of the fourfold table, by each cell 5 or more expected), and by half.
func failTogether(runs []seenRun) (after, otherwise float64, found bool) {
	var table [2][2]float64 // before, now
	for i := 1; i < len(runs); i++ {
		table[number(runs[i-1].failed)][number(runs[i].failed)]++
	}
	failed, well := table[1][0]+table[1][1], table[0][0]+table[0][1]
	n := failed + well
	if failed == 0 || well == 0 {
		return 0, 0, false
	}
	after, otherwise = table[1][1]/failed, table[0][1]/well
	share := (table[0][1] + table[1][1]) / n
	if min(failed, well)*min(share, 1-share) < 5 {
		return after, otherwise, false
	}
	chi := 0.0
	for before, total := range []float64{well, failed} {
		for now, expected := range []float64{total * (1 - share), total * share} {
			apart := table[before][now] - expected
			chi += apart * apart / expected
		}
	}
	return after, otherwise, after > 1.5*otherwise && distuv.ChiSquared{K: 1}.Survival(chi) < rare
}

func number(is bool) int {
	if is {
		return 1
	}
	return 0
}

// inOrder gives the runs in the order of their starts.
func (n *Node) inOrder() []seenRun {
	runs := slices.Clone(n.seen)
	slices.SortStableFunc(runs, func(a, b seenRun) int { return cmp.Compare(a.start, b.start) })
	return runs
}

// dependence says where independent draws of a node's runs would mislead, by field.
func (n *Node) dependence() map[string]string {
	out := map[string]string{}
	runs := slices.DeleteFunc(n.inOrder(), func(r seenRun) bool { return r.byCall || r.untimed })
	if r, of, found := slowTogether(runs); found {
		out["takes"] = fmt.Sprintf(
			"Slow runs follow slow ones: the rank correlation of successive times is %.2f (%d runs). The model draws each "+
				"by itself, and shows shorter queues.", r, of)
	}
	if after, otherwise, found := failTogether(runs); found {
		out["fails"] = fmt.Sprintf(
			"Failures come together: after a failed run %.3g%% fail, else %.3g%%. The model draws each by itself; an "+
				"incident, or `breaks`, comes nearer.", 100*after, 100*otherwise)
	}
	return out
}
