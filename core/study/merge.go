package study

import (
	"encoding/json"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"ironweir/core/document"
	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/parallel"
	"ironweir/core/sim"
)

// Merge makes the document of a run from its replications, which must be in
// order; no result is changed.
func Merge(g *graph.Graph, s *model.Scenario, results []*sim.Result, head document.Head) (*Document, error) {
	doc := merge(g, s, results, head, true)
	if doc.Ledger.Sum() != doc.Ledger.Copies {
		return nil, fmt.Errorf(
			"the ledger does not add up: %d copies, %d accounted for (a fault of the engine; please report the model)",
			doc.Ledger.Copies,
			doc.Ledger.Sum(),
		)
	}
	judged, err := judge(g, s, results, head)
	if err != nil {
		return nil, err
	}
	for i, x := range s.Expect {
		out := Expectation{Expression: x.Expression}
		for _, j := range judged[i] {
			if j.err != nil {
				out.Error = j.err.Error()
			}
			if j.holds {
				out.HoldsIn++
			}
		}
		out.Holds = out.HoldsIn == len(results)
		doc.Expect[x.Name] = out
	}
	return doc, nil
}

// judgement is what an expectation says of one replication.
type judgement struct {
	holds bool
	err   error
}

// judge judges each expectation in each replication.
func judge(g *graph.Graph, s *model.Scenario, results []*sim.Result, head document.Head) ([][]judgement, error) {
	out := make([][]judgement, len(s.Expect))
	if len(s.Expect) == 0 {
		return out, nil
	}
	judges := make([]*expr.Judgement, len(s.Expect))
	for i, x := range s.Expect {
		var err error
		if judges[i], err = expr.CompileJudgement(x.Expression); err != nil {
			return nil, fmt.Errorf("expect %s: %w", x.Name, err)
		}
	}
	series := false // only where something asks for them: they are most of a document
	for _, x := range s.Expect {
		series = series || strings.Contains(x.Expression, "series")
	}
	all := make([][]judgement, len(results))
	errs := make([]error, len(results))
	judgeOne := func(r int) bool {
		one, err := plain(merge(g, s, results[r:r+1], head, series))
		if err != nil {
			errs[r] = err
			return false
		}
		for _, j := range judges {
			holds, err := j.Holds(one)
			all[r] = append(all[r], judgement{holds, err})
		}
		return true
	}
	parallel.Each(len(results), runtime.GOMAXPROCS(0), func() func(int) bool { return judgeOne })
	for r := range results {
		if errs[r] != nil {
			return nil, errs[r]
		}
		for i := range judges {
			out[i] = append(out[i], all[r][i])
		}
	}
	return out, nil
}

// heldIn counts the replications in which all expectations hold.
func (p *Plan) heldIn(results []*sim.Result) (int, error) {
	judged, err := judge(p.Graph, p.Scenario, results, p.Head)
	held := 0
	for r := range results {
		all := true
		for i := range judged {
			all = all && judged[i][r].holds
		}
		if all {
			held++
		}
	}
	return held, err
}

// plain gives a document as encoding/json decodes it, which is what an
// expectation sees.
func plain(doc *Document) (any, error) {
	text, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	var out any
	return out, json.Unmarshal(text, &out)
}

func newFates() Fates {
	f := Fates{Lost: map[string]int64{"total": 0}}
	for _, x := range sim.Fates() {
		if x.Loss() {
			f.Lost[x.String()] = 0
		}
	}
	return f
}

func (f *Fates) add(n *sim.NodeResult) {
	for k, into := range map[sim.Fate]*int64{sim.Handled: &f.Handled, sim.Stored: &f.Stored, sim.Arrived: &f.Arrived,
		sim.Passed:  &f.Passed,
		sim.Ignored: &f.Ignored, sim.Unmatched: &f.Unmatched, sim.Returned: &f.Returned, sim.Parked: &f.Parked} {
		*into += n.Fates[k]
	}
	for k, count := range n.Fates {
		if x := sim.Fate(k); x.Loss() {
			f.Lost[x.String()] += count
			f.Lost["total"] += count
		}
	}
	f.Waiting += n.Waiting
	f.Running += n.Running
	f.Redelivered += n.Redelivered
}

