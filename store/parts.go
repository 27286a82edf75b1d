package store

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Part is one replication of a run, or one point of its sweep.
type Part struct {
	Run    int64
	Number int
}

// TakePart takes a part for a job of a worker; ErrNotFound when none waits. A
// job that is worked again goes on with its part. Runs that somebody waits for
// go first; among those, the workspace that has the least under way; then the
// oldest.
func (s *Store) TakePart(ctx context.Context, worker, job int64) (*Part, error) {
	rows, err := s.pool.Query(ctx, `
		WITH busy AS (
			SELECT m.workspace_id, count(*) AS parts FROM run_parts p JOIN runs r ON r.id = p.run_id JOIN models m ON m.id = r.model_id WHERE p.state = 'running' GROUP BY 1
		), next AS (
			SELECT p.run_id, p.number FROM run_parts p JOIN runs r ON r.id = p.run_id JOIN models m ON m.id = r.model_id LEFT JOIN busy b ON b.workspace_id = m.workspace_id
			WHERE p.state = 'queued' OR p.state = 'running' AND p.job_id = $2
			ORDER BY p.state = 'running' DESC, r.priority, coalesce(b.parts, 0), p.run_id, p.number
			LIMIT 1 FOR UPDATE OF p SKIP LOCKED
		), taken AS (
			UPDATE run_parts p SET state = 'running', worker = $1, job_id = $2, progress = 0 FROM next n WHERE p.run_id = n.run_id AND p.number = n.number RETURNING p.run_id, p.number
		), started AS (
			UPDATE runs SET state = 'running', started_at = coalesce(started_at, now()) WHERE id IN (SELECT run_id FROM taken) AND state = 'queued'
		)
		SELECT run_id, number FROM taken`, worker, job)
	if err != nil {
		return nil, mapError(err)
	}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Part])
	if err == nil && len(found) == 0 {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, mapError(err)
	}
	return &found[0], nil
}

// Progress is how far a part is, and what has happened in it so far.
type Progress struct {
	Share                 float64
	Entered, Lost, Parked int64
}

// SetPartProgress keeps how far a part is, and reports whether and why its run is
// to end early.
func (s *Store) SetPartProgress(ctx context.Context, p *Part, now Progress) (stopping string, err error) {
	if _, err := s.pool.Exec(ctx, "UPDATE run_parts SET progress = $3, entered = $4, lost = $5, parked = $6 WHERE run_id = $1 AND number = $2 AND state = 'running'", p.Run, p.Number, now.Share, now.Entered, now.Lost, now.Parked); err != nil {
		return "", mapError(err)
	}
	err = s.pool.QueryRow(
		ctx,
		"SELECT CASE WHEN state IN ('queued', 'running') THEN stopping ELSE 'it has ended' END FROM runs WHERE id = $1",
		p.Run,
	).Scan(&stopping)
	return stopping, mapError(err)
}

// FinishPart keeps the result of a part; with the last one of a run, the merging
// is asked for. A part that somebody else has finished meanwhile stays as it is:
// both got the same.
func (s *Store) FinishPart(ctx context.Context, p *Part, result []byte, last Progress, merge EnqueueMerge) error {
	return s.transact(ctx, func(tx transaction) error {
		// The run's row first, so that two last parts do not each see the other open.
		var state string
		if err := tx.px.QueryRow(ctx, "SELECT state FROM runs WHERE id = $1 FOR UPDATE", p.Run).Scan(&state); err != nil {
			if err == pgx.ErrNoRows {
				return nil // removed meanwhile
			}
			return err
		}
		done, err := tx.px.Exec(
			ctx,
			"UPDATE run_parts SET state = 'done', progress = 1, result = $3, worker = NULL, entered = $4, lost = $5, parked = $6 WHERE run_id = $1 AND number = $2 AND state <> 'done'",
			p.Run,
			p.Number,
			result,
			last.Entered,
			last.Lost,
			last.Parked,
		)
		if err != nil || done.RowsAffected() == 0 || state != Running {
			return err
		}
		var open bool
		if err := tx.px.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM run_parts WHERE run_id = $1 AND state <> 'done')", p.Run).Scan(&open); err != nil ||
			open {
			return err
		}
		return merge(ctx, tx.px, p.Run)
	})
}

