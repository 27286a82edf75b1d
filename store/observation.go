package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"
)

// ObservedTrace is what came of one trace, packed by who keeps it.
type ObservedTrace struct {
	Trace  string
	Began  time.Time
	Spans  int
	Packed []byte
}

// ObservedHour is what was observed of a model's system in the traces that began within an hour.
type ObservedHour struct {
	Hour    time.Time `json:"hour"`
	Spans   int64     `json:"spans"`
	Traces  int64     `json:"traces"`
	Refused int64     `json:"refused" doc:"spans that were not kept, as there were too many at once"`
	Summary []byte    `json:"-"`
}

// Drift is a difference between a model and what was observed of its system, for as long as it was seen.
type Drift struct {
	ID       int64           `json:"id"`
	What     string          `json:"what" enum:"node,link,stopped,takes_mean_s,fails"`
	Subject  string          `json:"subject" doc:"a node, or a link as FROM:TO"`
	Numbers  json.RawMessage `json:"-" gorm:"type:jsonb"`
	Revision int             `json:"revision" doc:"of the model that it was last compared with"`
	FoundAt  time.Time       `json:"found_at"`
	SeenAt   time.Time       `json:"seen_at" doc:"when it was last there"`
	EndedAt  *time.Time      `json:"ended_at" doc:"when it was no longer there; null: it still is"`
	SentAt   *time.Time      `json:"sent_at" doc:"when the webhook accepted it"`
	Trouble  string          `json:"trouble" doc:"why the webhook has not accepted it"`
}

// KeepTraces keeps spans of traces until they are summed up. Those of a trace of which some are kept already go with
// them. Where more than most spans would wait, the rest is counted and refused.
func (s *Store) KeepTraces(
	ctx context.Context, m *Model, traces []ObservedTrace, most int64,
) (refused int64, err error) {
	ids := make([]string, len(traces))
	for i := range traces {
		ids[i] = traces[i].Trace
	}
	err = s.transact(ctx, func(tx transaction) error {
		var waiting int64
		if err := tx.px.QueryRow(ctx, "SELECT coalesce(sum(spans), 0) FROM observed_spans WHERE model_id = $1",
			m.ID).Scan(&waiting); err != nil {
			return err
		}
		known := map[string]time.Time{}
		rows, err := tx.px.Query(ctx,
			"SELECT trace, min(hour) FROM observed_spans WHERE model_id = $1 AND trace = ANY($2) GROUP BY trace", m.ID, ids)
		if err != nil {
			return err
		}
		var trace string
		var hour time.Time
		if _, err := pgx.ForEachRow(rows, []any{&trace, &hour}, func() error {
			known[trace] = hour
			return nil
		}); err != nil {
			return err
		}
		var kept [][]any
		turned := map[time.Time]int64{}
		for _, t := range traces {
			at, ok := known[t.Trace]
			if !ok {
				at = t.Began.UTC().Truncate(time.Hour)
			}
			if waiting+int64(t.Spans) > most {
				refused += int64(t.Spans)
				turned[at] += int64(t.Spans)
				continue
			}
			waiting += int64(t.Spans)
			kept = append(kept, []any{m.ID, at, t.Trace, t.Spans, t.Packed})
		}
		for at, n := range turned {
			if _, err := tx.px.Exec(ctx, `INSERT INTO observed_hours (model_id, hour, refused) VALUES ($1, $2, $3)
				ON CONFLICT (model_id, hour) DO UPDATE SET refused = observed_hours.refused + excluded.refused`,
				m.ID, at, n); err != nil {
				return err
			}
		}
		_, err = tx.px.CopyFrom(ctx, pgx.Identifier{"observed_spans"},
			[]string{"model_id", "hour", "trace", "spans", "packed"}, pgx.CopyFromRows(kept))
		return err
	})
	return refused, err
}

// ripe are the spans of traces that are complete, as far as can be known: nothing of theirs has come for a while (two
// minutes), and their hour is over, or so many wait that they cannot be kept until then.
const ripe = `FROM observed_spans o WHERE model_id = $1 AND (hour + interval '1 hour' < now() OR
	(SELECT sum(spans) FROM observed_spans WHERE model_id = $1) > $2) AND NOT EXISTS (
	SELECT 1 FROM observed_spans l WHERE l.model_id = $1 AND l.trace = o.trace AND l.received_at > now() - $3::interval)`

