// Package jobs has runs simulated: a run is taken apart into parts (replications,
// or points of a sweep), which wait as jobs on the job queue in the database, are
// worked on by any number of processes, and are merged. It also sends
// listeners the progress of a run.
package jobs

import (
	"context"
	"log/slog"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"

	"ironweir/store"
)

// claimArgs is a turn: whichever part is due next is worked on. Which one that is
// is decided when the turn is taken, so that workspaces share fairly.
type claimArgs struct {
	Run int64 `json:"run"` // for which it was made
}

// Kind names the job.
func (claimArgs) Kind() string { return "turn" }

// mergeArgs asks for the merging of a run's parts.
type mergeArgs struct {
	Run int64 `json:"run"`
}

// Kind names the job.
func (mergeArgs) Kind() string { return "merge" }

// InsertOpts puts merging before turns.
func (mergeArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: "merge"} }

// Queue asks for work; Worker does it.
type Queue struct {
	store  *store.Store
	client *river.Client[pgx.Tx]
	*progressBroker
}

// NewQueue makes a queue that only asks for work.
func NewQueue(s *store.Store, log *slog.Logger) (*Queue, error) {
	client, err := river.NewClient(riverpgxv5.New(s.Pool()), &river.Config{Logger: slog.New(slog.DiscardHandler)})
	if err != nil {
		return nil, err
	}
	return &Queue{s, client, newProgressBroker(s, log)}, nil
}

// Start asks for a run. Where it was asked for before under the same key, r
// becomes that run.
func (q *Queue) Start(
	ctx context.Context,
	w *store.Workspace,
	model string,
	r *store.Run,
	once store.Idempotency,
) error {
	return q.store.CreateRun(ctx, w, model, r, once, q.enqueueClaims)
}

// Cancel ends a run: at once where nobody works on it, soon where somebody does.
func (q *Queue) Cancel(ctx context.Context, r *store.Run, who string) error {
	if err := q.store.StopRun(ctx, r, "cancelled by "+who, q.merge); err != nil {
		return err
	}
	q.announce(ctx, r.ID)
	return nil
}

// enqueueClaims asks for so many turns, within a transaction.
func (q *Queue) enqueueClaims(ctx context.Context, tx pgx.Tx, run int64, turns int) error {
	jobs := make([]river.InsertManyParams, turns)
	for i := range jobs {
		jobs[i].Args = claimArgs{run}
	}
	_, err := q.client.InsertManyFastTx(ctx, tx, jobs)
	return err
}

// merge asks for the merging of a run, within a transaction.
func (q *Queue) merge(ctx context.Context, tx pgx.Tx, run int64) error {
	_, err := q.client.InsertTx(ctx, tx, mergeArgs{run}, nil)
	return err
}