// PartResults gives the results of a run's parts by number, and makes worker the
// one that merges them.
func (s *Store) PartResults(ctx context.Context, run, worker int64) (map[int][]byte, error) {
	out := map[int][]byte{}
	if _, err := s.pool.Exec(ctx, "UPDATE runs SET merger = $2 WHERE id = $1", run, worker); err != nil {
		return nil, mapError(err)
	}
	rows, err := s.pool.Query(ctx, "SELECT number, result FROM run_parts WHERE run_id = $1 AND result IS NOT NULL", run)
	if err != nil {
		return nil, mapError(err)
	}
	var number int
	var result []byte
	_, err = pgx.ForEachRow(rows, []any{&number, &result}, func() error {
		out[number] = append([]byte(nil), result...)
		return nil
	})
	return out, mapError(err)
}

// FinishRun keeps the end of a run that is still under way, and drops its parts.
func (s *Store) FinishRun(ctx context.Context, id int64, state, message string, result []byte) error {
	return s.transact(ctx, func(tx transaction) error {
		var doc any
		if result != nil {
			doc = string(result)
		}
		done, err := tx.px.Exec(
			ctx,
			`UPDATE runs SET state = $2, error = $3, result = $4::jsonb, merger = NULL, finished_at = now(),
			(unmet, expected) = (SELECT CASE WHEN count(*) > 0 THEN count(*) FILTER (WHERE NOT (e.value ->> 'holds')::boolean) END, nullif(count(*), 0)
				FROM jsonb_each(CASE WHEN jsonb_typeof($4::jsonb -> 'expect') = 'object' THEN $4::jsonb -> 'expect' END) e)
			WHERE id = $1 AND state IN ('queued', 'running')`,
			id,
			state,
			message,
			doc,
		)
		if err != nil || done.RowsAffected() == 0 {
			return err
		}
		_, err = tx.px.Exec(ctx, "DELETE FROM run_parts WHERE run_id = $1", id)
		return err
	})
}

// Worker is a process that works on runs.
type Worker struct {
	ID        int64     `json:"-"`
	Host      string    `json:"host"`
	Version   string    `json:"version"`
	Slots     int       `json:"slots" doc:"parts that it works on at once"`
	Busy      int64     `json:"busy" doc:"parts that it works on now"`
	StartedAt time.Time `json:"started_at"`
}

// alive is true of workers that hold the advisory lock of their id.
const alive = `EXISTS (SELECT 1 FROM pg_locks l WHERE l.locktype = 'advisory' AND l.granted AND l.objsubid = 1
	AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND (l.classid::bigint << 32 | l.objid::bigint) = `

// HoldWorker says that a worker lives, until ctx ends or the connection is lost,
// when it returns.
func (s *Store) HoldWorker(ctx context.Context, w Worker) error {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return mapError(err)
	}
	// The lock goes with the connection, which must not return to the pool.
	raw := conn.Hijack()
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "SELECT pg_advisory_lock($1)", w.ID); err != nil {
		return mapError(err)
	}
	if _, err := raw.Exec(ctx, "INSERT INTO workers (id, host, version, slots) VALUES ($1, $2, $3, $4) ON CONFLICT (id) DO NOTHING", w.ID, w.Host, w.Version, w.Slots); err != nil {
		return mapError(err)
	}
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
			if err := raw.Ping(ctx); err != nil {
				return mapError(err)
			}
		}
	}
}

// Workers lists the workers that live, the oldest first.
func (s *Store) Workers(ctx context.Context) ([]Worker, error) {
	out := []Worker{}
	err := s.db.WithContext(ctx).Raw(
		"SELECT id, host, version, slots, started_at, (SELECT count(*) FROM run_parts WHERE worker = w.id AND state = 'running') AS busy FROM workers w WHERE " + alive + "w.id) ORDER BY started_at",
	).Scan(&out).Error
	return out, mapError(err)
}

// Left is what a worker was at: a part, or, with the number -1, the merging of a
// run.
type Left struct {
	Part
	Worker int64
}

