package service_test

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/require"

	"ironweir/jobs"
	"ironweir/store"
	"ironweir/store/postgres"
)

// workOn is a worker in a process of its own, until it is told to stop.
func workOn(url string) int {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM)
	defer stop()
	s, err := store.Open(ctx, url)
	if err != nil {
		return 1
	}
	defer s.Close()
	log := slog.New(slog.DiscardHandler)
	queue, err := jobs.NewQueue(s, log)
	if err != nil {
		return 1
	}
	if err := jobs.NewWorker(queue, 2, log).Run(ctx); err != nil {
		return 1
	}
	return 0
}

// worker starts a worker process.
func (r *running) worker() *exec.Cmd {
	r.Helper()
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), "IRONWEIR_TEST_WORK_ON="+r.records)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	require.NoError(r, cmd.Start())
	r.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	return cmd
}

// long asks for a run of the demo that takes a while, in six parts.
func (r *running) long() string { return r.runFor("10d") }

// runFor asks for a run of the demo, in six parts that simulate so long.
func (r *running) runFor(length string) string {
	r.Helper()
	text := "ironweir: scenario/1\nname: long\nlength: " + length + "\nreplications: 6\ntraffic: {u: {into: manifest-drop, rate: 10/m, key: \"inbound/{seq}.csv\"}}\n"
	r.do("PUT", "/api/v1/workspaces/main/models/kittiwake/scenarios/long", map[string]string{"text": text}, 204)
	run := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "long"}, 202)
	return fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"])
}

func (r *running) untilState(run, state string) {
	r.Helper()
	var now any
	require.Eventually(r, func() bool {
		now = r.do("GET", run, nil, 200)["state"]
		return now == state
	}, 5*time.Minute, 20*time.Millisecond, "state %v", now)
}

// result gives the result of a run as it is kept.
func (r *running) result(run string) string {
	r.Helper()
	r.untilState(run, "done")
	var id int64
	fmt.Sscanf(run[strings.LastIndex(run, "/")+1:], "%d", &id)
	text, err := r.store.Result(context.Background(), id)
	require.NoError(r, err)
	return string(text)
}

// TestAKilledWorkerLosesNothing: a worker is killed in the midst of a run, another
// is told to stop, and a third ends it, with the same bytes as when nobody is
// disturbed.
func TestAKilledWorkerLosesNothing(t *testing.T) {
	t.Parallel()
	r := startWith(t, 0).signIn()
	first := r.worker()
	undisturbed := r.result(r.long())

	again := r.long()
	require.Eventually(t, func() bool {
		now := r.do("GET", again, nil, 200)
		return now["state"] == "running" && now["progress"].(float64) > 0.02
	}, patience, 5*time.Millisecond)
	dead, err := r.store.Workers(context.Background())
	require.NoError(t, err)
	require.Len(t, dead, 1)
	require.NoError(t, first.Process.Kill())
	first.Wait()
	require.Equal(t, "running", r.do("GET", again, nil, 200)["state"])

	second := r.worker()
	require.Eventually(
		t,
		// it takes what was queued, then what the dead one had, which the database may know for a while yet
		func() bool {
			workers, err := r.store.Workers(context.Background())
			return err == nil && len(workers) == 1 && workers[0].ID != dead[0].ID && workers[0].Busy > 0
		},
		patience,
		5*time.Millisecond,
	)
	require.NoError(t, second.Process.Signal(syscall.SIGTERM))
	require.NoError(t, second.Wait(), "it hands back what it was at and ends well")
	lost, err := r.store.Lost(context.Background())
	require.NoError(t, err)
	for _, left := range lost {
		require.NotEqual(t, -1, left.Number)
	}

	r.worker()
	r.worker()
	require.Equal(t, undisturbed, r.result(again))
}

