package jobs

import (
	"context"
	"time"

	"ironweir/store"
)

// How often the janitor looks for what dead workers have left, how long a worker
// may be out of sight before it counts as dead (a database that was started
// again has forgotten all of them), and how often it tidies up.
const (
	lookForLost = time.Second
	outOfSight  = 3 * time.Second
	tidyUp      = 10 * time.Minute
)

// janitor gives back what dead workers have left, and removes what is too old.
// Every worker has one; that they all look does no harm.
func (w *Worker) janitor(ctx context.Context) {
	missing := map[store.Part]time.Time{} // since when
	owner := map[store.Part]int64{}
	waits := &stranded{merges: map[int64]time.Time{}}
	tidied := time.Time{}
	for ; ctx.Err() == nil; pause(ctx, lookForLost) {
		lost, err := w.store.Lost(ctx)
		if err != nil {
			clear(missing) // the database is away: nothing is known
			continue
		}
		for p := range missing {
			if lost[p] != owner[p] {
				delete(missing, p)
				delete(owner, p)
			}
		}
		for p, worker := range lost {
			since, known := missing[p]
			switch {
			case !known:
				missing[p], owner[p] = time.Now(), worker
			case time.Since(since) > outOfSight:
				if err := w.store.Requeue(ctx, p, worker, w.turns, w.merge); err != nil {
					w.log.Warn("a part could not be given back", "run", p.Run, "part", p.Number, "error", err)
					continue
				}
				w.log.Info("a part of a dead worker was given back", "run", p.Run, "part", p.Number)
				delete(missing, p)
				delete(owner, p)
			}
		}
		w.unstrand(ctx, waits)
		if time.Since(tidied) > tidyUp {
			tidied = time.Now()
			if err := w.store.Adopt(ctx, w.turns); err != nil {
				w.log.Warn("waiting runs could not be looked after", "error", err)
			}
			if removed, err := w.store.Tidy(ctx); err != nil {
				w.log.Warn("old records could not be removed", "error", err)
			} else if removed > 0 {
				w.log.Info("old runs were removed", "runs", removed)
			}
		}
	}
}

// stranded is what has waited with nobody coming, since when.
type stranded struct {
	turns  time.Time // zero: none
	merges map[int64]time.Time
}

// unstrand asks again for what nobody has been coming for, longer than it looks
// so in passing.
func (w *Worker) unstrand(ctx context.Context, since *stranded) {
	turns, merges, err := w.store.Stranded(ctx)
	if err != nil {
		since.turns, since.merges = time.Time{}, map[int64]time.Time{}
		return
	}
	now := time.Now()
	due := 0
	switch {
	case turns == 0:
		since.turns = time.Time{}
	case since.turns.IsZero():
		since.turns = now
	case now.Sub(since.turns) > outOfSight:
		due, since.turns = turns, time.Time{}
	}
	before := since.merges
	since.merges = map[int64]time.Time{}
	var late []int64
	for _, run := range merges {
		first, known := before[run]
		switch {
		case !known:
			since.merges[run] = now
		case now.Sub(first) > outOfSight:
			late = append(late, run)
		default:
			since.merges[run] = first
		}
	}
	if due == 0 && len(late) == 0 {
		return
	}
	if err := w.store.Enqueue(ctx, due, w.turns, late, w.merge); err != nil {
		w.log.Warn("what nobody comes for could not be asked for again", "error", err)
		return
	}
	w.log.Info("what nobody came for was asked for again", "turns", due, "merges", len(late))
}
