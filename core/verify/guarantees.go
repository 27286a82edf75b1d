package verify

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
)

// effect is one arrival of a message, or of what came of it, at a destination.
type effect struct {
	journey uint64
	entry   string
	key     string
	began   float64 // seconds: when the message entered
	at      float64 // seconds: when it took effect
	node    string
	lineage string // by which links it came; the same for each repetition of one effect
}

// effectsOf lists the effects of a journey. The lineage of an effect names the links
// from the entry, and of several messages that a run sends over one link, which; tries
// and passes of a cycle do not count.
func effectsOf(g *graph.Graph, j *sim.Journey) []effect {
	byID := make(map[int]*sim.Step, len(j.Steps))
	ordinal := map[int]int{} // by send or call
	sent := map[string]int{}
	for k := range j.Steps {
		s := &j.Steps[k]
		byID[s.ID] = s
		if s.What == "sends" || s.What == "calls" {
			of := fmt.Sprint(s.Parent, " ", s.Link)
			if s.Try <= 1 {
				sent[of]++
			}
			ordinal[s.ID] = sent[of]
		}
	}
	written := writesOf(j)
	// Each link that reads a table or stream has copies of its own, which are no arrivals.
	ofReader := func(s *sim.Step) bool {
		before := byID[s.Parent]
		return before != nil && before.What == "offered" && before.Node == s.Node && before.Link == s.Link &&
			g.Nodes[max(g.NodeID(s.Node), 0)].Kind.Polled()
	}
	type hop struct{ place, name string }
	var lineage func(s *sim.Step) []hop
	known := map[int][]hop{}
	lineage = func(s *sim.Step) []hop {
		if l, ok := known[s.ID]; ok {
			return l
		}
		var out []hop
		if before := byID[s.Parent]; before != nil {
			out = slices.Clone(lineage(before))
		}
		switch s.What {
		case "sends", "calls":
			out = append(out, hop{"", fmt.Sprintf("%s#%d", linkOf(s, byID), ordinal[s.ID])})
		case "enters", "held":
			if ofReader(s) {
				break
			}
			place := fmt.Sprint(s.Node, " ", s.Event["type"])
			for k := range out { // a cycle: it has been here before
				if out[k].place == place {
					out = out[:k]
					break
				}
			}
			out = append(out, hop{place, linkOf(s, byID)})
		}
		known[s.ID] = out
		return out
	}
	var out []effect
	for k := range j.Steps {
		s := &j.Steps[k]
		n := &g.Nodes[max(g.NodeID(s.Node), 0)]
		status := answered(s)
		switch {
		case status > 0 && status < failedRequest:
		case n.Kind == model.Outside && s.What == "ends" && s.Why == "succeeded":
		case n.Kind != model.Outside && n.Kind.Channel() && s.What == "held" && !ofReader(s) &&
			!strings.HasPrefix(s.Why, "deletion") && !rejected(s, written.used[s.ID]):
		default:
			continue
		}
		names := []string{}
		for _, h := range lineage(s) {
			names = append(names, h.name)
		}
		at := max(s.T, written.at[s.ID])
		out = append(out, effect{j.ID, j.Entry, j.Key, j.Began, at, s.Node, strings.Join(names, " ")})
	}
	return out
}

// linkOf names the link of a step; of a dead letter, in brackets, that which has given it up.
func linkOf(s *sim.Step, byID map[int]*sim.Step) string {
	for before := s; s.Link == "" && before != nil; before = byID[before.Parent] {
		if before.Link != "" {
			return "(" + before.Link + ")"
		}
	}
	return s.Link
}

// writes is what became of the copies of a journey that were written to channels, by the step that holds one.
type writes struct {
	used map[int]bool    // it was offered to a link, or a run began with it: the channel took it
	at   map[int]float64 // when the last try to write it began, where the first one failed
}

func writesOf(j *sim.Journey) writes {
	w := writes{map[int]bool{}, map[int]float64{}}
	for k := range j.Steps {
		switch s := &j.Steps[k]; s.What {
		case "offered", "declined", "runs", "parked": // parked where it is, as in a table
			w.used[s.Parent] = true
		case "waits":
			wait, _, again := strings.Cut(s.Why, " before try")
			if d, err := model.ParseDuration(wait); again && err == nil && !w.used[s.Parent] {
				w.at[s.Parent] = s.T + d.Seconds()
			}
		}
	}
	return w
}

