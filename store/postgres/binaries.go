// Package postgres starts a PostgreSQL server from Debian's packages as a child
// process, reachable only over a socket in a directory of its own; it backs databases up,
// and restores them.
package postgres

import (
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
)

// binaries finds the folder of the newest installed server.
func binaries() (string, error) {
	path := newest("postgres")
	if path == "" {
		return "", errors.New(
			"PostgreSQL is not installed; `make demo` and `make test` install it, as does `apt-get install postgresql`",
		)
	}
	return filepath.Dir(path), nil
}

// newest gives the path of a program of the newest version of PostgreSQL that Debian's packages have installed; empty:
// there is none.
func newest(program string) string {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/" + program)
	sort.Slice(found, func(i, j int) bool { return version(found[i]) < version(found[j]) })
	if len(found) == 0 {
		return ""
	}
	return found[len(found)-1]
}

// client finds a program for use with any server: it needs no server here.
func client(program string) (string, error) {
	if path := newest(program); path != "" {
		return path, nil
	}
	if path, err := exec.LookPath(program); err == nil {
		return path, nil
	}
	return "", fmt.Errorf("%s is not installed; Debian's package postgresql-client has it", program)
}

func version(path string) int {
	n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
	return n
}

func lastLine(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return lines[len(lines)-1]
}
