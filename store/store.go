// Package store keeps the service's records in PostgreSQL through GORM: people,
// workspaces, models with every revision, scenarios, variants, runs with their
// parts and results, tokens, the audit trail.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	gormpg "gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Errors that callers tell apart.
var (
	ErrNotFound         = errors.New("not found")
	ErrConflict         = errors.New("conflict")
	ErrTooMany          = errors.New("too many")
	ErrRevisionConflict = errors.New("stale") // another revision has been saved meanwhile
	ErrUnavailable      = errors.New("the database cannot be reached")
	ErrLastAdmin        = errors.New("the last administrator")
	ErrDiskFull         = errors.New("the disk of the database is full")
	ErrNewer            = errors.New("a later version of Iron Weir has used this database")
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
	config.ConnConfig.ConnectTimeout = 5 * time.Second
	unbounded := config.Copy() // bringing the schema up to date may take long
	// A statement that hangs ends, and so does a transaction that was left open.
	config.ConnConfig.RuntimeParams["statement_timeout"] = "30s"
	config.ConnConfig.RuntimeParams["lock_timeout"] = "15s"
	config.ConnConfig.RuntimeParams["idle_in_transaction_session_timeout"] = "60s"
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	sqlDB := stdlib.OpenDBFromPool(pool)
	db, err := gorm.Open(
		gormpg.New(gormpg.Config{Conn: sqlDB}),
		&gorm.Config{Logger: logger.Discard, TranslateError: true},
	)
	if err != nil {
		pool.Close()
		return nil, err
	}
	s := &Store{pool, db}
	if err := migrate(ctx, unbounded); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// migrate brings the schema up to date, that of the job queue too; two that
// start at once take turns. A schema that a later version has made is refused.
func migrate(ctx context.Context, config *pgxpool.Config) error {
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return err
	}
	defer pool.Close()
	folder, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return err
	}
	sqlDB := stdlib.OpenDBFromPool(pool)
	defer sqlDB.Close()
	provider, err := goose.NewProvider(goose.DialectPostgres, sqlDB, folder, goose.WithSessionLocker(locker))
	if err != nil {
		return err
	}
	sources := provider.ListSources()
	ours := sources[len(sources)-1].Version
	if theirs, err := provider.GetDBVersion(ctx); err != nil {
		return fmt.Errorf("the version of the schema: %w", err)
	} else if theirs > ours {
		return fmt.Errorf("%w: its schema is of version %d, this program knows versions to %d; use the program that made it, or a later one",
			ErrNewer, theirs, ours)
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bringing the schema up to date: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(pool), nil)
	if err != nil {
		return err
	}
	conn, err := pool.Acquire(ctx)
	if err != nil {
		return err
	}
	raw := conn.Hijack() // the lock goes with the connection
	defer raw.Close(context.WithoutCancel(ctx))
	if _, err := raw.Exec(ctx, "SELECT pg_advisory_lock($1)", migrationLock); err != nil {
		return err
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("bringing the job queue's schema up to date: %w", err)
	}
	return nil
}

// migrationLock is the advisory lock that those who migrate the job queue take.
const migrationLock = 0x1203_3e17

// Close closes all connections.
func (s *Store) Close() { s.pool.Close() }

// Pool gives the connections, for the job queue and for listening.
func (s *Store) Pool() *pgxpool.Pool { return s.pool }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	return mapError(s.pool.Ping(ctx))
}

// known are the errors that callers tell apart, and pass unchanged.
var known = []error{
	ErrNotFound,
	ErrConflict,
	ErrRevisionConflict,
	ErrLastAdmin,
	ErrKeyReused,
	errRepeated,
	context.Canceled,
}

// mapError turns database errors into the ones that callers tell apart.
func mapError(err error) error {
	if err == nil {
		return nil
	}
	for _, k := range known {
		if errors.Is(err, k) {
			return err
		}
	}
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return ErrConflict
	case diskFull(err):
		return fmt.Errorf("%w: %w: %w", ErrUnavailable, ErrDiskFull, err)
	case unavailable(err):
		return fmt.Errorf("%w: %w", ErrUnavailable, err)
	}
	return err
}

// diskFull reports whether PostgreSQL says that it has no room left.
func diskFull(err error) bool {
	var server *pgconn.PgError
	return errors.As(err, &server) && server.Code == "53100"
}

// outages are the classes of SQLSTATE by which PostgreSQL says that it cannot serve now:
// connection exceptions, insufficient resources, and operator intervention.
// The lock that is not given in time is one of another class.
var outages = []string{"08", "53", "57", "55P03"}

// closed are what the driver says of a connection that has gone; it has no values for them.
var closed = []string{"conn closed", "closed pool"}

// unavailable reports whether an error means that the database cannot be reached or does
// not serve now, so that trying again later may help. Every other error is a fault of ours.
func unavailable(err error) bool {
	var server *pgconn.PgError
	if errors.As(err, &server) {
		return slices.ContainsFunc(outages, func(class string) bool { return strings.HasPrefix(server.Code, class) })
	}
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) || errors.Is(err, context.DeadlineExceeded) ||
		errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, net.ErrClosed) ||
		pgconn.SafeToRetry(err) ||
		slices.ContainsFunc(closed, func(words string) bool { return strings.Contains(err.Error(), words) })
}