// Lost lists what workers that no longer live have left.
func (s *Store) Lost(ctx context.Context) ([]Left, error) {
	rows, err := s.pool.Query(
		ctx,
		"SELECT run_id, number, worker FROM run_parts p WHERE state = 'running' AND NOT "+alive+"p.worker)"+
			" UNION ALL SELECT id, -1, merger FROM runs r WHERE merger IS NOT NULL AND NOT "+alive+"r.merger)",
	)
	if err != nil {
		return nil, mapError(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Left, err error) {
		return l, row.Scan(&l.Run, &l.Number, &l.Worker)
	})
	return out, mapError(err)
}

// Requeue gives back what a worker has left: being deterministic, it ends the
// same.
func (s *Store) Requeue(ctx context.Context, p Left, enqueue Enqueue, merge EnqueueMerge) error {
	return s.transact(ctx, func(tx transaction) error {
		if p.Number < 0 {
			done, err := tx.px.Exec(ctx, "UPDATE runs SET merger = NULL WHERE id = $1 AND merger = $2", p.Run, p.Worker)
			if err != nil || done.RowsAffected() == 0 {
				return err
			}
			return merge(ctx, tx.px, p.Run)
		}
		done, err := tx.px.Exec(
			ctx,
			"UPDATE run_parts SET state = 'queued', worker = NULL, job_id = NULL, progress = 0 WHERE run_id = $1 AND number = $2 AND state = 'running' AND worker = $3",
			p.Run,
			p.Number,
			p.Worker,
		)
		if err != nil || done.RowsAffected() == 0 {
			return err
		}
		return enqueue(ctx, tx.px, p.Run, 1)
	})
}

// Adopt gives parts to runs that wait without any, as those of an earlier
// version of the schema do.
func (s *Store) Adopt(ctx context.Context, enqueue Enqueue) error {
	return s.transact(ctx, func(tx transaction) error {
		rows, err := tx.px.Query(
			ctx,
			"UPDATE runs SET parts = 1, state = 'queued' WHERE parts = 0 AND state IN ('queued', 'running') RETURNING id",
		)
		if err != nil {
			return err
		}
		ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
		if err != nil {
			return err
		}
		for _, id := range ids {
			if _, err := tx.px.Exec(ctx, "INSERT INTO run_parts (run_id, number) VALUES ($1, 0)", id); err != nil {
				return err
			}
			if err := enqueue(ctx, tx.px, id, 1); err != nil {
				return err
			}
		}
		return nil
	})
}

// Stranded reports what waits with nobody coming: how many queued parts have no
// turn on the job queue, and which runs have all of their parts and no merging to
// come. It happens where a worker dies between taking a job and saying so here;
// for an instant, it is also how things look in passing.
func (s *Store) Stranded(ctx context.Context) (turns int, merges []int64, err error) {
	// A job that is due much later than now is not coming: it was made before the
	// clock was set back. One turn too many does no harm.
	const coming = "state IN ('available', 'retryable', 'scheduled', 'pending') AND scheduled_at < now() + interval '10 seconds'"
	err = s.pool.QueryRow(
		ctx,
		"SELECT greatest(0, (SELECT count(*) FROM run_parts WHERE state = 'queued') - (SELECT count(*) FROM river_job WHERE kind = 'turn' AND "+coming+"))",
	).Scan(&turns)
	if err != nil {
		return 0, nil, mapError(err)
	}
	rows, err := s.pool.Query(ctx, `SELECT id FROM runs r WHERE state = 'running' AND merger IS NULL AND parts > 0
		AND NOT EXISTS (SELECT 1 FROM run_parts WHERE run_id = r.id AND state <> 'done')
		AND NOT EXISTS (SELECT 1 FROM river_job WHERE kind = 'merge' AND (args->>'run')::bigint = r.id AND `+coming+")")
	if err != nil {
		return 0, nil, mapError(err)
	}
	merges, err = pgx.CollectRows(rows, pgx.RowTo[int64])
	return turns, merges, mapError(err)
}

// Enqueue asks for turns and mergings, in a transaction of its own.
func (s *Store) Enqueue(ctx context.Context, turns int, enqueue Enqueue, merges []int64, merge EnqueueMerge) error {
	return s.transact(ctx, func(tx transaction) error {
		if turns > 0 {
			if err := enqueue(ctx, tx.px, 0, turns); err != nil {
				return err
			}
		}
		for _, run := range merges {
			if err := merge(ctx, tx.px, run); err != nil {
				return err
			}
		}
		return nil
	})
}
