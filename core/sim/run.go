package sim

import (
	"math"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
)

type phase uint8

const (
	idlePhase phase = iota
	atStart
	working
	calling
	sending
)

// what a run was started for
type runFor uint8

const (
	forIntake  runFor = iota // a copy held for the node
	forBatch                 // a reader's batch
	forCall                  // a waiting call of another run
	forMove                  // a reader that moves or pushes a batch, message by message
	forRequest               // a request at an endpoint
)

// run is one run of a function or outside system, one request at an endpoint,
// or one batch on the move. Index 0 stands for none.
type run struct {
	started int64
	timer   uint64 // sequence of what it waits for
	timeout uint64 // sequence of its time limit
	work    int64  // time of its own work
	node    int32
	link    int32 // that called it, or moves the batch; -1
	step    int32 // in the list of its phase
	index   int32 // message of the batch
	rep     int32
	reps    int32
	items   []any
	copy    uint32
	batch   uint32
	caller  uint32
	turn    uint32 // counts uses of the record, so that a late answer finds nobody
	callOf  uint32 // the caller's turn
	next    uint32
	own     message // of a call
	tries   uint16  // of the call or write in hand
	failure int16   // its own, drawn at the start
	cause   Fate    // of a rejected write in hand
	phase   phase
	why     runFor
	final   bool // its failure is not worth another try
	late    bool // its work is longer than its time limit
	skip    bool // idempotent: its message has succeeded before
	checked bool // `sends: together`: all targets have been checked
	status  int16
}

// names of the errors that the engine itself makes
const (
	noError int16 = iota
	errFails
	errTimeout
	errThrottled
	errRefused
	errRejected
	errCall
	errHopLimit
)

var builtinErrors = []string{"", "failed", "timeout", "throttled", "refused", "rejected", "call-failed", "hop-limit"}

func (e *engine) newRun(n *node, why runFor) uint32 {
	i := e.freeRun
	if i != 0 {
		e.freeRun = e.runs[i].next
	} else {
		e.runs = append(e.runs, run{})
		i = uint32(len(e.runs) - 1)
	}
	r := &e.runs[i]
	*r = run{started: e.now, node: int32(n.id), link: -1, why: why, turn: r.turn + 1, items: r.items[:0], cause: noFate}
	return i
}

func (e *engine) dropRun(i uint32) {
	r := &e.runs[i]
	r.turn++
	r.timer, r.timeout, r.phase = 0, 0, idlePhase
	clear(r.items)
	r.next = e.freeRun
	e.freeRun = i
}

// messages tells how many messages a run works on.
func (e *engine) messages(r *run) int {
	if r.batch != 0 {
		return len(e.batches[r.batch].entries)
	}
	return 1
}

// message gives the k-th message of a run, and whether it takes part (a
// message of a batch may have failed by itself).
func (e *engine) message(r *run, k int) (message, bool) {
	switch {
	case r.batch != 0:
		entry := &e.batches[r.batch].entries[k]
		return e.messageOf(&e.copies[entry.copy]), entry.failure == noError && !entry.known
	case r.copy != 0:
		return e.messageOf(&e.copies[r.copy]), true
	}
	return r.own, true
}

// free tells whether the node can start one more run.
func (e *engine) free(n *node) bool {
	limit := n.concurrency
	if n.concurrencyNow >= 0 {
		limit = n.concurrencyNow
	}
	if n.concurrencyNow < 0 && limit == 0 {
		limit = math.MaxInt64
	}
	if n.active >= limit || n.pool != nil && n.pool.used >= n.pool.size {
		return false
	}
	return n.bucket.take(e.now)
}

// begin starts a run whose place has been found free. It draws its luck.
func (e *engine) begin(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	n.runs++
	n.changeActive(e.now, 1)
	if n.pool != nil {
		n.pool.used++
	}
	e.luck(i, r, n)
	if e.trace != nil {
		e.trace.runs(e, i)
	}
	r.phase, r.step, r.index, r.rep, r.reps = atStart, 0, 0, 0, -1
	if n.limit > 0 && n.asks {
		r.timeout = e.at(e.now+n.limit, evTimeout, i)
	}
	if n.succeeded != nil {
		e.skipKnown(r, n)
	}
	if len(n.steps[atStart]) > 0 && !r.skip {
		e.advance(i)
		return
	}
	e.work(i)
}

