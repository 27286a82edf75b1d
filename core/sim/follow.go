package sim

import (
	"fmt"
	"slices"
	"time"

	"ironweir/core/sim/internal/random"

	"ironweir/core/graph"
	"ironweir/core/model"
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

// MaxSteps bounds a trace: a message that circulates is cut off.
const MaxSteps = 400

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
	e, err := newEngine(&Plan{Graph: g, Scenario: s, follow: &plan})
	if err != nil {
		return nil, err
	}
	defer e.close()
	n := &e.nodes[id]
	if n.kind.Fires() {
		e.fireNow(n)
	} else {
		con := e.newContent()
		c := &e.contents[con]
		c.subject = append(c.subject, plan.Subject...)
		c.kind, c.data, c.size, c.attributes = plan.Type, plan.Data, plan.Size, plan.Attributes
		if (plan.Deleted || plan.Updated) && n.objects != nil {
			n.objects.byKey[plan.Subject] = object{}
		}
		var entering copyFlags
		if plan.Deleted {
			entering = deletion
		}
		e.tally.entered++
		jour, _ := e.newJourney(int32(id))
		m := message{journey: jour, content: con, node: -1}
		e.deliver(n.outWay, &m, con, entering)
		e.dropContent(con)
	}
	if err := e.loop(); err != nil {
		return nil, err
	}
	var unforced []string
	for name := range plan.Fail {
		if e.trace.failed[name] == 0 {
			unforced = append(unforced, name)
		}
	}
	slices.Sort(unforced)
	t := &Trace{Unforced: unforced, Steps: e.trace.single().steps, Fates: map[string]int64{}, Stopped: e.stopped}
	for i := range e.nodes {
		for f, count := range e.nodes[i].fates {
			if count > 0 {
				t.Fates[Fate(f).String()] += count
			}
		}
	}
	if e.live > 0 {
		t.Fates["waiting"] = int64(e.live)
	}
	e.end = e.Now // nothing more happens
	result, err := e.result()
	if err != nil {
		return nil, err
	}
	t.Nodes = result.Nodes
	return t, nil
}

func typical(d model.Distribution) random.Sampler {
	return random.Sampler{Shape: random.Constant, A: d.Typical()}
}

// lossWords say in a few words what a cause of loss means.
var lossWords = map[Fate]string{
	Expired:      "its retention ended before it was consumed",
	Exhausted:    "the tries are exhausted and there is no dead-letter node",
	GivenUp:      "it is older than `give-up` and there is no dead-letter node",
	Refused:      "the target's `callers` do not name the sender",
	Throttled:    "rejected: no concurrency or rate is left",
	Overflow:     "the queue is full",
	TooLarge:     "it is over the payload limit",
	Rejected:     "the write failed",
	Unsubscribed: "the topic has no links",
	HopLimit:     "it has passed through more functions than the hop limit allows",
}

// LossWords says in a few words what a cause of loss means.
func LossWords(f Fate) string { return lossWords[f] }

// Outcome sums a trace up: complete, failed (something was lost, parked or
// returned), or open (something is still under way).
func (t *Trace) Outcome() string {
	bad := t.Fates[Parked.String()] + t.Fates[Returned.String()]
	for _, f := range Fates() {
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

// forced reports whether the next run of a node is to fail.
func (t *tracer) forced(n *node) bool {
	for name, count := range t.follow.Fail {
		if n.name == name {
			t.failed[name]++
			return count < 0 || t.failed[name] <= count
		}
	}
	return false
}
