package sim

import (
	"ironweir/core/graph"
)

// results sends the result messages of an asynchronous run; seenAs is the type that its
// event has by default.
func (e *engine) results(n *node, m *message, seenAs string, failure int16, tries uint16) bool {
	links := n.onSuccess
	if failure != noError {
		links = n.onFailure
	}
	taken := false
	for _, id := range links {
		l := &e.g.Links[id]
		d := &e.deliveries[id]
		if d.off {
			continue
		}
		d.offered++
		out := *m
		out.hops++
		out.tries = 0
		out.node = int32(n.id)
		out.aside = out.aside || failure != noError
		kind := "success"
		if failure != noError {
			kind = "failure"
		}
		con := e.resultContent(n, m, l, seenAs, kind, failure, tries)
		probe := out
		probe.content = con
		if l.Filter.Everything || l.Filter.Takes(e.eventOfMessage(&probe, kind)) {
			d.matched++
			taken = true
			if e.trace != nil {
				e.trace.offeredResult(e, m.journey, n, l, "")
			}
			e.deliver(int32(id), &out, con, 0)
		} else if e.trace != nil {
			e.trace.offeredResult(e, m.journey, n, l, l.Filter.Why(e.eventOfMessage(&probe, kind)))
		}
		e.dropContent(con)
	}
	return taken
}

// resultContent makes a result message: its data holds the whole original event, so
// that it can be sent again [RM-02].
func (e *engine) resultContent(
	n *node,
	m *message,
	l *graph.Link,
	seenAs, kind string,
	failure int16,
	tries uint16,
) uint32 {
	i := e.newContent()
	con, old := &e.contents[i], &e.contents[m.content]
	con.subject = append(con.subject, old.subject...)
	con.kind, con.size, con.source = kind, old.size, int32(n.id)
	if l.Type != "" {
		con.kind = l.Type
	}
	if e.g.UsesData || e.trace != nil {
		data := map[string]any{"event": e.eventOut(m, seenAs), "tries": float64(tries), "node": e.g.Nodes[n.id].Name}
		if failure != noError {
			data["error"] = e.errors[failure]
		} else {
			data["result"] = "ok"
		}
		con.data = data
	}
	return i
}
