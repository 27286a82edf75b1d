package sim

import (
	"fmt"
	"sort"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
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
	e, err := newEngine(&plan)
	if err != nil {
		return nil, 0, err
	}
	defer e.close()
	if at < 0 || int64(at) > e.end {
		return nil, 0, fmt.Errorf(
			"the run has no instant %s: it lasts %s",
			model.FormatDuration(at),
			model.FormatDuration(time.Duration(e.end)),
		)
	}
	e.end = int64(at)
	e.observe(newTracer(nil, map[uint64]bool{})) // of no journey, but payloads are kept
	if err := e.loop(); err != nil {
		return nil, 0, err
	}
	e.Now = max(e.Now, min(int64(at), e.end))
	list, all := e.resting(id)
	return list, all, nil
}

// resting lists what lies in a node now, the oldest first.
func (e *engine) resting(id int) ([]Resting, int) {
	var found []uint32
	for i := uint32(1); i < e.copies.Count; i++ {
		c := e.copies.At(i)
		n := &e.nodes[c.node]
		if c.journey != 0 && c.flags&(done|duplicate) == 0 && (int(c.node) == id || n.home != nil && n.home.id == id) {
			found = append(found, i)
		}
	}
	sort.Slice(found, func(a, b int) bool {
		x, y := e.copies.At(found[a]), e.copies.At(found[b])
		return x.born < y.born || x.born == y.born && x.age < y.age
	})
	var out []Resting
	for _, i := range found[:min(len(found), MaxResting)] {
		c := e.copies.At(i)
		r := Resting{
			Message: c.age,
			Journey: e.journeys.At(c.journey).id(),
			Key:     string(e.contents[c.content].subject),
			Age:     time.Duration(e.Now - c.born).Seconds(),
			Tries:   int(c.tries),
			State:   e.state(c),
			Event:   e.describe(c),
		}
		if e.nodes[c.node].home != nil {
			r.Link = e.g.Links[e.deliveries[c.via].link].Link.ID()
		}
		out = append(out, r)
	}
	return out, len(found)
}

// state says in a word or two how a copy stands.
func (e *engine) state(c *copyRecord) string {
	switch {
	case c.flags&atRest != 0:
		return "stored here"
	case e.inFlightOf(c).busy > 0:
		return "in a run"
	case c.flags&writing != 0:
		return "being written"
	case c.flags&leased != 0:
		return "leased"
	case c.flags&heldBack != 0:
		return "blocked by its group"
	case e.inFlightOf(c).timer != 0:
		return "not visible yet"
	case e.inFlightOf(c).held > 0:
		return "in a batch"
	}
	return "ready"
}