func merge(g *graph.Graph, s *model.Scenario, results []*sim.Result, head document.Head, series bool) *Document {
	doc := &Document{
		Head:           head,
		Scenario:       s.Name,
		Seed:           s.Seed,
		Replications:   len(results),
		Start:          s.Start.UTC(),
		Length:         s.Length.Seconds(),
		WarmUp:         s.WarmUp.Seconds(),
		Reached:        s.Length.Seconds(),
		Ledger:         Ledger{Fates: newFates()},
		PerReplication: map[string]Spread{},
		Nodes:          map[string]Node{},
		Links:          map[string]Link{},
		Latency:        map[string]PathLatency{},
		Loops:          []Loop{},
		Alarms:         map[string]Alarm{},
		Expect:         map[string]Expectation{},
	}
	per := map[string][]float64{}
	for _, r := range results {
		one := newFates()
		copies, runs, failures := int64(0), int64(0), int64(0)
		for _, n := range r.Ledgers() {
			one.add(n)
			doc.Ledger.Fates.add(n)
			copies, runs, failures = copies+n.Copies, runs+n.Runs, failures+n.Failures
		}
		doc.Ledger.Entered += r.Entered
		doc.Ledger.Copies += copies
		for name, v := range map[string]int64{"entered": r.Entered, "copies": copies, "handled": one.Handled,
			"stored": one.Stored, "arrived": one.Arrived, "parked": one.Parked,
			"lost": one.Lost["total"], "waiting": one.Waiting, "running": one.Running, "redelivered": one.Redelivered,
			"runs": runs, "failures": failures} {
			per[name] = append(per[name], float64(v))
		}
		doc.Journeys.Count += r.Complete + r.Failed + r.InFlight
		doc.Journeys.Complete += r.Complete
		doc.Journeys.Failed += r.Failed
		doc.Journeys.InFlight += r.InFlight
		doc.Journeys.Largest.Copies = max(doc.Journeys.Largest.Copies, int64(r.Largest.Copies))
		doc.Journeys.Largest.Hops = max(doc.Journeys.Largest.Hops, int64(r.Largest.Hops))
		doc.Engine.Events += r.Events
		doc.Reached = min(doc.Reached, r.Reached.Seconds())
		if r.Stopped != "" {
			doc.Partial, doc.Stopped = true, r.Stopped
		}
	}
	for name, values := range per {
		doc.PerReplication[name] = spread(values)
	}
	for i := range g.Nodes {
		doc.Nodes[g.Nodes[i].Name] = mergeNode(g, i, results)
	}
	for i := range g.Links {
		doc.Links[g.Links[i].Link.ID()] = mergeLink(i, results)
	}
	mergeLatency(doc, g, results)
	mergeLoops(doc, g, results)
	mergeAlarms(doc, results)
	if series {
		mergeSeries(doc, g, results)
	}
	mergeLosses(doc, results)
	doc.Cost = cost(doc, g, results)
	return doc
}

// mergeLink adds up what replications say of a link.
func mergeLink(i int, results []*sim.Result) Link {
	var l Link
	for _, r := range results {
		l.Offered += r.Links[i].Offered
		l.Matched += r.Links[i].Matched
		l.Copies += r.Links[i].Copies
		if feed := r.Links[i].Feed; feed != nil {
			if l.Fates == nil {
				f := newFates()
				l.Fates = &f
			}
			l.Fates.add(feed)
		}
	}
	l.Declined = l.Offered - l.Matched
	return l
}

func each(results []*sim.Result, of func(r *sim.Result) float64) []float64 {
	out := make([]float64, len(results))
	for i, r := range results {
		out[i] = of(r)
	}
	return out
}

func mean(values []float64) float64 {
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	return sum / float64(len(values))
}

func level(means, ends []float64, max int64) Level {
	return Level{Mean: mean(means), MeanCI: confidence(means), Max: max, End: mean(ends)}
}

func mergeNode(g *graph.Graph, i int, results []*sim.Result) Node {
	gn := &g.Nodes[i]
	n := Node{Kind: string(gn.Kind), Fates: newFates()}
	var deepest, busiest int64
	for _, r := range results {
		nr := &r.Nodes[i]
		n.Copies += nr.Copies
		n.Fates.add(nr)
		n.Runs += nr.Runs
		n.Entered += nr.Entered
		n.Deduplicated += nr.Deduplicated
		n.Failures += nr.Failures
		n.Timeouts += nr.Timeouts
		n.Throttled += nr.Throttled
		n.ColdStarts += nr.ColdStarts
		for status, count := range nr.Answers {
			if n.Answers == nil {
				n.Answers = map[string]int64{}
			}
			n.Answers[strconv.Itoa(status)] += count
		}
		for reason, count := range nr.FailedBy {
			if n.FailedBy == nil {
				n.FailedBy = map[string]int64{}
			}
			n.FailedBy[reason] += count
		}
		deepest, busiest = max(deepest, nr.DepthMax), max(busiest, nr.ActiveMax)
		n.Oldest.Max = max(n.Oldest.Max, nr.Oldest)
	}
	node := func(r *sim.Result) *sim.NodeResult { return &r.Nodes[i] }
	n.Depth = level(
		each(results, func(r *sim.Result) float64 { return node(r).DepthMean }),
		each(results, func(r *sim.Result) float64 { return float64(node(r).DepthEnd) }),
		deepest,
	)
	active := each(results, func(r *sim.Result) float64 { return node(r).ActiveMean })
	n.Concurrency = level(
		active,
		each(results, func(r *sim.Result) float64 { return float64(node(r).ActiveEnd) }),
		busiest,
	)
	if gn.Concurrency > 0 {
		u := make([]float64, len(active))
		for k := range active {
			u[k] = active[k] / float64(gn.Concurrency)
		}
		m := mean(u)
		n.Utilisation, n.UtilisationCI = &m, confidence(u)
	}
	n.Wait = times(results, func(r *sim.Result) *sim.Histogram { return &node(r).Wait })
	n.Time = times(results, func(r *sim.Result) *sim.Histogram { return &node(r).Time })
	n.RunTime = times(results, func(r *sim.Result) *sim.Histogram { return &node(r).RunTime })
	return n
}

