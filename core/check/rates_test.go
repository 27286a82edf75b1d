package check

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/model"
	"ironweir/core/sim"
)

// TestRatesAgreeWithTheEngine compares the traffic equations, and what is said
// of loops, with runs of random models in which functions fail now and then.
func TestRatesAgreeWithTheEngine(t *testing.T) {
	compared, ran, amplified, round, broken := 0, 0, 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		text := drawModel(t)
		text = strings.ReplaceAll(text, "kind: function\n", "kind: function\n    takes: 1s\n    fails: "+rapid.SampledFrom([]string{"0", "10%", "40%"}).Draw(t, "fails")+"\n")
		g := compiled(t, text)
		a := Analyse(g, nil)
		for _, l := range a.Loops {
			if l.Verdict != "broken" && (l.Trend != "dies-out" || l.Gain[1] == nil || *l.Gain[1] > 0.8) {
				t.Skip("it may go round for ever, or so long that chance decides")
			}
		}
		p := &Pass{Analysis: a, rule: waitingCycle}
		if waitingCycle.Run(p); len(p.findings) > 0 {
			t.Skip("calls that wait for each other")
		}
		s := model.DefaultScenario()
		s.Length, s.TrafficGiven = 10*24*time.Hour, true
		const perHour = 20.0
		s.Traffic = []*model.Traffic{{Name: "u", Into: "n0", Rate: perHour / 3600, Arrivals: "poisson"}}
		a = Analyse(g, s)
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Limits: sim.Limits{Events: 300_000}})
		require.NoError(t, err)
		if res.Stopped != "" {
			t.Skip("too much")
		}
		for _, l := range res.Loops {
			if l.Most > 1 {
				round++
			} else {
				broken++
			}
		}
		hours := s.Length.Hours()
		allSure, streams := true, false
		for i := range g.Nodes {
			allSure = allSure && !a.uncertain(i)
			streams = streams || g.Nodes[i].Kind == model.Stream // its readers hold copies of their own
		}
		if amp := a.Entries["n0"].Amplification; allSure && !streams && amp.Runs != nil {
			copies, runs := 0.0, 0.0
			for i := range g.Nodes {
				copies += float64(res.Nodes[i].Copies)
				if k := g.Nodes[i].Kind; k == model.Function || k == model.Workflow {
					runs += float64(res.Nodes[i].Runs)
				}
			}
			entered := perHour * hours
			spread := 5*math.Sqrt(entered) + 3
			require.InDelta(t, *amp.Copies, copies/entered, (spread*max(*amp.Copies, 1)+0.02*copies)/entered, "copies for one message\n%s", text)
			require.InDelta(t, *amp.Runs, runs/entered, (2*spread*max(*amp.Runs, 1)+0.02*runs)/entered, "runs for one message\n%s", text)
			amplified++
		}
		for i := range g.Nodes {
			n := &g.Nodes[i]
			rate := a.Capacity[n.Name].Rate
			if rate == nil || a.uncertain(i) {
				continue
			}
			came := float64(res.Nodes[i].Copies)
			for _, id := range n.In {
				if g.Links[id].Relation == model.WaitingCall || n.Kind.Runs() && g.Links[id].Relation.Polls() {
					came += float64(res.Links[id].Matched)
				}
			}
			want := *rate * s.Length.Seconds()
			// What descends from one arrival comes together, so the spread is that of
			// the arrivals times what each sets off.
			spread := 5 * math.Sqrt(perHour*hours) * max(want/(perHour*hours), 1)
			require.InDelta(t, want, came, spread+0.02*want+3, "%s\n%s", n.Name, text)
			compared++
			if !n.Kind.Runs() {
				continue
			}
			runs, tries := a.runs[i]*s.Length.Seconds(), 2.0
			require.InDelta(t, runs, float64(res.Nodes[i].Runs), tries*spread+0.02*runs+5, "runs of %s\n%s", n.Name, text)
			busy := *a.Capacity[n.Name].Concurrency
			each := a.meanRun(i) / s.Length.Seconds() // what one run more adds
			require.InDelta(t, busy, res.Nodes[i].ActiveMean, (tries*spread+5)*each+0.02*busy, "runs at once of %s\n%s", n.Name, text)
			ran++
		}
	})
	require.Greater(t, compared, 150)
	require.Greater(t, ran, 50)
	require.Greater(t, amplified, 20)
	t.Logf("%d rates, %d nodes that run, %d loops that went round, %d that did not", compared, ran, round, broken)
}

// uncertain tells whether what comes to a node depends on links that are only
// possible, or on how a queue's links share its messages.
func (a *Analysis) uncertain(i int) bool {
	seen := map[int]bool{}
	var walk func(i int) bool
	walk = func(i int) bool {
		if seen[i] {
			return false
		}
		seen[i] = true
		for _, e := range a.Graph.Edges(true) {
			if e.To != i {
				continue
			}
			if !e.Dead && a.Reach[e.Link].String() == "possible" && a.link(e.Link).When != model.Failure {
				return true
			}
			if walk(e.From) {
				return true
			}
		}
		return false
	}
	return walk(i)
}
