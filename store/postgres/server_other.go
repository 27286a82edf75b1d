//go:build !linux

package postgres

import (
	"context"
	"errors"
	"runtime"
)

// Server is a running server, which there is on Linux alone.
type Server struct {
	URL string
}

// Start says that this system has no built-in database.
func Start(context.Context, string) (*Server, error) {
	return nil, errors.New("the built-in database runs on Linux alone, not on " + runtime.GOOS +
		"; name a PostgreSQL with -database postgres://…")
}

// Supervise has nothing to do.
func (s *Server) Supervise(context.Context, func(what string, err error)) {}

// Stop has nothing to do.
func (s *Server) Stop() {}