// times merges histograms; each number's interval comes from the replications
// that have any.
func times(results []*sim.Result, of func(r *sim.Result) *sim.Histogram) Times {
	var all sim.Histogram
	var means, p50, p90, p95, p99 []float64
	for _, r := range results {
		h := of(r)
		if h == nil || h.Count() == 0 {
			continue
		}
		all.Merge(h)
		means, p50, p90 = append(means, h.Mean()), append(p50, h.Quantile(0.5)), append(p90, h.Quantile(0.9))
		p95, p99 = append(p95, h.Quantile(0.95)), append(p99, h.Quantile(0.99))
	}
	return Times{
		Count:  all.Count(),
		Mean:   all.Mean(),
		MeanCI: confidence(means),
		P50:    all.Quantile(0.5),
		P50CI:  confidence(p50),
		P90:    all.Quantile(0.9),
		P90CI:  confidence(p90),
		P95:    all.Quantile(0.95),
		P95CI:  confidence(p95),
		P99:    all.Quantile(0.99),
		P99CI:  confidence(p99),
		Max:    float64(all.Max) / 1e9,
	}
}

func mergeLatency(doc *Document, g *graph.Graph, results []*sim.Result) {
	ways := map[[2]int]bool{}
	for _, r := range results {
		for way := range r.Latency {
			ways[way] = true
		}
	}
	for way := range ways {
		t := times(results, func(r *sim.Result) *sim.Histogram { return r.Latency[way] })
		doc.Latency[g.Nodes[way[0]].Name+":"+g.Nodes[way[1]].Name] = PathLatency(t)
	}
}

// mergeLoops reports, of each component in which messages circulated, the node that one
// message passed most often.
func mergeLoops(doc *Document, g *graph.Graph, results []*sim.Result) {
	most := func(k int) (passes int64) {
		for _, r := range results {
			passes = max(passes, r.Loops[k].Most)
		}
		return passes
	}
	loops := results[0].Loops
	for k := 0; k < len(loops); {
		best := k
		next := k + 1
		for ; next < len(loops) && slices.Equal(loops[next].Nodes, loops[k].Nodes); next++ {
			if most(next) > most(best) {
				best = next
			}
		}
		if k = next; most(best) > 1 {
			doc.Loops = append(doc.Loops, mergeLoop(g, results, best))
		}
	}
}

func mergeLoop(g *graph.Graph, results []*sim.Result, k int) Loop {
	var arrivals, fresh, most int64
	var means []float64
	loop, capped := results[0].Loops[k], false
	for _, r := range results {
		l := r.Loops[k]
		arrivals, fresh, most, capped = arrivals+l.Arrivals, fresh+l.Fresh, max(most, l.Most), capped || l.Capped
		if l.Fresh > 0 {
			means = append(means, float64(l.Arrivals)/float64(l.Fresh))
		}
	}
	out := Loop{
		At:     g.Nodes[loop.At].Name,
		Copies: arrivals,
		Rounds: Rounds{
			Mean:   float64(arrivals) / float64(max(fresh, 1)),
			MeanCI: confidence(means),
			Max:    most,
			Capped: capped,
		},
	}
	for _, m := range loop.Nodes {
		out.Nodes = append(out.Nodes, g.Nodes[m].Name)
	}
	first, early, last := 0.0, 0.0, 0.0
	for _, r := range results {
		series := r.Series.Nodes[loop.At].Copies
		if r.Nodes[loop.At].Copies == 0 { // it is only called
			series = r.Series.Nodes[loop.At].Runs
		}
		tenth := max(len(series)/10, 1)
		per := r.Series.Step.Seconds() * float64(tenth) * float64(len(results))
		began := slices.IndexFunc(series, func(n int64) bool { return n > 0 })
		for i, n := range series {
			if i < tenth {
				first += float64(n) / per
			}
			if began <= i && i < began+tenth {
				early += float64(n) / per
			}
			if i >= len(series)-tenth {
				last += float64(n) / per
			}
		}
	}
	out.Rate = []float64{first, last}
	out.Grows = last > 2*max(first, early) && arrivals > 2*fresh // the wait for the first message is no growth
	return out
}

