package service_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// as gives the same service for somebody who is not signed in.
func (r *running) as() *running {
	jar, err := cookiejar.New(nil)
	require.NoError(r, err)
	return &running{r.T, r.url, r.records, r.store, &http.Client{Jar: jar, Timeout: patience}}
}

// TestPasswords are chosen, changed, and end other sessions.
func TestPasswords(t *testing.T) {
	r := startWith(t, 0).signIn()
	needs, err := r.store.NeedsAdmin(context.Background())
	require.NoError(t, err)
	require.True(t, needs, "until somebody who administers has a password, the start command lets one in")
	r.do("PUT", "/api/v1/session/password", map[string]string{"password": "too short"}, 422)
	r.do("PUT", "/api/v1/session/password", map[string]string{"password": "gulls over the slip"}, 204)
	needs, err = r.store.NeedsAdmin(context.Background())
	require.NoError(t, err)
	require.False(t, needs)

	other := r.as()
	other.do("POST", "/api/v1/session", map[string]string{"name": "admin", "password": "gulls"}, 401)
	other.do("POST", "/api/v1/session", map[string]string{"name": "no-such", "password": "gulls over the slip"}, 401)
	other.do("POST", "/api/v1/session", map[string]string{"name": "admin", "password": "gulls over the slip"}, 200)
	r.do("PUT", "/api/v1/session/password", map[string]string{"password": "terns over the slip"}, 403)
	r.do(
		"PUT",
		"/api/v1/session/password",
		map[string]string{"before": "gulls over the slip", "password": "terns over the slip"},
		204,
	)
	r.do("GET", "/api/v1/session", nil, 200)
	other.do("GET", "/api/v1/session", nil, 401)
}

// TestTokensReachAsFarAsTheySay: at most their role, only their workspace, until
// they run out or are revoked; and only their hash is kept.
func TestTokensReachAsFarAsTheySay(t *testing.T) {
	r := startWith(t, 0).signIn()
	r.do("POST", "/api/v1/workspaces", map[string]string{"name": "other"}, 201)
	token := func(body map[string]any) (*running, float64, string) {
		body["name"] = "t"
		made := r.do("POST", "/api/v1/tokens", body, 201)
		secret := made["secret"].(string)
		require.True(t, strings.HasPrefix(secret, store.TokenPrefix))
		return r.as(), made["id"].(float64), "Bearer " + secret
	}
	reader, id, secret := token(map[string]any{"role": "viewer", "workspace": "main"})
	reader.do("GET", "/api/v1/workspaces/main/models", nil, 200, "Authorization", secret)
	reader.do("DELETE", "/api/v1/workspaces/main/models/kittiwake", nil, 403, "Authorization", secret)
	reader.do("GET", "/api/v1/workspaces/other/models", nil, 404, "Authorization", secret)
	reader.do("GET", "/api/v1/users", nil, 403, "Authorization", secret)
	require.Len(t, reader.do("GET", "/api/v1/workspaces", nil, 200, "Authorization", secret)["items"], 1)
	admin, _, all := token(map[string]any{"role": "admin"})
	admin.do("GET", "/api/v1/users", nil, 200, "Authorization", all)
	admin.do("POST", "/api/v1/tokens", map[string]any{"name": "more", "role": "admin"}, 403, "Authorization", all)
	reader.do("GET", "/api/v1/workspaces", nil, 401, "Authorization", "Basic YWRtaW46")
	listed := fmt.Sprint(r.do("GET", "/api/v1/tokens", nil, 200)["items"])
	require.NotContains(t, listed, secret[len("Bearer "):])

	r.do("DELETE", fmt.Sprintf("/api/v1/tokens/%.0f", id), nil, 204)
	reader.do("GET", "/api/v1/workspaces/main/models", nil, 401, "Authorization", secret)
	user, err := r.store.CreateUser(context.Background(), "skerry", true, store.Idempotency{})
	require.NoError(t, err)
	past, _, err := r.store.CreateToken(context.Background(), user, "t", "admin", nil, -time.Second)
	require.NoError(t, err)
	reader.do("GET", "/api/v1/workspaces", nil, 401, "Authorization", "Bearer "+past)
}

