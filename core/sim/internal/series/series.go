// Package series takes numbers over time, and looks at the alarms.
package series

import (
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
)

// Recorder takes a point of every series now and then, and looks at the alarms.
type Recorder struct {
	*engine.Engine
	series    *Series
	lasts     []lastPoint // by node
	lastAlong []int64     // by link
	noticed   int64       // the first instant from the first loss on at which an alarm is on, -1: none is
	alarms    []alarm
}

// New makes the recorder of a replication.
func New(e *engine.Engine) *Recorder { return &Recorder{Engine: e, noticed: -1} }

// Noticed gives the first instant from the first loss on at which an alarm was on; -1: none was.
func (e *Recorder) Noticed() int64 { return e.noticed }

// Series holds numbers over time: at most MaxPoints of equal steps.
type Series struct {
	Step  time.Duration
	Nodes []NodeSeries
	Links [][]int64 // by link, by step: what came along it
}

// NodeSeries are the numbers of one node, one a step: the mean depth, the age
// of the oldest at the end of the step, and counts within the step.
type NodeSeries struct {
	Depth, Oldest                           []float64
	Copies, Runs, Failures, Throttled, Lost []int64
}

// MaxPoints bounds the points of a series, whatever the length of the run.
const MaxPoints = 400

// steps that read well on an axis
var goodSteps = []time.Duration{
	time.Second,
	2 * time.Second,
	5 * time.Second,
	10 * time.Second,
	15 * time.Second,
	30 * time.Second,
	time.Minute,
	2 * time.Minute,
	5 * time.Minute,
	10 * time.Minute,
	15 * time.Minute,
	30 * time.Minute,
	time.Hour,
	2 * time.Hour,
	4 * time.Hour,
	6 * time.Hour,
	12 * time.Hour,
	24 * time.Hour,
}

func seriesStep(length time.Duration) time.Duration {
	for _, s := range goodSteps {
		if length/s <= MaxPoints && length%s == 0 {
			return s
		}
	}
	return (length + MaxPoints - 1) / MaxPoints
}

type lastPoint struct {
	area                                    float64
	copies, runs, failures, throttled, lost int64
	timeouts, inStep                        int64
}

// SetUp makes room for all points.
func (e *Recorder) SetUp() {
	step := seriesStep(e.Scenario.Length)
	points := int(e.Scenario.Length / step)
	e.series = &Series{
		Step:  step,
		Nodes: make([]NodeSeries, len(e.Graph.Nodes)),
		Links: make([][]int64, len(e.Graph.Links)),
	}
	e.lastAlong = make([]int64, len(e.Graph.Links))
	for i := range e.series.Links {
		e.series.Links[i] = make([]int64, 0, points)
	}
	e.lasts = make([]lastPoint, len(e.Nodes))
	for i := range e.series.Nodes {
		s := &e.series.Nodes[i]
		s.Depth, s.Oldest = make([]float64, 0, points), make([]float64, 0, points)
		for _, into := range []*[]int64{&s.Copies, &s.Runs, &s.Failures, &s.Throttled, &s.Lost} {
			*into = make([]int64, 0, points)
		}
	}
	e.setUpAlarms()
	e.First(int64(step), engine.EvSample, 0)
}

// Sample takes a point of every series.
func (e *Recorder) Sample() {
	step := int64(e.series.Step)
	for i := range e.series.Nodes {
		n, s, last := &e.Nodes[i], &e.series.Nodes[i], &e.lasts[i]
		area := n.Depth.Area(e.Now)
		if e.Now == e.Warm+step || area < last.area {
			last.area = 0
		}
		s.Depth = append(s.Depth, max(area-last.area, 0)/float64(step))
		age := e.OldestIn(n)
		n.Oldest = max(n.Oldest, age)
		s.Oldest = append(s.Oldest, float64(age)*1e-9)
		lost := e.LostAt(n)
		s.Copies = append(s.Copies, n.Copies-last.copies)
		s.Runs = append(s.Runs, n.Runs-last.runs)
		s.Failures = append(s.Failures, n.Failures-last.failures)
		s.Throttled = append(s.Throttled, n.Throttled-last.throttled)
		s.Lost = append(s.Lost, max(lost-last.lost, 0))
		*last = lastPoint{area, n.Copies, n.Runs, n.Failures, n.Throttled, lost, n.Timeouts, n.Timeouts - last.timeouts}
	}
	for i := range e.series.Links {
		along := e.along(i)
		e.series.Links[i] = append(e.series.Links[i], along-e.lastAlong[i])
		e.lastAlong[i] = along
	}
	e.checkAlarms()
	if e.Plan.Progress != nil {
		p := engine.Progress{Share: float64(e.Now) / float64(e.End), Entered: e.Tally.Entered}
		for i := range e.Nodes {
			p.Lost += e.Nodes[i].Lost()
			p.Parked += e.Nodes[i].Fates[engine.Parked]
		}
		e.Plan.Progress(p)
	}
	if e.Now+step < e.End {
		e.First(e.Now+step, engine.EvSample, 0)
	}
}

