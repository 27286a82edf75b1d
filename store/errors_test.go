package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"
)

// TestOutagesAreRecognised: only what says that the database does not serve now is tried
// again; a fault of ours is one, and keeps its cause.
func TestOutagesAreRecognised(t *testing.T) {
	refused := &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("connection refused")}
	for _, err := range []error{
		refused, io.EOF, fmt.Errorf("reading: %w", io.ErrUnexpectedEOF), context.DeadlineExceeded, errors.New("conn closed"), errors.New("closed pool"),
		&pgconn.PgError{Code: "57P01"}, &pgconn.PgError{Code: "57P03"}, &pgconn.PgError{Code: "53300"}, &pgconn.PgError{Code: "53100"}, &pgconn.PgError{Code: "08006"},
	} {
		require.ErrorIs(t, mapError(fmt.Errorf("saving: %w", err)), ErrUnavailable, "%v", err)
		require.ErrorIs(t, mapError(err), err, "the cause stays")
	}
	for _, err := range []error{errors.New("a nil map"), &pgconn.PgError{Code: "42703"}, &pgconn.PgError{Code: "23503"}, &pgconn.PgError{}, context.Canceled, ErrLastAdmin} {
		require.NotErrorIs(t, mapError(err), ErrUnavailable, "%v", err)
		require.ErrorIs(t, mapError(err), err)
	}
	require.NoError(t, mapError(nil))
	require.ErrorIs(t, mapError(gorm.ErrRecordNotFound), ErrNotFound)
	require.ErrorIs(t, mapError(gorm.ErrDuplicatedKey), ErrConflict)
}
