// Package verify holds what the analysis says of a model against simulated runs of
// it: the engine is the oracle. It runs the model without a fault, under each
// single fault, and for as long as each outage tolerance says, and reports every
// claim, and every absence of a claim, that a run contradicts.
package verify

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/flow"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// Options say how much is simulated.
type Options struct {
	Scenario *model.Scenario // whose traffic is sent; nil: the nodes' own rates
	Inputs   sim.Inputs
	Length   time.Duration // of the traffic; 0: the scenario's; less where the run would be too large
	Events   int64         // of one run at most; 0: 2,000,000
	Faults   int           // single faults at most; 0: all
	Seed     uint64
	Progress func(done, total int) // or nil
	Stop     func() bool           // asked between runs; or nil
}

// Contradiction is a claim that a run contradicts.
type Contradiction struct {
	Class    string `json:"class"` // loss-missed loss-alarm tolerance loop-missed loop-alarm reach rate share
	Claim    string `json:"claim"` // what the analysis says
	Run      string `json:"run"`   // what the run shows
	Scenario string `json:"scenario"`
}

// Report is what came of it.
type Report struct {
	Claims         int             `json:"claims"` // that were held against runs
	Runs           int             `json:"runs"`
	Skipped        []string        `json:"skipped"` // what could not be simulated within the limits
	Contradictions []Contradiction `json:"contradictions"`
}

type verifier struct {
	g        *graph.Graph
	o        Options
	a        *flow.Analysis
	base     *model.Scenario // traffic without a fault
	drained  time.Duration   // length of the base run, the traffic and the settling after it
	normal   *sim.Result
	report   *Report
	rates    map[string]float64 // of each entry, per second
	schedule map[string]bool
	missed   map[string]bool // single faults that lose messages although nothing says so
}

// Model holds the analysis of a model against runs.
func Model(g *graph.Graph, o Options) (*Report, error) {
	if o.Events == 0 {
		o.Events = 2_000_000
	}
	v := newVerifier(g, o)
	if err := v.withoutFault(); err != nil {
		return nil, err
	}
	if err := v.singleFaults(); err != nil {
		return nil, err
	}
	return v.report, nil
}

// newVerifier analyses a model and prepares its runs.
func newVerifier(g *graph.Graph, o Options) *verifier {
	v := newRuns(g, o)
	v.a = flow.AnalyseWith(g, v.base, o.Inputs.Events)
	return v
}

// newRuns prepares the runs of a model, without an analysis.
func newRuns(g *graph.Graph, o Options) *verifier {
	v := &verifier{
		missed:   map[string]bool{},
		g:        g,
		o:        o,
		report:   &Report{Contradictions: []Contradiction{}, Skipped: []string{}},
		rates:    map[string]float64{},
		schedule: map[string]bool{},
	}
	v.prepare()
	return v
}

// prepare makes the scenario without a fault: every entry sends at its rate, evenly
// where the model does not say otherwise.
func (v *verifier) prepare() {
	s := *model.DefaultScenario()
	if v.o.Scenario != nil {
		s = *v.o.Scenario
	}
	s.Incidents, s.Expect, s.WarmUp = nil, nil, 0
	s.Seed = max(v.o.Seed, 1)
	if v.o.Length > 0 {
		s.Length = v.o.Length
	}
	if !s.TrafficGiven {
		s.Traffic = ownTraffic(v.g)
		s.TrafficGiven = true
	}
	v.base = &s
	for _, t := range s.Traffic {
		v.rates[t.Into] += t.Rate
	}
	for i := range v.g.Nodes {
		if n := &v.g.Nodes[i]; n.Kind.Fires() {
			v.schedule[n.Name] = true
		}
	}
	v.drained = s.Length + v.settling()
}

// outOfStep returns by how much the kth of so many traffics into a node is slower than its share, so that they do not
// keep coming at the same instants; together they are as many as stated, but for the off-beat.
func outOfStep(k, all int) float64 {
	const spread = 0.04
	if all == 1 {
		return offBeat
	}
	return offBeat * (1 + spread*(float64(k-1)/float64(all-1)-0.5))
}

