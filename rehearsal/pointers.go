package rehearsal

import (
	"cmp"
	"slices"
	"time"
)

// Pointer is where a viewer points on the board: beside a node, since boards are laid out differently.
type Pointer struct {
	Who  string  `json:"who"`
	Node string  `json:"node" maxLength:"600" doc:"the nearest node; empty: nowhere"`
	X    float64 `json:"x" minimum:"-100000" maximum:"100000" doc:"from its left upper corner, in pixels of the board"`
	Y    float64 `json:"y" minimum:"-100000" maximum:"100000"`

	at time.Time
}

// pointedFor is how long a pointer that does not move is shown.
const pointedFor = 10 * time.Second

// Point notes where a viewer points; the next state says so. A node that is none takes the pointer away.
func (r *Rehearsal) Point(who string, p Pointer) error {
	if err := r.ready(); err != nil {
		return err
	}
	defer r.mu.Unlock()
	if r.plan.Graph.NodeID(p.Node) < 0 {
		delete(r.pointers, who)
		return nil
	}
	p.Who, p.at = who, time.Now()
	r.pointers[who] = p
	return nil
}

// pointed lists the pointers that are shown, by who points.
func (r *Rehearsal) pointed() []Pointer {
	out := []Pointer{}
	for who, p := range r.pointers {
		if time.Since(p.at) > pointedFor {
			delete(r.pointers, who)
			continue
		}
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Pointer) int { return cmp.Compare(a.Who, b.Who) })
	return out
}
