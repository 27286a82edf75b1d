package postgres

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Backup writes all that a database holds to a file, with PostgreSQL's own tool,
// as it stands at one instant. The file appears when it is whole. It gives the
// file's size in bytes.
func Backup(ctx context.Context, database, file string) (int64, error) {
	partial := file + ".part"
	defer os.Remove(partial)
	// It holds hashes of passwords: nobody else may read it, not even while it is written.
	made, err := os.OpenFile(partial, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return 0, err
	}
	if err := errors.Join(made.Chmod(0o600), made.Close()); err != nil {
		return 0, err
	}
	if err := tool(ctx, database, "pg_dump", "--format=custom", "--no-owner", "--no-privileges",
		"--file="+partial); err != nil {
		return 0, err
	}
	f, err := os.OpenFile(partial, os.O_RDWR, 0)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return 0, err
	}
	info, err := f.Stat()
	if err != nil {
		return 0, err
	}
	return info.Size(), os.Rename(partial, file)
}

// Restore reads a backup into a database, all of it or nothing. A database that
// holds anything is refused.
func Restore(ctx context.Context, database, file string) error {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var tables int
	if err := conn.QueryRow(ctx, "SELECT count(*) FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', 'information_schema')").Scan(&tables); err != nil {
		return err
	}
	if tables > 0 {
		return fmt.Errorf("the database holds %d tables already; a backup is read into an empty one", tables)
	}
	return tool(
		ctx,
		database,
		"pg_restore",
		"--no-owner",
		"--no-privileges",
		"--exit-on-error",
		"--single-transaction",
		file,
	)
}

// tool runs a program of PostgreSQL on a database. The password goes by the environment,
// since everybody on a machine can read what programs are started with.
func tool(ctx context.Context, database, name string, args ...string) error {
	address, password, err := withoutPassword(database)
	if err != nil {
		return err
	}
	program, err := client(name)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, program, append([]string{"--dbname=" + address}, args...)...)
	if cmd.Env = os.Environ(); password != "" {
		cmd.Env = append(cmd.Env, "PGPASSWORD="+password)
	}
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}

// withoutPassword takes the password out of the address of a database.
func withoutPassword(database string) (address, password string, err error) {
	u, err := url.Parse(database)
	if err != nil || u.Scheme != "postgres" && u.Scheme != "postgresql" {
		return "", "", errors.New(
			"the database is named by an address such as postgres://weir@/weir?host=/run/postgresql",
		)
	}
	if u.User != nil {
		password, _ = u.User.Password()
		u.User = url.User(u.User.Username())
	}
	query := u.Query()
	if given := query.Get("password"); given != "" {
		password = given
		query.Del("password")
		u.RawQuery = query.Encode()
	}
	return u.String(), password, nil
}