// offBeat is by how much the traffic of a run is slower than stated, so that the time between messages is in no ratio
// to leases, waits and retries: where each retry met an arrival, they would be read together again and again.
const offBeat = 1 - 1/2500.0

// ownTraffic returns the traffic of the nodes' own rates, spread over the keys,
// types and sources that they state.
func ownTraffic(g *graph.Graph) []*model.Traffic {
	var out []*model.Traffic
	deletes := slices.ContainsFunc(g.Links, func(l graph.Link) bool { return l.Op == "delete" }) // what has a key
	for i := range g.Nodes {
		n := &g.Nodes[i]
		if n.Rate == 0 || n.Kind.Fires() {
			continue
		}
		keys, types, sources := flow.OrEmpty(n.Node.Keys), flow.OrEmpty(n.Types), flow.OrEmpty(n.Sources)
		if len(n.Node.Keys) == 0 && (n.By != nil || deletes) {
			keys = []string{n.Name + "-{seq}"} // over all partitions
		}
		payload := acceptedPayload(g, i)
		all := len(keys) * len(types) * len(sources)
		for k := range all { // each with each
			kind, source := types[k/len(sources)%len(types)], literal(sources[k%len(sources)])
			t := &model.Traffic{
				Name:     fmt.Sprintf("%s-%d", strings.ReplaceAll(n.Name, "/", "-"), k+1),
				Into:     n.Name,
				Arrivals: "even",
				Key:      keys[k/len(sources)/len(types)],
				Type:     literal(kind),
				Rate:     n.Rate / float64(all) * outOfStep(k+1, all),
			}
			if source != "" || payload != nil {
				t.Events = []model.SampleEvent{{Source: source, Data: payload, Weight: 1}}
			}
			out = append(out, t)
		}
	}
	return out
}

// literal returns a text that is no template, else none.
func literal(text string) string {
	if strings.ContainsAny(text, "{}") {
		return ""
	}
	return text
}

// acceptedPayload returns a payload that the first node which checks those of an entry accepts; nil: none does.
func acceptedPayload(g *graph.Graph, entry int) *model.Value {
	at := flow.Accepting(g, entry)
	if at == graph.None {
		return nil
	}
	text, err := json.Marshal(g.Nodes[at].UsualEvent().Data)
	if err != nil {
		return nil
	}
	value, err := model.ReadDocument("payload", text)
	if err != nil {
		return nil
	}
	return value
}

// settling is how long messages may still be in flight when the traffic has ended.
func (v *verifier) settling() time.Duration {
	longest := 6 * time.Hour
	for i := range v.g.Nodes {
		if n := &v.g.Nodes[i]; n.Kind.Polled() && len(n.Out) > 0 {
			longest = max(longest, min(n.Retention+n.Delay, 8*24*time.Hour))
		}
	}
	return longest + 2*time.Hour
}

// scenario returns the base scenario, with traffic for so long and a fault.
func (v *verifier) scenario(traffic, length time.Duration, incidents ...*model.Incident) *model.Scenario {
	s := *v.base
	s.Traffic = nil
	for _, t := range v.base.Traffic {
		c := *t
		if n := int64(c.Rate * traffic.Seconds()); c.Max == 0 || n < c.Max {
			c.Max = max(n, 1)
		}
		s.Traffic = append(s.Traffic, &c)
	}
	off := false
	for i := range v.g.Nodes {
		if n := &v.g.Nodes[i]; n.Kind.Fires() && traffic < length {
			incidents = append(
				incidents,
				&model.Incident{Name: "end-" + n.Name, At: traffic, Node: n.Name, Enabled: &off},
			)
		}
	}
	s.Incidents, s.Length = incidents, length
	return &s
}

// plan is how a scenario is run.
func (v *verifier) plan(s *model.Scenario) sim.Plan {
	limits := sim.Limits{Events: v.o.Events, Memory: 1 << 30}
	return sim.Plan{Graph: v.g, Scenario: s, Inputs: v.o.Inputs, Limits: limits}
}

func (v *verifier) run(s *model.Scenario) (*sim.Result, error) {
	v.report.Runs++
	return sim.Run(v.plan(s))
}

