package verify

import (
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// Row is a number that was measured beside the one that the model gives.
type Row struct {
	What      string     `json:"what"`
	Unit      string     `json:"unit"` // s, messages, per_s or share
	Measured  float64    `json:"measured"`
	Predicted float64    `json:"predicted"` // mean of the simulations
	Range     [2]float64 `json:"range"`     // least and greatest of the simulations
	Error     float64    `json:"error"`     // predicted over measured, less one
	Allowed   float64    `json:"allowed"`
	Within    bool       `json:"within"` // the error is allowed, or the measurement lies in the range
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

// Learned simulates a drafted model on the arrivals that were observed, some times with
// different seeds, and holds latencies, depths, rates and failures against what was
// measured. share is by how much a number may differ; what one simulation differs from the
// next is allowed as well, since a measurement is one such run.
func Learned(o *learn.Observed, g *graph.Graph, replications int, share float64) (*LearnedDocument, error) {
	names := o.Names(g.Topology)
	s := model.DefaultScenario()
	s.Name, s.Start, s.TrafficGiven, s.Replications = "observed", time.Unix(0, o.From).UTC(), true, 1
	observed := time.Duration(o.Until - o.From)
	s.Length = observed + time.Nanosecond
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
	docs := make([]*study.Document, replications)
	for r := range docs {
		s.Seed = uint64(r + 1)
		var err error
		if docs[r], err = study.Run(study.Plan{Graph: g, Scenario: s, Inputs: inputs, Workers: 1}); err != nil {
			return nil, fmt.Errorf("the draft cannot be simulated: %w", err)
		}
	}
	out := &LearnedDocument{Schema: "ironweir/learned/1", Rows: []Row{}, Within: true, Share: share}
	add := func(what, unit string, measured, allowed float64, predicted func(*study.Document) float64) {
		r := Row{
			What:     what,
			Unit:     unit,
			Measured: measured,
			Range:    [2]float64{math.Inf(1), math.Inf(-1)},
			Allowed:  allowed,
		}
		for _, doc := range docs {
			x := predicted(doc)
			r.Predicted += x / float64(len(docs))
			r.Range = [2]float64{min(r.Range[0], x), max(r.Range[1], x)}
		}
		switch {
		case measured == 0 && r.Predicted == 0:
			return
		case measured == 0:
			r.Within = r.Range[0] == 0
		default:
			r.Error = r.Predicted/measured - 1
			r.Within = math.Abs(r.Error) <= allowed || measured >= r.Range[0] && measured <= r.Range[1]
		}
		out.Within = out.Within && r.Within
		out.Rows = append(out.Rows, r)
	}
	keys := make([][2]string, 0, len(o.Latency))
	for key, values := range o.Latency {
		if len(values) >= leastMeasured {
			keys = append(keys, key)
		}
	}
	slices.SortFunc(keys, func(a, b [2]string) int { return strings.Compare(a[0]+":"+a[1], b[0]+":"+b[1]) })
	for _, key := range keys {
		from, to := names[key[0]], names[key[1]]
		way := from + ":" + to
		if _, ok := docs[0].Latency[way]; !ok {
			continue // it is called, and finishes no copy of its own
		}
		values := slices.Clone(o.Latency[key])
		slices.Sort(values)
		mean := 0.0
		for _, v := range values {
			mean += v / float64(len(values))
		}
		what := from + " to " + to
		if from == to {
			what = "answer of " + from
		}
		add(what+", mean", "s", mean, share, func(d *study.Document) float64 { return d.Latency[way].Mean })
		add(
			what+", p50",
			"s",
			quantile(values, 0.5),
			share,
			func(d *study.Document) float64 { return d.Latency[way].P50 },
		)
		add(
			what+", p90",
			"s",
			quantile(values, 0.9),
			share,
			func(d *study.Document) float64 { return d.Latency[way].P90 },
		)
		add(
			what+", p99",
			"s",
			quantile(values, 0.99),
			2*share,
			func(d *study.Document) float64 { return d.Latency[way].P99 },
		)
	}
	for i := range g.Nodes {
		name := g.Nodes[i].Name
		for seen, of := range names {
			if of != name {
				continue
			}
			if held, ok := o.Held[seen]; ok && g.Nodes[i].Kind == model.Queue {
				add(
					"depth of "+name+", mean",
					"messages",
					held.Mean,
					share,
					func(d *study.Document) float64 { return d.Nodes[name].Depth.Mean },
				)
			}
			m := o.Nodes[seen]
			if m == nil || !m.Kind.Runs() || m.Runs < leastMeasured {
				continue
			}
			add(
				"runs of "+name,
				"per_s",
				float64(m.Runs)/observed.Seconds(),
				share,
				func(d *study.Document) float64 { return float64(d.Nodes[name].Runs) / observed.Seconds() },
			)
			add(
				"failures of "+name,
				"share",
				float64(m.Failed)/float64(m.Runs),
				share,
				func(d *study.Document) float64 {
					return float64(d.Nodes[name].Failures) / float64(max(d.Nodes[name].Runs, 1))
				},
			)
		}
	}
	return out, nil
}

// quantile returns a quantile of sorted values.
func quantile(sorted []float64, q float64) float64 {
	return sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]
}
