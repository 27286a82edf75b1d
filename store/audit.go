package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// AuditEntry is one line of the audit trail.
type AuditEntry struct {
	ID        int64     `json:"id"`
	At        time.Time `json:"at"`
	Who       string    `json:"who" doc:"empty: not signed in"`
	Token     string    `json:"token" doc:"the token that was used; empty: a session"`
	TokenID   int64     `json:"token_id" doc:"the token's id, which no other token ever has; 0: a session"`
	Address   string    `json:"address" doc:"from where; empty: from the service itself"`
	Workspace string    `json:"workspace"`
	Action    string    `json:"action"`
	Object    string    `json:"object"`
	Refused   string    `json:"refused" doc:"why it was refused; empty: it was done"`
	Hash      string    `json:"hash" doc:"SHA-256, in hex, of this entry and of the hash of the entry before it"`
}

// AuditFilter chooses entries of the audit trail; what is zero or empty does not matter.
type AuditFilter struct {
	Workspace int64
	Token     int64
	Who       string
	Action    string
	Before    int64 // an entry's id
	Refused   bool  // only what was refused
}

// audit writes an entry of the audit trail, as the last thing of a transaction: entries are
// written one after the other.
func audit(tx *gorm.DB, by Actor, c change, refused string) error {
	return tx.Exec(
		`INSERT INTO audit (who, token, token_id, address, workspace, workspace_id, action, object, refused)
		VALUES (?, ?, ?, ?, ?, CASE WHEN ? <> 0 THEN ? ELSE coalesce((SELECT id FROM workspaces WHERE name = ?), 0) END, ?, ?, ?)`,
		by.Name,
		by.Token,
		by.TokenID,
		by.Address,
		c.workspace,
		c.space,
		c.space,
		c.workspace,
		c.action,
		c.object,
		refused,
	).Error
}

// Refused notes in the audit trail that something was refused, and why.
func (s *Store) Refused(ctx context.Context, action, workspace, object, why string) error {
	c := change{action: action, workspace: workspace, object: object}
	return mapError(audit(s.db.WithContext(ctx), ActorOf(ctx), c, why))
}

// Audit lists the audit trail, latest first.
func (s *Store) Audit(ctx context.Context, f AuditFilter, limit int) ([]AuditEntry, error) {
	out := []AuditEntry{}
	q := s.db.WithContext(ctx).Table("audit").Where("id < ?", f.Before).
		Select("id, at, who, token, token_id, address, workspace, action, object, refused, encode(hash, 'hex') AS hash")
	if f.Workspace != 0 {
		q = q.Where("workspace_id = ?", f.Workspace)
	}
	if f.Token != 0 {
		q = q.Where("token_id = ?", f.Token)
	}
	if f.Who != "" {
		q = q.Where("who = ?", f.Who)
	}
	if f.Action != "" {
		q = q.Where("action = ?", f.Action)
	}
	if f.Refused {
		q = q.Where("refused <> ''")
	}
	return out, mapError(q.Order("id DESC").Limit(limit).Find(&out).Error)
}

// AuditChain is how the audit trail was found.
type AuditChain struct {
	Entries int64  `json:"entries"`
	First   int64  `json:"first" doc:"the oldest entry that is kept; 0: there is none"`
	Last    int64  `json:"last"`
	Hash    string `json:"hash" doc:"of the last entry: where it was noted elsewhere, it shows that nothing before it was changed since"`
	Broken  *int64 `json:"broken" doc:"the first entry that was changed, or before which entries are missing; null: none"`
}

// AuditChain works all hashes of the audit trail out again.
func (s *Store) AuditChain(ctx context.Context) (*AuditChain, error) {
	out := &AuditChain{}
	err := s.db.WithContext(ctx).Raw(
		`SELECT count(*) AS entries, coalesce(min(id), 0) AS first, coalesce(max(id), 0) AS last,
			coalesce((SELECT encode(hash, 'hex') FROM audit ORDER BY id DESC LIMIT 1), '') AS hash,
			min(id) FILTER (WHERE NOT sound) AS broken
		FROM (SELECT id, hash = audit_hash(a) AND before = lag(hash, 1, before) OVER (ORDER BY id) AS sound FROM audit a) x`,
	).Scan(out).Error
	return out, mapError(err)
}
