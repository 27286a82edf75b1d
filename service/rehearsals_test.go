package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// token gives somebody of a role in workspace main, by their token.
func (r *running) token(name, role string) string {
	ctx := context.Background()
	user, err := r.store.CreateUser(ctx, name, false, store.Idempotency{})
	require.NoError(r, err)
	space, err := r.store.Workspace(ctx, "main")
	require.NoError(r, err)
	require.NoError(r, r.store.SetMember(ctx, space, name, role))
	token, _, err := r.store.CreateToken(ctx, user, "test", "admin", nil, time.Hour)
	require.NoError(r, err)
	return token
}

// by sends a request with a token and gives the status and the answer.
func (r *running) by(token, method, path, kind, body string) (int, string) {
	req, err := http.NewRequest(method, r.url+path, strings.NewReader(body))
	require.NoError(r, err)
	req.Header.Set("Authorization", "Bearer "+token)
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	answer, err := http.DefaultClient.Do(req)
	require.NoError(r, err)
	defer answer.Body.Close()
	var text strings.Builder
	_, err = bufio.NewReader(answer.Body).WriteTo(&text)
	require.NoError(r, err)
	return answer.StatusCode, text.String()
}

// A rehearsal of the demo: two people watch, one of them from a program, the
// other breaks something, and what has happened becomes a scenario that runs.
func TestARehearsalTogether(t *testing.T) {
	r := start(t).signIn()
	ann, ben := r.token("ann", "editor"), r.token("ben", "viewer")
	models := "/api/v1/workspaces/main/models/kittiwake"
	first := r.do("POST", models+"/rehearsals", map[string]any{"paused": true}, 201, "Idempotency-Key", "once")
	require.Equal(
		t,
		first["id"],
		r.do("POST", models+"/rehearsals", map[string]any{"paused": true}, 201, "Idempotency-Key", "once")["id"],
		"asked for again",
	)
	r.do("POST", models+"/rehearsals", map[string]any{"pace": 3}, 422, "Idempotency-Key", "once")
	r.do("DELETE", "/api/v1/workspaces/main/rehearsals/"+first["id"].(string), nil, 204)
	status, body := r.by(ann, "POST", models+"/rehearsals", "application/json", `{"pace": 200}`)
	require.Equal(t, 201, status, body)
	var started struct{ ID string }
	require.NoError(t, json.Unmarshal([]byte(body), &started))
	path := "/api/v1/workspaces/main/rehearsals/" + started.ID

	// Ben watches, and may not do anything.
	req, err := http.NewRequest("GET", r.url+path+"/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+ben)
	stream, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer stream.Body.Close()
	require.Equal(t, "text/event-stream", stream.Header.Get("Content-Type"))
	type state struct {
		Nodes map[string]struct {
			Runs, Failures, Parked int64
			Fails                  *float64
		}
		Acts     []struct{ Who, What string }
		Watchers []string
	}
	lines := bufio.NewScanner(stream.Body)
	lines.Buffer(nil, 1<<20)
	watch := func(what string, holds func(s state) bool) {
		t.Helper()
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var s state
				require.NoError(t, json.Unmarshal([]byte(data), &s))
				if holds(s) {
					return
				}
			}
		}
		t.Fatalf("the stream ended before %s", what)
	}
	status, _ = r.by(ben, "POST", path+"/incidents", "application/json", `{"node":"goods-registry","fails":"100%"}`)
	require.Equal(t, 403, status)
	status, _ = r.by(ben, "POST", path+"/http/bookings", "application/json", `{}`)
	require.Equal(t, 403, status)
	status, _ = r.by(ben, "POST", path+"/entries/manifest-drop", "application/cloudevents+json", `{}`)
	require.Equal(t, 403, status)
	status, _ = r.by("", "POST", path+"/http/bookings", "application/json", `{}`)
	require.Equal(t, 401, status)
	status, _ = r.by("", "POST", "/v1/traces", "application/json", `{}`)
	require.Equal(t, 401, status)

	// Ann breaks the registry and posts with a client that nobody here wrote.
	status, body = r.by(ann, "POST", path+"/incidents", "application/json", `{"node":"goods-registry","fails":"100%"}`)
	require.Equal(t, 200, status, body)
	client, err := sdk.NewClientHTTP(
		sdk.WithTarget(r.url+path+"/entries/manifest-drop"),
		cehttp.WithHeader("Authorization", "Bearer "+ann),
	)
	require.NoError(t, err)
	event := sdk.NewEvent()
	event.SetSource("haulier")
	event.SetType("manifest.written")
	event.SetSubject("inbound/gannet/1.csv")
	require.NoError(
		t,
		event.SetData(
			sdk.ApplicationJSON,
			map[string]any{
				"haulier": "gannet",
				"lines": []any{
					map[string]any{"lorry": "g-1", "kg": 12000},
					map[string]any{"lorry": "g-2", "kg": 9000},
				},
			},
		),
	)
	result := client.Send(context.Background(), event)
	require.True(t, sdk.IsACK(result), "%v", result)
	watch("the registry fails", func(s state) bool {
		return s.Nodes["goods-registry"].Failures > 0 && s.Nodes["goods-registry"].Fails != nil && len(s.Acts) >= 2 &&
			s.Acts[0].Who == "ann" &&
			s.Watchers[0] == "ben"
	})
	status, body = r.by(ann, "POST", path+"/heal", "application/json", `{"target":"goods-registry"}`)
	require.Equal(t, 200, status, body)
	watch("it is healed", func(s state) bool { return s.Nodes["goods-registry"].Fails == nil })

	// An endpoint of the model answers at its own path, and traces come in at the root.
	status, body = r.by(ann, "POST", path+"/http/bookings", "application/json", `{"lorry":"g-1","sailing":"evening"}`)
	require.Contains(t, []int{202, 400}, status, body)
	require.Contains(t, body, `"journey"`)
	status, body = r.by(ann, "POST", "/v1/traces", "application/json", `{}`)
	require.Equal(t, 200, status, body)

	// What has happened is kept, and runs.
	status, body = r.by(ann, "PUT", path+"/scenario/what-happened", "", "")
	require.Equal(t, 200, status, body)
	require.Contains(t, body, `"left_out":[]`)
	status, body = r.by(ann, "POST", models+"/runs", "application/json", `{"scenario":"what-happened"}`)
	require.Equal(t, 202, status, body)
	var run struct{ ID int64 }
	require.NoError(t, json.Unmarshal([]byte(body), &run))
	runPath := "/api/v1/workspaces/main/runs/" + itoa(run.ID)
	require.Eventually(t, func() bool {
		_, body := r.by(ann, "GET", runPath, "", "")
		return strings.Contains(body, `"state":"done"`)
	}, patience, 20*time.Millisecond)
	_, body = r.by(ann, "GET", runPath+"/result", "", "")
	var doc struct {
		Nodes map[string]struct{ Failures int64 }
	}
	require.NoError(t, json.Unmarshal([]byte(body), &doc))
	require.Positive(t, doc.Nodes["goods-registry"].Failures)

	status, _ = r.by(ben, "DELETE", path, "", "")
	require.Equal(t, 403, status)
	status, _ = r.by(ann, "DELETE", path, "", "")
	require.Equal(t, 204, status)
	for lines.Scan() && lines.Text() != "event: ended" {
	}
	require.Equal(t, "event: ended", lines.Text(), "who watches is told")
	status, body = r.by(ann, "GET", path, "", "")
	require.Equal(t, 404, status)
	require.Contains(t, body, "a rehearsal ends with the service")
}

func itoa(n int64) string {
	text, _ := json.Marshal(n)
	return string(text)
}

func TestHooksNeedTheServicesLeave(t *testing.T) {
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models",
		map[string]string{
			"name": "hooked",
			"text": "ironweir: topology/1\nname: hooked\nnodes:\n  q: {kind: queue, links: {f: {}}}\n  f: {kind: function, hook: \"http://127.0.0.1:9/\"}\n",
		},
		201,
	)
	answer := r.do("POST", "/api/v1/workspaces/main/models/hooked/rehearsals", map[string]any{"hooks": true}, 422)
	require.Contains(t, answer["detail"], "without -hooks")
}
