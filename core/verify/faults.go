package verify

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// claim is the earliest moment from which a single fault is said to lose messages,
// with the sets that say so.
type claim struct {
	sets []*flow.LossSet
}

// mostPairs bounds the pairs of faults that are simulated.
const mostPairs = 12

// singleFaults compares every single fault that can be simulated: a node or channel
// that fails, a group, a link that is not read.
func (v *verifier) singleFaults() error {
	if v.normal == nil {
		return nil
	}
	claims := map[string]*claim{}
	for name := range v.a.Entries {
		e := v.a.Entries[name]
		if v.rates[name] == 0 && !v.schedule[name] {
			continue
		}
		for k := range e.LossSets {
			s := &e.LossSets[k]
			if len(s.Faults) != 1 {
				continue
			}
			for _, f := range s.Faults[0] {
				if claims[f] == nil {
					claims[f] = &claim{}
				}
				claims[f].sets = append(claims[f].sets, s)
			}
		}
	}
	faults := v.simulated()
	for k, f := range faults {
		if v.o.Faults > 0 && k >= v.o.Faults || v.o.Stop != nil && v.o.Stop() {
			v.skip("%d of %d single faults", len(faults)-k, len(faults))
			break
		}
		if v.o.Progress != nil {
			v.o.Progress(k, len(faults))
		}
		if err := v.singleFault(f, claims[f]); err != nil {
			return err
		}
	}
	faults = slices.DeleteFunc(faults, func(f string) bool { return claims[f] != nil || v.missed[f] })
	return v.twoFaults(faults)
}

// twoFaults compares some pairs of faults, of which neither loses anything, and which are
// not said to lose anything together.
func (v *verifier) twoFaults(faults []string) error {
	claimed := map[[2]string]bool{}
	for name := range v.a.Entries {
		e := v.a.Entries[name]
		if v.rates[name] == 0 && !v.schedule[name] {
			continue
		}
		if e.Searched < 2 {
			return nil
		}
		for k := range e.LossSets {
			if s := &e.LossSets[k]; len(s.Faults) == 2 {
				for _, f := range s.Faults[0] {
					for _, g := range s.Faults[1] {
						claimed[[2]string{f, g}], claimed[[2]string{g, f}] = true, true
					}
				}
			}
		}
	}
	var pairs [][2]string
	for k, f := range faults {
		for _, g := range faults[k+1:] {
			if p := [2]string{f, g}; !claimed[p] {
				pairs = append(pairs, p)
			}
		}
	}
	most := mostPairs
	if v.o.Faults > 0 {
		most = min(most, v.o.Faults)
	}
	luck := rand.New(rand.NewPCG(v.o.Seed, 2))
	luck.Shuffle(len(pairs), func(i, j int) { pairs[i], pairs[j] = pairs[j], pairs[i] })
	zero, normal := v.claimed(0), v.lost(v.normal)
	for _, p := range pairs[:min(len(pairs), most)] {
		if v.o.Stop != nil && v.o.Stop() {
			v.skip("some pairs of faults")
			return nil
		}
		if err := v.pairOfFaults(p, normal, zero); err != nil {
			return err
		}
	}
	return nil
}

// pairOfFaults compares two faults that begin at once and last.
func (v *verifier) pairOfFaults(p [2]string, normal map[where]int64, zero map[where][]*flow.LossSet) error {
	traffic := v.base.Length + v.lead()
	first, second := v.incident(p[0], v.lead(), 0), v.incident(p[1], v.lead(), 0)
	second.Name = "second-fault"
	s := v.scenario(traffic, traffic+v.settling(), first, second)
	r, err := v.run(s)
	if err != nil {
		return err
	}
	if r.Stopped != "" {
		v.skip("%s and %s: the run was ended by %s", p[0], p[1], r.Stopped)
		return nil
	}
	v.report.Claims++
	lost := v.lost(r)
	for _, w := range slices.SortedFunc(maps.Keys(lost), where.compare) {
		if n := lost[w]; !v.anyway(w, normal, zero) && n > 3 && !v.unbounded(w.node) {
			v.contradict("loss-missed", s, fmt.Sprintf("%s and %s failing together lose nothing", p[0], p[1]),
				"%d messages are lost at %s (%s)", n, w.node, w.cause)
			return nil
		}
	}
	return nil
}