// TestSomebodyAlwaysAdministers, and what was changed stands in the audit trail.
func TestSomebodyAlwaysAdministers(t *testing.T) {
	r := startWith(t, 0).signIn()
	r.do("PATCH", "/api/v1/users/admin", map[string]bool{"admin": false}, 409)
	r.do("DELETE", "/api/v1/users/admin", nil, 409)
	r.do("POST", "/api/v1/users", map[string]any{"name": "skerry", "admin": true}, 201)
	r.do("POST", "/api/v1/users", map[string]any{"name": "skerry"}, 409)
	r.do("PATCH", "/api/v1/users/skerry", map[string]bool{"admin": false}, 200)
	r.do("PUT", "/api/v1/workspaces/main/members/skerry", map[string]string{"role": "editor"}, 204)
	r.do("PUT", "/api/v1/workspaces/main/members/skerry", map[string]string{"role": "captain"}, 422)
	trail := r.do("GET", "/api/v1/audit", nil, 200)["items"].([]any)
	said := []string{}
	for _, e := range trail {
		entry := e.(map[string]any)
		said = append(said, fmt.Sprint(entry["who"], " ", entry["action"], " ", entry["object"]))
	}
	require.Subset(
		t,
		said,
		[]string{
			"admin create-user skerry",
			"admin change-user skerry",
			"admin set-member skerry editor",
			"ironweir create-model kittiwake",
		},
	)
	require.NotContains(t, strings.Join(said, "\n"), "admin delete-user admin", "what was refused did not happen")
}

// TestHostileModelsHarmNothing: each is refused or answered, soon, and nothing of
// it comes back as markup.
func TestHostileModelsHarmNothing(t *testing.T) {
	r := start(t).signIn()
	bomb := "a: &a [x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c < 'l'; c++ {
		bomb += fmt.Sprintf(
			"%c: &%c [*%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c]\n",
			c,
			c,
			c-1,
			c-1,
			c-1,
			c-1,
			c-1,
			c-1,
			c-1,
			c-1,
			c-1,
		)
	}
	huge := strings.Builder{}
	huge.WriteString("ironweir: topology/1\nname: huge\nnodes:\n")
	for i := range 5_000 {
		fmt.Fprintf(&huge, "  n%d: {kind: queue, links: {to: {to: n%d}}}\n", i, (i+1)%5_000)
	}
	for name, text := range map[string]string{
		"aliases":    bomb,
		"nesting":    strings.Repeat("[", 100_000),
		"mappings":   strings.Repeat("{a: ", 50_000),
		"path names": "ironweir: topology/1\nname: ../../etc/passwd\nnodes: {\"../../x\": {kind: queue}}\n",
		"parts":      "ironweir: topology/1\nname: p\nparts: {a: /etc/passwd}\nnodes: {q: {kind: queue}}\n",
		"expression": "ironweir: topology/1\nname: e\nnodes:\n  q: {kind: queue, links: {f: {when: \"" + strings.Repeat("[1,2,3].all(x, ", 40) + "true" + strings.Repeat(")", 40) + "\"}}}\n  f: {kind: function}\n",
		"empty":      "", "control": "ironweir: topology/1\x00\x01", "not text": "\xff\xfe\xfd",
	} {
		answer := r.do("POST", "/api/v1/check", map[string]any{"text": text}, 422)
		require.NotEmpty(t, answer["detail"], name)
	}
	r.http.Timeout = patience
	var several sync.WaitGroup // which take turns, while a small one is answered meanwhile
	for range 3 {
		several.Add(1)
		go func() {
			defer several.Done()
			answer, err := r.http.Post(
				r.url+"/api/v1/check",
				"application/json",
				strings.NewReader(fmt.Sprintf(`{"text": %q}`, huge.String())),
			)
			if assert.NoError(t, err) {
				assert.Contains(t, []int{200, 422, 429}, answer.StatusCode) // done, ended, or refused for now
				answer.Body.Close()
			}
		}()
	}
	require.Eventually(t, func() bool { // on a slow machine it is refused at first: one person has two slots
		answer, err := r.http.Post(r.url+"/api/v1/check", "application/json",
			strings.NewReader(`{"text": "ironweir: topology/1\nname: small\nnodes: {q: {kind: queue}}\n"}`))
		require.NoError(t, err)
		answer.Body.Close()
		return answer.StatusCode == 200
	}, patience, 50*time.Millisecond)
	several.Wait()
	req, err := http.NewRequest(
		"POST",
		r.url+"/api/v1/check",
		strings.NewReader(fmt.Sprintf(`{"text": %q}`, huge.String())),
	)
	require.NoError(t, err)
	req.Header.Set("Content-Type", "application/json")
	answer, err := r.http.Do(req)
	require.NoError(t, err)
	answer.Body.Close()
	require.Less(t, answer.StatusCode, 500)

	script := `<script>alert(1)</script><img src=x onerror=alert(1)>`
	text := fmt.Sprintf(
		"ironweir: topology/1\nname: scripted\nabout: %q\nnodes:\n  q: {kind: queue, about: %q, owner: %q, rate: 1/m, links: {f: {}}}\n  f: {kind: function, about: %q}\n",
		script,
		script,
		script,
		script,
	)
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{"name": "scripted", "text": text, "note": script},
		201,
	)
	r.do(
		"PUT",
		"/api/v1/workspaces/main/models/scripted/scenarios/s",
		map[string]string{"text": fmt.Sprintf("ironweir: scenario/1\nname: %q\nlength: 1h\n", script)},
		204,
	)
	run := r.do("POST", "/api/v1/workspaces/main/models/scripted/runs", map[string]string{"scenario": "s"}, 202)
	path := fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"])
	r.untilState(path, "done")
	report := r.page(path + "/report")
	require.NotContains(t, report, "<script>alert")
	require.NotContains(t, report, "<img src=x")
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "../x", "text": smallModel}, 422)
}