// luck draws a run's time and failure, under the incidents in force now.
func (e *engine) luck(i uint32, r *run, n *node) {
	takes, fails := &n.takes, &n.fails
	name := n.failName
	m := message{}
	caseIndex := -1
	if len(n.cases) > 0 {
		m, _ = e.message(r, 0)
		kind := "message"
		if r.copy != 0 || r.batch != 0 {
			kind = e.kindAt(r)
		}
		for k := range n.cases {
			c := &n.cases[k]
			if ok, _ := c.when.Truth(e.look(&m, kind)); ok {
				caseIndex = k
				if c.takes != nil {
					takes = c.takes
				}
				if c.fails != nil {
					fails = c.fails
				}
				name = c.name
				break
			}
		}
	}
	r.work = nanos(takes.draw(n.time1) * n.slow)
	if n.cold != nil {
		r.work += n.cold.start(e, n)
	}
	if e.trace != nil {
		if e.trace.forced(n) {
			r.failure = name
		}
		return
	}
	share := fails.EachTry
	if n.failsNowShare >= 0 {
		share = n.failsNowShare
	}
	if fails.PerMessage && r.batch != 0 && r.why == forBatch {
		b := &e.batches[r.batch]
		for k := range b.entries {
			if share > 0 && n.luck.unit() < share || e.doomed(n, fails.ForGood, e.copies[b.entries[k].copy].age) {
				b.entries[k].failure = name
			}
		}
		return
	}
	if share > 0 && (share >= 1 || n.luck.unit() < share) {
		r.failure = name
		return
	}
	if fails.ForGood > 0 && e.anyDoomed(r, n, fails.ForGood) {
		r.failure = name
		r.final = caseIndex >= 0
	}
}

func (e *engine) anyDoomed(r *run, n *node, share float64) bool {
	switch {
	case r.batch != 0:
		for _, entry := range e.batches[r.batch].entries {
			if e.doomed(n, share, e.copies[entry.copy].age) {
				return true
			}
		}
		return false
	case r.copy != 0:
		return e.doomed(n, share, e.copies[r.copy].age)
	}
	return e.doomed(n, share, e.journeys[r.own.journey].id)
}

// doomed tells whether a message is among those that a function never manages:
// the same answer at every try.
func (e *engine) doomed(n *node, share float64, name uint64) bool {
	return share > 0 && float64(splitmix(n.doom^splitmix(name))>>11)*0x1p-53 < share
}

// kindAt gives the event type that a run's first message has by default.
func (e *engine) kindAt(r *run) string {
	c := r.copy
	if r.batch != 0 {
		c = e.batches[r.batch].entries[0].copy
	}
	if c == 0 {
		return "message"
	}
	via := e.deliveries[e.copies[c].via].link
	if via < 0 {
		return "message"
	}
	return kindOfEvent(&e.g.Nodes[e.g.Links[via].From], e.copies[c].flags&deletion != 0)
}

// work lets the run's own time pass.
func (e *engine) work(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	r.phase = working
	spent := e.now - r.started
	if n.limit > 0 && spent+r.work > n.limit {
		r.late = true
		r.work = n.limit - spent
	}
	e.wait(i, r.work)
}

// wait lets time pass before the run goes on.
func (e *engine) wait(i uint32, d int64) {
	r := &e.runs[i]
	if d <= 0 {
		r.timer = atOnce
		e.soon(evRun, i)
		return
	}
	r.timer = e.at(e.now+d, evRun, i)
}

// atOnce stands for the timer of a run that goes on at this very instant.
const atOnce = math.MaxUint64

// resume comes when what a run waited for is over.
func (e *engine) resume(i uint32) {
	r := &e.runs[i]
	r.timer = 0
	switch r.phase {
	case working:
		switch {
		case r.late:
			e.timeOut(i)
		case r.failure != noError:
			e.endRun(i, r.failure)
		case r.skip:
			e.endRun(i, noError)
		default:
			r.phase, r.step, r.index, r.reps = calling, 0, 0, -1
			e.advance(i)
		}
	default:
		e.acted(i)
	}
}

func (e *engine) timeOut(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	n.timeouts++
	r.late = true
	if n.kind == model.Endpoint {
		r.status = 504
	}
	e.endRun(i, errTimeout)
}

