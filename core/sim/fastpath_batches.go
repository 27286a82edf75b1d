package sim

import (
	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// Batches on the fast path: a batch of a plain queue, for a function that only
// works, needs no run record: the batch stands for it. fastpath_runs.go has those of
// one message, which may also send.

// setUpFastBatches finds the links whose batches may take the fast path.
func (e *engine) setUpFastBatches() {
	for i := range e.g.Nodes {
		q := e.nodes[i].queue
		if q == nil || !q.plain || e.lanes[i] != nil {
			continue
		}
		f := &e.nodes[q.only.link.To]
		if q.only.link.Relation == model.PolledRun && f.onlyWorks() && len(f.steps[sending]) == 0 &&
			f.fails.ForGood == 0 {
			q.only.worker = f
		}
	}
}

// startFast starts the run of a batch for which there is room. It draws its time,
// then its failures, as every run does.
func (e *engine) startFast(f *node, b uint32) {
	f.runs++
	f.active.Rise(e.Now)
	bt := &e.batches[b]
	work := random.Nanos(f.takes.Draw(f.serviceRNG) * f.slow)
	bt.failure = noError
	if f.fails.PerMessage {
		bt.failEach(f, f.shareNow(&f.fails))
	} else if e.failsNow(f) {
		bt.failure = f.failName
	}
	if work <= 0 || f.limit > 0 && work > f.limit {
		r := e.batchRun(b)
		e.runs[r].work, e.runs[r].failure = work, bt.failure
		e.work(r)
		return
	}
	e.tally.fast++
	bt.started = e.Now
	e.Schedule(e.Now+work, evBatch, b)
}

// endFastBatch comes when the run of a batch on the fast path is over.
func (e *engine) endFastBatch(b uint32) {
	bt := &e.batches[b]
	f := e.readers[bt.reader].link.worker
	if bt.failure != noError {
		f.failed(bt.failure)
	} else if why := bt.firstFailure(); why != noError {
		f.failed(why)
	}
	if e.Now >= e.warm {
		f.runTime.Add(e.Now - bt.started)
	}
	f.active.Fall(e.Now)
	e.batchDone(b, f, bt.failure, false)
}