// TestWorkspacesShareFairly: a run that somebody waits for is not held up by a
// long sweep of another workspace.
func TestWorkspacesShareFairly(t *testing.T) {
	r := startWith(t, 1).signIn()
	r.do("POST", "/api/v1/workspaces", map[string]string{"name": "other"}, 201)
	values := []string{}
	for i := range 40 {
		values = append(values, fmt.Sprintf("%dm", i+10))
	}
	scenario := map[string]string{"text": "ironweir: scenario/1\nlength: 10d\n"}
	model := map[string]string{"name": "small", "text": strings.Replace(smallModel, "1/m", "2/s", 1)}
	for _, space := range []string{"main", "other"} {
		r.do("POST", "/api/v1/workspaces/"+space+"/models", model, 201)
		r.do("PUT", "/api/v1/workspaces/"+space+"/models/small/scenarios/calm", scenario, 204)
	}
	sweep := r.do(
		"POST",
		"/api/v1/workspaces/main/models/small/runs",
		map[string]any{
			"scenario": "calm",
			"sweep":    []any{map[string]any{"path": "nodes.q.retention", "values": values}},
		},
		202,
	)
	require.Equal(t, 40.0, sweep["parts"])
	run := r.do("POST", "/api/v1/workspaces/other/models/small/runs", map[string]any{"scenario": "calm"}, 202)
	r.untilState(fmt.Sprintf("/api/v1/workspaces/other/runs/%.0f", run["id"]), "done")
	require.NotEqual(
		t,
		"done",
		r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", sweep["id"]), nil, 200)["state"],
	)
	r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"]), nil, 404) // of the other workspace
	require.Eventually(t, func() bool {                                                // some point has been worked on
		at := r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", sweep["id"]), nil, 200)
		done, _ := at["progress"].(float64)
		return done > 1.0/40
	}, patience, 10*time.Millisecond)
	r.do("POST", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/cancel", sweep["id"]), nil, 204)
	r.untilState(fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", sweep["id"]), "cancelled")
	points := r.do("GET", fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f/sweep", sweep["id"]), nil, 200)
	require.Equal(t, true, points["partial"], "it keeps the points that it has")
}

// TestARunThatWouldNeverEndEnds at the administrator's limit, and says so.
func TestARunThatWouldNeverEndEnds(t *testing.T) {
	r := start(t).signIn()
	limits := store.DefaultSettings
	limits.MaxSeconds = 1
	r.do("PUT", "/api/v1/settings", limits, 204)
	r.do(
		"PUT",
		"/api/v1/workspaces/main/models/kittiwake/scenarios/endless",
		map[string]string{
			"text": "ironweir: scenario/1\nlength: 3000d\ntraffic: {u: {into: manifest-drop, rate: 5/s, key: \"inbound/{seq}.csv\"}}\n",
		},
		204,
	)
	run := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "endless"}, 202)
	path := fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"])
	r.untilState(path, "done")
	result := r.do("GET", path+"/result", nil, 200)
	require.Equal(t, true, result["partial"])
	require.Equal(t, "the limit of 1 s of wall time", result["stopped"])
	limits.MaxSeconds, limits.MaxEvents = 3600, 5000
	r.do("PUT", "/api/v1/settings", limits, 204)
	run = r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "endless"}, 202)
	path = fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"])
	r.untilState(path, "done")
	require.Contains(t, r.do("GET", path+"/result", nil, 200)["stopped"], "limit of")
}

// TestACreationHappensOncePerKey, however often and however much at once it is
// asked for.
func TestACreationHappensOncePerKey(t *testing.T) {
	r := startWith(t, 0).signIn()
	path := "/api/v1/workspaces/main/models/kittiwake/runs"
	var ids sync.Map
	var wg sync.WaitGroup
	for range 8 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			run := r.do("POST", path, map[string]any{"scenario": "quiet-tuesday"}, 202, "Idempotency-Key", "tide-7")
			ids.Store(run["id"], true)
		}()
	}
	wg.Wait()
	count := 0
	ids.Range(func(any, any) bool { count++; return true })
	require.Equal(t, 1, count, "one run for one key")
	require.Len(t, r.do("GET", "/api/v1/workspaces/main/runs", nil, 200)["items"], 1)
	r.do("POST", path, map[string]any{"scenario": "friday-evening"}, 422, "Idempotency-Key", "tide-7")
	r.do("POST", path, map[string]any{"scenario": "quiet-tuesday"}, 202, "Idempotency-Key", "tide-8")
	require.Len(t, r.do("GET", "/api/v1/workspaces/main/runs", nil, 200)["items"], 2)

	text := map[string]string{"text": smallModel}
	first := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/revisions",
		text,
		201,
		"If-Match",
		`"1"`,
		"Idempotency-Key",
		"save-1",
	)
	second := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/revisions",
		text,
		201,
		"If-Match",
		`"1"`,
		"Idempotency-Key",
		"save-1",
	)
	require.Equal(t, first["number"], second["number"], "sent again, it is not refused as stale")
}

// TestTwoSaveAtOnce: one is kept, the others are told.
func TestTwoSaveAtOnce(t *testing.T) {
	r := startWith(t, 0).signIn()
	var wg sync.WaitGroup
	statuses := make([]int, 6)
	for i := range statuses {
		wg.Add(1)
		go func() {
			defer wg.Done()
			req, _ := http.NewRequest(
				"POST",
				r.url+"/api/v1/workspaces/main/models/kittiwake/revisions",
				strings.NewReader(fmt.Sprintf(`{"text": %q}`, smallModel+fmt.Sprintf("# %d\n", i))),
			)
			req.Header.Set("Content-Type", "application/json")
			req.Header.Set("If-Match", `"1"`)
			answer, err := r.http.Do(req)
			if err == nil {
				statuses[i] = answer.StatusCode
				answer.Body.Close()
			}
		}()
	}
	wg.Wait()
	kept := 0
	for _, status := range statuses {
		if status == 201 {
			kept++
		} else {
			require.Equal(t, 412, status)
		}
	}
	require.Equal(t, 1, kept)
	require.Equal(t, 2.0, r.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["number"])
}

