package store

import (
	"context"
	"fmt"
	"strings"
	"time"
)

// TokenPrefix begins every token, so that one that lies about is recognised.
const TokenPrefix = "weir_"

// Token lets a program in as a person, with at most a role.
type Token struct {
	ID        int64      `json:"id"`
	User      string     `json:"user" gorm:"->;column:user_name"`
	Name      string     `json:"name"`
	Role      string     `json:"role" enum:"viewer,editor,admin" doc:"at most this"`
	Workspace *string    `json:"workspace" gorm:"->;column:workspace" doc:"only this one; null: all of the person's"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt time.Time  `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at"`
}

const tokenQuery = `SELECT t.id, u.name AS user_name, t.name, t.role, w.name AS workspace, t.created_at, t.expires_at, t.used_at
	FROM tokens t JOIN users u ON u.id = t.user_id LEFT JOIN workspaces w ON w.id = t.workspace_id `

// CreateToken makes a token of a person; only its hash is kept.
func (s *Store) CreateToken(
	ctx context.Context,
	user *User,
	name, role string,
	workspace *Workspace,
	life time.Duration,
) (string, *Token, error) {
	secret, _ := newSecret()
	secret = TokenPrefix + secret
	var w *int64
	if workspace != nil {
		w = &workspace.ID
	}
	var ids []int64
	in := "all workspaces"
	if workspace != nil {
		in = "workspace " + workspace.Name
	}
	object := fmt.Sprintf("%s: %s in %s", name, role, in)
	err := s.alter(ctx, change{action: "create-token", object: object}, func(tx transaction) error {
		return tx.Raw(
			"INSERT INTO tokens (user_id, name, hash, role, workspace_id, expires_at) VALUES (?, ?, ?, ?, ?, now() + ? * interval '1 second') RETURNING id",
			user.ID,
			name,
			hashOf(secret),
			role,
			w,
			life.Seconds(),
		).Scan(&ids).Error
	})
	if err != nil {
		return "", nil, err
	}
	var out []Token
	if err := s.db.WithContext(ctx).Raw(tokenQuery+"WHERE t.id = ?", ids[0]).Scan(&out).Error; err != nil ||
		len(out) == 0 {
		return "", nil, mapError(err)
	}
	return secret, &out[0], nil
}

// Tokens lists the tokens that an access may see: a token sees itself alone.
func (s *Store) Tokens(ctx context.Context, a *Access) ([]Token, error) {
	out := []Token{}
	err := s.db.WithContext(ctx).Raw(
		tokenQuery+"WHERE t.paths = '{}' AND t.user_id = ? AND (? = 0 OR t.id = ?) ORDER BY t.id",
		a.User.ID,
		a.TokenID,
		a.TokenID,
	).Scan(&out).Error
	return out, mapError(err)
}

// DeleteToken revokes a token; of that person alone where user is not 0.
func (s *Store) DeleteToken(ctx context.Context, user, id int64) error {
	var found []Token
	query := tokenQuery + "WHERE t.paths = '{}' AND t.id = ? AND (? = 0 OR t.user_id = ?)"
	if err := s.db.WithContext(ctx).Raw(query, id, user, user).Scan(&found).Error; err != nil {
		return mapError(err)
	}
	if len(found) == 0 {
		return ErrNotFound
	}
	object := fmt.Sprintf("%s (%d) of %s", found[0].Name, id, found[0].User)
	return s.alter(ctx, change{action: "revoke-token", object: object}, func(tx transaction) error {
		done := tx.Exec("DELETE FROM tokens WHERE id = ?", id)
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound
		}
		return done.Error
	})
}

// Token gives who a token stands for.
func (s *Store) Token(ctx context.Context, secret string) (*Access, error) {
	var found []struct {
		ID, UserID  int64
		Name, Role  string
		WorkspaceID *int64
		Stale       bool
		Paths       string
	}
	err := s.db.WithContext(ctx).Raw(
		"SELECT id, user_id, name, role, workspace_id, array_to_string(paths, ' ') AS paths, used_at IS NULL OR used_at < now() - interval '1 minute' AS stale FROM tokens WHERE hash = ? AND expires_at > now()",
		hashOf(secret),
	).Scan(&found).Error
	if err != nil {
		return nil, mapError(err)
	}
	if len(found) == 0 {
		return nil, ErrNotFound
	}
	t := found[0]
	u, err := s.user(s.db.WithContext(ctx), "id = ?", t.UserID)
	if err != nil {
		return nil, err
	}
	a := &Access{User: *u, Token: t.Name, TokenID: t.ID, cap: t.Role, paths: strings.Fields(t.Paths)}
	if a.Shared() {
		a.User.Name = "share link of " + a.User.Name // as which its reader is seen
	}
	if t.WorkspaceID != nil {
		a.workspace = *t.WorkspaceID
	}
	if t.Stale { // to the minute is enough
		s.db.WithContext(ctx).Exec("UPDATE tokens SET used_at = now() WHERE id = ?", t.ID)
	}
	return a, nil
}
