package sim

import (
	"sort"

	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
)

// Ask is a run that a hook answers for.
type Ask struct {
	ID     uint64
	Node   string
	Events []map[string]any // CloudEvents, one for each message of the run
}

// HookReply is the outcome of a run that a hook answered for.
type HookReply struct {
	Ask    uint64       `json:"ask"`
	Error  string       `json:"error,omitempty"`  // a name; empty: the run succeeded
	Events []InputEvent `json:"events,omitempty"` // what it sends, instead of what its links say; none: as they say
}

// asker is a run that waits for its answer.
type asker struct {
	run, turn uint32
	ask       Ask
}

// askers are the runs that wait for a hook.
type askers struct {
	hooked  map[int32]bool
	asked   uint64
	pending map[uint64]asker
	replies map[uint32][]InputEvent // by run, as long as it lasts
}

func (l *Live) setUpHooks(names map[string]bool) {
	l.hooked, l.pending, l.replies = map[int32]bool{}, map[uint64]asker{}, map[uint32][]InputEvent{}
	for i := range l.e.Graph.Nodes {
		if n := &l.e.Nodes[i]; names[n.Name] {
			l.hooked[int32(i)] = true
			n.Asks = true // its runs end when they are answered: the time limit needs a timer
		}
	}
}

// Drops forgets what a run was to send.
func (l *Live) Drops(run uint32) { delete(l.replies, run) }

// Pending lists the runs that wait for an answer, the oldest first.
func (l *Live) Pending() []Ask {
	var out []Ask
	for id, a := range l.pending {
		if r := &l.e.Runs[a.run]; r.Turn != a.turn || r.Phase != engine.Working {
			delete(l.pending, id) // its time was over
			continue
		}
		out = append(out, a.ask)
	}
	sort.Slice(out, func(a, b int) bool { return out[a].ID < out[b].ID })
	return out
}

// Asks lets a run wait for an answer from outside, where there is a hook and nothing
// fails the run anyway.
func (l *Live) Asks(i uint32) bool {
	e := l.e
	r := &e.Runs[i]
	n := &e.Nodes[r.Node]
	if !l.hooked[r.Node] || r.Skip || r.Failure == engine.ErrAccepts ||
		n.FailsNowShare >= 0 && r.Failure != engine.NoError {
		return false
	}
	r.Failure, r.Final, r.Phase, r.Timer = engine.NoError, false, engine.Working, 0
	l.asked++
	a := Ask{ID: l.asked, Node: n.Name}
	for k := range e.Messages(r) {
		if r.Batch != 0 {
			if entry := &e.Batches[r.Batch].Entries[k]; entry.Failure != engine.ErrAccepts {
				entry.Failure, entry.Final = engine.NoError, false // the hook says
			}
		}
		if m, takesPart := e.Message(r, k); takesPart {
			ev := e.EventOut(&m, e.KindAt(r, k))
			if m.Wrap != engine.Unwrapped {
				delete(ev, "data_base64")
				ev["data"], _ = e.Wrapped(&m, e.KindAt(r, k))
			}
			a.Events = append(a.Events, ev)
		}
	}
	l.pending[a.ID] = asker{i, r.Turn, a}
	return true
}

// reply ends the wait of a run, unless its time was over before.
func (l *Live) reply(h *HookReply) {
	e := l.e
	a, there := l.pending[h.Ask]
	delete(l.pending, h.Ask)
	if !there {
		return
	}
	r := &e.Runs[a.run]
	if r.Turn != a.turn || r.Phase != engine.Working || r.Timer != 0 {
		return
	}
	if h.Error != "" {
		r.Failure = e.ErrorNumber(h.Error)
	} else if len(h.Events) > 0 {
		l.replies[a.run] = h.Events
	}
	e.Wait(a.run, 0)
}

// Returns gives what a run's hook has it send by a link; false: no hook says
// anything of it. What a hook returns goes out once a run, with its first message,
// by the links that the run sends by at its end: by the one that it names, or else by those
// that state its type or none.
func (l *Live) Returns(i uint32, r *engine.Run, s *engine.Send) ([]any, bool) {
	said, there := l.replies[i]
	if !there || r.Phase != engine.Sending || s.Link.When != "" || s.Link.Relation == model.WaitingCall {
		return nil, false
	}
	var out []any
	if r.Index > 0 {
		return nil, true
	}
	for _, ev := range said {
		if ev.Link == s.Link.Link.Name || ev.Link == "" && (s.Link.Type == "" || s.Link.Type == ev.Type) {
			out = append(out, ev)
		}
	}
	return out, true
}
