package service_test

import (
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestFilesOfEveryFormatComeIn as models.
func TestFilesOfEveryFormatComeIn(t *testing.T) {
	r := start(t).signIn()
	read := func(file string) string {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		return base64.StdEncoding.EncodeToString(text)
	}
	for file, format := range map[string]string{"../demo/kittiwake.yaml": "model", "../demo/import/harbour-lamps.asyncapi.yaml": "asyncapi", "../demo/import/quay-traces.jsonl": "otlp"} {
		in := r.do("POST", "/api/v1/import", map[string]any{"name": file, "content": read(file)}, 200)
		require.Equal(t, format, in["format"], file)
		require.Equal(t, format == "model", len(in["missing"].([]any)) == 0)
		r.do("POST", "/api/v1/check", map[string]any{"text": in["text"]}, 200)
		if format == "otlp" {
			r.do("POST", "/api/v1/workspaces/main/models", map[string]any{"name": "learned", "text": in["text"]}, 201)
			r.do(
				"PUT",
				"/api/v1/workspaces/main/models/learned/scenarios/observed",
				map[string]any{"text": in["scenario"]},
				204,
			)
		}
	}
	bad := r.do(
		"POST",
		"/api/v1/import",
		map[string]any{"name": "a.csv", "content": base64.StdEncoding.EncodeToString([]byte("a,b\n"))},
		422,
	)
	require.Contains(t, bad["detail"], `no column "record"`)
	r.do("POST", "/api/v1/import", map[string]any{"name": "a.csv", "content": "%%"}, 422)
}

// TestTwoEditsComeTogether: what mine changed is written into theirs; what both changed is listed.
func TestTwoEditsComeTogether(t *testing.T) {
	r := start(t).signIn()
	text := func(node, lease string) string {
		return "ironweir: topology/1\nname: slip\nnodes:\n  consignments: {kind: queue, lease: " + lease + "}\n" + node
	}
	out := r.do("POST", "/api/v1/merge", map[string]any{
		"base": text("", "60s"), "mine": text("", "90s"), "theirs": text("  mail: {kind: queue} # new\n", "30s"),
	}, 200)
	require.Equal(t, text("  mail: {kind: queue} # new\n", "90s"), out["text"])
	require.Equal(t, []any{map[string]any{"path": "nodes.consignments.lease", "mine": "90s", "theirs": "30s"}}, out["clashes"])
	broken := map[string]any{"base": text("", "60s"), "mine": "nodes: [", "theirs": text("", "1s")}
	bad := r.do("POST", "/api/v1/merge", broken, 422)
	require.NotEmpty(t, bad["errors"])
}

// TestStartersAndDifferences: a starter is made a model; two texts are told apart.
func TestStartersAndDifferences(t *testing.T) {
	r := start(t).signIn()
	starters := r.do("GET", "/api/v1/starters", nil, 200)["starters"].([]any)
	require.GreaterOrEqual(t, len(starters), 14)
	for _, s := range starters {
		s := s.(map[string]any)
		require.Contains(t, s["picture"], "<svg")
		r.do("POST", "/api/v1/workspaces/main/models", map[string]any{"name": s["name"], "text": s["text"]}, 201)
		r.do(
			"PUT",
			fmt.Sprintf("/api/v1/workspaces/main/models/%s/scenarios/a-bad-day", s["name"]),
			map[string]any{"text": s["scenario"]},
			204,
		)
	}
	told := r.do(
		"POST",
		"/api/v1/diff",
		map[string]any{
			"before": small,
			"after":  "ironweir: topology/1\nname: small\nnodes:\n  q: {kind: queue, lease: 30s, links: {f: {}}}\n  f: {kind: function, takes: 1s}\n",
		},
		200,
	)
	require.Equal(t, []any{"d"}, told["changes"].(map[string]any)["nodes_removed"])
	require.NotEmpty(t, told["came"])
	require.NotEmpty(t, told["went"])
	bad := r.do("POST", "/api/v1/diff", map[string]any{"before": small, "after": "nodes: {}"}, 422)
	require.NotEmpty(t, bad["errors"])
}

// TestARunIsReported as one page to send on.
func TestARunIsReported(t *testing.T) {
	r := start(t).signIn()
	run := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "quiet-tuesday"},
		202,
	)
	path := fmt.Sprintf("/api/v1/workspaces/main/runs/%v", run["id"])
	require.Eventually(
		t,
		func() bool { return r.do("GET", path, nil, 200)["state"] == "done" },
		patience,
		50*time.Millisecond,
	)
	request, err := http.NewRequest("GET", r.url+path+"/report", nil)
	require.NoError(t, err)
	answer, err := r.http.Do(request)
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
	require.Contains(t, answer.Header.Get("Content-Disposition"), "kittiwake-run-")
	page, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.Contains(t, string(page), "Simulated: quiet-tuesday")
	require.Contains(t, string(page), "every expectation holds")
	r.do("GET", "/api/v1/workspaces/main/runs/999/report", nil, 404)
}