// Ripe lists the models of which traces can be summed up.
func (s *Store) Ripe(ctx context.Context, many int64, quiet time.Duration) (ids []int64, err error) {
	var waiting []int64
	if err := s.db.WithContext(ctx).Raw("SELECT DISTINCT model_id FROM observed_spans").Scan(&waiting).Error; err != nil {
		return nil, mapError(err)
	}
	for _, id := range waiting {
		var any bool
		if err := s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 "+ripe+")", id, many, quiet).Scan(&any); err != nil {
			return nil, mapError(err)
		}
		if any {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

// SumUp moves ripe traces of a model's earliest hour, with about so many spans at most, into the summary of that hour:
// add gets what is there (nil: nothing) and the spans, and gives what is there then. more is false where nothing was
// ripe, or another process is at it. All of it happens, or nothing.
func (s *Store) SumUp(ctx context.Context, model, many, most int64, quiet time.Duration,
	add func(ctx context.Context, before []byte, packed [][]byte) (*ObservedHour, error)) (more bool, err error) {
	err = s.transact(ctx, func(tx transaction) error {
		var alone bool
		err := tx.px.QueryRow(ctx, "SELECT pg_try_advisory_xact_lock($1, $2)", sumUpLock, int32(model)).Scan(&alone)
		if err != nil {
			return err
		}
		if !alone {
			return nil
		}
		rows, err := tx.px.Query(ctx, `SELECT id, hour, packed FROM (
			SELECT id, hour, packed, spans, sum(spans) OVER (ORDER BY id) AS so_far `+ripe+`
			AND hour = (SELECT min(o.hour) `+ripe+`)) x WHERE so_far - spans < $4 ORDER BY id`, model, many, quiet, most)
		if err != nil {
			return err
		}
		var ids []int64
		var list [][]byte
		var id int64
		var hour time.Time
		var packed []byte
		if _, err := pgx.ForEachRow(rows, []any{&id, &hour, &packed}, func() error {
			ids, list = append(ids, id), append(list, append([]byte(nil), packed...))
			return nil
		}); err != nil {
			return err
		}
		if len(ids) == 0 {
			return nil
		}
		more = true
		var before []byte
		err = tx.px.QueryRow(ctx, "SELECT summary FROM observed_hours WHERE model_id = $1 AND hour = $2", model, hour).
			Scan(&before)
		if err != nil && err != pgx.ErrNoRows {
			return err
		}
		after, err := add(ctx, before, list)
		if err != nil {
			return err
		}
		if _, err := tx.px.Exec(ctx, `INSERT INTO observed_hours (model_id, hour, spans, traces, summary)
			VALUES ($1, $2, $3, $4, $5) ON CONFLICT (model_id, hour) DO UPDATE SET spans = excluded.spans,
			traces = excluded.traces, summary = excluded.summary`, model, hour, after.Spans, after.Traces, after.Summary); err != nil {
			return err
		}
		_, err = tx.px.Exec(ctx, "DELETE FROM observed_spans WHERE id = ANY($1)", ids)
		return err
	})
	return more, err
}

// sumUpLock is the class of the advisory locks of those who sum up a model's traces.
const sumUpLock = 0x0b5e

// ObservedHours lists the hours of a model since an instant, with or without their summaries, the earliest first.
func (s *Store) ObservedHours(
	ctx context.Context, model int64, since time.Time, summaries bool,
) ([]ObservedHour, error) {
	columns := "hour, spans, traces, refused"
	if summaries {
		columns += ", summary"
	}
	out := []ObservedHour{}
	err := s.db.WithContext(ctx).Raw(
		"SELECT "+columns+" FROM observed_hours WHERE model_id = ? AND hour >= ? ORDER BY hour", model, since).Scan(&out).Error
	return out, mapError(err)
}

// LatestObserved gives the hour of the latest traces of a model, and how many spans wait to be summed up; the zero
// time where there are none.
func (s *Store) LatestObserved(ctx context.Context, model int64) (hour time.Time, waiting int64, err error) {
	var latest *time.Time
	err = s.pool.QueryRow(ctx, `SELECT greatest(
		(SELECT max(hour) FROM observed_hours WHERE model_id = $1 AND summary IS NOT NULL),
		(SELECT max(hour) FROM observed_spans WHERE model_id = $1)),
		(SELECT coalesce(sum(spans), 0) FROM observed_spans WHERE model_id = $1)`, model).Scan(&latest, &waiting)
	if latest != nil {
		hour = latest.UTC()
	}
	return hour, waiting, mapError(err)
}

// WaitingTraces gives the latest spans of a model that wait to be summed up, up to so many, of traces that began since
// an instant.
func (s *Store) WaitingTraces(
	ctx context.Context, model int64, since time.Time, most int,
) (packed [][]byte, err error) {
	rows, err := s.pool.Query(ctx, `SELECT packed FROM (SELECT id, packed, sum(spans) OVER (ORDER BY id DESC) AS so_far
		FROM observed_spans WHERE model_id = $1 AND hour >= $2) x WHERE so_far <= $3 ORDER BY id`, model, since, most)
	if err != nil {
		return nil, mapError(err)
	}
	packed, err = pgx.CollectRows(rows, pgx.RowTo[[]byte])
	return packed, mapError(err)
}

// Outdated lists the models whose drift was noted for an earlier revision than the latest.
func (s *Store) Outdated(ctx context.Context) (ids []int64, err error) {
	err = s.db.WithContext(ctx).Raw(`SELECT id FROM models m WHERE compared > 0 AND compared <
		(SELECT max(number) FROM revisions WHERE model_id = m.id)`).Scan(&ids).Error
	return ids, mapError(err)
}

// KeepDrifts notes the drifts from a revision that are there now: new ones begin, known ones go on, the others end.
func (s *Store) KeepDrifts(ctx context.Context, model int64, revision int, now []Drift) error {
	return s.transact(ctx, func(tx transaction) error {
		if err := noteCompared(tx.DB, model, revision); err != nil {
			return err
		}
		ids := []int64{}
		for _, d := range now {
			var id int64
			if err := tx.px.QueryRow(ctx, `INSERT INTO drifts (model_id, what, subject, numbers, revision)
				VALUES ($1, $2, $3, $4, $5) ON CONFLICT (model_id, what, subject) WHERE ended_at IS NULL DO UPDATE
				SET numbers = excluded.numbers, revision = excluded.revision, seen_at = now() RETURNING id`,
				model, d.What, d.Subject, d.Numbers, revision).Scan(&id); err != nil {
				return err
			}
			ids = append(ids, id)
		}
		_, err := tx.px.Exec(ctx,
			"UPDATE drifts SET ended_at = now() WHERE model_id = $1 AND ended_at IS NULL AND NOT id = ANY($2)", model, ids)
		return err
	})
}

// Compared notes that a revision cannot be compared: its drift stays as it is.
func (s *Store) Compared(ctx context.Context, model int64, revision int) error {
	return mapError(noteCompared(s.db.WithContext(ctx), model, revision))
}

func noteCompared(db *gorm.DB, model int64, revision int) error {
	return db.Exec("UPDATE models SET compared = ? WHERE id = ?", revision, model).Error
}

// Drifts lists the drifts of a model: those that are there, then those that have ended, the latest first.
func (s *Store) Drifts(ctx context.Context, model int64, limit int) ([]Drift, error) {
	out := []Drift{}
	err := s.db.WithContext(ctx).Raw(
		"SELECT * FROM drifts WHERE model_id = ? ORDER BY ended_at IS NOT NULL, id DESC LIMIT ?", model, limit).
		Scan(&out).Error
	return out, mapError(err)
}

// Forget removes all that was observed of a model's system.
func (s *Store) Forget(ctx context.Context, w *Workspace, name string) error {
	change := change{workspace: w.Name, action: "delete-observation", object: name}
	return s.alter(ctx, change, func(tx transaction) error {
		m := &Model{}
		if err := tx.Where("workspace_id = ? AND name = ?", w.ID, name).Take(m).Error; err != nil {
			return err
		}
		for _, table := range []string{"observed_spans", "observed_hours", "drifts"} {
			if err := tx.Exec("DELETE FROM "+table+" WHERE model_id = ?", m.ID).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// SetWebhook chooses where drifts of a model are sent; an empty address: nowhere. Drifts that are there already are
// not sent.
func (s *Store) SetWebhook(ctx context.Context, w *Workspace, name, address string) error {
	change := change{workspace: w.Name, action: "set-webhook", object: strings.TrimSpace(name + " " + address)}
	return s.alter(ctx, change, func(tx transaction) error {
		done := tx.Exec("UPDATE models SET webhook = ? WHERE workspace_id = ? AND name = ?", address, w.ID, name)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		if done.Error != nil {
			return done.Error
		}
		return tx.Exec(`UPDATE drifts SET tries = ? WHERE sent_at IS NULL AND model_id =
			(SELECT id FROM models WHERE workspace_id = ? AND name = ?)`, MostTries, w.ID, name).Error
	})
}

// MostTries is how often a drift is sent to a webhook that does not accept it.
const MostTries = 10

// Notice is a drift that a webhook has to be sent.
type Notice struct {
	Drift
	Tries     int
	Model     string
	Workspace string
	Webhook   string
}

// TakeNotice takes a drift that is due to be sent, and puts its next try off; ErrNotFound: there is none.
func (s *Store) TakeNotice(ctx context.Context) (*Notice, error) {
	var out []Notice
	err := s.db.WithContext(ctx).Raw(`UPDATE drifts d SET tries = d.tries + 1,
		try_at = now() + least(interval '30 seconds' * power(2, d.tries), interval '1 hour')
		FROM models m JOIN workspaces w ON w.id = m.workspace_id WHERE m.id = d.model_id AND d.id = (SELECT x.id
		FROM drifts x JOIN models y ON y.id = x.model_id WHERE x.sent_at IS NULL AND x.tries < ? AND x.try_at <= now()
		AND y.webhook <> '' ORDER BY x.id LIMIT 1 FOR UPDATE OF x SKIP LOCKED)
		RETURNING d.*, m.name AS model, m.webhook, w.name AS workspace`, MostTries).Scan(&out).Error
	if err == nil && len(out) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return nil, mapError(err)
	}
	return &out[0], nil
}

// Noticed notes how sending a drift went; an empty trouble: it was accepted.
func (s *Store) Noticed(ctx context.Context, id int64, trouble string) error {
	_, err := s.pool.Exec(ctx,
		"UPDATE drifts SET trouble = $2, sent_at = CASE WHEN $2 = '' THEN now() END WHERE id = $1", id, trouble)
	return mapError(err)
}
