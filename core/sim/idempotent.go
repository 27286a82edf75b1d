package sim

import "fmt"

// keyOf gives the key by which an idempotent function knows a message again.
func (e *engine) keyOf(n *node, m *message) (string, bool) {
	v, err := e.g.Nodes[n.id].Idempotent.Value(e.eventOfMessage(m, "message"))
	if err != nil {
		return "", false // without a key it is like no other
	}
	return fmt.Sprint(v), true
}

// skipKnown marks what has succeeded before: it is finished without sending
// again.
func (e *engine) skipKnown(r *run, n *node) {
	known := 0
	for k := 0; k < e.messages(r); k++ {
		m, _ := e.message(r, k)
		key, ok := e.keyOf(n, &m)
		if _, seen := n.succeeded[key]; !ok || !seen {
			continue
		}
		known++
		if r.batch != 0 {
			e.batches[r.batch].entries[k].known = true
		}
	}
	r.skip = known == e.messages(r)
}

// remember keeps the keys of what a run has succeeded with.
func (e *engine) remember(r *run, n *node) {
	for k := 0; k < e.messages(r); k++ {
		m, took := e.message(r, k)
		if key, ok := e.keyOf(n, &m); ok && took {
			n.succeeded[key] = struct{}{}
		}
	}
}