func (v *verifier) contradict(class string, s *model.Scenario, claim, run string, args ...any) {
	text := ""
	if s != nil {
		text = model.WriteScenario(s)
	}
	v.report.Contradictions = append(
		v.report.Contradictions,
		Contradiction{class, claim, fmt.Sprintf(run, args...), text},
	)
}

func (v *verifier) skip(format string, args ...any) {
	v.report.Skipped = append(v.report.Skipped, fmt.Sprintf(format, args...))
}

// where is a place of loss.
type where struct{ node, cause string }

// compare orders places by name.
func (w where) compare(o where) int {
	return cmp.Or(strings.Compare(w.node, o.node), strings.Compare(w.cause, o.cause))
}

// lost counts what a run lost, by place, without what expired where it rests.
func (v *verifier) lost(r *sim.Result) map[where]int64 {
	out := map[where]int64{}
	count := func(n *graph.Node, x *sim.NodeResult) {
		for f, k := range x.Fates {
			cause := strings.ReplaceAll(sim.Fate(f).String(), "_", "-")
			if k == 0 || !sim.Fate(f).Loss() || cause == "expired" && !v.isRead(n) {
				continue
			}
			out[where{n.Name, cause}] += k
		}
	}
	for i := range r.Nodes {
		count(&v.g.Nodes[i], &r.Nodes[i])
	}
	for i := range r.Links {
		if f := r.Links[i].Feed; f != nil && !v.g.Links[i].Link.Disabled {
			count(&v.g.Nodes[v.g.Links[i].From], f)
		}
	}
	return out
}

// isRead reports whether anything leaves a node, so that what expires there is lost. Links that are switched off count
// as absent.
func (v *verifier) isRead(n *graph.Node) bool {
	return slices.ContainsFunc(n.Out, func(id int) bool { return !v.g.Links[id].Link.Disabled })
}

// withoutFault compares losses, loops and rates with nothing broken.
func (v *verifier) withoutFault() error {
	for i := range v.a.Loops {
		if l := &v.a.Loops[i]; l.Verdict != "broken" && l.Trend != "dies-out" {
			return v.loopsOnly()
		}
	}
	s := v.scenario(v.base.Length, v.drained)
	r, err := v.run(s)
	for err == nil && r.Stopped != "" && v.base.Length > 10*time.Minute { // less traffic shows the same
		v.base.Length /= 4
		v.drained = v.base.Length + v.settling()
		s = v.scenario(v.base.Length, v.drained)
		r, err = v.run(s)
	}
	if err != nil {
		return err
	}
	if r.Stopped != "" {
		v.skip("the run without a fault: it was ended by %s", r.Stopped)
		return nil
	}
	v.normal = r
	v.normalLosses(s, r)
	v.reach(s, r)
	v.loops(s, r)
	if !v.behind(r) {
		v.numbers(s, r)
	}
	return nil
}

// firesUnevenly reports whether a schedule fired more or less often in a run than it does on average, as one that fires
// on some days only.
func (v *verifier) firesUnevenly(n *graph.Node, r *sim.Result) bool {
	if !n.Kind.Fires() || v.a.Capacity[n.Name].Rate == nil {
		return false
	}
	usual := *v.a.Capacity[n.Name].Rate * v.base.Length.Seconds()
	return math.Abs(float64(r.Nodes[n.ID].Copies)-usual) > 0.05*usual+2
}

