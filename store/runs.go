package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// The states of a run.
const (
	Queued    = "queued"
	Running   = "running"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
)

// The priorities of runs: those that somebody waits for go before long studies.
const (
	Soon  = 1
	Later = 2
)

// Study says what a run is of, beyond one model under one scenario.
type Study struct {
	Seed         *uint64   `json:"seed,omitempty" doc:"in place of the scenario's"`
	Replications int       `json:"replications,omitempty" minimum:"0" maximum:"10000" doc:"in place of the scenario's"`
	Variants     []Variant `json:"variants,omitempty" doc:"run side by side with the model as it is"`
	Sweep        []Axis    `json:"sweep,omitempty" doc:"a point for every combination of values"`
	Environment  string    `json:"environment,omitempty" doc:"the variables of this environment"`
	Sets         []string  `json:"sets,omitempty" doc:"PATH=VALUE settings over the model"`
	// Sensitivity asks which guesses decide the result, in place of the result itself.
	Sensitivity *Sensitivity `json:"sensitivity,omitempty" doc:"which guesses of the model decide the result"`
}

// Sensitivity says what is asked of the guesses of a model.
type Sensitivity struct {
	Of           []string `json:"of,omitempty" maxItems:"20" doc:"CEL over the result; none: the scenario's expectations"`
	Trajectories int      `json:"trajectories,omitempty" default:"6" minimum:"2" maximum:"1000" doc:"of the screening: each moves every guess once"`
	Points       int      `json:"points" default:"32" minimum:"0" maximum:"10000" doc:"of the variance shares: points × (guesses + 2) runs; 0: no shares"`
}

// Variant is a variant as it stood when the run was asked for.
type Variant struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Axis is a field and the values that a sweep gives it, as written.
type Axis struct {
	Path   string   `json:"path"`
	Values []string `json:"values"`
}

// Run is a simulation: asked for, under way, or with its result.
type Run struct {
	ID         int64           `json:"id"`
	ModelID    int64           `json:"-"`
	Workspace  string          `json:"workspace" gorm:"->;column:workspace"`
	Model      string          `json:"model" gorm:"->;column:model"`
	Revision   int             `json:"revision"`
	Scenario   string          `json:"scenario"`
	Text       string          `json:"-"` // of the scenario
	Study      json.RawMessage `json:"-" gorm:"type:jsonb"`
	Kind       string          `json:"kind" enum:"run,variants,sweep,sensitivity" gorm:"->;column:kind"`
	Priority   int             `json:"-"`
	Parts      int             `json:"parts" doc:"replications, or points of a sweep; 1 for a sensitivity"`
	State      string          `json:"state" enum:"queued,running,done,failed,cancelled"`
	Stopping   string          `json:"stopping,omitempty" doc:"why it is being ended early"`
	Error      string          `json:"error,omitempty"`
	Progress   float64         `json:"progress" gorm:"->"`
	Entered    int64           `json:"entered" gorm:"->" doc:"messages that entered so far, in all parts, while the run is in progress"`
	Lost       int64           `json:"lost" gorm:"->" doc:"so far, while it goes on"`
	Parked     int64           `json:"parked" gorm:"->" doc:"so far, while it goes on"`
	Unmet      *int            `json:"unmet" gorm:"->" doc:"expectations that do not hold; null: it has none, or has not ended"`
	Expected   *int            `json:"expected" gorm:"->" doc:"all its expectations; null: it has none, or has not ended"`
	Author     string          `json:"author"`
	Result     json.RawMessage `json:"-" gorm:"type:jsonb"`
	CreatedAt  time.Time       `json:"created_at"`
	StartedAt  *time.Time      `json:"started_at"`
	FinishedAt *time.Time      `json:"finished_at"`
}

// Enqueue puts so many turns of a run into the job queue, within a transaction.
type Enqueue func(ctx context.Context, tx pgx.Tx, run int64, turns int) error

// EnqueueMerge puts the merging of a run's parts into the job queue, within a
// transaction.
type EnqueueMerge func(ctx context.Context, tx pgx.Tx, run int64) error

