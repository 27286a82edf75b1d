package service_test

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/sim"
	"ironweir/jobs"
	"ironweir/observation"
	"ironweir/service"
	"ironweir/service/isolation"
	"ironweir/store"
	"ironweir/store/postgres"
)

// database is the real PostgreSQL that all tests of this package share: each has a database
// of its own there, copied from one that holds the demo.
var database *postgres.Server

func TestMain(m *testing.M) {
	if url := os.Getenv("IRONWEIR_TEST_WORK_ON"); url != "" { // a worker of the tests in a process of its own
		os.Exit(workOn(url))
	}
	if isolation.IsChild() {
		if err := service.RunIsolated(command); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "ironweir-test-")
		if err != nil {
			panic(err)
		}
		defer os.RemoveAll(dir)
		os.Chmod(dir, 0o755) // the database's user must be able to enter it
		if database, err = postgres.Start(context.Background(), dir+"/pg"); err != nil {
			fmt.Fprintln(os.Stderr, "the tests need a PostgreSQL:", err)
			return 1
		}
		defer func() { database.Stop() }()
		var end context.CancelFunc
		whileTesting, end = context.WithCancel(context.Background())
		defer end()
		return m.Run()
	}())
}

// whileTesting ends with the tests.
var whileTesting context.Context

// command stands for the commands of the program.
func command(_ context.Context, name string, c service.Command, _ sim.Limits) service.Outcome {
	return service.Outcome{Wants: []string{}, Out: []byte(name), Files: map[string][]byte{}}
}

// running is a service on loopback with its store.
type running struct {
	*testing.T
	url     string
	records string // address of the database
	store   *store.Store
	http    *http.Client
}

// demo makes a database that holds the demo, once, and gives its name.
var demo = sync.OnceValues(func() (string, error) {
	address, err := create("demo", "template0")
	if err != nil {
		return "", err
	}
	ctx := context.Background()
	s, err := store.Open(ctx, address)
	if err != nil {
		return "", err
	}
	defer s.Close()
	return "demo", service.LoadDemo(ctx, s)
})

// databases counts those that tests have made.
var databases atomic.Int64

// create makes a database as a copy of another and gives its address.
func create(name, template string) (string, error) {
	db, err := sql.Open("pgx", database.URL)
	if err != nil {
		return "", err
	}
	defer db.Close()
	if _, err = db.Exec("CREATE DATABASE " + name + " TEMPLATE " + template); err != nil {
		return "", err
	}
	address, err := url.Parse(database.URL)
	if err != nil {
		return "", err
	}
	address.Path = "/" + name
	return address.String(), nil
}

// another makes a database as a copy of another, which is dropped when the test ends, and
// gives its address.
func another(t *testing.T, template string) string {
	t.Helper()
	name := fmt.Sprintf("test_%d", databases.Add(1))
	address, err := create(name, template)
	require.NoError(t, err)
	t.Cleanup(func() {
		db, err := sql.Open("pgx", database.URL)
		require.NoError(t, err)
		defer db.Close()
		_, err = db.Exec("DROP DATABASE " + name + " WITH (FORCE)")
		require.NoError(t, err)
	})
	return address
}

// start starts a service with the demo in a database of its own, and a worker.
func start(t *testing.T) *running {
	t.Helper()
	return startWith(t, 2)
}

// startWith starts a service whose worker has so many slots; with none, it has
// no worker.
func startWith(t *testing.T, slots int, change ...func(*service.Options)) *running {
	t.Helper()
	return startLogging(t, io.Discard, slots, change...)
}

// startLogging starts a service that logs all that it can to a writer.
func startLogging(t *testing.T, to io.Writer, slots int, change ...func(*service.Options)) *running {
	t.Helper()
	template, err := demo()
	require.NoError(t, err)
	records := another(t, template)
	ctx, cancel := context.WithCancel(context.Background())
	s, err := store.Open(ctx, records)
	require.NoError(t, err)
	log := slog.New(slog.NewTextHandler(to, &slog.HandlerOptions{Level: slog.LevelDebug}))
	queue, err := jobs.NewQueue(s, log)
	require.NoError(t, err)
	var work sync.WaitGroup
	work.Add(2)
	go func() { defer work.Done(); queue.Relay(ctx) }()
	if slots > 0 {
		work.Add(1)
		go func() { defer work.Done(); jobs.NewWorker(queue, slots, log).Run(ctx) }()
	}
	options := service.Options{
		Commands: command,
		Program:  []string{os.Args[0], os.Args[0]},
	}
	for _, c := range change {
		c(&options)
	}
	handler := service.New(s, queue, log, options)
	keeper := &observation.Keeper{
		Store: s, Log: log, Quiet: time.Millisecond, Every: 50 * time.Millisecond, Work: handler.Work(),
	}
	go func() { defer work.Done(); keeper.Run(ctx) }()
	server := httptest.NewServer(handler)
	t.Cleanup(func() {
		cancel()
		handler.Close()
		server.CloseClientConnections()
		server.Close()
		work.Wait()
		s.Close()
	})
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &running{t, server.URL, records, s, &http.Client{Jar: jar, Timeout: patience}}
}