// advance goes through the actions of a run's phases until one takes time.
func (e *engine) advance(i uint32) {
	for {
		r := &e.runs[i]
		n := &e.nodes[r.node]
		steps := n.steps[r.phase]
		if r.why == forMove {
			steps = e.deliveriesStep(r)
		}
		if int(r.step) >= len(steps) {
			switch r.phase {
			case atStart:
				e.work(i)
				return
			case calling:
				r.phase, r.step, r.index, r.reps = sending, 0, 0, -1
				if n.together && !r.checked {
					if cause := e.checkTogether(i); cause != noFate {
						e.endRun(i, errRejected)
						return
					}
					r = &e.runs[i]
					r.checked = true
				}
				continue
			}
			e.endRun(i, noError)
			return
		}
		s := &e.sends[steps[r.step]]
		if int(r.index) >= e.messages(r) || s.perRun && r.index > 0 {
			r.step, r.index, r.reps = r.step+1, 0, -1
			continue
		}
		m, takesPart := e.message(r, int(r.index))
		if !takesPart && !s.perRun {
			r.index, r.reps = r.index+1, -1
			continue
		}
		if r.reps < 0 {
			r.rep, r.reps = 0, e.repetitions(r, s, &m)
			r.tries = 0
		}
		if r.rep >= r.reps {
			r.index, r.reps = r.index+1, -1
			continue
		}
		if !e.act(i, s, &m) {
			return
		}
		e.runs[i].rep++
		e.runs[i].tries = 0
	}
}

// repetitions tells how often a send or call happens for a message.
func (e *engine) repetitions(r *run, s *send, m *message) int32 {
	l := s.link
	r.items = r.items[:0]
	if s.plain {
		return 1
	}
	kind := e.kindAt(r)
	if l.If != nil {
		if ok, err := l.If.Truth(e.look(m, kind)); !ok {
			if e.trace != nil {
				e.trace.skipped(e, l, "the condition "+l.If.Source+" does not hold", err)
			}
			return 0
		}
	}
	if l.Chance < 1 && e.trace == nil && s.luck.unit() >= l.Chance {
		return 0
	}
	n := int32(1)
	switch {
	case l.CountExpr != nil:
		x, err := l.CountExpr.Number(e.look(m, kind))
		if err != nil || x < 0 {
			x = 0
		}
		n = int32(min(x, 1e6))
	case s.count.shape != constant || s.count.a != 1:
		x := s.count.draw(s.luck)
		n = int32(x)
		if frac := x - float64(n); frac > 0 && s.luck.unit() < frac {
			n++ // 2.5 is 2 or 3, 2.5 in the mean
		}
	}
	if l.ForEach != nil {
		list, _ := l.ForEach.List(e.look(m, kind))
		if s.readsItem {
			r.items = append(r.items, list...)
		}
		n *= int32(min(len(list), 1e6))
		if e.trace != nil && len(list) == 0 {
			e.trace.skipped(e, l, "for-each "+l.ForEach.Source+" gives no items", nil)
		}
	}
	return n
}

// act performs one repetition; false: the run waits, or has ended.
func (e *engine) act(i uint32, s *send, m *message) bool {
	r := &e.runs[i]
	l := s.link
	switch {
	case r.why == forMove:
		return e.actMove(i, s, m)
	case l.Relation == model.WaitingCall:
		return e.call(i, s, m)
	case l.Op == "read":
		if takes := e.nodes[l.To].drawTakes(); takes > 0 {
			e.wait(i, takes)
			return false
		}
		return true
	case l.Relation == model.RunIntake || l.Relation == model.RunPush || l.Relation == model.Intake || l.Relation == model.Push:
		e.emit(i, s, m)
		return true
	}
	// A write, part of the run.
	if takes := e.nodes[l.To].drawTakes(); takes > 0 {
		r.tries++
		e.wait(i, takes)
		return false
	}
	r.tries++
	return e.write(i, s, m)
}

// acted goes on after an action that took time.
func (e *engine) acted(i uint32) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	steps := n.steps[r.phase]
	if r.why == forMove {
		steps = e.deliveriesStep(r)
	}
	s := &e.sends[steps[r.step]]
	m, _ := e.message(r, int(r.index))
	next := true
	switch {
	case r.cause == backingOff:
		r.cause = noFate
		next = e.act(i, s, &m)
	case r.why == forMove:
		next = e.moved(i, s, &m)
	case s.link.Relation == model.WaitingCall, s.link.Op == "read":
	default:
		next = e.write(i, s, &m)
	}
	if !next {
		return
	}
	e.runs[i].rep++
	e.runs[i].tries = 0
	e.advance(i)
}

// backingOff marks a run that waits before it tries its call or write again.
const backingOff = fates + 1

