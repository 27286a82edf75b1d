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
