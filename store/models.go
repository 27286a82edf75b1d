package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm/clause"
)

// Model is a topology by name; its text lies in revisions.
type Model struct {
	ID          int64
	WorkspaceID int64
	Name        string
	Webhook     string // where drifts are sent; empty: nowhere
	PlacedAt    *time.Time
	CreatedAt   time.Time
}

// Revision is a topology as somebody saved it.
type Revision struct {
	ID        int64           `json:"-"`
	ModelID   int64           `json:"-"`
	Number    int             `json:"number"`
	Text      string          `json:"text,omitempty"`
	Note      string          `json:"note"`
	Author    string          `json:"author"`
	Errors    int             `json:"errors"`
	Warnings  int             `json:"warnings"`
	Notes     int             `json:"notes"`
	Findings  json.RawMessage `json:"-" gorm:"type:jsonb"` // as `check` gave them when it was saved
	Sketch    json.RawMessage `json:"-" gorm:"type:jsonb"` // a small picture of it; null: saved before there were any
	CreatedAt time.Time       `json:"created_at"`
}

// Scenario is a scenario of a model, or a variant of it: a text by name.
type Scenario struct {
	ID        int64     `json:"-"`
	ModelID   int64     `json:"-"`
	Name      string    `json:"name"`
	Text      string    `json:"text"`
	UpdatedAt time.Time `json:"updated_at"`
}

// Listed is a model in the list: its latest revision and latest run.
type Listed struct {
	Name      string    `json:"name"`
	Revision  int       `json:"revision"`
	Author    string    `json:"author"`
	Errors    int       `json:"errors"`
	Warnings  int       `json:"warnings"`
	Notes     int       `json:"notes"`
	ChangedAt time.Time `json:"changed_at"`
	LastRun   *int64    `json:"last_run"`
	LastState *string   `json:"last_run_state"`
	LastUnmet *int      `json:"last_run_unmet" doc:"expectations of the latest run that do not hold; null: it has none, or has not ended"`

	LastExpected *int `json:"last_run_expected" doc:"all its expectations; null as before"`

	Sketch json.RawMessage `json:"-"` // of the latest revision
}

// Models lists a workspace's models by name, those after a cursor whose name or
// latest text holds what is searched for.
func (s *Store) Models(ctx context.Context, w *Workspace, search, after string, limit int) ([]Listed, error) {
	out := []Listed{}
	err := s.db.WithContext(ctx).Raw(`
		SELECT m.name, r.number AS revision, r.author, r.errors, r.warnings, r.notes, r.created_at AS changed_at, r.sketch, x.id AS last_run, x.state AS last_state, x.unmet AS last_unmet, x.expected AS last_expected
		FROM models m
		JOIN LATERAL (SELECT * FROM revisions WHERE model_id = m.id ORDER BY number DESC LIMIT 1) r ON true
		LEFT JOIN LATERAL (SELECT id, state, unmet, expected FROM runs WHERE model_id = m.id ORDER BY id DESC LIMIT 1) x ON true
		WHERE m.workspace_id = ? AND m.name > ? AND (? = '' OR m.name ILIKE ? OR r.text ILIKE ?) ORDER BY m.name LIMIT ?`, w.ID, after, search, like(search), like(search), limit).Scan(&out).Error
	return out, mapError(err)
}

// like makes a pattern that finds a text as it is.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(text) + "%"
}

// CreateModel makes a model with its first revision.
func (s *Store) CreateModel(ctx context.Context, w *Workspace, name string, r *Revision, once Idempotency) error {
	_, repeated, err := s.change(
		ctx,
		change{workspace: w.Name, action: "create-model", object: name, once: once},
		func(tx transaction) (int64, error) {
			m := Model{WorkspaceID: w.ID, Name: name}
			if err := tx.Create(&m).Error; err != nil {
				return 0, err
			}
			r.ModelID, r.Number = m.ID, 1
			return 1, tx.Create(r).Error
		},
	)
	if repeated {
		return s.reread(ctx, w, name, 1, r)
	}
	return err
}

// reread puts a revision that was made before in place of the one to make.
func (s *Store) reread(ctx context.Context, w *Workspace, model string, number int, r *Revision) error {
	before, err := s.Revision(ctx, w, model, number)
	if err == nil {
		*r = *before
	}
	return err
}

