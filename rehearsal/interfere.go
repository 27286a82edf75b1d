package rehearsal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"ironweir/core/model"
	"ironweir/core/sim"
)

// Event lets an event come in at a node. A request waits for no answer here; see
// Request.
func (r *Rehearsal) Event(who string, ev *sim.InputEvent) (sim.Outcome, error) {
	if err := r.ready(); err != nil {
		return sim.Outcome{}, err
	}
	defer r.mu.Unlock()
	out, err := r.put(&sim.Input{By: who, Event: ev})
	r.nudge()
	return out, err
}

// Request lets a request come in at an endpoint and waits for its answer.
func (r *Rehearsal) Request(ctx context.Context, who string, ev *sim.InputEvent) (sim.Answered, error) {
	if err := r.ready(); err != nil {
		return sim.Answered{}, err
	}
	ev.Wanted = true
	out, err := r.put(&sim.Input{By: who, Event: ev})
	if err != nil {
		r.mu.Unlock()
		return sim.Answered{}, err
	}
	ch := make(chan sim.Answered, 1)
	r.waiters[out.Journey] = ch
	r.nudge()
	r.mu.Unlock()
	select {
	case a, ok := <-ch:
		if !ok {
			return a, errors.New("the rehearsal was rewound or ended before the answer arrived")
		}
		return a, nil
	case <-ctx.Done():
		r.mu.Lock()
		delete(r.waiters, out.Journey)
		r.mu.Unlock()
		return sim.Answered{}, ctx.Err()
	}
}

// knows reports whether the model has a node.
func (r *Rehearsal) knows(node string) error {
	t := r.plan.Graph.Topology
	if t.Node(node) == nil {
		return fmt.Errorf("no node %q%s", node, model.DidYouMean(node, t.NodeNames()))
	}
	return nil
}

// Incident starts an incident, written as in a scenario but without `at` and
// `for`: {node: X, fails: 100%}, {link: "A:B", paused: true}, {send-back: …}.
func (r *Rehearsal) Incident(who string, written map[string]any) error {
	spec, err := r.incident(written)
	if err != nil {
		return err
	}
	if err := r.ready(); err != nil {
		return err
	}
	defer r.mu.Unlock()
	spec.Name = fmt.Sprintf("by-hand-%d", r.named+1)
	_, err = r.put(&sim.Input{By: who, Incident: spec})
	r.broadcast()
	r.nudge()
	return err
}

// incident reads an incident as a scenario does, so that it has the same meaning
// and the same errors.
func (r *Rehearsal) incident(written map[string]any) (*model.Incident, error) {
	for _, not := range []string{"at", "for"} {
		if _, there := written[not]; there {
			return nil, fmt.Errorf("`%s` has no place here: it starts now, and lasts until it is healed", not)
		}
	}
	if len(written) == 0 {
		return nil, errors.New("say what is to happen, such as {node: NAME, fails: 100%}")
	}
	text, err := json.Marshal(map[string]any{"ironweir": "scenario/1", "incidents": map[string]any{"by-hand": written}})
	if err != nil {
		return nil, err
	}
	s, err := model.ParseScenario("incident", text, r.plan.Graph.Topology)
	if err != nil {
		return nil, plainly(err)
	}
	in := s.Incidents[0]
	if in.Rewind != nil {
		return nil, errors.New(
			"a reader cannot be rewound by hand: what it has read is not kept; rewind the time instead",
		)
	}
	return in, nil
}

// plainly gives the problems of a scenario that nobody wrote without their places.
func plainly(err error) error {
	var problems model.Problems
	if !errors.As(err, &problems) {
		return err
	}
	var said []string
	for _, p := range problems {
		said = append(said, strings.TrimPrefix(p.Message, "incidents.by-hand."))
	}
	return errors.New(strings.Join(said, "; "))
}

