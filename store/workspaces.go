package store

import (
	"context"
	"time"
)

// Workspace holds models, and says who may do what with them.
type Workspace struct {
	ID        int64     `json:"-"`
	Name      string    `json:"name"`
	Role      string    `json:"role" enum:"viewer,editor,admin" gorm:"->;column:role" doc:"what you may do there"`
	Models    int64     `json:"models" gorm:"->;column:models" doc:"how many it holds"`
	CreatedAt time.Time `json:"created_at"`
}

// Member is somebody's role in a workspace.
type Member struct {
	User string `json:"user"`
	Role string `json:"role" enum:"viewer,editor,admin"`
}

// DefaultWorkspace is there from the start.
const DefaultWorkspace = "main"

// Workspaces lists those that somebody can see, by name, with what they may do
// there.
func (s *Store) Workspaces(ctx context.Context, a *Access) ([]Workspace, error) {
	out := []Workspace{}
	err := s.db.WithContext(ctx).Raw(
		`SELECT w.id, w.name, w.created_at, CASE WHEN u.admin THEN 'admin' ELSE m.role END AS role, (SELECT count(*) FROM models WHERE workspace_id = w.id) AS models
		FROM workspaces w JOIN users u ON u.id = ? LEFT JOIN members m ON m.workspace_id = w.id AND m.user_id = u.id
		WHERE (u.admin OR m.role IS NOT NULL) AND (? = 0 OR w.id = ?) ORDER BY w.name`,
		a.User.ID,
		a.workspace,
		a.workspace,
	).Scan(&out).Error
	for i := range out {
		out[i].Role = lesser(out[i].Role, a.cap)
	}
	return out, mapError(err)
}

// Workspace finds a workspace by name.
func (s *Store) Workspace(ctx context.Context, name string) (*Workspace, error) {
	return s.workspace(ctx, "name = ?", name)
}

// WorkspaceOfRun finds the workspace that a run lies in.
func (s *Store) WorkspaceOfRun(ctx context.Context, run int64) (*Workspace, error) {
	return s.workspace(
		ctx,
		"id = (SELECT workspace_id FROM models JOIN runs ON runs.model_id = models.id WHERE runs.id = ?)",
		run,
	)
}

func (s *Store) workspace(ctx context.Context, where string, arg any) (*Workspace, error) {
	w := &Workspace{}
	err := s.db.WithContext(ctx).Table("workspaces").Select("id, name, created_at").Where(where, arg).Take(w).Error
	return w, mapError(err)
}

// CreateWorkspace makes a workspace.
func (s *Store) CreateWorkspace(ctx context.Context, name string, once Idempotency) (*Workspace, error) {
	_, _, err := s.change(
		ctx,
		change{action: "create-workspace", workspace: name, object: name, once: once},
		func(tx transaction) (int64, error) {
			var ids []int64
			err := tx.Raw("INSERT INTO workspaces (name) VALUES (?) RETURNING id", name).Scan(&ids).Error
			if err != nil {
				return 0, err
			}
			return ids[0], nil
		},
	)
	if err != nil {
		return nil, err
	}
	return s.Workspace(ctx, name)
}

// EnsureWorkspace finds the workspace that is there from the start, and makes it
// where it is missing.
func (s *Store) EnsureWorkspace(ctx context.Context) (*Workspace, error) {
	if err := s.db.WithContext(ctx).Exec("INSERT INTO workspaces (name) VALUES (?) ON CONFLICT DO NOTHING", DefaultWorkspace).Error; err != nil {
		return nil, mapError(err)
	}
	return s.Workspace(ctx, DefaultWorkspace)
}

// DeleteWorkspace removes a workspace with all that it holds.
func (s *Store) DeleteWorkspace(ctx context.Context, w *Workspace) error {
	return s.alter(
		ctx,
		change{action: "delete-workspace", workspace: w.Name, space: w.ID, object: w.Name},
		func(tx transaction) error {
			return tx.Exec("DELETE FROM workspaces WHERE id = ?", w.ID).Error
		},
	)
}

// Members lists who may do what in a workspace, by name.
func (s *Store) Members(ctx context.Context, w *Workspace) ([]Member, error) {
	out := []Member{}
	err := s.db.WithContext(ctx).Raw(
		`SELECT u.name AS "user", m.role FROM members m JOIN users u ON u.id = m.user_id WHERE m.workspace_id = ? ORDER BY u.name`,
		w.ID,
	).Scan(&out).Error
	return out, mapError(err)
}

// SetMember gives somebody a role in a workspace; an empty role takes it away.
func (s *Store) SetMember(ctx context.Context, w *Workspace, user, role string) error {
	action := "set-member"
	if role == "" {
		action = "remove-member"
	}
	return s.alter(
		ctx,
		change{action: action, workspace: w.Name, object: user + " " + role},
		func(tx transaction) error {
			u, err := s.user(tx.DB, "name = ?", user)
			if err != nil {
				return err
			}
			if role == "" {
				done := tx.Exec("DELETE FROM members WHERE workspace_id = ? AND user_id = ?", w.ID, u.ID)
				if done.Error == nil && done.RowsAffected == 0 {
					return ErrNotFound
				}
				return done.Error
			}
			return tx.Exec(
				"INSERT INTO members (workspace_id, user_id, role) VALUES (?, ?, ?) ON CONFLICT (workspace_id, user_id) DO UPDATE SET role = excluded.role",
				w.ID,
				u.ID,
				role,
			).Error
		},
	)
}