// write lets a run's write stand, or deals with its rejection.
func (e *engine) write(i uint32, s *send, m *message) bool {
	r := &e.runs[i]
	l := s.link
	target := &e.nodes[l.To]
	cause := noFate
	if !r.checked {
		cause = e.rejectsSend(target, s, m)
	}
	if cause == noFate {
		e.emit(i, s, m)
		return true
	}
	p := &e.deliveries[l.ID].policy
	if cause != Refused && int(r.tries) < p.Tries {
		r.cause = backingOff
		e.wait(i, p.Backoff(int(r.tries)))
		return false
	}
	if l.Ignore {
		con := e.contentFor(l, m, s, nil, 0)
		lost := e.newCopy(target, int32(l.ID), m, con)
		e.dropContent(con)
		e.finish(lost, cause)
		return true
	}
	e.endRun(i, errRejected)
	return false
}

func (e *engine) rejectsSend(n *node, s *send, m *message) Fate {
	size := s.link.Size
	if size < 0 {
		size = e.contents[m.content].size
	}
	return e.rejects(n, &content{size: size}, e.deliveries[s.link.ID].refused)
}

func (e *engine) checkTogether(i uint32) Fate {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	for _, id := range n.steps[sending] {
		s := &e.sends[id]
		if s.link.Relation != model.RunWrite || s.link.Ignore {
			continue
		}
		m, _ := e.message(r, 0)
		if cause := e.rejectsSend(&e.nodes[s.link.To], s, &m); cause != noFate {
			return cause
		}
	}
	return noFate
}

// emit makes the copy that a send is.
func (e *engine) emit(i uint32, s *send, m *message) {
	r := &e.runs[i]
	var item any
	if int(r.rep) < len(r.items) {
		item = r.items[r.rep]
	}
	l := s.link
	con := e.contentFor(l, m, s, item, int(r.rep))
	out := *m
	out.node = r.node
	if k := e.nodes[l.From].kind; k == model.Function || k == model.Workflow {
		out.hops++
	}
	if e.trace != nil {
		e.trace.sends(e, i, l)
	}
	d := &e.deliveries[l.ID]
	d.offered++
	d.matched++
	target := &e.nodes[l.To]
	if !target.kind.Channel() {
		e.deliver(int32(l.ID), &out, con, 0)
	} else {
		c := e.newCopy(target, int32(l.ID), &out, con)
		if l.Op == "delete" {
			e.copies[c].flags |= deletion
		}
		if e.trace != nil {
			e.trace.comes(e, c, &out)
		}
		e.stand(target, c)
	}
	e.dropContent(con)
}

// endRun ends a run: its slot is free, then its waiter is told.
func (e *engine) endRun(i uint32, failure int16) {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	if r.why == forMove {
		e.endMove(i)
		return
	}
	if n.succeeded != nil && failure == noError && !r.skip {
		e.remember(r, n)
	}
	if failure != noError {
		n.failures++
	} else if r.batch != 0 && e.batches[r.batch].anyFailed() {
		n.failures++
	}
	if e.now >= e.warm {
		n.runTime.Add(e.now - r.started)
	}
	n.changeActive(e.now, -1)
	if n.pool != nil {
		n.pool.used--
	}
	if n.cold != nil && failure != errTimeout {
		n.cold.idle = append(n.cold.idle, e.now)
	}
	if e.trace != nil {
		e.trace.ends(e, i, failure)
	}
	final := r.final
	switch r.why {
	case forIntake:
		c := r.copy
		e.dropRun(i)
		e.copies[c].busy--
		e.intakeDone(c, failure, final)
	case forBatch:
		b := r.batch
		e.dropRun(i)
		e.batchDone(b, n, failure, final)
	case forRequest:
		c, status := r.copy, r.status
		e.dropRun(i)
		e.copies[c].busy--
		e.answer(c, n, failure, status)
	case forCall:
		caller, turn, own := r.caller, r.callOf, r.own
		e.dropRun(i)
		if n.resultsAll {
			e.results(n, &own, failure, own.tries)
		}
		e.releaseJourneyOf(&own)
		if e.runs[caller].turn == turn {
			e.answered(caller, failure, final)
		}
	}
}

func (e *engine) releaseJourneyOf(m *message) {
	e.dropContent(m.content)
	e.releaseJourney(m.journey)
}

