package study_test

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

const clinic = `
nodes:
  door: {kind: queue, links: {desk: {read: {parallel: 40}}}}
  desk: {kind: function, takes: {dist: exponential, mean: 9s}, concurrency: 12, links: {filed: {}}}
  filed: {kind: queue, links: {clerk: {retry: {tries: 2}}}}
  clerk: {kind: function, takes: 1s, fails: 30%}
`

const evening = `
length: 2h
seed: 5
replications: 8
traffic: {in: {into: door, rate: 1/s}}
expect: {short: "run.nodes['door'].wait_s.mean < 1.0"}
`

// planOf makes a plan of a model with settings.
func planOf(t testing.TB, topology, scenario string, sets ...string) study.Plan {
	m, err := model.Parse("m.yaml", []byte("ironweir: topology/1\nname: case\n"+topology), model.Options{Sets: sets})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	s, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\nname: case\n"+scenario), m)
	require.NoError(t, err)
	return study.Plan{Graph: g, Scenario: s, Workers: 2, Head: document.NewHead("run", "case", "", "")}
}

func asJSON(t testing.TB, v any) string {
	text, err := json.Marshal(v)
	require.NoError(t, err)
	return string(text)
}

// TestVariantsMeetTheSameLuck [CK-04] [CK-05]: what a change does not touch does not differ at
// all, and what it does is known more exactly than two runs apart could tell.
func TestVariantsMeetTheSameLuck(t *testing.T) {
	doc, err := study.RunVariants([]study.Variant{{Name: "as-it-is", Plan: planOf(t, clinic, evening)},
		{Name: "faster", Plan: planOf(t, clinic, evening, "nodes.clerk.takes=500ms")}}, nil)
	require.NoError(t, err)
	require.NotContains(t, doc.Differences, "faster.nodes.door.wait_s.mean", "the desk is the same")
	require.NotContains(t, doc.Differences, "faster.ledger.entered")
	d := doc.Differences["faster.nodes.clerk.run_time_s.mean"]
	require.InDelta(t, -0.5, d.Mean, 0.02)
	require.True(t, d.Significant())

	doc, err = study.RunVariants([]study.Variant{{Name: "as-it-is", Plan: planOf(t, clinic, evening)},
		{Name: "more", Plan: planOf(t, clinic, evening, "nodes.desk.concurrency=13")}}, nil)
	require.NoError(t, err)
	paired := doc.Differences["more.nodes.door.time_s.mean"]
	require.Negative(t, paired.Mean)
	require.True(t, paired.Significant(), "%v", paired)
	apart := doc.Variants["as-it-is"].Nodes["door"].Time.MeanCI
	require.Less(t, paired.CI[1]-paired.CI[0], 2*(apart[1]-apart[0]))
}

// TestWorkersDoNotChangeTheResult [CK-03]: one worker and four give the same bytes.
func TestWorkersDoNotChangeTheResult(t *testing.T) {
	axes := []study.Axis{
		{Path: "nodes.desk.concurrency", Values: []string{"10", "14"}},
		{Path: "nodes.clerk.fails", Values: []string{"0%", "50%", "100%"}},
	}
	var results []string
	for _, workers := range []int{1, 4} {
		sweep, err := study.RunSweep(
			axes,
			func(sets []string) (study.Plan, error) { return planOf(t, clinic, evening, sets...), nil },
			workers,
			nil,
			nil,
		)
		require.NoError(t, err)
		require.Len(t, sweep.Points, 6)
		require.Equal(
			t,
			map[string]string{"nodes.desk.concurrency": "10", "nodes.clerk.fails": "50%"},
			sweep.Points[1].Values,
			"the last axis is the fastest",
		)
		require.Zero(t, sweep.Points[0].Ledger.Lost["exhausted"])
		require.Positive(t, sweep.Points[2].Ledger.Lost["exhausted"])
		results = append(results, asJSON(t, sweep))

		p := planOf(t, clinic, evening)
		p.Workers = workers
		doc, err := study.Run(p)
		require.NoError(t, err)
		results = append(results, asJSON(t, doc))
	}
	require.Equal(t, results[0], results[2])
	require.Equal(t, results[1], results[3])
}

