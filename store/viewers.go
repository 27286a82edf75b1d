package store

import (
	"context"
	"time"
)

// seenFor is how long somebody counts as a viewer after they were last seen.
const seenFor = 15 * time.Second

// Viewing is how a model stands for somebody who looks at it.
type Viewing struct {
	Revision int       `json:"revision" doc:"the latest"`
	Author   string    `json:"author" doc:"who saved it"`
	SavedAt  time.Time `json:"saved_at"`
	Viewers  []string  `json:"viewers" doc:"who else looks at the model, by name"`
}

// View notes that a person looks at a model, and returns how it stands and who else does.
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
	latest, err := s.Revision(ctx, w, name, 0)
	if err != nil {
		return nil, err
	}
	out := &Viewing{latest.Number, latest.Author, latest.CreatedAt, []string{}}
	err = db.Raw(
		`SELECT u.name FROM viewers v JOIN users u ON u.id = v.user_id
		WHERE v.model_id = ? AND v.user_id <> ? AND v.seen_at > now() - ? * interval '1 second' ORDER BY u.name`,
		m.ID, user, seenFor.Seconds(),
	).Scan(&out.Viewers).Error
	return out, mapError(err)
}