// CreateRun asks for a run in so many parts. Where it was asked for before, r
// becomes that run.
func (s *Store) CreateRun(
	ctx context.Context,
	w *Workspace,
	model string,
	r *Run,
	once Idempotency,
	enqueue Enqueue,
) error {
	id, repeated, err := s.change(
		ctx,
		change{
			workspace: w.Name,
			action:    "start-run",
			object:    fmt.Sprintf("%s %d %s", model, r.Revision, r.Scenario),
			once:      once,
		},
		func(tx transaction) (int64, error) {
			m := &Model{}
			if err := tx.Where("workspace_id = ? AND name = ?", w.ID, model).Take(m).Error; err != nil {
				return 0, err
			}
			r.ModelID, r.State, r.Model, r.Workspace = m.ID, Queued, model, w.Name
			if err := tx.Omit("Result", "Model", "Workspace", "Kind", "Progress", "Entered", "Lost", "Parked",
				"StartedAt", "FinishedAt").Create(r).Error; err != nil {
				return 0, err
			}
			if err := tx.Exec("INSERT INTO run_parts (run_id, number) SELECT ?, generate_series(0, ?)", r.ID, r.Parts-1).Error; err != nil {
				return 0, err
			}
			return r.ID, enqueue(ctx, tx.px, r.ID, r.Parts)
		},
	)
	if err != nil {
		return err
	}
	if repeated {
		r.ID = id
	}
	before, err := s.Run(ctx, r.ID)
	if err == nil {
		*r = *before
	}
	return err
}

const runQuery = `SELECT r.id, r.model_id, w.name AS workspace, m.name AS model, r.revision, r.scenario, r.text, r.study, r.parts, r.state, r.stopping, r.error, r.author, r.created_at, r.started_at, r.finished_at, r.unmet, r.expected,
	CASE WHEN r.study ? 'sensitivity' THEN 'sensitivity' WHEN r.study ? 'sweep' THEN 'sweep' WHEN r.study ? 'variants' THEN 'variants' ELSE 'run' END AS kind,
	CASE WHEN r.finished_at IS NOT NULL THEN 1 ELSE coalesce(p.progress, 0) END AS progress, coalesce(p.entered, 0), coalesce(p.lost, 0), coalesce(p.parked, 0)
	FROM runs r JOIN models m ON m.id = r.model_id JOIN workspaces w ON w.id = m.workspace_id
	LEFT JOIN LATERAL (SELECT avg(CASE state WHEN 'done' THEN 1 ELSE progress END) AS progress, sum(entered)::bigint AS entered, sum(lost)::bigint AS lost, sum(parked)::bigint AS parked FROM run_parts WHERE run_id = r.id) p ON true `

// scanRuns reads runs. The query has an operator that GORM would take for a
// placeholder, so it goes to the connections themselves.
func (s *Store) scanRuns(ctx context.Context, tail string, args ...any) ([]Run, error) {
	rows, err := s.pool.Query(ctx, runQuery+tail, args...)
	if err != nil {
		return nil, mapError(err)
	}
	out, err := pgx.CollectRows(rows, func(row pgx.CollectableRow) (Run, error) {
		var r Run
		err := row.Scan(
			&r.ID,
			&r.ModelID,
			&r.Workspace,
			&r.Model,
			&r.Revision,
			&r.Scenario,
			&r.Text,
			&r.Study,
			&r.Parts,
			&r.State,
			&r.Stopping,
			&r.Error,
			&r.Author,
			&r.CreatedAt,
			&r.StartedAt,
			&r.FinishedAt,
			&r.Unmet,
			&r.Expected,
			&r.Kind,
			&r.Progress,
			&r.Entered,
			&r.Lost,
			&r.Parked,
		)
		return r, err
	})
	if out == nil {
		out = []Run{}
	}
	return out, mapError(err)
}

// Run gives a run, without its result.
func (s *Store) Run(ctx context.Context, id int64) (*Run, error) {
	found, err := s.scanRuns(ctx, "WHERE r.id = $1", id)
	if err == nil && len(found) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return &found[0], nil
}

