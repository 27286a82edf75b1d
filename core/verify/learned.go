package verify

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"gonum.org/v1/gonum/stat"
	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// Row is a number that was measured beside the two that the model gives: with each run as it was observed, and with
// runs that are drawn.
type Row struct {
	What     string  `json:"what"`
	Unit     string  `json:"unit"` // s, messages, per_s or share
	Measured float64 `json:"measured"`
	// With the observed arrivals, times and failures of runs: what differs is due to the model's nodes and links.
	Predicted float64 `json:"predicted"`
	Error     float64 `json:"error"` // predicted over measured, less one
	Allowed   float64 `json:"allowed"`
	// With the observed arrivals, and runs drawn from the model's distributions.
	Drawn      float64    `json:"drawn"` // mean of the simulations
	DrawnError float64    `json:"drawn_error"`
	Range      [2]float64 `json:"range"` // in which 99 of 100 simulations lie, and all of these
	// The error is allowed; and so is that of what is drawn, or the measurement lies in the range.
	Within bool `json:"within"`
}

// Structural reports whether the number is beyond the allowed error even with each run as it was observed.
func (r Row) Structural() bool {
	return math.Abs(r.Error) > r.Allowed || r.Measured == 0 && r.Predicted != 0
}

// LearnedDocument is what `learn -verify -format json` prints.
type LearnedDocument struct {
	Schema string  `json:"schema"`
	Rows   []Row   `json:"rows"`
	Within bool    `json:"within"` // all rows are
	Share  float64 `json:"share"`  // by which a number may differ; the 99th percentile by twice as much
}

// leastMeasured is how many measurements a row needs.
const leastMeasured = 20

// Learned simulates a drafted model on the arrivals that were observed, and holds latencies, depths, rates and failures
// against what was measured: once with each run of a node as it was observed (a trace-driven simulation, in which
// chance has no part), and some times, with different seeds, as the model draws them. share is by how much a number may
// differ; what one simulation with drawn runs differs from the next is allowed there as well, since a measurement is
// one of them.
func Learned(o *learn.Observed, g *graph.Graph, replications int, share float64) (*LearnedDocument, error) {
	names := o.Names(g.Topology)
	s, inputs := replayOf(o, names)
	simulate := func(seed int) (*study.Document, error) {
		s.Seed = uint64(seed)
		doc, err := study.Run(study.Plan{Graph: g, Scenario: s, Inputs: inputs, Workers: 1})
		if err != nil {
			return nil, fmt.Errorf("the draft cannot be simulated: %w", err)
		}
		return doc, nil
	}
	drawn := make([]*study.Document, replications)
	for r := range drawn {
		var err error
		if drawn[r], err = simulate(r + 1); err != nil {
			return nil, err
		}
	}
	inputs.Runs = recordedRuns(o, names)
	recorded, err := simulate(1)
	if err != nil {
		return nil, err
	}
	out := &LearnedDocument{Schema: "ironweir/learned/1", Rows: []Row{}, Within: true, Share: share}
	l := &learnedRows{o, g, names, recorded, drawn, share, out}
	l.latencies()
	l.nodes()
	return out, nil
}

// replayOf makes a scenario of what was observed to come in at the entries.
func replayOf(o *learn.Observed, names map[string]string) (*model.Scenario, sim.Inputs) {
	s := model.DefaultScenario()
	s.Name, s.Start, s.TrafficGiven, s.Replications = "observed", time.Unix(0, o.From).UTC(), true, 1
	s.Length = time.Duration(o.Until-o.From) + time.Nanosecond
	inputs := sim.Inputs{Replays: map[string][]sim.Arrival{}}
	entries := make([]string, 0, len(o.Entries))
	for name := range o.Entries {
		entries = append(entries, name)
	}
	sort.Strings(entries)
	for _, entry := range entries {
		e := o.Entries[entry]
		file := "observed at " + entry
		for i, at := range e.Times {
			a := sim.Arrival{At: time.Unix(0, at).UTC()}
			if i < len(e.Keys) {
				a.Subject = e.Keys[i]
			}
			inputs.Replays[file] = append(inputs.Replays[file], a)
		}
		s.Traffic = append(
			s.Traffic,
			&model.Traffic{Name: names[entry], Into: names[entry], Arrivals: "replay", Replay: file},
		)
	}
	stopped := true
	for _, name := range slices.Sorted(maps.Keys(o.Nodes)) {
		for _, stop := range o.Nodes[name].Stops {
			s.Incidents = append(s.Incidents, &model.Incident{
				Name:    fmt.Sprintf("%s stopped, %d", name, len(s.Incidents)+1),
				At:      time.Duration(stop.From - o.From),
				For:     time.Duration(stop.Until - stop.From),
				Node:    names[name],
				Stopped: &stopped,
			})
		}
	}
	return s, inputs
}

// recordedRuns gives what each run of the draft's nodes was observed to do.
func recordedRuns(o *learn.Observed, names map[string]string) map[string][]sim.RecordedRun {
	out := map[string][]sim.RecordedRun{}
	for seen, node := range o.Nodes {
		for _, r := range node.Recorded() {
			run := sim.RecordedRun{Takes: time.Duration(r.Held * 1e9), Fails: r.Failed}
			out[names[seen]] = append(out[names[seen]], run)
		}
	}
	return out
}