// simulated lists the faults that a run can show.
func (v *verifier) simulated() []string {
	var out []string
	for i := range v.g.Nodes {
		if k := v.g.Nodes[i].Kind; k.Runs() || k.Channel() {
			out = append(out, v.g.Nodes[i].Name)
		}
	}
	for name := range v.g.Topology.FailsTogether {
		out = append(out, name)
	}
	for i := range v.g.Links {
		if l := &v.g.Links[i]; l.Relation.Polls() {
			out = append(out, l.Link.ID()+"/stopped")
		}
	}
	slices.Sort(out)
	return out
}

// incident makes a fault happen.
func (v *verifier) incident(fault string, at, length time.Duration) *model.Incident {
	in := &model.Incident{Name: "fault", At: at, For: length}
	whole, yes, no := 1.0, true, false
	stopped, isStopped := strings.CutSuffix(fault, "/stopped")
	disabled, isDisabled := strings.CutSuffix(fault, "/disabled")
	switch {
	case isStopped:
		in.Link, in.Paused = stopped, &yes
	case isDisabled:
		in.Link, in.Enabled = disabled, &no
	case v.g.NodeID(fault) >= 0:
		in.Node, in.Fails = fault, &whole
	default:
		in.Group, in.Fails = fault, &whole
	}
	return in
}

// starved reports whether a fault also keeps messages from coming to a node, so that
// only what was in flight when it began could be lost.
func (v *verifier) starved(s *model.Scenario, r *sim.Result, node string) bool {
	i := v.g.NodeID(node)
	normal := float64(v.normal.Nodes[i].Copies) / v.base.Length.Seconds()
	sent := 0.0
	for _, t := range s.Traffic {
		sent = max(sent, float64(t.Max)/max(t.Rate, 1e-9))
	}
	return float64(r.Nodes[i].Copies) < 0.8*normal*sent
}

// chancy reports whether calls or writes to a node are made by chance only.
func (v *verifier) chancy(fault string) bool { return v.isChancy(fault, 0) }

func (v *verifier) isChancy(fault string, depth int) bool {
	if depth > 10 {
		return true
	}
	i := v.g.NodeID(fault)
	if i < 0 {
		return false
	}
	for _, id := range v.g.Nodes[i].In {
		if v.g.Links[id].Chance < 1 {
			return true
		}
		if v.g.Links[id].Relation == model.WaitingCall && v.isChancy(v.g.Links[id].Link.From, depth+1) {
			return true
		}
	}
	return false
}

// copies counts the messages that came to a node, or its readers, without a fault.
func (v *verifier) copies(i int) int64 { return v.normal.Nodes[i].Copies }

// lead is how long traffic runs before a fault begins: until the first messages have
// come through.
func (v *verifier) lead() time.Duration {
	t := 20 * time.Minute
	for i := range v.g.Nodes {
		n := &v.g.Nodes[i]
		t += n.Delay + n.ObjectLife + time.Duration(n.Notice.Expected()*1e9)
	}
	patience := time.Duration(0) // of readers, whose first messages have been given up by then
	for i := range v.g.Links {
		if l := &v.g.Links[i]; l.Relation.Polls() && l.Policy.Tries > 0 {
			patience = max(patience, time.Duration(l.Policy.Tries)*v.g.Nodes[l.From].Lease)
		}
	}
	return t + min(patience, 2*time.Hour)
}

// lastsMost bounds the faults that are simulated.
const lastsMost = 9 * 24 * time.Hour

func (v *verifier) singleFault(fault string, c *claim) error {
	// For as long as any tolerance lasts, and indefinitely.
	traffic := v.base.Length + v.lead()
	length := traffic + v.settling()
	s := v.scenario(traffic, length, v.incident(fault, v.lead(), 0))
	r, err := v.run(s)
	if err != nil {
		return err
	}
	if r.Stopped != "" {
		v.skip("%s: the run was ended by %s", fault, r.Stopped)
		return nil
	}
	normal := v.lost(v.normal)
	zero := v.claimed(0)
	lost := v.lost(r)
	v.report.Claims++
	for w, n := range lost {
		if v.anyway(w, normal, zero) || c != nil || n <= 3 || v.unbounded(w.node) {
			continue
		}
		v.missed[fault] = true
		v.contradict(
			"loss-missed",
			s,
			fmt.Sprintf("%s failing loses nothing", fault),
			"%d messages are lost at %s (%s)",
			n,
			w.node,
			w.cause,
		)
		break
	}
	if c == nil {
		return nil
	}
	if v.behind(v.normal) {
		return nil
	}
	return v.tolerance(fault, c, normal, zero)
}

