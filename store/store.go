// Package store keeps the service's records in PostgreSQL through GORM: people,
// models with every revision, scenarios, runs with their results.
package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"embed"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	gormpg "gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrStale    = errors.New("stale") // another revision has been saved meanwhile
	ErrDown     = errors.New("the database cannot be reached")
)

// Store is an open database.
type Store struct {
	pool *pgxpool.Pool
	db   *gorm.DB
}

// Open connects to a database and brings its schema up to date.
func Open(ctx context.Context, url string) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("the database address: %w", err)
	}
	config.MaxConns = 20
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("%w: %v", ErrDown, err)
	}
	sqlDB := stdlib.OpenDBFromPool(pool)
	db, err := gorm.Open(gormpg.New(gormpg.Config{Conn: sqlDB}), &gorm.Config{Logger: logger.Discard, TranslateError: true})
	if err != nil {
		pool.Close()
		return nil, err
	}
	s := &Store{pool, db}
	if err := s.migrate(ctx); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// migrate brings the schema up to date; two that start at once take turns.
func (s *Store) migrate(ctx context.Context) error {
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	sqlDB, err := s.db.DB()
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, sqlDB, folder, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the schema up to date: %w", err)
	}
	return nil
}

// Close closes all connections.
func (s *Store) Close() { s.pool.Close() }

// Ping tells whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return translate(s.pool.Ping(ctx))
}

// translate turns database errors into the ones that callers tell apart.
func translate(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrConflict
	case errors.Is(err, ErrStale), errors.Is(err, ErrNotFound), errors.Is(err, ErrConflict), errors.Is(err, context.Canceled):
		return err
	case errors.As(err, &pg) && pg.Code[:2] != "57" && pg.Code[:2] != "08" && pg.Code[:2] != "53":
		return err
	}
	return fmt.Errorf("%w: %v", ErrDown, err)
}

// User is a person.
type User struct {
	ID        int64     `json:"id"`
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	CreatedAt time.Time `json:"created_at"`
}

// Model is a topology by name; its text lies in revisions.
type Model struct {
	ID        int64
	Name      string
	CreatedAt time.Time
}

// Revision is a topology as somebody saved it.
type Revision struct {
	ID        int64     `json:"-"`
	ModelID   int64     `json:"-"`
	Number    int       `json:"number"`
	Text      string    `json:"text,omitempty"`
	Note      string    `json:"note"`
	Author    string    `json:"author"`
	Errors    int       `json:"errors"`
	Warnings  int       `json:"warnings"`
	Notes     int       `json:"notes"`
	CreatedAt time.Time `json:"created_at"`
}

// Scenario is a scenario of a model.
type Scenario struct {
	ID        int64     `json:"-"`
	ModelID   int64     `json:"-"`
	Name      string    `json:"name"`
	Text      string    `json:"text"`
	UpdatedAt time.Time `json:"updated_at"`
}

// The states of a run.
const (
	Queued    = "queued"
	Running   = "running"
	Done      = "done"
	Failed    = "failed"
	Cancelled = "cancelled"
)

// Run is a simulation: asked for, under way, or with its result.
type Run struct {
	ID         int64           `json:"id"`
	ModelID    int64           `json:"-"`
	Model      string          `json:"model" gorm:"->;column:model"`
	Revision   int             `json:"revision"`
	Scenario   string          `json:"scenario"`
	Text       string          `json:"-"` // of the scenario
	State      string          `json:"state"`
	Error      string          `json:"error,omitempty"`
	Progress   float64         `json:"progress"`
	Author     string          `json:"author"`
	Result     json.RawMessage `json:"-" gorm:"type:jsonb"`
	CreatedAt  time.Time       `json:"created_at"`
	StartedAt  *time.Time      `json:"started_at"`
	FinishedAt *time.Time      `json:"finished_at"`
}

// newSecret makes a secret and the hash under which it is kept.
func newSecret() (secret, hash string) {
	raw := make([]byte, 32)
	rand.Read(raw)
	secret = base64.RawURLEncoding.EncodeToString(raw)
	return secret, hashOf(secret)
}

func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// SignInLink makes a one-time secret that signs a person in; the person is made
// when there is none of that name.
func (s *Store) SignInLink(ctx context.Context, name, role string, life time.Duration) (string, error) {
	u := User{Name: name, Role: role}
	err := s.db.WithContext(ctx).Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "name"}}, DoNothing: true}).Create(&u).Error
	if err == nil {
		err = s.db.WithContext(ctx).Where("name = ?", name).Take(&u).Error
	}
	if err != nil {
		return "", translate(err)
	}
	secret, hash := newSecret()
	err = s.db.WithContext(ctx).Exec("INSERT INTO sign_in_links (hash, user_id, expires_at) VALUES (?, ?, ?)", hash, u.ID, time.Now().Add(life)).Error
	return secret, translate(err)
}

// SignIn uses a one-time secret up and opens a session.
func (s *Store) SignIn(ctx context.Context, secret string, life time.Duration) (session string, u *User, err error) {
	err = s.db.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var ids []int64
		if err := tx.Raw("DELETE FROM sign_in_links WHERE hash = ? AND expires_at > now() RETURNING user_id", hashOf(secret)).Scan(&ids).Error; err != nil {
			return err
		}
		if len(ids) == 0 {
			return ErrNotFound
		}
		u = &User{}
		if err := tx.Take(u, ids[0]).Error; err != nil {
			return err
		}
		var hash string
		session, hash = newSecret()
		return tx.Exec("INSERT INTO sessions (hash, user_id, expires_at) VALUES (?, ?, ?)", hash, u.ID, time.Now().Add(life)).Error
	})
	return session, u, translate(err)
}

// Session gives who a session belongs to.
func (s *Store) Session(ctx context.Context, session string) (*User, error) {
	u := &User{}
	err := s.db.WithContext(ctx).Table("users").Joins("JOIN sessions ON sessions.user_id = users.id AND sessions.expires_at > now() AND sessions.hash = ?", hashOf(session)).Take(u).Error
	return u, translate(err)
}

// SignOut ends a session.
func (s *Store) SignOut(ctx context.Context, session string) error {
	return translate(s.db.WithContext(ctx).Exec("DELETE FROM sessions WHERE hash = ?", hashOf(session)).Error)
}

// Empty removes everything but the schema; tests start with it.
func (s *Store) Empty(ctx context.Context) error {
	return translate(s.db.WithContext(ctx).Exec("TRUNCATE users, sign_in_links, sessions, models, revisions, scenarios, runs RESTART IDENTITY CASCADE").Error)
}