// TestSizeFindsTheLeastValue against running every value.
func TestSizeFindsTheLeastValue(t *testing.T) {
	build := func(sets []string) (study.Plan, error) { return planOf(t, clinic, evening, sets...), nil }
	least := 0
	for c := 20; c >= 5; c-- {
		doc, err := study.Run(planOf(t, clinic, evening, fmt.Sprintf("nodes.desk.concurrency=%d", c)))
		require.NoError(t, err)
		if !doc.Expect["short"].Holds {
			break
		}
		least = c
	}
	require.Greater(t, least, 5)
	r, err := study.ParseRange("nodes.desk.concurrency=5..20")
	require.NoError(t, err)
	size, err := study.FindSize([]study.Range{r}, build, 2, nil, nil)
	require.NoError(t, err)
	require.True(t, size.Met)
	require.Equal(t, fmt.Sprint(least), size.Values["nodes.desk.concurrency"])
	require.LessOrEqual(t, len(size.Tried), 6, "bisection, not every value")
	require.Equal(t, fmt.Sprint(least-1), size.Below["nodes.desk.concurrency"].Values["nodes.desk.concurrency"])
	require.Equal(t, 8, size.Confirm.Of)

	r, err = study.ParseRange("nodes.desk.concurrency=1..3")
	require.NoError(t, err)
	size, err = study.FindSize([]study.Range{r}, build, 2, nil, nil)
	require.NoError(t, err)
	require.False(t, size.Met)
	require.Len(t, size.Tried, 1)
}

func TestRangesAreRead(t *testing.T) {
	for _, bad := range []string{"x", "nodes.q.lease", "nodes.q.lease=5s", "nodes.q.lease=9s..3s", "nodes.q.lease=many..9"} {
		_, err := study.ParseRange(bad)
		require.Error(t, err, bad)
	}
}

// TestJourneysAreTold [SX-04]: every journey that ended badly, and a sample of the rest,
// without changing anything of the run.
func TestJourneysAreTold(t *testing.T) {
	p := planOf(t, clinic, evening)
	told, err := sim.Journeys(p.Replication(0), sim.JourneyLimits{Bad: 30, Others: 10})
	require.NoError(t, err)
	require.Len(t, told, 40)
	bad := 0
	for _, j := range told {
		require.Equal(t, "door", j.Entry)
		require.NotEmpty(t, j.Steps)
		last := j.Steps[len(j.Steps)-1]
		if j.Outcome == "failed" {
			bad++
			require.Equal(t, "lost", last.What)
			require.Equal(t, "exhausted", last.Fate)
		}
	}
	require.Equal(t, 30, bad)

	one, err := sim.OneJourney(p.Replication(0), told[3].ID, sim.JourneyLimits{})
	require.NoError(t, err)
	require.Equal(t, asJSON(t, told[3]), asJSON(t, one))
	none, err := sim.OneJourney(p.Replication(0), 1<<40, sim.JourneyLimits{})
	require.NoError(t, err)
	require.Nil(t, none)
}

// TestJourneysOfATime: those of which a copy ended badly then, and no others, however late in the run.
func TestJourneysOfATime(t *testing.T) {
	p := planOf(t, clinic, evening)
	all, err := sim.Journeys(p.Replication(0), sim.JourneyLimits{Bad: 1e6})
	require.NoError(t, err)
	some := false
	for hour := range 4 {
		from, until := time.Duration(hour)*time.Hour, time.Duration(hour+1)*time.Hour
		sampled, err := sim.Journeys(p.Replication(0), sim.JourneyLimits{Bad: 1e6, From: from, Until: until})
		require.NoError(t, err)
		var want, got []uint64
		for _, j := range all {
			if slices.ContainsFunc(j.Steps, func(s sim.Step) bool {
				return s.What == "lost" && s.T >= from.Seconds() && s.T < until.Seconds()
			}) {
				want = append(want, j.ID)
			}
		}
		for _, j := range sampled {
			got = append(got, j.ID)
		}
		require.Equal(t, want, got, "hour %d", hour)
		some = some || len(want) > 0 && len(want) < len(all)
	}
	require.True(t, some, "an hour with some of them and not all")
}

// TestALateEndIsRecorded: of a journey with more steps than are recorded, those with which it ended badly are, with
// what came just before; steps keep their numbers, and what was left out is counted.
func TestALateEndIsRecorded(t *testing.T) {
	p := planOf(t, `
nodes:
  lane: {kind: queue, links: {weigh: {retry: {tries: 600, wait: 1s}}}}
  weigh: {kind: function, takes: 1s, fails: 100%}
`, "length: 1h\ntraffic: {lorry: {into: lane, rate: 1/m, arrivals: even, max: 1}}")
	for _, limits := range []sim.JourneyLimits{{Bad: 2}, {Bad: 2, From: 1250 * time.Second}} {
		recorded, err := sim.Journeys(p.Replication(0), limits)
		require.NoError(t, err)
		for _, j := range recorded {
			last := j.Steps[len(j.Steps)-1]
			require.Equal(t, []any{"lost", "exhausted"}, []any{last.What, last.Fate})
			require.InDelta(t, j.Began+1200, last.T, 1e-3) // 600 runs, each with a wait
			require.Greater(t, last.ID, 1000)
			require.Equal(t, last.ID, len(j.Steps)+j.More, "the last is the last of all")
			require.Equal(t, sim.MaxSteps, j.Steps[sim.MaxSteps-1].ID)
			numbers := map[int]bool{0: true}
			for k, s := range j.Steps {
				require.True(t, numbers[s.Parent], "what step %d comes from is recorded", s.ID)
				numbers[s.ID] = true
				require.True(t, k == 0 || s.ID == j.Steps[k-1].ID+1 || k == sim.MaxSteps, "one gap")
			}
			require.Len(t, j.Steps, sim.MaxSteps+13, "twelve steps lead up to the end")
			require.Equal(t, "exhausted", j.Steps[0].Fate, "its copy's fate stands where it came")
		}
		require.Len(t, recorded, 1)
	}
}

