package check

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/flow"
	"ironweir/core/check/internal/dist"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
)

func analysed(t *testing.T, body string) *Document {
	t.Helper()
	m, err := model.Parse("lane", []byte("ironweir: topology/1\nname: lane\nnodes:\n"+body), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	return Run(g, nil, document.Head{}, model.DefaultStart)
}

// TestExcess holds the closed forms of E[(X−t)⁺] against the integral of the tail.
func TestExcess(t *testing.T) {
	for _, d := range []model.Distribution{
		{Dist: "exponential", Mean: 40},
		{Dist: "uniform", Min: 10, Max: 90},
		{Dist: "lognormal", P50: 30, Sigma: 0.8},
		{Dist: "gamma", Mean: 50, CV: 0.6},
		{Dist: "samples", Values: []float64{5, 20, 20, 80}},
		model.Constant(60),
	} {
		for _, from := range []float64{0, 7, 33, 75, 200} {
			const step = 0.005
			sum := 0.0
			for x := from; x < 3000; x += step {
				sum += step * (1 - dist.CDF(d, x+step/2))
			}
			require.InDelta(t, sum, flow.Excess(d, from), 0.02, "%v from %v", d, from)
		}
		require.Zero(t, flow.Excess(d, math.Inf(1)))
	}
}

// TestAvailabilityOfSeriesAndParallelSystems holds the shares of messages lost against
// the formulas for components that work and are down in turn: in series they lose
// 1 − Π(1−u), in parallel Π u, where u is the share of time for which one is down.
func TestAvailabilityOfSeriesAndParallelSystems(t *testing.T) {
	const a, b, c = 10.0 / (90 + 10), 5.0 / (45 + 5), 2.0 / (38 + 2)
	lost := func(body string) float64 {
		v := analysed(t, body).Entries["lane"].Availability
		require.NotNil(t, v)
		return *v.Lost / (0.5 * flow.Year)
	}
	series := `
  lane: {kind: topic, rate: 0.5/s, links: {first: {retry: {tries: 1}}}}
  first: {kind: function, breaks: {every: 90m, for: 10m}, links: {second: {retry: {tries: 1}, mode: async}}}
  second: {kind: function, breaks: {every: 45m, for: 5m}, links: {third: {retry: {tries: 1}, mode: async}}}
  third: {kind: function, breaks: {every: 38m, for: 2m}}
`
	require.InEpsilon(t, 1-(1-a)*(1-b)*(1-c), lost(series), 1e-9)
	parallel := `
  lane: {kind: topic, rate: 0.5/s, links: {any: {retry: {tries: 1}}}}
  any: {kind: workflow, do: [{one: {try: [{first: {call: first}}], catch: {do: [{second: {call: second}}]}}}]}
  first: {kind: function, breaks: {every: 90m, for: 10m}}
  second: {kind: function, breaks: {every: 45m, for: 5m}}
`
	require.InEpsilon(t, a*b, lost(parallel), 1e-9)
	spare := `
  lane: {kind: topic, rate: 0.5/s, links: {first: {retry: {tries: 1}, dead-letter: rest}}}
  first: {kind: function, breaks: {every: 90m, for: 10m}}
  rest: {kind: queue, retention: 9d, breaks: {every: 45m, for: {dist: uniform, min: 5m, max: 5m}}}
`
	waits := 3.0 // the write to a dead-letter queue is tried three times, after 1s and 2s
	require.InEpsilon(t, a*(300-waits)/(2700+300), lost(spare), 1e-9)
}

// TestAFaultThatFailsACallAndItsFallback is a single point of loss; two faults that fail
// one each are a set of two.
func TestAFaultThatFailsACallAndItsFallback(t *testing.T) {
	body := func(second string) string {
		return `
  lane: {kind: topic, rate: 1/s, links: {any: {retry: {tries: 2}}}}
  any: {kind: workflow, do: [{one: {try: [{first: {call: first}}], catch: {do: [{second: {call: ` + second + `}}]}}}]}
  first: {kind: function, links: {scale: {mode: wait}}}
  other: {kind: function, links: {ask: {to: spare, mode: wait}}}
  scale: {kind: outside}
  spare: {kind: outside}
`
	}
	sets := func(second string) (out [][]flow.Fault) {
		doc := analysed(t, body(second))
		for _, s := range doc.Entries["lane"].LossSets {
			out = append(out, s.Faults)
		}
		return out
	}
	require.Contains(t, sets("scale"), []flow.Fault{{"any", "scale"}})
	require.Contains(t, sets("other"), []flow.Fault{{"first", "scale"}, {"other", "spare"}})
	require.NotContains(t, sets("other"), []flow.Fault{{"any", "scale"}})
}

// TestImprovements applies each improvement that is offered and finds what it says.
func TestImprovements(t *testing.T) {
	body := `
  lane: {kind: topic, rate: 1/s, links: {weigh: {retry: {tries: 3, wait: 10s}}, later: {}}}
  weigh: {kind: function, links: {scale: {mode: wait}}}
  scale: {kind: outside, breaks: {every: 20d, for: {dist: lognormal, p50: 2m, p95: 20m}}}
  later: {kind: queue, retention: 1h, links: {stamp: {}}}
  stamp: {kind: function, breaks: {every: 30d, for: {dist: gamma, mean: 40m, cv: 1}}}
fails-together: {shed: {nodes: [stamp, weigh], breaks: {every: 90d, for: 1h}}}
`
	doc := analysed(t, body)
	v := doc.Entries["lane"].Availability
	require.Len(t, v.Improvements, bestChanges)
	require.Less(t, v.Improvements[0].Lost, *v.Lost/2)
	m, err := model.Parse("lane", []byte("ironweir: topology/1\nname: lane\nnodes:\n"+body), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	says := ""
	for _, r := range v.Improvements {
		after, err := r.Apply(g)
		require.NoError(t, err, r.Say)
		require.InEpsilon(t, r.Lost, *flow.Analyse(after, nil).Entries["lane"].Availability.Lost, 1e-9, r.Say)
		says += r.Say + "\n"
	}
	require.Contains(t, says, "Add a dead-letter queue")
	require.Contains(t, says, "Halve `breaks.for` of `shed`")
	require.Contains(t, says, "Raise `retention` of `later` from 1h to 2h")
}

// TestAvailabilityIsUnknownWithoutARate says so instead of a number.
func TestAvailabilityIsUnknownWithoutARate(t *testing.T) {
	v := analysed(t, `
  lane: {kind: topic, keys: [a], links: {weigh: {}}}
  weigh: {kind: function, breaks: {every: 20d, for: 10m}}
`).Entries["lane"].Availability
	require.Nil(t, v.Lost)
	require.Len(t, v.Assumptions, 1)
}

// TestWhatIsSentAgainIsSaid: a run that sends before it meets a breakdown sends again with
// each try; that is not counted, and said. One that calls first sends nothing.
func TestWhatIsSentAgainIsSaid(t *testing.T) {
	model := func(links string) string {
		return `
  lane: {kind: topic, rate: 1/s, links: {weigh: {retry: {tries: 3}}}}
  weigh: {kind: function, links: {` + links + `}}
  news: {kind: topic, links: {mailer: {}}}
  mailer: {kind: function}
  scale: {kind: outside, breaks: {every: 10h, for: 5m}}
`
	}
	v := analysed(t, model("news: {}, scale: {mode: wait}")).Entries["lane"].Availability
	require.Equal(t, flow.Estimate, v.Basis["lost_per_year"])
	require.Len(t, v.Assumptions, 1)
	v = analysed(t, model("scale: {mode: wait}, news: {}")).Entries["lane"].Availability
	require.Empty(t, v.Basis)
	require.Empty(t, v.Assumptions)
}
