package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func deployed(t *testing.T, name string) string {
	text, err := os.ReadFile("../../deploy/" + name)
	require.NoError(t, err)
	return string(text)
}

// TestWhatIsDeployedIsUnderstood: the variables that the units and the image set
// are flags of the program, with values that it takes; systemd, where it is there,
// finds nothing wrong with the units.
func TestWhatIsDeployedIsUnderstood(t *testing.T) {
	found := 0
	for name, pattern := range map[string]string{"ironweir.service": `(?m)^Environment=(IRONWEIR_\w+)=(.*)$`, "Dockerfile": `(IRONWEIR_\w+)=(\S+)`} {
		t.Run(name, func(t *testing.T) {
			text := deployed(t, name)
			if name == "Dockerfile" {
				text = regexp.MustCompile(`(?m)^ENV IRONWEIR.*$`).FindString(text)
			}
			set := regexp.MustCompile(pattern).FindAllStringSubmatch(text, -1)
			for _, s := range set {
				t.Setenv(s[1], s[2])
			}
			var out bytes.Buffer
			require.Equal(
				t,
				exitFine,
				Main(context.Background(), []string{"serve", "-show-config"}, nil, &out, &out),
				out.String(),
			)
			for _, s := range set {
				require.Regexp(t, regexp.QuoteMeta(s[1])+` += `+regexp.QuoteMeta(s[2]), out.String())
				found++
			}
		})
	}
	require.GreaterOrEqual(t, found, 6)
	for _, name := range []string{"ironweir.service", "ironweir-worker@.service"} {
		command := regexp.MustCompile(`(?m)^ExecStart=/usr/local/bin/ironweir (\w+)$`).FindStringSubmatch(
			deployed(t, name),
		)
		require.NotNil(t, command, name)
		var out bytes.Buffer
		require.Equal(t, exitFine, Main(context.Background(), []string{command[1], "-h"}, nil, &out, &out))
	}
	if program, err := exec.LookPath("systemd-analyze"); err == nil {
		dir := t.TempDir()
		for from, to := range map[string]string{"ironweir.service": "ironweir.service", "ironweir-worker@.service": "ironweir-worker@1.service"} {
			file := filepath.Join(dir, to)
			require.NoError(
				t,
				os.WriteFile(
					file,
					[]byte(strings.ReplaceAll(deployed(t, from), "/usr/local/bin/ironweir", "/bin/true")),
					0o644,
				),
			)
			said, err := exec.Command(program, "verify", file).CombinedOutput()
			require.NoError(t, err, "%s", said)
			require.Empty(t, string(said), from)
		}
	}
}

// TestAlerts: each alert fires when it should, and no other time, by Prometheus's own tool
// and the cases in deploy/alerts_test.yaml, which notice where an alert never fires, or always.
func TestAlerts(t *testing.T) {
	tool, err := exec.LookPath("promtool")
	if err != nil {
		tool, err = filepath.Abs("../../bin/promtool") // of `make need-tests`
		require.NoError(t, err)
	}
	alerts, cases := deployed(t, "alerts.yaml"), deployed(t, "alerts_test.yaml")
	judge := func(alerts string) (string, error) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, "alerts.yaml"), []byte(alerts), 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "cases.yaml"), []byte(cases), 0o600))
		out, err := exec.Command(tool, "test", "rules", filepath.Join(dir, "cases.yaml")).CombinedOutput()
		return string(out), err
	}
	out, err := judge(alerts)
	require.NoError(t, err, out)
	exprs := regexp.MustCompile(`(?m)^ *- alert: (\w+)\n *expr: (.*)$`).FindAllStringSubmatch(alerts, -1)
	require.Equal(t, strings.Count(alerts, "- alert:"), len(exprs))
	for _, e := range exprs {
		for _, other := range []string{"vector(1) > 1", "vector(1) > 0"} {
			_, err := judge(strings.Replace(alerts, "expr: "+e[2], "expr: "+other, 1))
			require.Error(t, err, "%s: %s", e[1], other)
		}
	}
}

// TestWhatIsWatchedIsThere: every number that an alert watches is one that the
// service gives, and the image's health check asks the service itself.
func TestWhatIsWatchedIsThere(t *testing.T) {
	s := serve(t)
	_, err := http.Get(s.url + "/api/openapi.json") // a first request to be counted
	require.NoError(t, err)
	var metrics []byte
	require.Eventually(t, func() bool { // a request is counted once it has been answered
		answer, err := http.Get(s.url + "/metrics")
		require.NoError(t, err)
		defer answer.Body.Close()
		metrics, err = io.ReadAll(answer.Body)
		require.NoError(t, err)
		return strings.Contains(string(metrics), "ironweir_http_requests_total{") &&
			strings.Contains(string(metrics), "ironweir_http_request_seconds_count{")
	}, patience, 50*time.Millisecond)
	names := regexp.MustCompile(`\b(?:ironweir|process|go)_[a-z_]+`).FindAllString(
		regexp.MustCompile(`(?m)^ *expr: (.*)$`).ReplaceAllString(
			strings.Join(regexp.MustCompile(`(?m)^ *expr: .*$`).FindAllString(deployed(t, "alerts.yaml"), -1), "\n"),
			"$1",
		),
		-1,
	)
	require.GreaterOrEqual(t, len(names), 5)
	for _, counted := range regexp.MustCompile(`\b(rate|increase|delta|deriv)\(([a-z_]+)`).FindAllStringSubmatch(
		deployed(t, "alerts.yaml"), -1) { // what only grows has a rate, a gauge has none
		kind := "gauge"
		if counted[1] == "rate" || counted[1] == "increase" {
			kind = "counter"
			if strings.HasSuffix(counted[2], "_bucket") {
				kind = "histogram"
			}
		}
		base := strings.TrimSuffix(counted[2], "_bucket")
		require.Contains(t, string(metrics), "# TYPE "+base+" "+kind+"\n", counted[0])
	}
	for _, name := range names {
		base := strings.TrimSuffix(strings.TrimSuffix(strings.TrimSuffix(name, "_bucket"), "_count"), "_sum")
		require.Contains(t, string(metrics), "# TYPE "+base+" ", "an alert watches %s", name)
	}

	var check []string
	line := regexp.MustCompile(`(?m)^HEALTHCHECK .* CMD (\[.*\])$`).FindStringSubmatch(deployed(t, "Dockerfile"))
	require.NotNil(t, line)
	require.NoError(t, json.Unmarshal([]byte(line[1]), &check))
	port := s.url[strings.LastIndex(s.url, ":")+1:]
	asks := func(port string) error {
		return exec.Command(check[0], check[1], strings.ReplaceAll(check[2], "8420", port)).Run()
	}
	require.NoError(t, asks(port))
	require.Error(t, asks("1"), "nobody listens there")
}
