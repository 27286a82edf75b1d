package engine

import "fmt"

// keyOf gives the key by which an idempotent function knows a message again.
func (e *Engine) keyOf(n *Node, m *Message) (string, bool) {
	v, err := e.Graph.Nodes[n.ID].Idempotent.Value(e.EventOfMessage(m, "message"))
	if err != nil {
		return "", false // without a key it is like no other
	}
	return fmt.Sprint(v), true
}

// skipKnown marks what has succeeded before: it is finished without sending
// again.
func (e *Engine) skipKnown(r *Run, n *Node) {
	known := 0
	for k := 0; k < e.Messages(r); k++ {
		m, _ := e.Message(r, k)
		key, ok := e.keyOf(n, &m)
		if _, seen := n.succeeded[key]; !ok || !seen {
			continue
		}
		known++
		if r.Batch != 0 {
			e.Batches[r.Batch].Entries[k].known = true
		}
	}
	r.Skip = known == e.Messages(r)
}

// remember keeps the keys of what a run has succeeded with.
func (e *Engine) remember(r *Run, n *Node) {
	for k := 0; k < e.Messages(r); k++ {
		m, took := e.Message(r, k)
		if key, ok := e.keyOf(n, &m); ok && took {
			n.succeeded[key] = struct{}{}
		}
	}
}
