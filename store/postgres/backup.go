package postgres

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Backup writes all that a database holds to a file, with PostgreSQL's own tool,
// as it stands at one instant. The file appears when it is whole. It gives the
// file's size in bytes.
func Backup(ctx context.Context, url, file string) (int64, error) {
	partial := file + ".part"
	defer os.Remove(partial)
	if err := tool(ctx, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", "--file="+partial, "--dbname="+url); err != nil {
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
func Restore(ctx context.Context, url, file string) error {
	if _, err := os.Stat(file); err != nil {
		return err
	}
	conn, err := pgx.Connect(ctx, url)
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
	return tool(ctx, "pg_restore", "--no-owner", "--no-privileges", "--exit-on-error", "--single-transaction", "--dbname="+url, file)
}

func tool(ctx context.Context, name string, args ...string) error {
	bin, err := binaries()
	if err != nil {
		return err
	}
	out, err := exec.CommandContext(ctx, filepath.Join(bin, name), args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(string(out)))
	}
	return nil
}