// rejected reports whether a copy that was held for a channel was never taken by it: all tries to write it failed.
func rejected(s *sim.Step, used bool) bool {
	switch s.Fate {
	case sim.Rejected.String(), sim.Throttled.String(), sim.Refused.String(), sim.Overflow.String(),
		sim.TooLarge.String():
		return true
	case sim.GivenUp.String(), sim.Exhausted.String(), sim.Parked.String():
		return !used
	}
	return false
}

// failedRequest is the least status with which a request is answered as failed.
const failedRequest = 400

// answered gives the status of the answer that a step is; 0: it is none.
func answered(s *sim.Step) (status int) {
	if s.What == "returned" {
		fmt.Sscanf(s.Why, "answered %d", &status)
	}
	return status
}

// recorded bounds the journeys of a run that are compared: with fewer all are.
const recorded = 20_000

// ended is a journey that is over and of which something was lost and nothing is parked, or a request that was
// answered as failed.
type ended struct {
	journey uint64
	entry   string
	lost    string // where
	refused string // the answer
	reached map[string]bool
}

// journeys runs a scenario and returns the steps of its messages.
func (v *verifier) journeys(s *model.Scenario) ([]sim.Journey, error) {
	v.report.Runs++
	return sim.Journeys(v.plan(s), sim.JourneyLimits{Others: recorded})
}

// effects runs a scenario and lists the effects of its messages, and the journeys that
// lost something.
func (v *verifier) effects(s *model.Scenario) ([]effect, []ended, error) {
	journeys, err := v.journeys(s)
	if err != nil {
		return nil, nil, err
	}
	var out []effect
	var over []ended
	for k := range journeys {
		j := &journeys[k]
		found := effectsOf(v.g, j)
		out = append(out, found...)
		end := ended{journey: j.ID, entry: j.Entry, reached: map[string]bool{}}
		for _, x := range found {
			end.reached[x.node] = true
		}
		parked := false
		for i := range j.Steps {
			switch j.Steps[i].What {
			case "parked":
				parked = true
			case "lost":
				end.lost = j.Steps[i].Node + ": " + j.Steps[i].Why
			}
			if answered(&j.Steps[i]) >= failedRequest {
				end.refused = j.Steps[i].Why
			}
		}
		if parked || j.More > 0 || j.Outcome == "in_flight" {
			end.lost = ""
		}
		if end.lost != "" || end.refused != "" {
			over = append(over, end)
		}
	}
	return out, over, nil
}

type pair struct{ from, to string }

// repeatedOf returns, of each entry and destination, an effect that happened twice.
func repeatedOf(list []effect) map[pair]effect {
	seen := map[string]bool{}
	out := map[pair]effect{}
	for _, x := range list {
		id := fmt.Sprint(x.journey, " ", x.node, " ", x.lineage)
		if seen[id] {
			out[pair{x.entry, x.node}] = x
		}
		seen[id] = true
	}
	return out
}

// mostRecorded is how many events a run has at most whose journeys are recorded, where nothing else is said.
const mostRecorded = 300_000

// Guarantees holds what the analysis says of effects, order and delay against runs
// without a fault and under single faults at sampled instants.
func Guarantees(g *graph.Graph, o Options) (*Report, error) {
	o.Events = cmp.Or(o.Events, mostRecorded)
	v := newVerifier(g, o)
	list := guarantees.Of(v.a, "", "")
	normal, over, err := v.effects(v.scenario(v.base.Length, v.drained))
	if err != nil {
		return nil, err
	}
	v.compareEffects(list, normal, "", nil)
	v.compareLosses(list, over, "", nil)
	v.compareOrder(list, normal)
	done := 0
	for _, fault := range v.faultsOf() {
		if v.o.Faults > 0 && done >= v.o.Faults {
			break
		}
		done++
		for _, share := range []float64{0.31, 0.73} {
			s := v.scenario(v.base.Length, v.drained, v.faultAt(fault, share)...)
			under, over, err := v.effects(s)
			if err != nil {
				return nil, err
			}
			v.compareEffects(list, under, fault, s)
			v.compareLosses(list, over, fault, s)
		}
	}
	return v.report, nil
}

// faultsOf lists the faults that can repeat an effect.
func (v *verifier) faultsOf() []string {
	out := v.simulated()
	for i := range v.g.Nodes {
		if k := v.g.Nodes[i].Kind; k.Invoked() {
			out = append(out, v.g.Nodes[i].Name+"/crash")
		}
	}
	return out
}