// Runs lists runs of a workspace, latest first; an empty model stands for all.
func (s *Store) Runs(ctx context.Context, w *Workspace, model string, before int64, limit int) ([]Run, error) {
	return s.scanRuns(
		ctx,
		"WHERE m.workspace_id = $1 AND ($2 = '' OR m.name = $2) AND r.id < $3 ORDER BY r.id DESC LIMIT $4",
		w.ID,
		model,
		before,
		limit,
	)
}

// RevisionOfRun gives the revision that a run is of.
func (s *Store) RevisionOfRun(ctx context.Context, r *Run) (*Revision, error) {
	out := &Revision{}
	err := s.db.WithContext(ctx).Where("model_id = ? AND number = ?", r.ModelID, r.Revision).Take(out).Error
	return out, mapError(err)
}

// Result gives the result document of a run that has one.
func (s *Store) Result(ctx context.Context, id int64) (json.RawMessage, error) {
	var rows []struct{ Result json.RawMessage }
	err := s.db.WithContext(ctx).Raw("SELECT result FROM runs WHERE id = ?", id).Scan(&rows).Error
	if err == nil && (len(rows) == 0 || rows[0].Result == nil) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, mapError(err)
	}
	return rows[0].Result, nil
}

// Journeys gives what SaveJourneys kept of a run.
func (s *Store) Journeys(ctx context.Context, run int64) ([]byte, error) {
	var kept []byte
	err := s.pool.QueryRow(ctx, "SELECT journeys FROM run_journeys WHERE run_id = $1", run).Scan(&kept)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, ErrNotFound
	}
	return kept, mapError(err)
}

// SaveJourneys keeps the journeys of a run, which never change.
func (s *Store) SaveJourneys(ctx context.Context, run int64, journeys []byte) error {
	_, err := s.pool.Exec(
		ctx,
		"INSERT INTO run_journeys (run_id, journeys) VALUES ($1, $2) ON CONFLICT DO NOTHING",
		run,
		journeys,
	)
	return mapError(err)
}

// DeleteRun removes a run with its result.
func (s *Store) DeleteRun(ctx context.Context, r *Run) error {
	return s.alter(
		ctx,
		change{workspace: r.Workspace, action: "delete-run", object: fmt.Sprint(r.ID)},
		func(tx transaction) error {
			return tx.Exec("DELETE FROM runs WHERE id = ?", r.ID).Error
		},
	)
}

// StopRun asks for the early end of a run. Parts that nobody has taken are taken
// back; where no other is left the run has ended.
func (s *Store) StopRun(ctx context.Context, r *Run, why string, merge EnqueueMerge) error {
	return s.alter(
		ctx,
		change{workspace: r.Workspace, action: "stop-run", object: fmt.Sprint(r.ID)},
		func(tx transaction) error {
			var states []string
			if err := tx.Raw("SELECT state FROM runs WHERE id = ? FOR UPDATE", r.ID).Scan(&states).Error; err != nil {
				return err
			}
			if len(states) == 0 || states[0] != Queued && states[0] != Running {
				return nil
			}
			if err := tx.Exec("UPDATE runs SET stopping = ? WHERE id = ?", why, r.ID).Error; err != nil {
				return err
			}
			if err := tx.Exec("DELETE FROM run_parts WHERE run_id = ? AND state = 'queued'", r.ID).Error; err != nil {
				return err
			}
			var left struct{ Parts, Open int64 }
			if err := tx.Raw("SELECT count(*) AS parts, count(*) FILTER (WHERE state <> 'done') AS open FROM run_parts WHERE run_id = ?", r.ID).Scan(&left).Error; err != nil {
				return err
			}
			switch {
			case left.Parts == 0:
				return tx.Exec("UPDATE runs SET state = 'cancelled', finished_at = now() WHERE id = ?", r.ID).Error
			case left.Open == 0:
				return merge(ctx, tx.px, r.ID)
			}
			return nil
		},
	)
}
