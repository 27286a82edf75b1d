package sim

import (
	"sort"

	"ironweir/core/model"
)

// Ask is a run that somebody outside answers for: a hook.
type Ask struct {
	ID     uint64
	Node   string
	Events []map[string]any // CloudEvents, one for each message of the run
}

// HookReply is the outcome of a run that somebody answered for.
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

// askers are the runs that wait for somebody's answer.
type askers struct {
	hooked  map[int32]bool
	asked   uint64
	pending map[uint64]asker
	replies map[uint32][]InputEvent // by run, as long as it lasts
}

func (l *Live) setUpHooks(names map[string]bool) {
	l.hooked, l.pending, l.replies = map[int32]bool{}, map[uint64]asker{}, map[uint32][]InputEvent{}
	for i := range l.e.g.Nodes {
		if n := &l.e.nodes[i]; names[n.name] {
			l.hooked[int32(i)] = true
			n.asks = true // its runs end when they are answered: the time limit needs a timer
		}
	}
}

// Pending lists the runs that wait for an answer, the oldest first.
func (l *Live) Pending() []Ask {
	var out []Ask
	for id, a := range l.pending {
		if r := &l.e.runs[a.run]; r.turn != a.turn || r.phase != working {
			delete(l.pending, id) // its time was over
			continue
		}
		out = append(out, a.ask)
	}
	sort.Slice(out, func(a, b int) bool { return out[a].ID < out[b].ID })
	return out
}

// asks lets a run wait for somebody's answer, where there is a hook and nothing
// fails the run anyway.
func (l *Live) asks(i uint32) bool {
	e := l.e
	r := &e.runs[i]
	n := &e.nodes[r.node]
	if !l.hooked[r.node] || r.skip || r.failure == errAccepts || n.failsNowShare >= 0 && r.failure != noError {
		return false
	}
	r.failure, r.final, r.phase, r.timer = noError, false, working, 0
	l.asked++
	a := Ask{ID: l.asked, Node: n.name}
	for k := range e.messages(r) {
		if r.batch != 0 {
			if entry := &e.batches[r.batch].entries[k]; entry.failure != errAccepts {
				entry.failure, entry.final = noError, false // the hook says
			}
		}
		if m, takesPart := e.message(r, k); takesPart {
			ev := e.eventOut(&m, e.kindAt(r, k))
			if m.wrap != unwrapped {
				delete(ev, "data_base64")
				ev["data"], _ = e.wrapped(&m, e.kindAt(r, k))
			}
			a.Events = append(a.Events, ev)
		}
	}
	l.pending[a.ID] = asker{i, r.turn, a}
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
	r := &e.runs[a.run]
	if r.turn != a.turn || r.phase != working || r.timer != 0 {
		return
	}
	if h.Error != "" {
		r.failure = e.errorNumber(h.Error)
	} else if len(h.Events) > 0 {
		l.replies[a.run] = h.Events
	}
	e.wait(a.run, 0)
}

// returned gives what a run's hook has it send by a link; false: no hook says
// anything of it. What a hook returns goes out once a run, with its first message,
// by the links that the run sends by at its end: by the one that it names, or else by those
// that state its type or none.
func (l *Live) returned(i uint32, r *run, s *send) ([]any, bool) {
	said, there := l.replies[i]
	if !there || r.phase != sending || s.link.When != "" || s.link.Relation == model.WaitingCall {
		return nil, false
	}
	var out []any
	if r.index > 0 {
		return nil, true
	}
	for _, ev := range said {
		if ev.Link == s.link.Link.Name || ev.Link == "" && (s.link.Type == "" || s.link.Type == ev.Type) {
			out = append(out, ev)
		}
	}
	return out, true
}

// returnedContent makes the content of an event that a hook returned.
func (e *engine) returnedContent(from int32, m *message, ev *InputEvent) uint32 {
	i := e.newContent()
	con, old := &e.contents[i], &e.contents[m.content]
	con.kind, con.data, con.size, con.source = ev.Type, ev.Data, ev.Size, from
	if a := ev.Attributes; a != nil { // it is a new event of the function [PE-06]
		con.attributes = &Attributes{
			ContentType: a.ContentType,
			Schema:      a.Schema,
			Extensions:  a.Extensions,
			Bytes:       a.Bytes,
			Binary:      a.Binary,
		}
	}
	if ev.Subject != "" {
		con.subject = append(con.subject, ev.Subject...)
	} else {
		con.subject = append(con.subject, old.subject...)
	}
	return i
}