// faultAt makes a fault begin at a share of the traffic: a tenth of it long, or five
// crashes.
func (v *verifier) faultAt(fault string, share float64) []*model.Incident {
	at := time.Duration(share * float64(v.base.Length))
	node, crash := strings.CutSuffix(fault, "/crash")
	if !crash {
		return []*model.Incident{v.incident(fault, at, v.base.Length/10)}
	}
	var out []*model.Incident
	for k := range 5 {
		at := at + time.Duration(k)*v.base.Length/37
		out = append(out, &model.Incident{Name: fmt.Sprint("crash-", k+1), At: at, Node: node, Crash: true})
	}
	return out
}

// claimOf gives the effects that are claimed under a fault, or without one.
func claimOf(q *guarantees.Guarantee, fault string) string {
	if fault == "" {
		return q.Effects.NoFault
	}
	return q.Effects.OneFault
}

// compareEffects reports effects that happen twice although that was denied, and those
// that are later than the bound.
func (v *verifier) compareEffects(list []guarantees.Guarantee, found []effect, fault string, s *model.Scenario) {
	twice := repeatedOf(found)
	latest := map[pair]float64{}
	for _, x := range found {
		p := pair{x.entry, x.node}
		latest[p] = max(latest[p], x.at-x.began)
	}
	under := ""
	if fault != "" {
		under = " while " + fault + " fails"
	}
	for k := range list {
		q := &list[k]
		v.report.Claims++
		claim := claimOf(q, fault)
		p := pair{q.From, q.To}
		if x, is := twice[p]; is && (claim == "exactly_once" || claim == "at_most_once") {
			v.contradict("repeat-missed", s, fmt.Sprintf("%s to %s: %s%s", q.From, q.To, claim, under),
				"journey %d took effect again at %gs by %s", x.journey, x.at, x.lineage)
		}
		if t := q.Delay.AtMost; t != nil && latest[p] > *t*(1+1e-9)+1e-3 {
			v.contradict("delay", s, fmt.Sprintf("%s to %s takes at most %gs%s: %s", q.From, q.To, *t, under, q.Delay.Why),
				"a message took %gs", latest[p])
		}
	}
}

// compareLosses reports effects that every message has, and that are missing after a
// loss although that was denied.
func (v *verifier) compareLosses(list []guarantees.Guarantee, over []ended, fault string, s *model.Scenario) {
	for k := range list {
		q := &list[k]
		claim := claimOf(q, fault)
		if q.Reaches != "certain" || claim == "at_most_once" || claim == "any_number" {
			continue
		}
		v.report.Claims++
		for _, j := range over {
			switch {
			case j.entry != q.From:
			case q.Answer && j.refused != "":
				v.contradict("answer-missed", s, fmt.Sprintf("the answers of %s: %s, %s", q.From, claim, fault),
					"journey %d was %s", j.journey, j.refused)
			case !q.Answer && j.lost != "" && !j.reached[q.To]:
				v.contradict("loss-missed", s, fmt.Sprintf("%s to %s: %s, %s", q.From, q.To, claim, fault),
					"journey %d had no effect there and lost a message at %s", j.journey, j.lost)
			default:
				continue
			}
			break
		}
	}
}

// compareOrder reports messages that overtake others although the order is kept. Only
// orders by entry and by key can be seen.
func (v *verifier) compareOrder(list []guarantees.Guarantee, found []effect) {
	for k := range list {
		q := &list[k]
		if !q.Order.Kept || slices.ContainsFunc(q.Order.By, func(by string) bool { return by != "event.subject" }) {
			continue
		}
		v.report.Claims++
		x, before := overtaking(q, found, func(x *effect) string {
			if len(q.Order.By) > 0 {
				return x.key + " " + x.lineage
			}
			return x.lineage
		})
		if x != nil {
			v.contradict("order", nil, fmt.Sprintf("%s to %s keeps the order", q.From, q.To),
				"journey %d entered at %gs and took effect at %gs, behind one that entered at %gs",
				x.journey, x.began, x.at, before.began)
		}
	}
}

// overtaking finds, among the effects of an entry at a destination, the first that comes
// behind one of its key that entered later; nil: the order is kept.
func overtaking(q *guarantees.Guarantee, list []effect, key func(*effect) string) (x, before *effect) {
	slices.SortStableFunc(list, func(x, y effect) int { return cmp.Compare(x.at, y.at) })
	last := map[string]*effect{} // of those that have taken effect, the one that entered last
	for k := range list {
		x := &list[k]
		if x.entry != q.From || x.node != q.To {
			continue
		}
		before := last[key(x)]
		if before != nil && x.began < before.began-1e-9 {
			return x, before
		}
		if before == nil || x.began > before.began {
			last[key(x)] = x
		}
	}
	return nil, nil
}