// anyway reports whether a place loses messages without a fault, too. What ends the tries
// of a message is one cause: its runs last as long as they do by the fault.
func (v *verifier) anyway(w where, normal map[where]int64, zero map[where][]*flow.LossSet) bool {
	ends := []string{w.cause}
	if w.cause == "exhausted" || w.cause == "given-up" {
		ends = []string{"exhausted", "given-up"}
	}
	return slices.ContainsFunc(ends, func(cause string) bool {
		at := where{w.node, cause}
		return normal[at] > 0 || zero[at] != nil
	})
}

// tolerance holds a claim against a fault that lasts a little less, and a little
// longer, than it says.
func (v *verifier) tolerance(fault string, c *claim, normal map[where]int64, zero map[where][]*flow.LossSet) error {
	first := c.sets[0]
	low, high := bounds(first)
	for _, s := range c.sets[1:] {
		l, h := bounds(s)
		if l < low {
			low = l
		}
		if h < high {
			high = h
			first = s
		}
	}
	gap := v.widestGap()
	if zero[where{first.Node, first.Cause}] != nil || normal[where{first.Node, first.Cause}] > 0 {
		return nil // it loses messages anyway
	}
	fresh := func(lost map[where]int64) (where, int64) {
		for w, n := range lost {
			if normal[w] == 0 && zero[w] == nil {
				return w, n
			}
		}
		return where{}, 0
	}
	try := func(d time.Duration) (*model.Scenario, *sim.Result, error) {
		traffic := v.lead() + d + 4*gap + time.Minute
		s := v.scenario(traffic, traffic+v.settling(), v.incident(fault, v.lead(), d))
		r, err := v.run(s)
		if r != nil && r.Stopped != "" {
			r = nil
		}
		return s, r, err
	}
	_, group := v.g.Topology.FailsTogether[fault]
	if at := v.g.NodeID(first.Node); high < lastsMost && !group && !v.uncertain(at) &&
		(v.copies(at) >= 50 || v.rates[fault] > 0) {
		d := time.Duration(float64(high)*1.05) + 40*gap + time.Second
		if seen := v.copies(at); seen > 0 { // by then some message has come there, however few do
			d += 10 * v.base.Length / time.Duration(seen)
		}
		s, r, err := try(d)
		if err != nil {
			return err
		}
		v.report.Claims++
		if _, n := fresh(v.lostOr(r)); r != nil && n == 0 && !v.starved(s, r, first.Node) && !v.chancy(fault) {
			v.contradict(
				"loss-alarm",
				s,
				fmt.Sprintf("%s failing loses messages at %s (%s) after %s", fault, first.Node, first.Cause, high),
				"none is lost in %s",
				d,
			)
		}
	}
	if d := time.Duration(float64(low)*0.95) - 2*gap; d > time.Second && low < lastsMost {
		s, r, err := try(d)
		if err != nil {
			return err
		}
		v.report.Claims++
		if w, n := fresh(v.lostOr(r)); n > 0 && !v.anyway(w, normal, zero) {
			v.contradict(
				"tolerance",
				s,
				fmt.Sprintf("%s failing loses the first message after %s", fault, low),
				"%d messages are lost at %s (%s) after a fault of %s",
				n,
				w.node,
				w.cause,
				d,
			)
		}
	}
	return nil
}

func (v *verifier) lostOr(r *sim.Result) map[where]int64 {
	if r == nil {
		return nil
	}
	return v.lost(r)
}

// bounds returns between which times a loss set claims its first loss.
func bounds(s *flow.LossSet) (low, high time.Duration) {
	of := func(seconds float64) time.Duration { return time.Duration(min(seconds, 9e9) * 1e9) }
	if s.After.Seconds == nil {
		return 0, lastsMost
	}
	low, high = of(*s.After.Seconds), of(*s.After.Seconds)
	if s.Range != nil {
		low, high = of(*s.Range[0]), lastsMost
		if s.Range[1] != nil {
			high = of(*s.Range[1])
		}
	}
	return low, high
}

// widestGap is the longest time between two messages of an entry.
func (v *verifier) widestGap() time.Duration {
	widest := time.Duration(0)
	for _, rate := range v.rates {
		if rate > 0 {
			widest = max(widest, time.Duration(1e9/rate))
		}
	}
	for i := range v.g.Nodes {
		if n := &v.g.Nodes[i]; n.Kind.Fires() && n.Every > 0 {
			widest = max(widest, n.Every)
		}
	}
	return widest
}
