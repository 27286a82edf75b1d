package engine

import (
	"ironweir/core/graph"
)

// results sends the result messages of an asynchronous run; seenAs is the type that its
// event has by default.
func (e *Engine) results(n *Node, m *Message, seenAs string, failure int16, tries uint16) bool {
	links := n.onSuccess
	if failure != NoError {
		links = n.onFailure
	}
	taken := false
	for _, id := range links {
		l := &e.Graph.Links[id]
		d := &e.Deliveries[id]
		if d.Off {
			continue
		}
		d.Offered++
		out := *m
		out.Hops++
		out.Tries = 0
		out.Node = int32(n.ID)
		out.aside = out.aside || failure != NoError
		kind := "success"
		if failure != NoError {
			kind = "failure"
		}
		con := e.resultContent(n, m, l, seenAs, kind, failure, tries)
		probe := out
		probe.Content = con
		if l.Filter.Everything || l.Filter.Takes(e.EventOfMessage(&probe, kind)) {
			d.Matched++
			taken = true
			if e.Trace != nil {
				e.Trace.OfferedResult(m.Journey, n, l, "")
			}
			e.Deliver(int32(id), &out, con, 0)
		} else if e.Trace != nil {
			e.Trace.OfferedResult(m.Journey, n, l, l.Filter.Why(e.EventOfMessage(&probe, kind)))
		}
		e.DropContent(con)
	}
	return taken
}

// resultContent makes a result message: its data holds the whole original event, so
// that it can be sent again [RM-02].
func (e *Engine) resultContent(
	n *Node,
	m *Message,
	l *graph.Link,
	seenAs, kind string,
	failure int16,
	tries uint16,
) uint32 {
	i := e.NewContent()
	con, old := &e.Contents[i], &e.Contents[m.Content]
	con.Subject = append(con.Subject, old.Subject...)
	con.Kind, con.Size, con.Source = kind, old.Size, int32(n.ID)
	if l.Type != "" {
		con.Kind = l.Type
	}
	if e.Graph.UsesData || e.Trace != nil {
		data := map[string]any{"event": e.EventOut(m, seenAs), "tries": float64(tries), "node": e.Graph.Nodes[n.ID].Name}
		if failure != NoError {
			data["error"] = e.Errors[failure]
		} else {
			data["result"] = "ok"
		}
		con.Data = data
	}
	return i
}
