package jobs

import (
	"context"
	"slices"
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

// patience remembers since when things have looked lost, and returns those that
// have for longer than it looks so in passing.
type patience[K comparable] map[K]time.Time

// over gives what has looked lost for too long, of what looks lost now; the rest
// is forgotten.
func (p patience[K]) over(now []K) (out []K) {
	for k := range p {
		if !slices.Contains(now, k) {
			delete(p, k)
		}
	}
	for _, k := range now {
		since, known := p[k]
		switch {
		case !known:
			p[k] = time.Now()
		case time.Since(since) > outOfSight:
			out = append(out, k)
			delete(p, k) // once it has been given back, patience begins anew
		}
	}
	return out
}

// orphanedParts is what has looked lost: what dead workers were at, runs with nobody coming
// to merge them, and, by the key 0, parts with nobody coming to take them.
type orphanedParts struct {
	left   patience[store.Left]
	merges patience[int64]
	turns  patience[int]
}

// janitor gives back what dead workers have left, and removes what is too old.
// Every worker has one; that they all look does no harm.
func (w *Worker) janitor(ctx context.Context) {
	seen := orphanedParts{patience[store.Left]{}, patience[int64]{}, patience[int]{}}
	tidied := time.Time{}
	for ; ctx.Err() == nil; pause(ctx, lookForLost) {
		if err := w.giveBack(ctx, seen); err != nil {
			seen.left.over(nil) // the database is away: nothing is known
			seen.merges.over(nil)
			seen.turns.over(nil)
			continue
		}
		if time.Since(tidied) > tidyUp {
			tidied = time.Now()
			w.tidy(ctx)
		}
	}
}

// giveBack gives back what has looked lost for too long; its error is that nothing
// could be seen.
func (w *Worker) giveBack(ctx context.Context, seen orphanedParts) error {
	left, err := w.store.Lost(ctx)
	if err != nil {
		return err
	}
	turns, merges, err := w.store.Stranded(ctx)
	if err != nil {
		return err
	}
	for _, p := range seen.left.over(left) {
		if err := w.store.Requeue(ctx, p, w.enqueueClaims, w.merge); err != nil {
			w.log.Warn("a part could not be given back", "run", p.Run, "part", p.Number, "error", err)
			continue
		}
		w.log.Info("a part of a dead worker was given back", "run", p.Run, "part", p.Number)
	}
	merges = seen.merges.over(merges)
	var waiting []int
	if turns > 0 {
		waiting = []int{0}
	}
	if len(seen.turns.over(waiting)) == 0 {
		turns = 0
	}
	if turns == 0 && len(merges) == 0 {
		return nil
	}
	if err := w.store.Enqueue(ctx, turns, w.enqueueClaims, merges, w.merge); err != nil {
		w.log.Warn("what nobody comes for could not be asked for again", "error", err)
		return nil
	}
	w.log.Info("what nobody came for was asked for again", "turns", turns, "merges", len(merges))
	return nil
}

// tidy gives parts to runs of an earlier version, and removes what is too old.
func (w *Worker) tidy(ctx context.Context) {
	if err := w.store.Adopt(ctx, w.enqueueClaims); err != nil {
		w.log.Warn("waiting runs could not be looked after", "error", err)
	}
	if removed, err := w.store.Tidy(ctx); err != nil {
		w.log.Warn("old records could not be removed", "error", err)
	} else if removed > 0 {
		w.log.Info("old runs were removed", "runs", removed)
	}
}
