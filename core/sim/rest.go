package sim

import (
	"fmt"
	"sort"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/trace"
)

// Resting is a message that lies in a node, or is worked on there, at an
// instant.
type Resting struct {
	Message uint64  `json:"message"` // its name within the run
	Journey uint64  `json:"journey"`
	Key     string  `json:"key,omitempty"`
	Link    string  `json:"link,omitempty"` // the reader of a stream that it waits for
	Age     float64 `json:"age_s"`          // since it came to the node
	Tries   int     `json:"tries"`
	State   string  `json:"state"`

	Event map[string]any `json:"event"` // as it would be received from the node
}

// MaxResting bounds what Rest lists.
const MaxResting = 1000

// Rest simulates a plan up to an instant and lists what lies in a node then,
// the oldest first, with how many there are in all.
func Rest(plan Plan, node string, at time.Duration) ([]Resting, int, error) {
	id := plan.Graph.NodeID(node)
	if id == graph.None {
		return nil, 0, plan.Graph.NoNode(node)
	}
	e, err := newReplication(&plan)
	if err != nil {
		return nil, 0, err
	}
	defer e.Close()
	if at < 0 || int64(at) > e.End {
		return nil, 0, fmt.Errorf(
			"the run has no instant %s: it lasts %s",
			model.FormatDuration(at),
			model.FormatDuration(time.Duration(e.End)),
		)
	}
	e.End = int64(at)
	e.Observe(trace.New(e.Engine, map[uint64]bool{})) // of no journey, but payloads are kept
	if err := e.Loop(); err != nil {
		return nil, 0, err
	}
	e.Now = max(e.Now, min(int64(at), e.End))
	list, all := e.resting(id)
	return list, all, nil
}

// resting lists what lies in a node now, the oldest first.
func (e *replication) resting(id int) ([]Resting, int) {
	var found []uint32
	for i := uint32(1); i < e.Copies.Count; i++ {
		c := e.Copies.At(i)
		n := &e.Nodes[c.Node]
		if c.Journey != 0 && c.Flags&(engine.Done|engine.Duplicate) == 0 &&
			(int(c.Node) == id || n.Home != nil && n.Home.ID == id) {
			found = append(found, i)
		}
	}
	sort.Slice(found, func(a, b int) bool {
		x, y := e.Copies.At(found[a]), e.Copies.At(found[b])
		return x.Born < y.Born || x.Born == y.Born && x.Age < y.Age
	})
	var out []Resting
	for _, i := range found[:min(len(found), MaxResting)] {
		c := e.Copies.At(i)
		r := Resting{
			Message: c.Age,
			Journey: e.Journeys.At(c.Journey).ID(),
			Key:     string(e.Contents[c.Content].Subject),
			Age:     time.Duration(e.Now - c.Born).Seconds(),
			Tries:   int(c.Tries),
			State:   e.state(c),
			Event:   e.Describe(c),
		}
		if e.Nodes[c.Node].Home != nil {
			r.Link = e.Graph.Links[e.Deliveries[c.Via].Link].Link.ID()
		}
		out = append(out, r)
	}
	return out, len(found)
}

// state says in a word or two how a copy stands.
func (e *replication) state(c *engine.Copy) string {
	switch {
	case c.Flags&engine.AtRest != 0:
		return "stored here"
	case e.InFlightOf(c).Busy > 0:
		return "in a run"
	case c.Flags&engine.Writing != 0:
		return "being written"
	case c.Flags&engine.Leased != 0:
		return "leased"
	case c.Flags&engine.HeldBack != 0:
		return "blocked by its group"
	case e.InFlightOf(c).Timer != 0:
		return "not visible yet"
	case e.InFlightOf(c).Held > 0:
		return "in a batch"
	}
	return "ready"
}