func mergeAlarms(doc *Document, results []*sim.Result) {
	for k, a := range results[0].Alarms {
		out := Alarm{First: document.Never}
		for _, r := range results {
			x := r.Alarms[k]
			out.Count += x.Fired
			if x.Fired > 0 && (!out.Fired || x.First.Seconds() < *out.First.Seconds) {
				out.Fired, out.First = true, document.At(x.First.Seconds())
			}
		}
		doc.Alarms[a.Name] = out
	}
}

// mergeLosses reports when something was first lost, and for how long no alarm
// would have said so.
func mergeLosses(doc *Document, results []*sim.Result) {
	doc.FirstLoss, doc.Unnoticed = document.Never, document.Never
	for _, r := range results {
		if r.FirstLoss < 0 {
			continue
		}
		if doc.FirstLoss.Seconds == nil || r.FirstLoss.Seconds() < *doc.FirstLoss.Seconds {
			doc.FirstLoss = document.At(r.FirstLoss.Seconds())
		}
		switch span := (r.Noticed - r.FirstLoss).Seconds(); {
		case r.Noticed < 0:
			doc.Unnoticed = document.Unbounded
		case doc.Unnoticed.State != "unbounded" && (doc.Unnoticed.Seconds == nil || span > *doc.Unnoticed.Seconds):
			doc.Unnoticed = document.At(span)
		}
	}
}

func mergeSeries(doc *Document, g *graph.Graph, results []*sim.Result) {
	doc.Series = &Series{
		Step:  results[0].Series.Step.Seconds(),
		Nodes: map[string]NodeSeries{},
		Links: map[string][]float64{},
	}
	for i := range g.Nodes {
		var out NodeSeries
		for _, r := range results {
			n := &r.Series.Nodes[i]
			out.Depth, out.Oldest = addTo(out.Depth, n.Depth), addTo(out.Oldest, n.Oldest)
			out.Copies, out.Runs, out.Failures = addTo(
				out.Copies,
				n.Copies,
			), addTo(
				out.Runs,
				n.Runs,
			), addTo(
				out.Failures,
				n.Failures,
			)
			out.Throttled, out.Lost = addTo(out.Throttled, n.Throttled), addTo(out.Lost, n.Lost)
		}
		for _, s := range [][]float64{out.Depth, out.Oldest, out.Copies, out.Runs, out.Failures, out.Throttled,
			out.Lost} {
			for k := range s {
				s[k] /= float64(len(results))
			}
		}
		doc.Series.Nodes[g.Nodes[i].Name] = out
	}
	for i := range g.Links {
		var along []float64
		for _, r := range results {
			if i < len(r.Series.Links) { // a part that an older version simulated has none
				along = addTo(along, r.Series.Links[i])
			}
		}
		for k := range along {
			along[k] /= float64(len(results))
		}
		doc.Series.Links[g.Links[i].Link.ID()] = along
	}
}

func addTo[T int64 | float64](sum []float64, values []T) []float64 {
	for k, v := range values {
		if k == len(sum) {
			sum = append(sum, 0)
		}
		sum[k] += float64(v)
	}
	return sum
}

const (
	gigabyte = 1e9
	month    = 30 * 86400 // seconds
)

// cost prices runs, the gigabyte-seconds of functions, messages, and the
// gigabyte-months of what lies in channels.
func cost(doc *Document, g *graph.Graph, results []*sim.Result) *Cost {
	p := g.Topology.Prices
	if p == nil {
		return nil
	}
	c := &Cost{Currency: p.Currency, Nodes: map[string]float64{}}
	for i := range g.Nodes {
		n := &g.Nodes[i]
		sum := 0.0
		for _, r := range results {
			nr := &r.Nodes[i]
			sum += workCost(p, n, nr) + nr.ByteSeconds/gigabyte/month*p.Storage
		}
		sum /= float64(len(results))
		c.Nodes[n.Name] = sum
		c.Total += sum
	}
	if doc.Reached > 0 {
		c.Month = c.Total / doc.Reached * month
	}
	return c
}

// workCost prices the runs of a node with their gigabyte-seconds, and the messages that
// it received.
func workCost(p *model.Prices, n *graph.Node, r *sim.NodeResult) float64 {
	switch {
	case n.Kind.Runs() && n.Kind != model.Outside:
		return float64(r.Runs)*p.Run + r.RunSeconds*float64(n.Memory)/gigabyte*p.Compute
	case n.Kind.Channel():
		return float64(r.Copies) * p.Message
	}
	return 0
}