// call starts what a waiting call asks for; false: the run waits.
func (e *engine) call(i uint32, s *send, m *message) bool {
	l := s.link
	callee := &e.nodes[l.To]
	e.runs[i].tries++
	d := &e.deliveries[l.ID]
	d.offered++
	if e.trace != nil {
		e.trace.calls(e, i, l)
	}
	failure := noError
	switch {
	case d.refused:
		failure = errRefused
	case callee.hopLimit > 0 && int(m.hops)+1 > callee.hopLimit:
		failure = errHopLimit
	case !e.free(callee):
		callee.throttled++
		failure = errThrottled
	}
	if failure != noError {
		return e.callFailed(i, failure, failure == errRefused || failure == errHopLimit)
	}
	d.matched++
	con := e.contentFor(l, m, s, e.itemOf(i), int(e.runs[i].rep))
	c := e.newRun(callee, forCall)
	r := &e.runs[c]
	r.caller, r.callOf, r.link = i, e.runs[i].turn, int32(l.ID)
	r.own = *m
	r.own.content, r.own.node = con, e.runs[i].node
	r.own.hops++
	e.journeys[m.journey].refs++
	e.runs[i].timer = 0
	e.begin(c)
	return false
}

func (e *engine) itemOf(i uint32) any {
	r := &e.runs[i]
	if int(r.rep) < len(r.items) {
		return r.items[r.rep]
	}
	return nil
}

// answered comes when a call that a run waits for has ended.
func (e *engine) answered(i uint32, failure int16, final bool) {
	switch {
	case e.runs[i].why == forMove:
		e.pushed(i, failure)
	case failure != noError && !e.callFailed(i, failure, final):
		return
	}
	r := &e.runs[i]
	r.rep++
	r.tries = 0
	e.advance(i)
}

// callFailed tries a failed call again, ignores it, or fails the run; true:
// the run goes on.
func (e *engine) callFailed(i uint32, failure int16, final bool) bool {
	r := &e.runs[i]
	n := &e.nodes[r.node]
	s := &e.sends[n.steps[r.phase][r.step]]
	d := &e.deliveries[s.link.ID]
	p := &d.policy
	switch {
	case !final && !d.isExcept(failure) && int(r.tries) < p.Tries:
		r.cause = backingOff
		wait := e.jittered(p.Backoff(int(r.tries)), d)
		if failure == errThrottled {
			wait = max(wait, int64(100*time.Millisecond))
		}
		e.wait(i, wait)
		return false
	case s.link.Ignore:
		return true
	case n.kind == model.Endpoint:
		r.status = 500
		if failure == errThrottled {
			r.status = 429
		}
	}
	// The callee's error is the caller's: `except` may name it.
	if failure < int16(len(builtinErrors)) {
		failure = errCall
	}
	e.endRun(i, failure)
	return false
}

// results sends the result messages of an asynchronous run.
func (e *engine) results(n *node, m *message, failure int16, tries uint16) bool {
	links := n.onSuccess
	if failure != noError {
		links = n.onFailure
	}
	taken := false
	for _, id := range links {
		l := &e.g.Links[id]
		d := &e.deliveries[id]
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
		con := e.resultContent(n, m, l, kind, failure, tries)
		probe := out
		probe.content = con
		if l.Filter.Everything || l.Filter.Takes(e.look(&probe, kind)) {
			d.matched++
			taken = true
			if e.trace != nil {
				e.trace.offeredResult(e, n, l, "")
			}
			e.deliver(int32(id), &out, con, 0)
		} else if e.trace != nil {
			e.trace.offeredResult(e, n, l, l.Filter.Why(e.look(&probe, kind)))
		}
		e.dropContent(con)
	}
	return taken
}

// resultContent makes a result message: its data holds the original event, so
// that it can be sent again.
func (e *engine) resultContent(n *node, m *message, l *graph.Link, kind string, failure int16, tries uint16) uint32 {
	i := e.newContent()
	con, old := &e.contents[i], &e.contents[m.content]
	con.subject = append(con.subject, old.subject...)
	con.kind, con.size, con.source = kind, old.size, int32(n.id)
	if l.Type != "" {
		con.kind = l.Type
	}
	if e.g.UsesData || e.trace != nil {
		ev := e.look(m, "message")
		data := map[string]any{"event": map[string]any{"id": ev.Number, "source": ev.Source, "type": ev.Type, "subject": string(append([]byte(nil), old.subject...)), "data": old.data},
			"tries": float64(tries), "node": e.g.Nodes[n.id].Name}
		if failure != noError {
			data["error"] = e.errors[failure]
		} else {
			data["result"] = "ok"
		}
		con.data = data
	}
	return i
}
