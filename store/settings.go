package store

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Settings are what an administrator chooses for the whole service.
type Settings struct {
	MaxEvents     int64    `json:"max_events" minimum:"1000" maximum:"100000000000" doc:"events of one replication, at most"`
	MaxCopies     int      `json:"max_copies" minimum:"1000" maximum:"100000000" doc:"copies under way at once, at most"`
	MaxMemory     int64    `json:"max_memory" minimum:"1000000" maximum:"1000000000000" doc:"bytes that messages and runs of one replication take, at most"`
	MaxSeconds    float64  `json:"max_s" minimum:"1" maximum:"86400" doc:"wall time of one replication or point, at most"`
	KeepRunsDays  int      `json:"keep_runs_days" minimum:"0" maximum:"36500" doc:"runs that ended longer ago are removed; 0: they are kept"`
	KeepAuditDays int      `json:"keep_audit_days" minimum:"0" maximum:"36500" doc:"as for runs"`
	KeepObserved  int      `json:"keep_observed_days,omitempty" minimum:"0" maximum:"36500" doc:"as for runs, of what was observed"`
	Webhooks      []string `json:"webhooks,omitempty" maxItems:"100" doc:"addresses to which models may send drifts: http or https, with the beginning of a path"`
	OpenShares    bool     `json:"open_shares,omitempty" doc:"share links open without an account; else for who is signed in"`
}

// DefaultSettings hold until an administrator chooses others.
var DefaultSettings = Settings{MaxEvents: 500_000_000, MaxCopies: 4_000_000, MaxMemory: 2 << 30, MaxSeconds: 3600}

// Settings gives what holds.
func (s *Store) Settings(ctx context.Context) (Settings, error) {
	out := DefaultSettings
	err := s.pool.QueryRow(ctx, "SELECT chosen FROM settings").Scan(&out)
	if err == pgx.ErrNoRows {
		err = nil
	}
	return out, mapError(err)
}

// SetSettings chooses what holds from now on.
func (s *Store) SetSettings(ctx context.Context, to Settings) error {
	return s.alter(ctx, change{action: "set-settings"}, func(tx transaction) error {
		_, err := tx.px.Exec(
			ctx,
			"INSERT INTO settings (chosen) VALUES ($1) ON CONFLICT (only_one) DO UPDATE SET chosen = excluded.chosen",
			to,
		)
		return err
	})
}

// Tidy removes what is too old: runs and audit entries as the settings say, used
// keys after a day, ended sessions, workers that have gone.
func (s *Store) Tidy(ctx context.Context) (runs int64, err error) {
	keep, err := s.Settings(ctx)
	if err != nil {
		return 0, err
	}
	if keep.KeepRunsDays > 0 {
		done, err := s.pool.Exec(
			ctx,
			"DELETE FROM runs WHERE finished_at < now() - $1 * interval '1 day'",
			keep.KeepRunsDays,
		)
		if err != nil {
			return 0, mapError(err)
		}
		runs = done.RowsAffected()
	}
	if keep.KeepAuditDays > 0 {
		if _, err := s.pool.Exec(ctx, "DELETE FROM audit WHERE at < now() - $1 * interval '1 day'", keep.KeepAuditDays); err != nil {
			return runs, mapError(err)
		}
	}
	if keep.KeepObserved > 0 {
		for _, statement := range []string{
			"DELETE FROM observed_hours WHERE hour < now() - $1 * interval '1 day'",
			"DELETE FROM drifts WHERE ended_at < now() - $1 * interval '1 day'",
		} {
			if _, err := s.pool.Exec(ctx, statement, keep.KeepObserved); err != nil {
				return runs, mapError(err)
			}
		}
	}
	for _, statement := range []string{
		"DELETE FROM viewers WHERE seen_at < now() - interval '1 hour'",
		"DELETE FROM idempotency_keys WHERE created_at < now() - interval '1 day'",
		"DELETE FROM sessions WHERE expires_at < now()",
		"DELETE FROM sign_in_links WHERE expires_at < now()",
		"DELETE FROM tokens WHERE expires_at < now() - interval '90 days'",
		"DELETE FROM workers w WHERE started_at < now() - interval '1 minute' AND NOT " + alive + "w.id)",
	} {
		if _, err := s.pool.Exec(ctx, statement); err != nil {
			return runs, mapError(err)
		}
	}
	return runs, nil
}
