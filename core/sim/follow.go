package sim

import (
	"fmt"
	"slices"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
)

// FollowPlan sends one message through a topology at no load.
type FollowPlan struct {
	Node       string
	Subject    string
	Type       string
	Data       any
	Size       int64
	Attributes *Attributes    // nil: the event has none of its own
	Deleted    bool           // the event of a deletion, into a bucket or table
	Updated    bool           // into a table: its row is there already
	Fail       map[string]int // runs, or writes, that fail, by node: the first n, or all where negative
	Start      time.Time
}

// Trace is what happened to a followed message.
type Trace struct {
	Steps    []Step
	Fates    map[string]int64 // of all its copies
	Nodes    []NodeResult     // runs, their time and what was received, by node id
	Stopped  string           // why it was cut short; empty: it was not
	Unforced []string         // nodes of FollowPlan.Fail at which nothing could be made to fail
}

// followLength is long enough for every retention to end.
const followLength = 100 * 24 * time.Hour

// Follow sends one message through, with typical times and no failures but
// the forced ones, and records each decision.
func Follow(g *graph.Graph, plan FollowPlan) (*Trace, error) {
	id := g.NodeID(plan.Node)
	if id == graph.None {
		return nil, g.NoNode(plan.Node)
	}
	for name := range plan.Fail {
		if g.NodeID(name) == graph.None {
			return nil, fmt.Errorf("no node %q to fail%s", name, model.DidYouMean(name, g.Topology.NodeNames()))
		}
	}
	s := model.DefaultScenario()
	s.Length, s.TrafficGiven = followLength, true
	if !plan.Start.IsZero() {
		s.Start = plan.Start
	}
	e, t, err := newFollowing(&Plan{Graph: g, Scenario: s}, plan.Fail)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	n := &e.Nodes[id]
	if n.Kind.Fires() {
		e.sources.FireNow(n)
	} else {
		con := e.NewContent()
		c := &e.Contents[con]
		c.Subject = append(c.Subject, plan.Subject...)
		c.Kind, c.Data, c.Size, c.Attributes = plan.Type, plan.Data, plan.Size, plan.Attributes
		if (plan.Deleted || plan.Updated) && n.Objects != nil {
			n.Objects.ByKey[plan.Subject] = engine.Object{}
		}
		var entering engine.Flags
		if plan.Deleted {
			entering = engine.Deletion
		}
		e.sources.Enter(int32(id), con, entering)
	}
	if err := e.Loop(); err != nil {
		return nil, err
	}
	var unforced []string
	for name := range plan.Fail {
		if !e.CouldForce(name) {
			unforced = append(unforced, name)
		}
	}
	slices.Sort(unforced)
	out := &Trace{Unforced: unforced, Steps: t.Steps(), Fates: map[string]int64{}, Stopped: e.Stopped}
	for i := range e.Nodes {
		for f, count := range e.Nodes[i].Fates {
			if count > 0 {
				out.Fates[Fate(f).String()] += count
			}
		}
	}
	if e.Live > 0 {
		out.Fates["waiting"] = int64(e.Live)
	}
	e.End = e.Now // nothing more happens
	result, err := e.result()
	if err != nil {
		return nil, err
	}
	out.Nodes = result.Nodes
	return out, nil
}

// Outcome sums a trace up: complete, failed (something was lost, parked or
// returned), or open (something is still in flight).
func (t *Trace) Outcome() string {
	bad := t.Fates[engine.Parked.String()] + t.Fates[engine.Returned.String()]
	for _, f := range engine.Fates() {
		if f.Loss() {
			bad += t.Fates[f.String()]
		}
	}
	switch {
	case bad > 0:
		return "failed"
	case t.Fates["waiting"] > 0:
		return "in_flight"
	}
	return "complete"
}
