// Package study turns simulations into answers: replications with confidence
// intervals, expectations, the result document. Its merges are exact and in a
// settled order, so any number of workers gives the same bytes.
package study

import (
	"math"
	"time"

	"gonum.org/v1/gonum/stat/distuv"

	"ironweir/core/document"
)

// Interval is a 95% confidence interval, or null where there is none (one
// replication says nothing about its spread).
type Interval *[2]float64

// Document is the result of a run, as `run -format json` prints it.
type Document struct {
	document.Head
	Scenario       string                 `json:"scenario"`
	Variant        string                 `json:"variant"`
	Seed           uint64                 `json:"seed"`
	Replications   int                    `json:"replications"`
	Start          time.Time              `json:"start"`
	Length         float64                `json:"length_s"`
	WarmUp         float64                `json:"warm_up_s,omitempty"`
	Partial        bool                   `json:"partial"`
	Stopped        string                 `json:"stopped,omitempty"` // why it is partial
	Reached        float64                `json:"reached_s"`         // the least of the replications
	Ledger         Ledger                 `json:"ledger"`
	PerReplication map[string]Spread      `json:"per_replication"`
	Nodes          map[string]Node        `json:"nodes"`
	Links          map[string]Link        `json:"links"`
	Latency        map[string]PathLatency `json:"latency"`
	Journeys       Journeys               `json:"journeys"`
	Loops          []Loop                 `json:"loops"`
	Alarms         map[string]Alarm       `json:"alarms"`
	FirstLoss      document.State         `json:"first_loss"` // the earliest of the replications
	Unnoticed      document.State         `json:"unnoticed"`  // from a replication's first loss until an alarm was on, the longest; unbounded: to the end
	Expect         map[string]Expectation `json:"expect"`
	Cost           *Cost                  `json:"cost"` // null without prices
	Series         *Series                `json:"series,omitempty"`
	Engine         Engine                 `json:"engine"`
}

// Fates counts what became of copies.
type Fates struct {
	Handled     int64            `json:"handled"`
	Stored      int64            `json:"stored"`
	Arrived     int64            `json:"arrived"`
	Passed      int64            `json:"passed"`
	Ignored     int64            `json:"ignored"`
	Unmatched   int64            `json:"unmatched"`
	Returned    int64            `json:"returned"`
	Parked      int64            `json:"parked"`
	Waiting     int64            `json:"waiting"`
	Running     int64            `json:"running"`
	Redelivered int64            `json:"redelivered"`
	Lost        map[string]int64 `json:"lost"` // total, and by cause
}

// Sum adds up all fates and what is under way: it equals the copies.
func (f Fates) Sum() int64 {
	return f.Handled + f.Stored + f.Arrived + f.Passed + f.Ignored + f.Unmatched + f.Returned + f.Parked + f.Waiting +
		f.Running + f.Lost["total"]
}

// Ledger accounts for every copy of a run.
type Ledger struct {
	Entered int64 `json:"entered"`
	Copies  int64 `json:"copies"`
	Fates
}

// Node is what one node counted, in total over the replications.
type Node struct {
	Kind   string `json:"kind"`
	Copies int64  `json:"copies"`
	Fates
	Entered       int64            `json:"entered"`                // from external senders, or by the calendar of a schedule
	Deduplicated  int64            `json:"deduplicated,omitempty"` // of the passed ones: dropped as seen before
	Runs          int64            `json:"runs"`
	Failures      int64            `json:"failures"`
	Timeouts      int64            `json:"timeouts"`
	Throttled     int64            `json:"throttled"`
	ColdStarts    int64            `json:"cold_starts"`
	Answers       map[string]int64 `json:"answers,omitempty"`
	FailedBy      map[string]int64 `json:"failed_by,omitempty"` // failures by reason: the name of the error
	Utilisation   *float64         `json:"utilisation"`         // null: no limit to use up
	UtilisationCI Interval         `json:"utilisation_ci"`
	Concurrency   Level            `json:"concurrency"`
	Depth         Level            `json:"depth"`
	Oldest        Oldest           `json:"oldest_s"`
	Wait          Times            `json:"wait_s"`
	Time          Times            `json:"time_s"`
	RunTime       Times            `json:"run_time_s"`
}

// Level is a number that goes up and down: its mean over time, its greatest
// value in any replication, its mean at the end.
type Level struct {
	Mean   float64  `json:"mean"`
	MeanCI Interval `json:"mean_ci"`
	Max    int64    `json:"max"`
	End    float64  `json:"end"`
}

// Oldest is the greatest age of a waiting message, in seconds.
type Oldest struct {
	Max float64 `json:"max"`
}

// Times sums up times, in seconds, under short names.
type Times struct {
	Count  int64    `json:"count"`
	Mean   float64  `json:"mean"`
	MeanCI Interval `json:"mean_ci"`
	P50    float64  `json:"p50"`
	P50CI  Interval `json:"p50_ci"`
	P90    float64  `json:"p90"`
	P90CI  Interval `json:"p90_ci"`
	P95    float64  `json:"p95"`
	P95CI  Interval `json:"p95_ci"`
	P99    float64  `json:"p99"`
	P99CI  Interval `json:"p99_ci"`
	Max    float64  `json:"max"`
}