// TestJourneysAreFound: those that a condition picks are those of which a step's event
// meets it, and they end as the run says.
func TestJourneysAreFound(t *testing.T) {
	p := planOf(t, `
nodes:
  scale: {kind: queue, links: {weigh: {retry: {tries: 2, wait: 1s}, dead-letter: unread}}}
  weigh: {kind: function, takes: 1s, cases: {unread: {if: event.data.lane == 2.0, fails: 100%}}, links: {weights: {data: {tonnes: =event.data.kg / 1000.0}}}}
  weights: {kind: table}
  unread: {kind: queue}
`, `
length: 1h
traffic: {lorries: {into: scale, rate: 60/h, events: [{data: {lane: 1, kg: 40000}}, {data: {lane: 2, kg: 9000}}]}}
`)
	all, err := sim.Journeys(p.Replication(0), sim.JourneyLimits{Bad: 1000, Others: 1000})
	require.NoError(t, err)
	for source, meets := range map[string]func(event map[string]any) bool{
		"event.data.lane == 2":   func(e map[string]any) bool { d, _ := e["data"].(map[string]any); return d["lane"] == 2.0 },
		"event.data.tonnes > 1":  func(e map[string]any) bool { d, _ := e["data"].(map[string]any); return d["tonnes"] != nil },
		"event.source == 'nope'": func(map[string]any) bool { return false },
	} {
		where, err := expr.Compile(source, "bool")
		require.NoError(t, err)
		found, err := sim.Find(p.Replication(0), where, 5)
		require.NoError(t, err)
		var want []sim.Journey
		ends := map[string]int64{}
		for _, j := range all {
			if slices.ContainsFunc(
				j.Steps,
				func(s sim.Step) bool { return s.Event != nil && s.What != "calls" && meets(s.Event) },
			) {
				want = append(want, j)
				ends[j.Outcome]++
			}
		}
		require.Equal(t, source != "event.source == 'nope'", len(want) > 0, source)
		require.Equal(
			t,
			[]int64{int64(len(want)), ends["complete"], ends["failed"], ends["in_flight"]},
			[]int64{found.Count, found.Complete, found.Failed, found.InFlight},
			source,
		)
		require.Equal(
			t,
			asJSON(t, want[:min(5, len(want))]),
			asJSON(t, append([]sim.Journey(nil), found.Journeys...)),
			source,
		)
	}
}

// TestRestListsWhatWaits: the list at the end is what the ledger says waits.
func TestRestListsWhatWaits(t *testing.T) {
	p := planOf(t, clinic, evening, "nodes.desk.concurrency=8")
	p.Scenario.Replications, p.Scenario.Length = 1, 10*time.Minute
	doc, err := study.Run(p)
	require.NoError(t, err)
	rests, total, err := sim.Rest(p.Replication(0), "door", p.Scenario.Length)
	require.NoError(t, err)
	n := doc.Nodes["door"]
	require.EqualValues(t, n.Waiting+n.Running, total)
	require.Len(t, rests, total)
	require.Greater(t, total, 20)
	running := 0
	for i, r := range rests {
		if r.State == "in a run" {
			running++
		}
		if i > 0 {
			require.LessOrEqual(t, r.Age, rests[i-1].Age, "the oldest first")
		}
	}
	require.EqualValues(t, n.Running, running)
	_, _, err = sim.Rest(p.Replication(0), "door", 2*p.Scenario.Length)
	require.ErrorContains(t, err, "lasts 10m")
	_, _, err = sim.Rest(p.Replication(0), "dor", 0)
	require.ErrorContains(t, err, `did you mean "door"`)
}