// TestServicesStartAtOnce: several bring one empty database up to date.
func TestServicesStartAtOnce(t *testing.T) {
	address := another(t, "template0")
	errs := make([]error, 5)
	var wg sync.WaitGroup
	for i := range errs {
		wg.Add(1)
		go func() {
			defer wg.Done()
			s, err := store.Open(context.Background(), address)
			if errs[i] = err; err == nil {
				s.Close()
			}
		}()
	}
	wg.Wait()
	for _, err := range errs {
		require.NoError(t, err)
	}
}

// TestRecordsOfTheFirstVersionAreBroughtUpToDate, with data in them.
func TestRecordsOfTheFirstVersionAreBroughtUpToDate(t *testing.T) {
	address := another(t, "template0")
	db, err := sql.Open("pgx", address)
	require.NoError(t, err)
	defer db.Close()
	text, err := os.ReadFile("../store/migrations/00001_start.sql")
	require.NoError(t, err)
	up, _, _ := strings.Cut(string(text), "-- +goose Down")
	_, err = db.Exec(up + `
		CREATE TABLE goose_db_version (id serial PRIMARY KEY, version_id bigint NOT NULL, is_applied boolean NOT NULL, tstamp timestamp NOT NULL DEFAULT now());
		INSERT INTO goose_db_version (version_id, is_applied) VALUES (0, true), (1, true);
		INSERT INTO users (name, role) VALUES ('admin', 'admin'), ('skerry', 'editor');
		INSERT INTO models (name) VALUES ('small');
		INSERT INTO revisions (model_id, number, text, author, errors, warnings, notes) VALUES (1, 1, '` + smallModel + `', 'skerry', 0, 1, 0);
		INSERT INTO scenarios (model_id, name, text) VALUES (1, 'calm', E'ironweir: scenario/1\nlength: 10m\n');
		INSERT INTO runs (model_id, revision, scenario, text, state, author, result, finished_at) VALUES (1, 1, 'calm', E'ironweir: scenario/1\nlength: 10m\n', 'done', 'skerry', '{"kept": true}', now());
		INSERT INTO runs (model_id, revision, scenario, text, state, author) VALUES (1, 1, 'calm', E'ironweir: scenario/1\nlength: 10m\n', 'running', 'skerry');`)
	require.NoError(t, err)

	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s, err := store.Open(ctx, address)
	require.NoError(t, err)
	defer s.Close()
	main, err := s.Workspace(ctx, "main")
	require.NoError(t, err)
	r, err := s.Revision(ctx, main, "small", 0)
	require.NoError(t, err)
	require.Equal(t, smallModel, r.Text)
	members, err := s.Members(ctx, main)
	require.NoError(t, err)
	require.Equal(t, []store.Member{{User: "admin", Role: "admin"}, {User: "skerry", Role: "editor"}}, members)
	kept, err := s.Result(ctx, 1)
	require.NoError(t, err)
	require.JSONEq(t, `{"kept": true}`, string(kept))

	log := slog.New(slog.DiscardHandler)
	queue, err := jobs.NewQueue(s, log)
	require.NoError(t, err)
	ended := make(chan error)
	go func() { ended <- jobs.NewWorker(queue, 1, log).Run(ctx) }()
	require.Eventually(t, func() bool { // what was under way is taken up
		run, err := s.Run(ctx, 2)
		return err == nil && run.State == store.Done
	}, patience, 20*time.Millisecond)
	cancel()
	require.NoError(t, <-ended)
}

// TestABackupBringsEverythingBack, into an empty database only.
func TestABackupBringsEverythingBack(t *testing.T) {
	r := start(t).signIn()
	run := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "quiet-tuesday"},
		202,
	)
	want := r.result(fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"]))
	file := filepath.Join(t.TempDir(), "weir.dump")
	size, err := postgres.Backup(context.Background(), r.records, file)
	require.NoError(t, err)
	require.Positive(t, size)
	require.ErrorContains(t, postgres.Restore(context.Background(), r.records, file), "already")

	address := another(t, "template0")
	require.NoError(t, postgres.Restore(context.Background(), address, file))
	s, err := store.Open(context.Background(), address)
	require.NoError(t, err)
	defer s.Close()
	got, err := s.Result(context.Background(), int64(run["id"].(float64)))
	require.NoError(t, err)
	require.Equal(t, want, string(got))
	before, err := r.store.Audit(context.Background(), store.AuditFilter{Before: 1 << 40}, 1000)
	require.NoError(t, err)
	after, err := s.Audit(context.Background(), store.AuditFilter{Before: 1 << 40}, 1000)
	require.NoError(t, err)
	require.Equal(t, before, after)
}

