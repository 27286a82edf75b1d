package engine

import (
	"ironweir/core/model"
	"ironweir/core/sim/internal/random"
)

// Batches on the fast path: a batch of a plain queue, for a function that only
// works, needs no run record: the batch stands for it. fastpath_runs.go has those of
// one message, which may also send.

// setUpFastBatches finds the links whose batches may take the fast path.
func (e *Engine) setUpFastBatches() {
	for i := range e.Graph.Nodes {
		q := e.Nodes[i].Queue
		if q == nil || !q.plain || e.lanes[i] != nil {
			continue
		}
		f := &e.Nodes[q.only.link.To]
		if q.only.link.Relation == model.PolledRun && f.onlyWorks() && len(f.steps[Sending]) == 0 &&
			f.fails.ForGood == 0 {
			q.only.worker = f
		}
	}
}

// startFast starts the run of a batch for which there is room. It draws its time,
// then its failures, as every run does.
func (e *Engine) startFast(f *Node, b uint32) {
	f.Runs++
	f.Active.Rise(e.Now)
	bt := &e.Batches[b]
	work := random.Nanos(f.takes.Draw(f.serviceRNG) * f.Slow)
	bt.failure = NoError
	if f.fails.PerMessage {
		bt.failEach(f, f.shareNow(&f.fails))
	} else if e.failsNow(f) {
		bt.failure = f.failName
	}
	if work <= 0 || f.limit > 0 && work > f.limit {
		r := e.batchRun(b)
		e.Runs[r].Work, e.Runs[r].Failure = work, bt.failure
		e.work(r)
		return
	}
	e.Tally.Fast++
	bt.started = e.Now
	e.Schedule(e.Now+work, EvBatch, b)
}

// endFastBatch comes when the run of a batch on the fast path is over.
func (e *Engine) endFastBatch(b uint32) {
	bt := &e.Batches[b]
	f := e.Readers[bt.reader].link.worker
	if bt.failure != NoError {
		f.failed(bt.failure)
	} else if why := bt.firstFailure(); why != NoError {
		f.failed(why)
	}
	if e.Now >= e.Warm {
		f.RunTime.Add(e.Now - bt.started)
	}
	f.Active.Fall(e.Now)
	e.batchDone(b, f, bt.failure, false)
}
