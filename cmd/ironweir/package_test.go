package main

import (
	"context"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/document"
)

// TestThePackageIsInstalledAndStarted: a Debian package is made, installed below a folder by dpkg itself, and what its
// unit starts answers, with the variables that the unit sets; only the database is another. Manual page and
// completions are those of the program.
func TestThePackageIsInstalledAndStarted(t *testing.T) {
	if _, err := exec.LookPath("dpkg-deb"); err != nil {
		t.Skip("no Debian: there is no dpkg-deb")
	}
	dir, err := os.MkdirTemp("", "ironweir-package-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { os.RemoveAll(dir) })
	program := filepath.Join(dir, "ironweir")
	do := func(name string, arguments ...string) string {
		cmd := exec.Command(name, arguments...)
		cmd.Env = append(os.Environ(), "DEB_OPTIONS=-Zgzip -z1")
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", name, said)
		return string(said)
	}
	do("go", "build", "-ldflags", "-s -w", "-o", program, ".")
	architecture := strings.TrimSpace(do("dpkg", "--print-architecture"))
	do("sh", "../../deploy/debian.sh", program, architecture, document.Version, dir)
	file := filepath.Join(dir, "ironweir_"+document.Version+"_"+architecture+".deb")

	root := filepath.Join(dir, "root")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/updates"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(root, "var/lib/dpkg/info"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	do("dpkg", "--root="+root, "--force-not-root", "--install", file)
	require.Contains(t, do("dpkg", "--root="+root, "--status", "ironweir"), "Status: install ok installed")
	require.Contains(t, do(filepath.Join(root, "usr/bin/ironweir"), "version"), document.Version)
	for _, line := range strings.Split(strings.TrimSpace(do("dpkg-deb", "--contents", file)), "\n") {
		fields := strings.Fields(line)
		require.Equal(t, "root/root", fields[1], line)
		require.Contains(t, []string{"drwxr-xr-x", "-rw-r--r--", "-rwxr-xr-x"}, fields[0], line)
	}
	require.Contains(t, do("zcat", filepath.Join(root, "usr/share/man/man1/ironweir.1.gz")), "guarantees")
	if bash, err := exec.LookPath("bash"); err == nil {
		do(bash, "-n", filepath.Join(root, "usr/share/bash-completion/completions/ironweir"))
	}

	unit, err := os.ReadFile(filepath.Join(root, "usr/lib/systemd/system/ironweir.service"))
	require.NoError(t, err)
	start := regexp.MustCompile(`(?m)^ExecStart=(/usr/bin/ironweir) (.*)$`).FindStringSubmatch(string(unit))
	require.NotNil(t, start, "%s", unit)
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	service := exec.CommandContext(ctx, filepath.Join(root, start[1]), strings.Fields(start[2])...)
	service.Cancel = func() error { return service.Process.Signal(syscall.SIGTERM) }
	service.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	service.Env = os.Environ()
	for _, set := range regexp.MustCompile(`(?m)^Environment=(.*)$`).FindAllStringSubmatch(string(unit), -1) {
		if !strings.HasPrefix(set[1], "IRONWEIR_DATABASE=") {
			service.Env = append(service.Env, set[1])
		}
	}
	service.Env = append(service.Env, "IRONWEIR_LISTEN=127.0.0.1:0", "IRONWEIR_DATA="+filepath.Join(dir, "data"))
	var out, errOut lockedBuffer
	service.Stdout, service.Stderr = &out, &errOut
	require.NoError(t, service.Start())
	ended := make(chan error, 1)
	go func() { ended <- service.Wait() }()
	address := ""
	for address == "" {
		select {
		case err := <-ended:
			require.Fail(t, "it ended", "%v\n%s\n%s", err, out.String(), errOut.String())
		case <-time.After(50 * time.Millisecond):
			if strings.Contains(out.String(), "Ctrl-C") { // it has started
				address = regexp.MustCompile(`http://127\.0\.0\.1:[1-9]\d*`).FindString(out.String())
			}
		}
	}
	answer, err := http.Get(address + "/readyz")
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	require.Equal(t, http.StatusOK, answer.StatusCode)
	require.NoError(t, service.Process.Signal(syscall.SIGTERM), "as systemd stops it")
	require.NoError(t, <-ended, errOut.String())
}
