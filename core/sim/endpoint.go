package sim

import "ironweir/core/model"

// request takes a request at an endpoint: it checks the rate, then passes on
// what its links take.
func (e *engine) request(i uint32, n *node) {
	c := e.copies.At(i)
	gn := &e.g.Nodes[n.id]
	m := e.messageOf(c)
	taken := false
	for _, id := range gn.Out {
		l := &e.g.Links[id]
		if e.deliveries[id].off {
			continue
		}
		ok := l.Filter.Takes(e.eventOfMessage(&m, "request"))
		taken = taken || ok
		if e.trace != nil {
			why := ""
			if !ok {
				why = l.Filter.Why(e.eventOfMessage(&m, "request"))
			}
			e.trace.offered(e, i, l, why)
		}
	}
	switch {
	case n.stopped:
		e.answer(i, n, errStopped, 503)
		return
	case gn.Allowed != nil && c.via < int32(len(e.g.Links)) && e.deliveries[c.via].refused:
		e.answer(i, n, errRefused, 403)
		return
	case n.accepts != nil && n.accepts.Fits(e.eventOfMessage(&m, "request").Data) != nil:
		e.answer(i, n, errAccepts, 400)
		return
	case !n.bucket.take(e.Now):
		n.throttled++
		e.answer(i, n, errThrottled, 429)
		return
	case !taken:
		n.runs++
		e.answer(i, n, errFails, 404)
		return
	}
	c.tries++
	e.inFlightFor(c).busy++
	r := e.newRun(n, forRequest)
	e.runs[r].copy = i
	e.begin(r)
}

// answer answers a request. Status 0: as the outcome has it.
func (e *engine) answer(i uint32, n *node, failure, status int16) {
	waits := false
	for _, id := range e.g.Nodes[n.id].Out {
		waits = waits || e.g.Links[id].Relation == model.WaitingCall && !e.deliveries[id].off
	}
	switch {
	case failure == noError && waits:
		status = 200
	case failure == noError:
		status = 202
	case status == 0:
		status = 500
	}
	n.answers[status]++
	if status >= 500 { // [EP-11]
		n.failed(failure)
	}
	if status == 504 {
		n.timeouts++
	}
	if e.observer != nil {
		e.observer.answered(e.copies.At(i), status)
	}
	if e.trace != nil {
		e.trace.answers(e, i, failure, status)
	}
	if failure == noError {
		e.finish(i, Handled)
		return
	}
	e.finish(i, Returned)
}