func (r *running) signIn() *running {
	r.Helper()
	secret, err := r.store.FirstAdminLink(context.Background(), "admin", time.Hour)
	require.NoError(r, err)
	r.do("POST", "/api/v1/session", map[string]string{"secret": secret}, 200)
	return r
}

// do sends a request and checks its status; it gives the decoded answer.
func (r *running) do(method, path string, body any, status int, headers ...string) map[string]any {
	r.Helper()
	text, err := json.Marshal(body)
	require.NoError(r, err)
	req, err := http.NewRequest(method, r.url+path, bytes.NewReader(text))
	require.NoError(r, err)
	req.Header.Set("Content-Type", "application/json")
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	answer, err := r.http.Do(req)
	require.NoError(r, err)
	defer answer.Body.Close()
	got, err := io.ReadAll(answer.Body)
	require.NoError(r, err)
	require.Equal(r, status, answer.StatusCode, "%s %s: %s", method, path, got)
	out := map[string]any{"": answer.Header}
	if len(got) > 0 && got[0] == '{' {
		require.NoError(r, json.Unmarshal(got, &out))
	}
	return out
}

func TestSignInLinkWorksOnce(t *testing.T) {
	r := start(t)
	r.do("GET", "/api/v1/workspaces/main/models", nil, 401)
	secret, err := r.store.FirstAdminLink(context.Background(), "admin", time.Hour)
	require.NoError(t, err)
	answer := r.do("POST", "/api/v1/session", map[string]string{"secret": secret}, 200)
	cookie := answer[""].(http.Header).Get("Set-Cookie")
	require.Contains(t, cookie, "HttpOnly")
	require.Contains(t, cookie, "SameSite=Strict")
	r.do("POST", "/api/v1/session", map[string]string{"secret": secret}, 401)
	require.Equal(t, "admin", r.do("GET", "/api/v1/session", nil, 200)["name"])
	r.do("DELETE", "/api/v1/session", nil, 204)
	r.do("GET", "/api/v1/session", nil, 401)
}

// TestGuessingIsSlowedDown: passwords are tried ten times a minute at an account and from
// an address, however many come at once; secrets of one-time links cannot be guessed, and
// wrong ones lock nobody out.
func TestGuessingIsSlowedDown(t *testing.T) {
	r := start(t)
	secret, err := r.store.FirstAdminLink(context.Background(), "admin", time.Hour)
	require.NoError(t, err)
	for range 30 {
		r.do("POST", "/api/v1/session", map[string]string{"secret": "guess"}, 401)
	}
	r.do("POST", "/api/v1/session", map[string]string{"secret": secret}, 200)
	var answers [600]atomic.Int64
	var all sync.WaitGroup
	for range 60 {
		all.Add(1)
		go func() {
			defer all.Done()
			req, _ := http.NewRequest(
				"POST",
				r.url+"/api/v1/session",
				strings.NewReader(`{"name":"admin","password":"rope and rusty anchors"}`),
			)
			req.Header.Set("Content-Type", "application/json")
			if answer, err := http.DefaultClient.Do(req); err == nil {
				answer.Body.Close()
				answers[answer.StatusCode].Add(1)
			}
		}()
	}
	all.Wait()
	require.EqualValues(t, 10, answers[401].Load())
	require.EqualValues(t, 50, answers[429].Load())
}

// TestANewPasswordEndsWhatOthersMayHave: sessions elsewhere, tokens and one-time links.
func TestANewPasswordEndsWhatOthersMayHave(t *testing.T) {
	r := start(t).signIn()
	token := r.do("POST", "/api/v1/tokens", map[string]any{"name": "pipeline", "role": "viewer"},
		201)["secret"].(string)
	link, err := r.store.SignInLink(context.Background(), "admin", time.Hour)
	require.NoError(t, err)
	for password, says := range map[string]string{"aaaaaaaaaaaa": "too few characters", "abcabcabcabc": "too few characters", "abcdeabcdeabcde": "repeats a short piece", "password1234": "common", "01234567890123": "row", "I am the admin": "your name"} {
		answer := r.do("PUT", "/api/v1/session/password", map[string]string{"password": password}, 422)
		require.Contains(t, fmt.Sprint(answer["detail"]), says, password)
	}
	r.do("PUT", "/api/v1/session/password", map[string]string{"password": "kelp and mooring lines"}, 204)
	r.do("GET", "/api/v1/session", nil, 200)
	r.as().do("GET", "/api/v1/workspaces/main/models", nil, 401, "Authorization", "Bearer "+token)
	r.as().do("POST", "/api/v1/session", map[string]string{"secret": link}, 401)
}