// TestAGrowingLoopEndsWithItsReason, and says how fast it grows and where.
func TestAGrowingLoopEndsWithItsReason(t *testing.T) {
	const doubling = "\nnodes:\n  q: {kind: queue, links: {f: {read: {parallel: 1000}}}}\n  f: {kind: function, takes: 10s, links: {q: {count: 2}}}\n"
	for name, limits := range map[string]sim.Limits{"copies": {Copies: 20000}, "events": {Events: 200_000}, "memory": {Memory: 8 << 20}} {
		p := planOf(
			t,
			doubling,
			"length: 10d\nreplications: 2\ntraffic: {in: {into: q, rate: 1/s, arrivals: even, max: 1}}",
		)
		p.Limits = limits
		doc, err := study.Run(p)
		require.NoError(t, err)
		require.True(t, doc.Partial, name)
		require.Contains(t, doc.Stopped, "limit of", name)
		require.Less(t, doc.Reached, 3600.0)
		require.Len(t, doc.Loops, 1)
		require.Equal(t, "q", doc.Loops[0].At)
		require.Greater(t, doc.Loops[0].Rounds.Max, int64(8), name)
		require.Equal(t, doc.Ledger.Copies, doc.Ledger.Sum())
	}
}

// TestALoopThatBeginsLateDoesNotGrow: each message makes five passes, the first a minute
// after the start, when the first tenth of the run is over. One that doubles does.
func TestALoopThatBeginsLateDoesNotGrow(t *testing.T) {
	const doubles = "\nnodes:\n" +
		"  q: {kind: queue, links: {f: {read: {parallel: 1000}}}}\n" +
		"  f: {kind: function, takes: 10s, links: {q: {count: 2}}}\n"
	const once = "length: 105s\ntraffic: {in: {into: q, rate: 1/s, arrivals: even, max: 1}}"
	grown, err := study.Run(planOf(t, doubles, once))
	require.NoError(t, err)
	require.EqualValues(t, 2047, grown.Loops[0].Copies)
	require.True(t, grown.Loops[0].Grows)
	const bounded = "\nnodes:\n" +
		"  tick: {kind: schedule, every: 60s, links: {q: {}}}\n" +
		"  q: {kind: queue, links: {f: {}}}\n" +
		"  f: {kind: function, hop-limit: 3, takes: 100ms, links: {q: {}}}\n"
	doc, err := study.Run(planOf(t, bounded, "length: 10m"))
	require.NoError(t, err)
	require.Len(t, doc.Loops, 1)
	require.EqualValues(t, 5, doc.Loops[0].Rounds.Max)
	require.Zero(t, doc.Loops[0].Rate[0])
	require.Positive(t, doc.Loops[0].Rate[1])
	require.False(t, doc.Loops[0].Grows)
}

// TestCompareTellsChanceApart on saved results.
func TestCompareTellsChanceApart(t *testing.T) {
	docs := make([]any, 3)
	for i, sets := range [][]string{nil, nil, {"nodes.clerk.fails=60%"}} {
		doc, err := study.Run(planOf(t, clinic, evening, sets...))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal([]byte(asJSON(t, doc)), &docs[i]))
	}
	require.True(t, study.Compare(document.Head{}, []string{"a", "b"}, docs[:2]).Same)
	c := study.Compare(document.Head{}, []string{"a", "c"}, []any{docs[0], docs[2]})
	require.False(t, c.Same)
	require.Contains(t, c.Differences, "ledger.lost.exhausted")
	require.NotContains(t, c.Differences, "ledger.entered")
	filed := c.Differences["nodes.filed.time_s.mean"]
	require.True(t, *filed.Significant)
}

// TestIntervalsAreOfStudent [SX-01]: a mean over replications has the 95% interval of
// Student's t over them.
func TestIntervalsAreOfStudent(t *testing.T) {
	doc, err := study.Run(planOf(t, clinic, evening))
	require.NoError(t, err)
	one := doc.PerReplication["handled"]
	var values []float64
	plan := planOf(t, clinic, evening)
	for r := range plan.Scenario.Replications {
		res, err := sim.Run(plan.Replication(r))
		require.NoError(t, err)
		values = append(values, float64(res.Count(func(f sim.Fate) bool { return f == sim.Handled })))
	}
	mean, variance := 0.0, 0.0
	for _, v := range values {
		mean += v / float64(len(values))
	}
	for _, v := range values {
		variance += (v - mean) * (v - mean) / float64(len(values)-1)
	}
	half := 2.364624 * math.Sqrt(variance/float64(len(values))) // t of 7 degrees of freedom at 97.5%
	require.InDelta(t, mean, one.Mean, 1e-9)
	require.InDelta(t, mean-half, one.CI[0], 1e-3)
	require.InDelta(t, mean+half, one.CI[1], 1e-3)
}