// Heal ends what was done to a node or a link by hand, and what the scenario does
// to it just now; to all of them, where target is empty.
func (r *Rehearsal) Heal(who, target string) error {
	if err := r.ready(); err != nil {
		return err
	}
	defer r.mu.Unlock()
	t := r.plan.Graph.Topology
	if target != "" && t.Node(target) == nil && r.plan.Graph.LinkID(target) < 0 {
		return fmt.Errorf("no node or link %q%s", target, model.DidYouMean(target, t.NodeNames()))
	}
	var ends []string
	for _, in := range r.active {
		if target == "" || r.bears(in.spec, target) {
			ends = append(ends, in.name)
		}
	}
	if len(ends) > 0 {
		if _, err := r.put(&sim.Input{By: who, End: ends}); err != nil {
			return err
		}
	}
	for _, spec := range r.opposites(target) {
		spec.Name = fmt.Sprintf("by-hand-%d", r.named+1)
		if _, err := r.put(&sim.Input{By: who, Incident: spec}); err != nil {
			return err
		}
	}
	r.broadcast()
	r.nudge()
	return nil
}

// bears reports whether an incident bears on a node or link.
func (r *Rehearsal) bears(in *model.Incident, target string) bool {
	if in.Node == target || in.Link == target || in.SendBack != nil && in.SendBack.From == target {
		return true
	}
	for _, name := range r.plan.Graph.Topology.FailsTogether[in.Group] {
		if name == target {
			return true
		}
	}
	return false
}

// opposites are the incidents that undo what the scenario does just now.
func (r *Rehearsal) opposites(target string) []*model.Incident {
	var out []*model.Incident
	state := r.live.State()
	g := r.plan.Graph
	for i := range g.Nodes {
		n, s := &g.Nodes[i], &state.Nodes[i]
		if target != "" && n.Name != target {
			continue
		}
		add := func(change func(in *model.Incident)) {
			in := &model.Incident{Node: n.Name}
			change(in)
			out = append(out, in)
		}
		if s.Fails >= 0 {
			own := n.Fails.EachTry
			if s.Fails != own {
				add(func(in *model.Incident) { in.Fails = &own })
			}
		}
		if s.Slow != 1 {
			one := 1.0
			add(func(in *model.Incident) { in.Slow = &one })
		}
		if own := n.Concurrency; s.Concurrency >= 0 && s.Concurrency != int64(own) {
			if own == 0 {
				own = 1_000_000 // no limit
			}
			add(func(in *model.Incident) { in.Concurrency = &own })
		}
		if no := false; s.Stopped {
			add(func(in *model.Incident) { in.Stopped = &no })
		}
		if own := n.Enabled; s.Off && own && n.Kind.Fires() {
			add(func(in *model.Incident) { in.Enabled = &own })
		}
	}
	for i := range g.Links {
		if id := g.Links[i].Link.ID(); state.Links[i].Paused && (target == "" || target == id) {
			no := false
			out = append(out, &model.Incident{Link: id, Paused: &no})
		}
		if id := g.Links[i].Link.ID(); state.Links[i].Off != g.Links[i].Disabled && (target == "" || target == id) {
			own := !g.Links[i].Disabled
			out = append(out, &model.Incident{Link: id, Enabled: &own})
		}
	}
	return out
}

// Move takes a message out of where it lies, to another node; an empty one
// removes it: somebody has dealt with it.
func (r *Rehearsal) Move(who string, message uint64, to string) error {
	if err := r.ready(); err != nil {
		return err
	}
	defer r.mu.Unlock()
	if n := r.plan.Graph.Topology.Node(to); n != nil && n.Kind.Fires() {
		return errors.New("nothing can be sent to a schedule; it fires by its calendar alone")
	}
	_, err := r.put(&sim.Input{By: who, Move: &sim.Move{Message: message, To: to}})
	r.broadcast()
	r.nudge()
	return err
}

// Resting lists what lies in a node, the oldest first, with how many there are
// in all and where they can be sent back to.
func (r *Rehearsal) Resting(node string) ([]sim.Resting, int, []string, error) {
	if err := r.ready(); err != nil {
		return nil, 0, nil, err
	}
	defer r.mu.Unlock()
	list, all, err := r.live.Resting(node)
	return list, all, r.live.SendBackTargets(node), err
}

// Message gives a message that lies somewhere as a CloudEvent.
func (r *Rehearsal) Message(id uint64) (map[string]any, error) {
	if err := r.ready(); err != nil {
		return nil, err
	}
	defer r.mu.Unlock()
	return r.live.Message(id)
}