// TestRequestsThatWouldGrowOrHold: invented methods are one value of a metric, and a name
// that nobody allowed is answered by nothing but that.
func TestRequestsThatWouldGrowOrHold(t *testing.T) {
	r := start(t)
	for k := range 5 {
		req, err := http.NewRequest(fmt.Sprintf("INVENTED%d", k), r.url+"/healthz", nil)
		require.NoError(t, err)
		answer, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		answer.Body.Close()
	}
	answer, err := http.Get(r.url + "/metrics")
	require.NoError(t, err)
	body, _ := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NotContains(t, string(body), "INVENTED")
	require.Contains(t, string(body), `method="other"`)
}

func TestWritesFromOtherOriginsAreRefused(t *testing.T) {
	r := start(t).signIn()
	r.do("POST", "/api/v1/check", map[string]string{"text": ""}, 403, "Sec-Fetch-Site", "cross-site")
	answer := r.do("GET", "/api/v1/workspaces/main/models", nil, 200)
	header := answer[""].(http.Header)
	require.Contains(t, header.Get("Content-Security-Policy"), "default-src 'none'")
	require.Equal(t, "nosniff", header.Get("X-Content-Type-Options"))
	require.Equal(t, "DENY", header.Get("X-Frame-Options"))
}

func TestModelsAndRevisions(t *testing.T) {
	r := start(t).signIn()
	list := r.do("GET", "/api/v1/workspaces/main/models?limit=1", nil, 200)
	require.Len(t, list["items"], 1)
	require.Equal(t, "kittiwake", list["next"])
	rest := r.do("GET", "/api/v1/workspaces/main/models?cursor=kittiwake", nil, 200)
	require.Len(t, rest["items"], 1)

	text := "ironweir: topology/1\nname: small\nnodes:\n  q: {kind: queue, rate: 1/m, links: {f: {}}}\n  f: {kind: function}\n"
	made := r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "small", "text": text}, 201)
	require.Equal(t, `"1"`, made[""].(http.Header).Get("ETag"))
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "small", "text": text}, 409)
	r.do("POST", "/api/v1/workspaces/main/models/small/revisions", map[string]string{"text": text}, 428)
	second := r.do(
		"POST",
		"/api/v1/workspaces/main/models/small/revisions",
		map[string]string{"text": text + "  # more\n", "note": "a comment"},
		201,
		"If-Match",
		`"1"`,
	)
	require.Equal(t, 2.0, second["number"])
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/small/revisions",
		map[string]string{"text": text},
		412,
		"If-Match",
		`"1"`,
	)
	require.Equal(
		t,
		text,
		r.do("GET", "/api/v1/workspaces/main/models/small/revisions/1", nil, 200)["text"],
		"the text is kept as it was written",
	)
	history := r.do("GET", "/api/v1/workspaces/main/models/small/revisions", nil, 200)["items"].([]any)
	require.Len(t, history, 2)
	require.Equal(t, "a comment", history[0].(map[string]any)["note"])

	bad := r.do(
		"POST",
		"/api/v1/workspaces/main/models/small/revisions",
		map[string]string{"text": "ironweir: topology/1\nnodes:\n  q: {kind: quue}\n"},
		422,
		"If-Match",
		`"2"`,
	)
	problem := bad["errors"].([]any)[0].(map[string]any)
	require.Contains(t, problem["message"], `did you mean "queue"?`)
	require.Equal(t, 3.0, problem["value"].(map[string]any)["line"])
	r.do("DELETE", "/api/v1/workspaces/main/models/small", nil, 204)
	r.do("GET", "/api/v1/workspaces/main/models/small", nil, 404)
}

func TestCheckGivesFindingsAndBoard(t *testing.T) {
	r := start(t).signIn()
	text := r.do("GET", "/api/v1/workspaces/main/models/kittiwake-draft", nil, 200)["text"]
	checked := r.do("POST", "/api/v1/check", map[string]any{"text": text}, 200)
	codes := map[string]bool{}
	for _, f := range checked["check"].(map[string]any)["findings"].([]any) {
		codes[f.(map[string]any)["code"].(string)] = true
	}
	for _, code := range []string{"IW101", "IW201", "IW202", "IW203", "IW205", "IW301", "IW302", "IW401", "IW403",
		"IW405", "IW504"} {
		require.True(t, codes[code], "the draft has %s", code)
	}
	require.NotEmpty(t, checked["board"].(map[string]any)["nodes"])
}