// along counts what has come along a link: what it wrote, or took where it writes nothing
// (a call), or what its feed holds for it.
func (e *Recorder) along(link int) int64 {
	if id := e.FeedOf[link]; id >= 0 {
		return e.Nodes[id].Copies
	}
	return max(e.Deliveries[link].Copies, e.Deliveries[link].Matched)
}

// Finish gives the series at the end of the run.
func (e *Recorder) Finish() *Series {
	if e.Now == e.End && len(e.series.Nodes) > 0 &&
		time.Duration(len(e.series.Nodes[0].Depth))*e.series.Step < e.Scenario.Length {
		e.Sample() // the last step ends with the run
	}
	return e.series
}

// AlarmResult says when an alarm went off.
type AlarmResult struct {
	Name  string
	Fired int64
	First time.Duration // when it first did
}

// alarm is the state of one alarm, looked at when the series take a point.
type alarm struct {
	spec  *model.Alarm
	node  int
	since int64 // over the value since, -1: it is not
	on    bool
	out   AlarmResult
}

func (e *Recorder) setUpAlarms() {
	for k := range e.Graph.Topology.Alarms {
		spec := &e.Graph.Topology.Alarms[k]
		a := alarm{spec: spec, node: e.Graph.NodeID(spec.Of), since: -1, out: AlarmResult{Name: spec.Name}}
		if spec.Of == "" {
			a.node = graph.None
		}
		e.alarms = append(e.alarms, a)
	}
}

func (e *Recorder) checkAlarms() {
	step := int64(e.series.Step)
	for k := range e.alarms {
		a := &e.alarms[k]
		if e.watched(a) <= a.spec.Above {
			a.since, a.on = -1, false
			continue
		}
		if a.since < 0 {
			a.since = e.Now - step
		}
		if !a.on && e.Now-a.since >= int64(a.spec.Lasting) {
			a.on = true
			if a.out.Fired++; a.out.Fired == 1 {
				a.out.First = time.Duration(e.Now)
			}
		}
		if a.on && e.FirstLoss >= 0 && e.noticed < 0 {
			e.noticed = e.Now
		}
	}
}

// watched gives the number that an alarm watches: of the last step for counts
// of runs, as it stands for the rest.
func (e *Recorder) watched(a *alarm) float64 {
	at := len(e.series.Nodes[0].Depth) - 1
	total := func(of func(n *engine.Node) float64) float64 {
		if a.node != graph.None {
			return of(&e.Nodes[a.node])
		}
		sum := 0.0
		for i := range e.Graph.Nodes {
			sum += of(&e.Nodes[i])
		}
		return sum
	}
	switch a.spec.Watch {
	case "depth":
		return float64(e.Nodes[a.node].Depth.Count)
	case "oldest":
		return e.series.Nodes[a.node].Oldest[at]
	case "runs":
		return float64(e.series.Nodes[a.node].Runs[at])
	case "failures":
		return float64(e.series.Nodes[a.node].Failures[at])
	case "throttled":
		return float64(e.series.Nodes[a.node].Throttled[at])
	case "timeouts":
		return float64(e.lasts[a.node].inStep)
	case "run-time.p95":
		h := e.Nodes[a.node].RunTime.Snapshot()
		return h.Quantile(0.95)
	case "parked":
		return total(func(n *engine.Node) float64 { return float64(n.Fates[engine.Parked]) })
	}
	return total(func(n *engine.Node) float64 { return float64(e.LostAt(n)) })
}

// Alarms says of each alarm whether it went off.
func (e *Recorder) Alarms() []AlarmResult {
	var out []AlarmResult
	for k := range e.alarms {
		out = append(out, e.alarms[k].out)
	}
	return out
}
