package engine

import "ironweir/core/model"

// request takes a request at an endpoint: it checks the rate, then passes on
// what its links take.
func (e *Engine) request(i uint32, n *Node) {
	c := e.Copies.At(i)
	gn := &e.Graph.Nodes[n.ID]
	m := e.MessageOf(c)
	taken := false
	for _, id := range gn.Out {
		l := &e.Graph.Links[id]
		if e.Deliveries[id].Off {
			continue
		}
		ok := l.Filter.Takes(e.EventOfMessage(&m, "request"))
		taken = taken || ok
		if e.Trace != nil {
			why := ""
			if !ok {
				why = l.Filter.Why(e.EventOfMessage(&m, "request"))
			}
			e.Trace.Offered(i, l, why)
		}
	}
	switch {
	case n.Stopped:
		e.answer(i, n, errStopped, 503)
		return
	case gn.Allowed != nil && c.Via < int32(len(e.Graph.Links)) && e.Deliveries[c.Via].refused:
		e.answer(i, n, ErrRefused, 403)
		return
	case n.Accepts != nil && n.Accepts.Fits(e.EventOfMessage(&m, "request").Data) != nil:
		e.answer(i, n, ErrAccepts, 400)
		return
	case !n.bucket.take(e.Now):
		n.Throttled++
		e.answer(i, n, errThrottled, 429)
		return
	case !taken:
		n.Runs++
		e.answer(i, n, ErrFails, 404)
		return
	}
	c.Tries++
	e.inFlightFor(c).Busy++
	r := e.NewRun(n, forRequest)
	e.Runs[r].Copy = i
	e.Begin(r)
}

// answer answers a request. Status 0: as the outcome has it.
func (e *Engine) answer(i uint32, n *Node, failure, status int16) {
	waits := false
	for _, id := range e.Graph.Nodes[n.ID].Out {
		waits = waits || e.Graph.Links[id].Relation == model.WaitingCall && !e.Deliveries[id].Off
	}
	switch {
	case failure == NoError && waits:
		status = 200
	case failure == NoError:
		status = 202
	case status == 0:
		status = 500
	}
	n.Answers[status]++
	if status >= 500 { // [EP-11]
		n.failed(failure)
	}
	if status == 504 {
		n.Timeouts++
	}
	if e.Observer != nil {
		e.Observer.Answered(e.Copies.At(i), status)
	}
	if e.Trace != nil {
		e.Trace.Answers(i, failure, status)
	}
	if failure == NoError {
		e.Finish(i, Handled)
		return
	}
	e.Finish(i, Returned)
}