// behind reports whether messages wait long without a fault: what is said of rates
// and tolerances then depends on how the backlog grows.
func (v *verifier) behind(r *sim.Result) bool {
	for i := range v.a.Loops {
		if l := &v.a.Loops[i]; l.Waiting() || l.Gain != nil && (l.Gain[1] == nil || *l.Gain[1] > 0.5) {
			return true
		}
	}
	for i := range v.g.Nodes {
		n := &v.g.Nodes[i]
		if v.firesUnevenly(n, r) {
			return true
		}
		if n.ColdStart != nil || len(v.a.Overfull()) > 0 ||
			n.By != nil && n.PartitionRate > 0 {
			return true
		}
		for _, id := range n.Out {
			if r := v.a.Readings[v.a.Graph.LinkID(v.g.Links[id].Link.ID())]; r.Utilisation > 0.8 {
				return true
			}
		}
		if c := v.a.Capacity[n.Name]; c.Utilisation != nil && *c.Utilisation > 0.9 && !n.Kind.Answers() {
			return true
		}
		if n.Kind.Polled() && len(n.Out) > 0 && r.Nodes[i].Oldest > n.Delay.Seconds()+n.Lease.Seconds()*3+600 {
			return true
		}
		for _, id := range n.Out {
			if f := r.Links[id].Feed; f != nil && f.Oldest > 600 {
				return true
			}
		}
	}
	return false
}

// claimed returns the causes and nodes at which some entry claims losses by a set of
// faults of a size, and the sets.
func (v *verifier) claimed(size int) map[where][]*flow.LossSet {
	out := map[where][]*flow.LossSet{}
	for name := range v.a.Entries {
		e := v.a.Entries[name]
		if v.rates[name] == 0 && !v.schedule[name] {
			continue
		}
		for k := range e.LossSets {
			if s := &e.LossSets[k]; len(s.Faults) == size {
				w := where{s.Node, s.Cause}
				out[w] = append(out[w], s)
			}
		}
	}
	return out
}

func (v *verifier) normalLosses(s *model.Scenario, r *sim.Result) {
	claims := v.claimed(0)
	lost := v.lost(r)
	for w, n := range lost {
		if slices.ContainsFunc(v.g.Nodes[v.g.NodeID(w.node)].Out, v.failsInBatches) {
			continue
		}
		v.report.Claims++
		if n > 3 && !claimedAs(claims, w) && !v.unbounded(w.node) && !(w.cause == "given-up" && v.collides(w.node)) {
			v.contradict(
				"loss-missed",
				s,
				fmt.Sprintf("nothing is lost at %s (%s) without a fault", w.node, w.cause),
				"%d messages are lost there",
				n,
			)
		}
	}
	for w, sets := range claims {
		v.report.Claims++
		certain := slices.ContainsFunc(sets, func(s *flow.LossSet) bool { return !s.Some })
		if certain && lost[w] == 0 && v.came(r, w.node) {
			v.contradict(
				"loss-alarm",
				s,
				fmt.Sprintf("messages are certainly lost at %s (%s) without a fault", w.node, w.cause),
				"none is lost there",
			)
		}
	}
}

// endOfTries gives one name to the causes that end the tries of a message: where both come at about the same time,
// either does.
func endOfTries(cause string) string {
	if cause == "given-up" {
		return "exhausted"
	}
	return cause
}

// claimedAs reports whether a loss is claimed: tries that are exhausted as a message is given up for its age are
// either.
func claimedAs(claims map[where][]*flow.LossSet, w where) bool {
	other := where{w.node, map[string]string{"exhausted": "given-up", "given-up": "exhausted"}[w.cause]}
	return claims[w] != nil || other.cause != "" && claims[other] != nil
}

// collides reports whether the tries of messages at a node may find no free run again and again: in a run without
// chance, where waits are multiples of the time between messages, that may go on until they are too old.
func (v *verifier) collides(node string) bool {
	n := &v.g.Nodes[v.g.NodeID(node)]
	c := v.a.Capacity[node]
	limited := n.Concurrency > 0 || n.Pool != "" || n.RateLimit > 0
	return limited && c.Utilisation != nil && *c.Utilisation > 0.25
}

// unbounded reports whether the messages of a node have no bound: a loop feeds it,
// which is a finding of its own.
func (v *verifier) unbounded(node string) bool { return v.a.Capacity[node].Rate == nil }

// came reports whether any message came to a node.
func (v *verifier) came(r *sim.Result, node string) bool {
	return r.Nodes[v.g.NodeID(node)].Copies > 0
}

