package store

import (
	"context"
	"strings"
	"time"
)

// Share is a link by which anybody reads one run, rehearsal or revision of a model, until it
// expires or is revoked. It is a token of the person who made it, with the role of a viewer.
type Share struct {
	ID        int64      `json:"id"`
	What      string     `json:"what" gorm:"column:name" doc:"what is shared, in words"`
	Path      string     `json:"path" gorm:"->;column:path" doc:"below its workspace, as runs/12"`
	User      string     `json:"user" gorm:"->;column:user_name" doc:"who shares it"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt time.Time  `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at" doc:"when it was last read, to the minute"`
	Workspace string     `json:"-" gorm:"->;column:workspace"`
}

const shareQuery = `SELECT t.id, t.name, t.paths[1] AS path, u.name AS user_name, t.created_at, t.expires_at, t.used_at,
	w.name AS workspace
	FROM tokens t JOIN users u ON u.id = t.user_id JOIN workspaces w ON w.id = t.workspace_id WHERE t.paths <> '{}' AND t.expires_at > now() `

// CreateShare makes a share of paths in a workspace, the page's own first; only the hash of
// its secret is kept.
func (s *Store) CreateShare(
	ctx context.Context,
	user *User,
	w *Workspace,
	what string,
	paths []string,
	life time.Duration,
) (secret string, made *Share, err error) {
	secret, _ = newSecret()
	var ids []int64
	object := what + " at " + paths[0]
	err = s.alter(ctx, change{workspace: w.Name, action: "create-share", object: object}, func(tx transaction) error {
		return tx.Raw(
			`INSERT INTO tokens (user_id, name, hash, role, workspace_id, expires_at, paths)
			VALUES (?, ?, ?, 'viewer', ?, now() + ? * interval '1 second', string_to_array(?, ' ')) RETURNING id`,
			user.ID, what, hashOf(secret), w.ID, life.Seconds(), strings.Join(paths, " "),
		).Scan(&ids).Error
	})
	if err != nil {
		return "", nil, err
	}
	made, err = s.ShareOf(ctx, &Access{TokenID: ids[0]})
	return secret, made, err
}

// Shares lists the shares of a workspace that have not expired, the latest first; those of
// one person where user is not 0.
func (s *Store) Shares(ctx context.Context, w *Workspace, user int64) ([]Share, error) {
	out := []Share{}
	err := s.db.WithContext(ctx).
		Raw(shareQuery+"AND t.workspace_id = ? AND (? = 0 OR t.user_id = ?) ORDER BY t.id DESC", w.ID, user, user).
		Scan(&out).Error
	return out, mapError(err)
}

// DeleteShare revokes a share of a workspace; of that person alone where user is not 0.
func (s *Store) DeleteShare(ctx context.Context, w *Workspace, user, id int64) error {
	var found []Share
	err := s.db.WithContext(ctx).
		Raw(shareQuery+"AND t.workspace_id = ? AND t.id = ? AND (? = 0 OR t.user_id = ?)", w.ID, id, user, user).
		Scan(&found).Error
	if err != nil {
		return mapError(err)
	}
	if len(found) == 0 {
		return ErrNotFound
	}
	change := change{workspace: w.Name, action: "revoke-share", object: found[0].What + " at " + found[0].Path}
	return s.alter(ctx, change, func(tx transaction) error {
		return tx.Exec("DELETE FROM tokens WHERE id = ?", id).Error
	})
}

// ShareOf gives the share that an access stands for; ErrNotFound: it is none, or has ended.
func (s *Store) ShareOf(ctx context.Context, a *Access) (*Share, error) {
	var out []Share
	err := s.db.WithContext(ctx).Raw(shareQuery+"AND t.id = ?", a.TokenID).Scan(&out).Error
	if err == nil && len(out) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return nil, mapError(err)
	}
	return &out[0], nil
}

// Shared reports whether an access is that of a share link.
func (a *Access) Shared() bool { return len(a.paths) > 0 }

// Reads reports whether a share covers a path of its workspace.
func (a *Access) Reads(path string) bool {
	for _, p := range a.paths {
		if path == p || strings.HasPrefix(path, p+"/") {
			return true
		}
	}
	return false
}