// follow reads the events of a run until it ends and gives the last.
func (r *running) follow(id float64) map[string]any {
	r.Helper()
	answer, err := r.http.Get(fmt.Sprintf("%s/api/v1/workspaces/main/runs/%.0f/events", r.url, id))
	require.NoError(r, err)
	defer answer.Body.Close()
	require.Equal(r, "text/event-stream", answer.Header.Get("Content-Type"))
	last := map[string]any{}
	for lines := bufio.NewScanner(answer.Body); lines.Scan(); {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			require.NoError(r, json.Unmarshal([]byte(data), &last))
		}
	}
	return last
}

func TestRunsAreFollowedAndKept(t *testing.T) {
	r := start(t).signIn()
	run := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "friday-evening"},
		202,
	)
	require.Equal(t, "done", r.follow(run["id"].(float64))["state"])
	result := r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/result", run["id"]), nil, 200)
	ledger := result["ledger"].(map[string]any)
	require.Equal(t, 0.0, ledger["lost"].(map[string]any)["total"])
	require.NotEmpty(t, result["series"])
	require.Equal(
		t,
		"done",
		r.follow(run["id"].(float64))["state"],
		"a stream that starts after the end says so and ends",
	)

	again := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "friday-evening", "revision": 1},
		202,
	)
	r.follow(again["id"].(float64))
	second := r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/result", again["id"]), nil, 200)
	delete(result, "engine")
	delete(second, "engine")
	delete(result, "")
	delete(second, "")
	require.Equal(t, result, second, "the same revision, scenario and seed give the same result")
	r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "no-such"}, 404)
	r.do("GET", "/api/v1/workspaces/main/runs/999999", nil, 404)
	require.Len(t, r.do("GET", "/api/v1/workspaces/main/runs?model=kittiwake", nil, 200)["items"], 2)
}

func TestCancelEndsARun(t *testing.T) {
	r := start(t).signIn()
	long := "ironweir: scenario/1\nname: long\nlength: 3000d\ntraffic: {u: {into: manifest-drop, rate: 5/s, key: \"inbound/{seq}.csv\"}}\n"
	r.do("PUT", "/api/v1/workspaces/main/models/kittiwake/scenarios/long", map[string]string{"text": long}, 204)
	run := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "long"}, 202)
	id := run["id"].(float64)
	require.Eventually(t, func() bool {
		return r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", id), nil, 200)["state"] == "running"
	}, patience, 20*time.Millisecond)
	r.do("POST", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/cancel", id), nil, 204)
	require.Equal(t, "cancelled", r.follow(id)["state"])
	result := r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/result", id), nil, 200)
	require.Equal(t, true, result["partial"], "it keeps what it has, and says so")
}

// TestDatabaseStopsInMidRun stops PostgreSQL under a run and starts it again.
func TestDatabaseStopsInMidRun(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Chmod(dir, 0o755))
	for parent := dir; parent != os.TempDir() && parent != "/"; parent = parent[:strings.LastIndexByte(parent, '/')] {
		os.Chmod(parent, 0o755)
	}
	r := start(t).signIn()
	medium := "ironweir: scenario/1\nname: medium\nlength: 5d\ntraffic: {u: {into: manifest-drop, rate: 40/m, key: \"inbound/{seq}.csv\"}}\n"
	r.do("PUT", "/api/v1/workspaces/main/models/kittiwake/scenarios/medium", map[string]string{"text": medium}, 204)
	run := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "medium"}, 202)
	id := run["id"].(float64)
	require.Eventually(t, func() bool {
		return r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", id), nil, 200)["state"] == "running"
	}, patience, 10*time.Millisecond)

	require.NoError(t, database.Pause())
	answer := r.do("GET", "/api/v1/workspaces/main/models", nil, 503)
	require.NotEmpty(t, answer[""].(http.Header).Get("Retry-After"))
	require.Contains(t, answer["detail"], "database")
	r.do("GET", "/readyz", nil, 503)
	r.do("GET", "/healthz", nil, 200)
	require.NoError(t, database.Resume(context.Background()))

	require.Eventually(t, func() bool {
		answer, err := r.http.Get(r.url + "/readyz")
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == 200
	}, patience, 50*time.Millisecond, "it recovers by itself")
	require.Eventually(t, func() bool {
		return r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", id), nil, 200)["state"] == "done"
	}, 5*time.Minute, 100*time.Millisecond, "the run ends and is kept")
}

func TestOpenAPIDescribesWhatIsAnswered(t *testing.T) {
	r := start(t)
	doc := r.do("GET", "/api/openapi.json", nil, 200)
	require.Equal(t, "3.1.0", doc["openapi"])
	require.Contains(t, doc["paths"], "/api/v1/workspaces/{workspace}/runs/{id}/events")
	r.do("GET", "/api/v1/nothing", nil, 404)
}