// PathLatency sums up the latencies of one way, in seconds.
type PathLatency struct {
	Count  int64    `json:"count"`
	Mean   float64  `json:"mean_s"`
	MeanCI Interval `json:"mean_s_ci"`
	P50    float64  `json:"p50_s"`
	P50CI  Interval `json:"p50_s_ci"`
	P90    float64  `json:"p90_s"`
	P90CI  Interval `json:"p90_s_ci"`
	P95    float64  `json:"p95_s"`
	P95CI  Interval `json:"p95_s_ci"`
	P99    float64  `json:"p99_s"`
	P99CI  Interval `json:"p99_s_ci"`
	Max    float64  `json:"max_s"`
}

// Link is what one link counted.
type Link struct {
	Offered  int64 `json:"offered"`
	Matched  int64 `json:"matched"`
	Declined int64 `json:"declined"`
	Copies   int64 `json:"copies"`
	*Fates         // of a link that reads a stream or table
}

// Journeys counts origin messages with all that came of them.
type Journeys struct {
	Count    int64   `json:"count"`
	Complete int64   `json:"complete"`
	Failed   int64   `json:"failed"`    // something of it was lost, parked or returned
	InFlight int64   `json:"in_flight"` // not failed, and not complete at the end
	Largest  Largest `json:"largest"`
}

// Largest is the largest journey.
type Largest struct {
	Copies int64 `json:"copies"`
	Hops   int64 `json:"hops"`
}

// Loop says how often messages circulated.
type Loop struct {
	Nodes  []string  `json:"nodes"`
	At     string    `json:"at"` // the node at which passes are counted
	Rounds Rounds    `json:"rounds"`
	Copies int64     `json:"copies"` // messages and calls that arrived at it, in all passes
	Rate   []float64 `json:"rate"`   // of them a second, in the first and the last tenth of the run
	Grows  bool      `json:"grows"`  // more than twice as many at the end, and more than entered from outside
}

// Rounds are passes through a loop, the first included: the mean counts the passes of
// all copies that one entering message makes, the greatest those of one copy.
type Rounds struct {
	Mean   float64  `json:"mean"`
	MeanCI Interval `json:"mean_ci"`
	Max    int64    `json:"max"`
	Capped bool     `json:"capped,omitempty"` // at least Max: passes are counted no further
}

// Alarm says whether an alarm went off.
type Alarm struct {
	Fired bool           `json:"fired"`
	First document.State `json:"first"`
	Count int64          `json:"count"`
}

// Expectation is a judged condition.
type Expectation struct {
	Expression string `json:"expression"`
	Holds      bool   `json:"holds"`    // in every replication
	HoldsIn    int    `json:"holds_in"` // replications
	Error      string `json:"error,omitempty"`
}

// Cost of what was simulated, the mean of the replications.
type Cost struct {
	Currency string             `json:"currency"`
	Total    float64            `json:"total"`
	Month    float64            `json:"month"` // 30 days of the same
	Nodes    map[string]float64 `json:"nodes"`
}

// Series are numbers over time, the means of the replications.
type Series struct {
	Step  float64               `json:"step_s"`
	Nodes map[string]NodeSeries `json:"nodes"`
	Links map[string][]float64  `json:"links"` // what came along each in a step
}

// NodeSeries are the numbers of one node, one a step.
type NodeSeries struct {
	Depth     []float64 `json:"depth"`
	Oldest    []float64 `json:"oldest_s"`
	Copies    []float64 `json:"copies"`
	Runs      []float64 `json:"runs"`
	Failures  []float64 `json:"failures"`
	Throttled []float64 `json:"throttled"`
	Lost      []float64 `json:"lost"`
}

// Engine says how much work the simulation was. How long it took is no part of a
// result, so that two runs of one input give the same bytes.
type Engine struct {
	Events int64 `json:"events"`
}

// Spread sums up a number over the replications.
type Spread struct {
	Mean float64  `json:"mean"`
	Min  float64  `json:"min"`
	Max  float64  `json:"max"`
	CI   Interval `json:"ci"`
}

// confidence gives the 95% interval of the mean of independent values, by
// Student's t; nil for fewer than two.
func confidence(values []float64) Interval {
	n := float64(len(values))
	if n < 2 {
		return nil
	}
	mean, sq := 0.0, 0.0
	for _, v := range values {
		mean += v / n
	}
	for _, v := range values {
		sq += (v - mean) * (v - mean)
	}
	half := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: n - 1}.Quantile(0.975) * math.Sqrt(sq/(n-1)/n)
	return &[2]float64{mean - half, mean + half}
}

func spread(values []float64) Spread {
	s := Spread{Min: math.Inf(1), Max: math.Inf(-1), CI: confidence(values)}
	for _, v := range values {
		s.Mean += v / float64(len(values))
		s.Min, s.Max = min(s.Min, v), max(s.Max, v)
	}
	return s
}
