package sim

import (
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/series"
	"ironweir/core/sim/internal/trace"
)

// What a replication is given.
type (
	// Plan is one replication to run.
	Plan = engine.Plan
	// Limits end a replication early, with what it has.
	Limits = engine.Limits
	// Inputs are the contents of files that a scenario names.
	Inputs = engine.Inputs
	// Arrival is one message of a replay.
	Arrival = engine.Arrival
	// RecordedRun is what a run does, in place of what would be drawn for it.
	RecordedRun = engine.RecordedRun
	// Attributes are those of an event from outside.
	Attributes = engine.Attributes
	// Progress is how far a replication is, and what has happened in it so far.
	Progress = engine.Progress
	// InputEvent is an event that comes in at a node, or that a hook returns.
	InputEvent = engine.InputEvent
)

// DefaultLimits hold where a plan gives none.
var DefaultLimits = engine.DefaultLimits

// What it records.
type (
	// Series holds numbers over time: at most MaxPoints of equal steps.
	Series = series.Series
	// NodeSeries are the numbers of one node, one a step.
	NodeSeries = series.NodeSeries
	// AlarmResult says when an alarm went off.
	AlarmResult = series.AlarmResult
	// Journey says what happened to one message and all that came of it.
	Journey = trace.Journey
	// Step is one thing that happened to a message.
	Step = trace.Step
	// JourneyLimits say how many journeys of a run are recorded step by step.
	JourneyLimits = trace.JourneyLimits
	// Found are the journeys of a run of which at least one event meets a condition.
	Found = trace.Found
)

// Bounds of what is recorded.
const (
	MaxSteps  = trace.MaxSteps   // of a journey: a message that circulates is cut off
	MaxPoints = series.MaxPoints // of a series, whatever the length of the run
)

// Fate is what becomes of a copy.
type Fate = engine.Fate

// The fates.
const (
	Handled      = engine.Handled
	Stored       = engine.Stored
	Arrived      = engine.Arrived
	Passed       = engine.Passed
	Ignored      = engine.Ignored
	Unmatched    = engine.Unmatched
	Returned     = engine.Returned
	Parked       = engine.Parked
	Expired      = engine.Expired // the first cause of loss
	Exhausted    = engine.Exhausted
	GivenUp      = engine.GivenUp
	Refused      = engine.Refused
	Throttled    = engine.Throttled
	Overflow     = engine.Overflow
	TooLarge     = engine.TooLarge
	Rejected     = engine.Rejected
	Unsubscribed = engine.Unsubscribed
	HopLimit     = engine.HopLimit
)

// Fates lists all fates; the causes of loss come last.
func Fates() []Fate { return engine.Fates() }

// LossWords says in a few words what a cause of loss means.
func LossWords(f Fate) string { return engine.LossWords(f) }