// DeleteModel removes a model with all that belongs to it.
func (s *Store) DeleteModel(ctx context.Context, w *Workspace, name string) error {
	return s.alter(ctx, change{workspace: w.Name, action: "delete-model", object: name}, func(tx transaction) error {
		done := tx.Where("workspace_id = ? AND name = ?", w.ID, name).Delete(&Model{})
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
}

// Model finds a model of a workspace.
func (s *Store) Model(ctx context.Context, w *Workspace, name string) (*Model, error) {
	m := &Model{}
	err := s.db.WithContext(ctx).Where("workspace_id = ? AND name = ?", w.ID, name).Take(m).Error
	return m, mapError(err)
}

// Revision gives one revision of a model; number 0 is the latest.
func (s *Store) Revision(ctx context.Context, w *Workspace, model string, number int) (*Revision, error) {
	m, err := s.Model(ctx, w, model)
	if err != nil {
		return nil, err
	}
	return s.RevisionOf(ctx, m.ID, number)
}

// RevisionOf is Revision of a model by its id.
func (s *Store) RevisionOf(ctx context.Context, model int64, number int) (*Revision, error) {
	r := &Revision{}
	q := s.db.WithContext(ctx).Where("model_id = ?", model)
	if number > 0 {
		q = q.Where("number = ?", number)
	}
	err := q.Order("number DESC").Take(r).Error
	return r, mapError(err)
}

// Revisions lists the revisions of a model, latest first, without their text.
func (s *Store) Revisions(ctx context.Context, w *Workspace, model string, before, limit int) ([]Revision, error) {
	m, err := s.Model(ctx, w, model)
	if err != nil {
		return nil, err
	}
	out := []Revision{}
	err = s.db.WithContext(ctx).Omit(
		"text",
		"findings",
	).Where(
		"model_id = ? AND number < ?",
		m.ID,
		before,
	).Order("number DESC").Limit(limit).Find(&out).Error
	return out, mapError(err)
}

// SaveRevision adds a revision on top of a known one; ErrRevisionConflict says that
// somebody else has saved meanwhile.
func (s *Store) SaveRevision(
	ctx context.Context,
	w *Workspace,
	model string,
	onTop int,
	r *Revision,
	once Idempotency,
) error {
	number, repeated, err := s.change(
		ctx,
		change{workspace: w.Name, action: "save-revision", object: fmt.Sprintf("%s %d", model, onTop+1), once: once},
		func(tx transaction) (int64, error) {
			m := &Model{}
			if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("workspace_id = ? AND name = ?", w.ID, model).Take(m).Error; err != nil {
				return 0, err
			}
			var latest int
			if err := tx.Model(&Revision{}).Where("model_id = ?",
				m.ID).Select("max(number)").Scan(&latest).Error; err != nil {
				return 0, err
			}
			if latest != onTop {
				return 0, ErrRevisionConflict
			}
			r.ModelID, r.Number = m.ID, latest+1
			return int64(r.Number), tx.Create(r).Error
		},
	)
	if repeated {
		return s.reread(ctx, w, model, int(number), r)
	}
	return err
}

// Texts is a table of texts that belong to a model, by name.
type Texts string

// The texts that a model has beside its own.
const (
	Scenarios Texts = "scenarios"
	Variants  Texts = "variants"
)

func (t Texts) one() string { return strings.TrimSuffix(string(t), "s") }

// Texts lists the scenarios or variants of a model by name.
func (s *Store) Texts(ctx context.Context, which Texts, w *Workspace, model string) ([]Scenario, error) {
	m, err := s.Model(ctx, w, model)
	if err != nil {
		return nil, err
	}
	out := []Scenario{}
	err = s.db.WithContext(ctx).Table(string(which)).Where("model_id = ?", m.ID).Order("name").Find(&out).Error
	return out, mapError(err)
}

// Text gives one scenario or variant of a model.
func (s *Store) Text(ctx context.Context, which Texts, w *Workspace, model, name string) (*Scenario, error) {
	m, err := s.Model(ctx, w, model)
	if err != nil {
		return nil, err
	}
	out := &Scenario{}
	err = s.db.WithContext(ctx).Table(string(which)).Where("model_id = ? AND name = ?", m.ID, name).Take(out).Error
	return out, mapError(err)
}

// SaveText makes or replaces a scenario or variant of a model.
func (s *Store) SaveText(ctx context.Context, which Texts, w *Workspace, model, name, text string) error {
	return s.alter(
		ctx,
		change{workspace: w.Name, action: "save-" + which.one(), object: model + " " + name},
		func(tx transaction) error {
			m := &Model{}
			if err := tx.Where("workspace_id = ? AND name = ?", w.ID, model).Take(m).Error; err != nil {
				return err
			}
			row := Scenario{ModelID: m.ID, Name: name, Text: text, UpdatedAt: time.Now()}
			return tx.Table(string(which)).Clauses(
				clause.OnConflict{Columns: []clause.Column{{Name: "model_id"}, {Name: "name"}},
					DoUpdates: clause.AssignmentColumns([]string{"text", "updated_at"})},
			).Create(&row).Error
		},
	)
}

// DeleteText removes a scenario or variant of a model; runs of it stay.
func (s *Store) DeleteText(ctx context.Context, which Texts, w *Workspace, model, name string) error {
	return s.alter(
		ctx,
		change{workspace: w.Name, action: "delete-" + which.one(), object: model + " " + name},
		func(tx transaction) error {
			done := tx.Exec(
				"DELETE FROM "+string(
					which,
				)+" WHERE name = ? AND model_id = (SELECT id FROM models WHERE workspace_id = ? AND name = ?)",
				name,
				w.ID,
				model,
			)
			if done.Error == nil && done.RowsAffected == 0 {
				return ErrNotFound
			}
			return done.Error
		},
	)
}
