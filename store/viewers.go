package store

import (
	"context"
	"time"
)

// seenFor is how long a user counts as a viewer after they were last seen.
const seenFor = 15 * time.Second

// Viewing is the state of a model for a user who views it.
type Viewing struct {
	Revision int        `json:"revision" doc:"the latest"`
	Author   string     `json:"author" doc:"who saved it"`
	SavedAt  time.Time  `json:"saved_at"`
	PlacedAt *time.Time `json:"placed_at" gorm:"-" doc:"when a node was put by hand last; null: none is"`
	Viewers  []string   `json:"viewers" gorm:"-" doc:"other users who view the model, by name"`
}

// View notes that a user views a model, and returns its latest revision and the other viewers.
func (s *Store) View(ctx context.Context, w *Workspace, name string, user int64) (*Viewing, error) {
	m := &Model{}
	db := s.db.WithContext(ctx)
	if err := db.Where("workspace_id = ? AND name = ?", w.ID, name).Take(m).Error; err != nil {
		return nil, mapError(err)
	}
	err := db.Exec(
		"INSERT INTO viewers (model_id, user_id) VALUES (?, ?) ON CONFLICT (model_id, user_id) DO UPDATE SET seen_at = now()",
		m.ID, user,
	).Error
	if err != nil {
		return nil, mapError(err)
	}
	out := &Viewing{}
	err = db.Raw( // without its text: this is asked every few seconds
		`SELECT number AS revision, author, created_at AS saved_at FROM revisions
		WHERE model_id = ? ORDER BY number DESC LIMIT 1`,
		m.ID,
	).Scan(out).Error
	if err != nil {
		return nil, mapError(err)
	}
	out.PlacedAt = m.PlacedAt
	out.Viewers = []string{} // empty where there are no others
	err = db.Raw(
		`SELECT u.name FROM viewers v JOIN users u ON u.id = v.user_id
		WHERE v.model_id = ? AND v.user_id <> ? AND v.seen_at > now() - ? * interval '1 second' ORDER BY u.name`,
		m.ID, user, seenFor.Seconds(),
	).Scan(&out.Viewers).Error
	return out, mapError(err)
}
