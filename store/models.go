package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

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
}

// Models lists models by name, those after a cursor.
func (s *Store) Models(ctx context.Context, after string, limit int) ([]Listed, error) {
	out := []Listed{}
	err := s.db.WithContext(ctx).Raw(`
		SELECT m.name, r.number AS revision, r.author, r.errors, r.warnings, r.notes, r.created_at AS changed_at, x.id AS last_run, x.state AS last_state
		FROM models m
		JOIN LATERAL (SELECT * FROM revisions WHERE model_id = m.id ORDER BY number DESC LIMIT 1) r ON true
		LEFT JOIN LATERAL (SELECT id, state FROM runs WHERE model_id = m.id ORDER BY id DESC LIMIT 1) x ON true
		WHERE m.name > ? ORDER BY m.name LIMIT ?`, after, limit).Scan(&out).Error
	return out, translate(err)
}

// CreateModel makes a model with its first revision.
func (s *Store) CreateModel(ctx context.Context, name string, r *Revision) error {
	return translate(s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		m := Model{Name: name}
		if err := tx.Create(&m).Error; err != nil {
			return err
		}
		r.ModelID, r.Number = m.ID, 1
		return tx.Create(r).Error
	}))
}

// DeleteModel removes a model with all that belongs to it.
func (s *Store) DeleteModel(ctx context.Context, name string) error {
	done := s.db.WithContext(ctx).Where("name = ?", name).Delete(&Model{})
	if done.Error == nil && done.RowsAffected == 0 {
		return ErrNotFound
	}
	return translate(done.Error)
}

func (s *Store) model(ctx context.Context, name string) (*Model, error) {
	m := &Model{}
	err := s.db.WithContext(ctx).Where("name = ?", name).Take(m).Error
	return m, translate(err)
}

// Revision gives one revision of a model; number 0 is the latest.
func (s *Store) Revision(ctx context.Context, model string, number int) (*Revision, error) {
	m, err := s.model(ctx, model)
	if err != nil {
		return nil, err
	}
	r := &Revision{}
	q := s.db.WithContext(ctx).Where("model_id = ?", m.ID)
	if number > 0 {
		q = q.Where("number = ?", number)
	}
	err = q.Order("number DESC").Take(r).Error
	return r, translate(err)
}

// Revisions lists the revisions of a model, latest first, without their text.
func (s *Store) Revisions(ctx context.Context, model string, before, limit int) ([]Revision, error) {
	m, err := s.model(ctx, model)
	if err != nil {
		return nil, err
	}
	out := []Revision{}
	err = s.db.WithContext(ctx).Omit("text").Where("model_id = ? AND number < ?", m.ID, before).Order("number DESC").Limit(limit).Find(&out).Error
	return out, translate(err)
}

// SaveRevision adds a revision on top of a known one; ErrStale says that
// somebody else has saved meanwhile.
func (s *Store) SaveRevision(ctx context.Context, model string, onTop int, r *Revision) error {
	return translate(s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		m := &Model{}
		if err := tx.Clauses(clause.Locking{Strength: "UPDATE"}).Where("name = ?", model).Take(m).Error; err != nil {
			return err
		}
		var latest int
		if err := tx.Model(&Revision{}).Where("model_id = ?", m.ID).Select("max(number)").Scan(&latest).Error; err != nil {
			return err
		}
		if latest != onTop {
			return ErrStale
		}
		r.ModelID, r.Number = m.ID, latest+1
		return tx.Create(r).Error
	}))
}

// Scenarios lists the scenarios of a model by name.
func (s *Store) Scenarios(ctx context.Context, model string) ([]Scenario, error) {
	m, err := s.model(ctx, model)
	if err != nil {
		return nil, err
	}
	out := []Scenario{}
	err = s.db.WithContext(ctx).Where("model_id = ?", m.ID).Order("name").Find(&out).Error
	return out, translate(err)
}

// SaveScenario makes or replaces a scenario of a model.
func (s *Store) SaveScenario(ctx context.Context, model, name, text string) error {
	m, err := s.model(ctx, model)
	if err != nil {
		return err
	}
	row := Scenario{ModelID: m.ID, Name: name, Text: text, UpdatedAt: time.Now()}
	return translate(s.db.WithContext(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "model_id"}, {Name: "name"}},
		DoUpdates: clause.AssignmentColumns([]string{"text", "updated_at"})}).Create(&row).Error)
}