func (v *verifier) reach(s *model.Scenario, r *sim.Result) {
	for i := range v.g.Links {
		l := &v.g.Links[i]
		verdict := v.reachOf(i)
		if l.Op == "read" || l.Link.Disabled {
			continue
		}
		v.report.Claims++
		if verdict == expr.Impossible && r.Links[i].Matched > 0 {
			v.contradict("reach", s, fmt.Sprintf("nothing takes %s", l.Link.ID()), "%d messages do", r.Links[i].Matched)
		}
		declined := r.Links[i].Offered - r.Links[i].Matched
		if verdict == expr.Certain && declined > 0 && (l.Relation.Delivering() && l.When == model.OfRun) && !l.Refused {
			v.contradict("reach", s, fmt.Sprintf("everything takes %s", l.Link.ID()), "%d messages do not", declined)
		}
	}
}

// loops compares which loops circulate.
func (v *verifier) loops(s *model.Scenario, r *sim.Result) {
	for _, l := range r.Loops {
		names := map[string]bool{}
		for _, n := range l.Nodes {
			names[v.g.Nodes[n].Name] = true
		}
		v.report.Claims++
		if l.Most <= 2 { // a second arrival may be what a rejected write was given up to
			continue
		}
		if l.Most == 3 && v.deletesAmong(names) { // written, deleted, and deleted once more: of that nothing follows
			continue
		}
		found := false
		for i := range v.a.Loops {
			c := &v.a.Loops[i]
			found = found ||
				c.Verdict != "broken" && slices.ContainsFunc(c.Nodes, func(n string) bool { return names[n] })
		}
		if !found {
			v.contradict(
				"loop-missed",
				s,
				fmt.Sprintf("no message circulates among %s", strings.Join(sorted(names), ", ")),
				"a message passes %d times",
				l.Most,
			)
		}
	}
}

// deletesAmong reports whether one of some nodes deletes what another keeps.
func (v *verifier) deletesAmong(names map[string]bool) bool {
	return slices.ContainsFunc(v.g.Links, func(l graph.Link) bool {
		return l.Op == "delete" && names[l.Link.From] && names[l.Link.To]
	})
}