// learnedRows holds what was measured against what the draft predicts.
type learnedRows struct {
	observed *learn.Observed
	graph    *graph.Graph
	names    map[string]string // of nodes in the draft, by what was observed
	recorded *study.Document   // with each run as it was observed
	drawn    []*study.Document // as the model draws them
	share    float64
	out      *LearnedDocument
}

// add adds a row.
func (l *learnedRows) add(
	what, unit string,
	measured, allowed float64,
	predicted func(*study.Document) float64,
) {
	r := Row{
		What:      what,
		Unit:      unit,
		Measured:  measured,
		Predicted: predicted(l.recorded),
		Allowed:   allowed,
	}
	all := make([]float64, len(l.drawn))
	for k, doc := range l.drawn {
		all[k] = predicted(doc)
	}
	r.Drawn, r.Range = predictionInterval(all)
	switch {
	case measured == 0 && r.Predicted == 0 && r.Drawn == 0:
		return
	case measured == 0:
		r.Within = r.Predicted == 0 && r.Range[0] == 0
	default:
		r.Error, r.DrawnError = r.Predicted/measured-1, r.Drawn/measured-1
		r.Within = !r.Structural() &&
			(math.Abs(r.DrawnError) <= allowed || measured >= r.Range[0] && measured <= r.Range[1])
	}
	l.out.Within = l.out.Within && r.Within
	l.out.Rows = append(l.out.Rows, r)
}

// predictionInterval gives the mean of simulations and where the next one lies 99 times of 100, by Student's t: mean ±
// t·s·√(1+1/n), and not below 0; what was simulated lies in it too.
func predictionInterval(all []float64) (mean float64, in [2]float64) {
	mean, s := stat.MeanStdDev(all, nil)
	n := float64(len(all))
	half := 0.0
	if n > 1 {
		half = distuv.StudentsT{Sigma: 1, Nu: n - 1}.Quantile(0.995) * s * math.Sqrt(1+1/n)
	}
	return mean, [2]float64{min(max(mean-half, 0), slices.Min(all)), max(mean+half, slices.Max(all))}
}

// latencies adds the times between an entry and the end of what it sets off.
func (l *learnedRows) latencies() {
	keys := make([][2]string, 0, len(l.observed.Latency))
	for key, values := range l.observed.Latency {
		if len(values) >= leastMeasured {
			keys = append(keys, key)
		}
	}
	slices.SortFunc(keys, func(a, b [2]string) int { return strings.Compare(a[0]+":"+a[1], b[0]+":"+b[1]) })
	for _, key := range keys {
		from, to := l.names[key[0]], l.names[key[1]]
		way := from + ":" + to
		if _, ok := l.recorded.Latency[way]; !ok {
			continue // it is called, and finishes no copy of its own
		}
		values := slices.Clone(l.observed.Latency[key])
		slices.Sort(values)
		mean := 0.0
		for _, v := range values {
			mean += v / float64(len(values))
		}
		what := from + " to " + to
		if from == to {
			what = "answer of " + from
		}
		l.add(what+", mean", "s", mean, l.share, func(d *study.Document) float64 { return d.Latency[way].Mean })
		l.add(
			what+", p50",
			"s",
			quantile(values, 0.5),
			l.share,
			func(d *study.Document) float64 { return d.Latency[way].P50 },
		)
		l.add(
			what+", p90",
			"s",
			quantile(values, 0.9),
			l.share,
			func(d *study.Document) float64 { return d.Latency[way].P90 },
		)
		l.add(
			what+", p99",
			"s",
			quantile(values, 0.99),
			2*l.share,
			func(d *study.Document) float64 { return d.Latency[way].P99 },
		)
	}
}

// nodes adds depths, rates and shares of failures.
func (l *learnedRows) nodes() {
	seconds := time.Duration(l.observed.Until - l.observed.From).Seconds()
	seenAs := slices.Sorted(maps.Keys(l.names))
	for i := range l.graph.Nodes {
		name := l.graph.Nodes[i].Name
		for _, seen := range seenAs {
			if l.names[seen] != name {
				continue
			}
			if held, ok := l.observed.Held[seen]; ok && l.graph.Nodes[i].Kind.Leases() {
				l.add(
					"depth of "+name+", mean",
					"messages",
					held.Mean,
					l.share,
					func(d *study.Document) float64 { return d.Nodes[name].Depth.Mean },
				)
			}
			m := l.observed.Nodes[seen]
			if m == nil || !m.Kind.Runs() || m.Runs < leastMeasured {
				continue
			}
			l.add(
				"runs of "+name,
				"per_s",
				float64(m.Runs)/seconds,
				l.share,
				func(d *study.Document) float64 { return float64(d.Nodes[name].Runs) / seconds },
			)
			l.add(
				"failures of "+name,
				"share",
				float64(m.Failed)/float64(m.Runs),
				l.share,
				func(d *study.Document) float64 {
					return float64(d.Nodes[name].Failures) / float64(max(d.Nodes[name].Runs, 1))
				},
			)
		}
	}
}

// quantile returns a quantile of sorted values.
func quantile(sorted []float64, q float64) float64 {
	return sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]
}