// Scenario gives one scenario of a model.
func (s *Store) Scenario(ctx context.Context, model, name string) (*Scenario, error) {
	m, err := s.model(ctx, model)
	if err != nil {
		return nil, err
	}
	out := &Scenario{}
	err = s.db.WithContext(ctx).Where("model_id = ? AND name = ?", m.ID, name).Take(out).Error
	return out, translate(err)
}

// CreateRun asks for a run of a revision under a scenario.
func (s *Store) CreateRun(ctx context.Context, model string, r *Run) error {
	m, err := s.model(ctx, model)
	if err != nil {
		return err
	}
	r.ModelID, r.State, r.Model = m.ID, Queued, model
	return translate(s.db.WithContext(ctx).Omit("Result", "Model").Create(r).Error)
}

func (s *Store) runs(ctx context.Context) *gorm.DB {
	return s.db.WithContext(ctx).Model(&Run{}).Select("runs.id, runs.model_id, models.name AS model, revision, scenario, runs.text, state, error, progress, author, runs.created_at, started_at, finished_at").
		Joins("JOIN models ON models.id = runs.model_id")
}

// Run gives a run, without its result.
func (s *Store) Run(ctx context.Context, id int64) (*Run, error) {
	out := &Run{}
	err := s.runs(ctx).Where("runs.id = ?", id).Take(out).Error
	return out, translate(err)
}

// Runs lists runs, latest first; an empty model stands for all.
func (s *Store) Runs(ctx context.Context, model string, before int64, limit int) ([]Run, error) {
	out := []Run{}
	q := s.runs(ctx).Where("runs.id < ?", before)
	if model != "" {
		q = q.Where("models.name = ?", model)
	}
	err := q.Order("runs.id DESC").Limit(limit).Find(&out).Error
	return out, translate(err)
}

// Result gives the result document of a run that has one.
func (s *Store) Result(ctx context.Context, id int64) (json.RawMessage, error) {
	var rows []struct{ Result json.RawMessage }
	err := s.db.WithContext(ctx).Raw("SELECT result FROM runs WHERE id = ?", id).Scan(&rows).Error
	if err == nil && (len(rows) == 0 || rows[0].Result == nil) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, translate(err)
	}
	return rows[0].Result, nil
}

// TakeRun takes the oldest waiting run for a worker; ErrNotFound when none
// waits.
func (s *Store) TakeRun(ctx context.Context) (*Run, error) {
	var ids []int64
	err := s.db.WithContext(ctx).Raw(`UPDATE runs SET state = 'running', started_at = now() WHERE id =
		(SELECT id FROM runs WHERE state = 'queued' ORDER BY id FOR UPDATE SKIP LOCKED LIMIT 1) RETURNING id`).Scan(&ids).Error
	if err != nil {
		return nil, translate(err)
	}
	if len(ids) == 0 {
		return nil, ErrNotFound
	}
	return s.Run(ctx, ids[0])
}

// RequeueRuns puts runs that a stopped service left under way back into the
// queue: being deterministic, they end the same.
func (s *Store) RequeueRuns(ctx context.Context) error {
	return translate(s.db.WithContext(ctx).Exec("UPDATE runs SET state = 'queued', progress = 0 WHERE state = 'running'").Error)
}

// FinishRun keeps the end of a run that is still under way.
func (s *Store) FinishRun(ctx context.Context, id int64, state, message string, result []byte) error {
	var doc any
	if result != nil {
		doc = string(result)
	}
	return translate(s.db.WithContext(ctx).Exec("UPDATE runs SET state = ?, error = ?, result = ?::jsonb, progress = 1, finished_at = now() WHERE id = ?", state, message, doc, id).Error)
}

// SetProgress keeps how far a run is.
func (s *Store) SetProgress(ctx context.Context, id int64, share float64) error {
	return translate(s.db.WithContext(ctx).Exec("UPDATE runs SET progress = ? WHERE id = ? AND state = 'running'", share, id).Error)
}

// CancelQueued cancels a run that nobody has taken yet; it tells whether it
// did.
func (s *Store) CancelQueued(ctx context.Context, id int64) (bool, error) {
	done := s.db.WithContext(ctx).Exec("UPDATE runs SET state = 'cancelled', finished_at = now() WHERE id = ? AND state = 'queued'", id)
	return done.RowsAffected > 0, translate(done.Error)
}
