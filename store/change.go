package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"
	"gorm.io/gorm"
)

// Actor is who changes something, and how they came in.
type Actor struct {
	User    int64 // 0: the service itself, or not signed in
	Name    string
	Token   string // the name of the token; empty: a session
	TokenID int64
	Address string // from where; empty: from the service itself
}

type actorKey struct{}

// As gives a context in which changes are those of an actor.
func As(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// ActorOf gives whose changes those of a context are; the service's own where
// nobody is named.
func ActorOf(ctx context.Context) Actor {
	if a, ok := ctx.Value(actorKey{}).(Actor); ok {
		return a
	}
	return Actor{Name: "ironweir"}
}

// ErrKeyReused says that an idempotency key was used for another request.
var ErrKeyReused = errors.New("the idempotency key was used for another request")

// errRepeated ends a transaction that would make a thing a second time.
var errRepeated = errors.New("repeated")

// Idempotency makes a creation happen once, however often it is asked for.
type Idempotency struct {
	Key     string // empty: every time anew
	Request string // what was asked for; the same key with another request is an error
}

// change is one change of the records: what the audit trail says of it, and
// whether it may happen again.
type change struct {
	workspace string
	space     int64 // the workspace's id; 0: that of the workspace of that name
	action    string
	object    string
	once      Idempotency
}

// transaction is one transaction, seen by GORM and by the job queue.
type transaction struct {
	*gorm.DB
	px pgx.Tx
}

// ungrouped hides from GORM that its connection could begin transactions: it
// lies in one already.
type ungrouped struct{ conn *sql.Conn }

func (u ungrouped) PrepareContext(ctx context.Context, query string) (*sql.Stmt, error) {
	return u.conn.PrepareContext(ctx, query)
}

func (u ungrouped) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	return u.conn.ExecContext(ctx, query, args...)
}

func (u ungrouped) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return u.conn.QueryContext(ctx, query, args...)
}

func (u ungrouped) QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row {
	return u.conn.QueryRowContext(ctx, query, args...)
}

// transact does something in a transaction that GORM and the job queue share.
func (s *Store) transact(ctx context.Context, do func(tx transaction) error) error {
	pool, err := s.db.DB()
	if err != nil {
		return err
	}
	conn, err := pool.Conn(ctx)
	if err != nil {
		return mapError(err)
	}
	defer conn.Close()
	var px pgx.Tx
	if err := conn.Raw(func(driver any) error {
		c, ok := driver.(*stdlib.Conn)
		if !ok {
			return fmt.Errorf("an unexpected driver %T", driver)
		}
		px, err = c.Conn().Begin(ctx)
		return err
	}); err != nil {
		return mapError(err)
	}
	defer px.Rollback(context.WithoutCancel(ctx)) // does nothing once committed
	db := s.db.Session(&gorm.Session{NewDB: true, Context: ctx, SkipDefaultTransaction: true})
	db.Statement.ConnPool = ungrouped{conn}
	if err := do(transaction{db, px}); err != nil {
		return mapError(err)
	}
	return mapError(px.Commit(ctx))
}

// change changes records, and the audit trail with them. do gives the id of what
// it made. Where the same was asked for before under the same key, nothing
// happens, made is what was made then, and repeated is true.
func (s *Store) change(
	ctx context.Context,
	c change,
	do func(tx transaction) (made int64, err error),
) (made int64, repeated bool, err error) {
	actor := ActorOf(ctx)
	sum := sha256.Sum256([]byte(c.action + "\n" + c.workspace + "\n" + c.object + "\n" + c.once.Request))
	request := hex.EncodeToString(sum[:])
	keyed := c.once.Key != "" && actor.User != 0
	err = s.transact(ctx, func(tx transaction) error {
		if keyed {
			// The row is locked until the end: who asks at the same time waits here.
			done := tx.Exec(
				"INSERT INTO idempotency_keys (user_id, key, request, made) VALUES (?, ?, ?, 0) ON CONFLICT DO NOTHING",
				actor.User,
				c.once.Key,
				request,
			)
			if done.Error != nil {
				return done.Error
			}
			if done.RowsAffected == 0 {
				var before struct {
					Request string
					Made    int64
				}
				if err := tx.Raw("SELECT request, made FROM idempotency_keys WHERE user_id = ? AND key = ?", actor.User, c.once.Key).Scan(&before).Error; err != nil {
					return err
				}
				if before.Request != request {
					return ErrKeyReused
				}
				made = before.Made
				return errRepeated
			}
		}
		var err error
		if made, err = do(tx); err != nil {
			return err
		}
		if keyed {
			if err := tx.Exec("UPDATE idempotency_keys SET made = ? WHERE user_id = ? AND key = ?", made, actor.User, c.once.Key).Error; err != nil {
				return err
			}
		}
		return audit(tx.DB, actor, c, "")
	})
	if errors.Is(err, errRepeated) {
		return made, true, nil
	}
	return made, false, err
}

// alter is a change that makes nothing.
func (s *Store) alter(ctx context.Context, c change, do func(tx transaction) error) error {
	_, _, err := s.change(ctx, c, func(tx transaction) (int64, error) { return 0, do(tx) })
	return err
}