func (r *running) page(path string) string {
	r.Helper()
	answer, err := r.http.Get(r.url + path)
	require.NoError(r, err)
	defer answer.Body.Close()
	require.Equal(r, 200, answer.StatusCode)
	var out strings.Builder
	buffer := make([]byte, 1<<16)
	for {
		n, err := answer.Body.Read(buffer)
		out.Write(buffer[:n])
		if err != nil {
			return out.String()
		}
	}
}

// TestWhatIsTooLargeIsRefused, whatever it is.
func TestWhatIsTooLargeIsRefused(t *testing.T) {
	r := startWith(t, 0).signIn()
	r.do("POST", "/api/v1/check", map[string]string{"text": strings.Repeat("#", 18<<20)}, 413)
	answer := r.do("GET", "/api/v1/workspaces/main/models", nil, 200, "X-Request-Id", "<script>")
	require.NotContains(t, answer[""].(http.Header).Get("X-Request-Id"), "<")
	answer = r.do("GET", "/api/v1/workspaces/main/models", nil, 200, "X-Request-Id", "tide-7")
	require.Equal(t, "tide-7", answer[""].(http.Header).Get("X-Request-Id"))
}

// TestOperatorsSeeHowItStands, without signing in.
func TestOperatorsSeeHowItStands(t *testing.T) {
	r := start(t).signIn()
	require.Eventually(
		t,
		func() bool { return strings.Contains(r.page("/metrics"), "ironweir_workers 1") },
		patience,
		50*time.Millisecond,
	)
	metrics := r.page("/metrics")
	for _, line := range []string{"ironweir_database_up 1", `ironweir_runs{state="done"} 0`, `ironweir_run_parts{state="queued"} 0`, "ironweir_worker_slots 2", "ironweir_http_request_seconds_bucket"} {
		require.Contains(t, metrics, line)
	}
	require.Equal(t, "ok\n", r.page("/healthz"))
	require.Equal(t, "ready\n", r.page("/readyz"))
}