// TestWhatNobodyComesForIsAskedForAgain: a worker that dies between taking a job
// and saying so leaves parts, and mergings, that no job stands for.
func TestWhatNobodyComesForIsAskedForAgain(t *testing.T) {
	t.Parallel()
	r := startWith(t, 0).signIn()
	db, err := sql.Open("pgx", r.records)
	require.NoError(t, err)
	defer db.Close()
	waiting, unmerged := r.runFor("12h"), r.runFor("12h")
	_, err = db.Exec("DELETE FROM river_job")
	require.NoError(t, err)
	_, err = db.Exec("UPDATE run_parts SET state = 'done' WHERE run_id = 2")
	require.NoError(t, err)
	_, err = db.Exec("UPDATE runs SET state = 'running' WHERE id = 2")
	require.NoError(t, err)
	r.worker()
	r.untilState(unmerged, "failed") // its parts never had results
	r.untilState(waiting, "done")
}

// TestTheClockIsSetBack: all that was written before lies an hour ahead. People
// stay signed in, what comes later counts as later, and runs that were waiting
// are worked on.
func TestTheClockIsSetBack(t *testing.T) {
	t.Parallel()
	r := startWith(t, 0).signIn()
	db, err := sql.Open("pgx", r.records)
	require.NoError(t, err)
	defer db.Close()
	token := r.token("ann", "editor")
	waiting := r.runFor("12h")
	rows, err := db.Query(
		"SELECT table_name, column_name FROM information_schema.columns JOIN information_schema.tables USING (table_schema, table_name) WHERE table_schema = 'public' AND table_type = 'BASE TABLE' AND data_type = 'timestamp with time zone'",
	)
	require.NoError(t, err)
	var ahead []string
	for rows.Next() {
		var table, column string
		require.NoError(t, rows.Scan(&table, &column))
		ahead = append(ahead, fmt.Sprintf(`UPDATE %q SET %q = %q + interval '1 hour'`, table, column, column))
	}
	require.Greater(t, len(ahead), 15)
	for _, update := range ahead {
		_, err := db.Exec(update)
		require.NoError(t, err, update)
	}
	r.do("GET", "/api/v1/session", nil, 200)
	model := "/api/v1/workspaces/main/models/kittiwake"
	text := r.do("GET", model, nil, 200)["text"].(string)
	status, body := r.by(token, "GET", model, "", "")
	require.Equal(t, 200, status, body)
	r.do("POST", model+"/revisions", map[string]string{"text": text + "# later\n"}, 201, "If-Match", `"1"`)
	revisions := r.do("GET", model+"/revisions", nil, 200)["items"].([]any)
	require.Equal(t, 2.0, revisions[0].(map[string]any)["number"], "what was saved later is the latest")
	r.worker()
	r.untilState(waiting, "done")
	later := r.runFor("12h")
	r.untilState(later, "done")
	runs := r.do("GET", "/api/v1/workspaces/main/runs", nil, 200)["items"].([]any)
	require.True(t, strings.HasSuffix(later, fmt.Sprintf("/%.0f", runs[0].(map[string]any)["id"])), "the latest first")
	audit := r.do("GET", "/api/v1/audit?limit=1", nil, 200)["items"].([]any)
	require.Equal(t, "start-run", audit[0].(map[string]any)["action"])
}

// TestAReaderThatVanishesIsForgotten: a stream that nobody reads any more is
// closed, and holds nothing up.
func TestAReaderThatVanishesIsForgotten(t *testing.T) {
	t.Parallel()
	r := startWith(t, 0).signIn()
	run := r.long() // nobody works on it
	streams := func(n string) bool { return strings.Contains(r.page("/metrics"), "ironweir_streams "+n+"\n") }
	ctx, vanish := context.WithCancel(context.Background())
	defer vanish()
	for range 5 {
		req, err := http.NewRequestWithContext(ctx, "GET", r.url+run+"/events", nil)
		require.NoError(t, err)
		answer, err := r.http.Do(req)
		require.NoError(t, err)
		defer answer.Body.Close()
		first := make([]byte, 10)
		_, err = answer.Body.Read(first)
		require.NoError(t, err)
	}
	require.True(t, streams("5"))
	vanish()
	require.Eventually(t, func() bool { return streams("0") }, patience, 50*time.Millisecond)
	r.do("POST", run+"/cancel", nil, 204)
}