func sorted(names map[string]bool) []string {
	var out []string
	for n := range names {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

// loopsOnly runs a few messages through a model in which some circulate for long.
func (v *verifier) loopsOnly() error {
	v.skip("losses, rates and faults: the model has a loop that does not end by itself, so no run does")
	s := v.scenario(v.base.Length, 4*time.Hour+v.base.Length+4*v.lead())
	for _, t := range s.Traffic {
		t.Max = min(t.Max, 10)
	}
	s.Length = min(s.Length, 5*24*time.Hour)
	o := v.o.Events
	v.o.Events = min(o, 200_000)
	r, err := v.run(s)
	v.o.Events = o
	if err != nil {
		return err
	}
	v.loops(s, r)
	for i := range v.a.Loops {
		l := &v.a.Loops[i]
		if l.Verdict != "certain" || l.BrokenBy != nil || l.Waiting() || r.Stopped != "" || l.Limit == nil ||
			l.Limit.Arrives*v.base.Length.Seconds() < 20 {
			continue
		}
		v.report.Claims++
		shown, entered := false, true
		for _, x := range r.Loops {
			on := false
			for _, n := range x.Nodes {
				on = on || slices.Contains(l.Nodes, v.g.Nodes[n].Name)
			}
			shown = shown || on && x.Most > 1
		}
		for _, n := range l.Nodes {
			entered = entered && v.came(r, n)
			x := &r.Nodes[v.g.NodeID(n)]
			shown = shown || x.Copies+x.Runs > 200 // of a few messages
		}
		if entered && !shown && l.Trend != "dies-out" {
			v.contradict(
				"loop-alarm",
				s,
				fmt.Sprintf("messages certainly circulate among %s", strings.Join(l.Nodes, ", ")),
				"none passes twice",
			)
		}
	}
	return nil
}

// numbers compares rates, concurrency and shares of loss.
func (v *verifier) numbers(s *model.Scenario, r *sim.Result) {
	seconds := v.base.Length.Seconds()
	entered := 0.0
	for _, t := range s.Traffic {
		entered += float64(t.Max)
	}
	for i := range v.g.Nodes {
		n := &v.g.Nodes[i]
		c, ok := v.a.Capacity[n.Name]
		if !ok || c.Rate == nil {
			continue
		}
		if n.Kind.Runs() && c.Concurrency != nil && !v.rareTries(i) && !v.collides(n.Name) {
			want := *c.Concurrency * seconds
			got := r.Nodes[i].ActiveMean * v.drained.Seconds()
			runs := float64(r.Nodes[i].Runs)
			if runs == 0 { // so many were to come
				runs = math.Ceil(*c.Rate * seconds)
			}
			v.number(
				"rate",
				s,
				n.Name+" concurrency",
				c.Basis["concurrency"],
				want,
				got,
				int64(runs/(1+n.Takes.Variation())),
				v.uncertain(i) || v.guessed(&c) || got < want && v.batched(i),
			)
		}
	}
	v.channelRates(s, r, seconds)
	for i := range v.g.Links {
		l := &v.g.Links[i]
		if l.Op == "read" || l.Relation == model.WaitingCall || l.Refused || v.uncertain(l.From) || v.possible(i) ||
			v.g.Nodes[l.From].Grouped {
			continue
		}
		rate := v.a.LinkRate(l.Link.ID())
		if math.IsNaN(rate) || v.a.LinkGuessed(l.Link.ID()) {
			continue
		}
		got := float64(r.Links[i].Matched)
		v.number("rate", s, l.Link.ID()+" rate", "", rate*seconds, got, int64(got), false)
	}
	lost := map[string]float64{}
	for w, n := range v.lost(r) {
		lost[endOfTries(w.cause)] += float64(n)
	}
	want, sure := map[string]float64{}, true
	for name := range v.a.Entries {
		e := v.a.Entries[name]
		count := v.rates[name] * seconds
		if v.schedule[name] {
			sure = false
		}
		sure = sure && e.Basis["loss_by"] == "" && !slices.ContainsFunc(e.LossSets, func(s flow.LossSet) bool {
			return v.collides(s.Node)
		})
		for c, x := range e.LossBy {
			want[endOfTries(c)] += x * count
		}
	}
	if !sure {
		return
	}
	for c := range want {
		v.number("share", s, "lost as "+c, "", want[c], lost[c], int64(lost[c]), false)
	}
}

// guessed reports whether the number of runs at a node rests on a guess.
func (v *verifier) guessed(c *flow.Capacity) bool {
	return c.Basis["utilisation"] == flow.Estimate || slices.Contains(c.Assumptions, flow.PayloadAssumption)
}

// channelRates compares how many messages come to channels.
func (v *verifier) channelRates(s *model.Scenario, r *sim.Result, seconds float64) {
	crowded := slices.ContainsFunc(v.g.Nodes, func(n graph.Node) bool { return v.collides(n.Name) })
	for i := range v.g.Nodes {
		n := &v.g.Nodes[i]
		c := v.a.Capacity[n.Name]
		if c.Rate == nil || !n.Kind.Channel() || v.uncertain(i) || v.rejects(n) || n.ObjectLife > 0 ||
			v.g.UsesData && slices.Contains(c.Assumptions, flow.PayloadAssumption) {
			continue
		}
		got := float64(r.Nodes[i].Copies)
		want := *c.Rate * seconds
		smooth := crowded || v.batchedBefore(i)
		v.number("rate", s, n.Name+" rate", c.Basis["rate"], want, got, int64(got), got < want && smooth)
	}
}

// rejects reports whether a channel may reject what is written to it, of which the run counts copies, too.
func (v *verifier) rejects(n *graph.Node) bool {
	return slices.ContainsFunc(n.In, func(id int) bool { return v.g.Links[id].Refused }) ||
		n.Fails.EachTry > 0 || n.Capacity > 0 || n.PartitionRate > 0 || v.g.Topology.Limits.Payload > 0
}

// rareTries reports whether a few messages of a node are tried without limit, so that
// its runs depend on chance.
func (v *verifier) rareTries(i int) bool {
	seen := map[int]bool{}
	work := []int{i}
	for len(work) > 0 {
		at := work[0]
		work = work[1:]
		if seen[at] {
			continue
		}
		seen[at] = true
		for _, id := range v.g.Nodes[at].In {
			l := &v.g.Links[id]
			if l.Policy.Tries == 0 && l.Relation.Polls() {
				return true
			}
			if l.Relation == model.WaitingCall {
				work = append(work, l.From)
			}
		}
	}
	return false
}

// uncertain reports whether the messages of a node were guessed: it depends on links
// that are only possible, or on how a queue's links share its messages.
func (v *verifier) uncertain(i int) bool {
	return v.onTheWay(i, func(e graph.Edge) bool {
		from := &v.g.Nodes[e.From]
		if from.DedupeBy != nil || from.Idempotent != nil { // which of the messages are the same to it is not known
			return true
		}
		return e.Link >= 0 && v.failsInBatches(e.Link) || !e.Dead && v.possible(e.Link)
	})
}

// onTheWay reports whether some edge of a kind lies on a way to a node.
func (v *verifier) onTheWay(i int, of func(graph.Edge) bool) bool {
	seen := map[int]bool{}
	var walk func(i int) bool
	walk = func(i int) bool {
		if seen[i] {
			return false
		}
		seen[i] = true
		return slices.ContainsFunc(v.g.Edges(true), func(e graph.Edge) bool {
			return e.To == i && (of(e) || walk(e.From))
		})
	}
	return walk(i)
}

// failsInBatches reports whether the runs of a reader fail for a few messages and not for one: what fails together
// comes back together, so that a few make all fail from then on, or never do. So it is where leases end while batches
// fill.
func (v *verifier) failsInBatches(link int) bool {
	k := v.a.Graph.LinkID(v.g.Links[link].Link.ID())
	if k == graph.None {
		return false
	}
	return slices.ContainsFunc(v.a.States.Of[v.a.Graph.Links[k].To], func(s int32) bool {
		at := v.a.States.All[s]
		return at.How == flow.AsPoll && int(at.Link) == k && v.a.FailsAbove(int(s))
	}) || v.a.EndsWhileFilling(v.a.Link(k))
}

// batched reports whether runs of a node may take several messages: how many depends on which
// of those that are tried again become visible together.
func (v *verifier) batched(node int) bool {
	return slices.ContainsFunc(v.g.Nodes[node].In, func(id int) bool { return v.g.Links[id].Read.UpTo > 1 })
}

// batchedBefore reports whether the messages of a node may have been in batches: they hold more where messages come by
// chance than in a run where they come evenly.
func (v *verifier) batchedBefore(i int) bool {
	return v.onTheWay(i, func(e graph.Edge) bool { return e.Link >= 0 && v.g.Links[e.Link].Read.UpTo > 1 })
}

func (v *verifier) possible(link int) bool {
	l := &v.g.Links[link]
	from := &v.g.Nodes[l.From]
	return v.reachOf(link) == expr.Possible && l.When != model.Failure || from.Kind.Leases() && len(from.Out) > 1
}

// reachOf returns whether messages take a link. None take one that is switched off, which is no part of the graph that
// the analysis looks at.
func (v *verifier) reachOf(link int) expr.Verdict {
	if k := v.a.Graph.LinkID(v.g.Links[link].Link.ID()); k != graph.None {
		return v.a.Reach[k]
	}
	return expr.Impossible
}

// number compares a number with what a run counted.
func (v *verifier) number(
	class string,
	s *model.Scenario,
	what, basis string,
	want, got float64,
	events int64,
	skip bool,
) {
	if skip {
		return
	}
	v.report.Claims++
	spread := 6*math.Sqrt(max(want, got, 1)) + 0.05*max(want, got) + 3
	if events > 0 && events < 1_000_000 {
		spread = max(spread, 6*max(want, got)/math.Sqrt(float64(events)))
	}
	off := got - want
	switch {
	case basis == flow.AtMost && off < 0, basis == flow.AtLeast && off > 0:
		return
	case basis == flow.Estimate:
		spread = max(spread, 0.6*max(want, got))
	}
	if math.Abs(off) > spread {
		v.contradict(class, s, fmt.Sprintf("%s: %.4g", what, want), "%.4g", got)
	}
}
