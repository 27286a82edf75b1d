package engine

import (
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

// Limits end a replication early, with what it has.
type Limits struct {
	Events int64 // 0: DefaultLimits.Events
	Copies int   // in flight at a time; 0: DefaultLimits.Copies
	Memory int64 // bytes that messages and runs take; 0: DefaultLimits.Memory
}

// DefaultLimits hold where a plan gives none.
var DefaultLimits = Limits{Events: 2_000_000_000, Copies: 8_000_000, Memory: 4 << 30}

// Plan is one replication to run.
type Plan struct {
	Graph           *graph.Graph
	Scenario        *model.Scenario
	Inputs          Inputs
	Replication     int
	Limits          Limits
	Progress        func(Progress) // called at most 400 times, or nil
	Stop            func() string  // asked now and then; a reason ends the run early; or nil
	Audit           bool           // check the ledger after every event (for tests)
	DisableFastPath bool           // never take the fast path (for tests)
}

// Progress is how far a replication is, and what has happened in it so far.
type Progress struct {
	Share                 float64 // 0 to 1
	Entered, Lost, Parked int64
}

// Inputs are the contents of files that a scenario names.
type Inputs struct {
	Events  map[string]model.EventFile // by file name
	Replays map[string][]Arrival       // by file name
	Runs    map[string][]RecordedRun   // by node: what its first runs do, in the order of their starts
}

// RecordedRun is what a run does, in place of what would be drawn for it. What is no run of its own, such as a write,
// is still drawn, and so are cold starts.
type RecordedRun struct {
	Takes time.Duration // of its own work; below 0: as drawn
	Fails bool          // by itself; a call or a write of it may still fail it
}

// Arrival is one message of a replay.
type Arrival struct {
	At            time.Time
	Type, Subject string
	Data          any
	Size          int64       // bytes; 0: that of the traffic
	Attributes    *Attributes // nil: it has none of its own
}
