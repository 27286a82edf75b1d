package learn

// RecordedRun is one run as it was observed.
type RecordedRun struct {
	Held   float64 // seconds for which it kept its consumer from the next message; below 0: not known
	Failed bool    // by itself, not by a call
}

// Recorded gives the runs of a node that were observed, in the order of their starts; none where only sums were kept.
// Each held its consumer for its own work and the hand-over after it: the mean of those that were seen, where no
// message waited for one.
func (n *Node) Recorded() []RecordedRun {
	out := make([]RecordedRun, 0, len(n.seen))
	for _, r := range n.inOrder() {
		run := RecordedRun{Held: -1, Failed: r.failed}
		if !r.untimed {
			handover, seen := n.handovers[r.start]
			if !seen {
				handover = n.Handover.Mean
			}
			run.Held = r.took + handover
		}
		out = append(out, run)
	}
	return out
}
