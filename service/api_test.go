package service_test

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// caller is somebody who calls the API.
type caller struct {
	name  string
	token string
	rank  int // what they may do in workspace main: 0 nothing, 1 viewer … 4 the service
}

// request is one call.
type request struct {
	path    string // of the operation, filled in
	body    any
	headers map[string]string
}

const smallModel = "ironweir: topology/1\nname: small\nnodes:\n  q: {kind: queue, rate: 1/m, links: {f: {}}}\n  f: {kind: function}\n"

// walk holds what the walk over the API needs.
type walk struct {
	*running
	n     int
	going []string // rehearsals
}

// fresh gives a name that nothing has yet.
func (w *walk) fresh() string { w.n++; return fmt.Sprintf("thing-%d", w.n) }

// freshModel makes a model with a scenario and a variant and gives its path.
func (w *walk) freshModel() string {
	name := w.fresh()
	path := "/api/v1/workspaces/main/models/" + name
	w.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": name, "text": smallModel}, 201)
	w.do("PUT", path+"/scenarios/calm", map[string]string{"text": "ironweir: scenario/1\nlength: 10m\n"}, 204)
	w.do("PUT", path+"/variants/fast", map[string]string{"text": "nodes: {f: {takes: 1s}}\n"}, 204)
	return path
}

func (w *walk) freshUser() string {
	name := w.fresh()
	w.do("POST", "/api/v1/users", map[string]any{"name": name}, 201)
	return name
}

// finished gives the path of a run that has ended, of some study.
func (w *walk) finished(study map[string]any) string {
	model := w.freshModel()
	study["scenario"] = "calm"
	run := w.do("POST", model+"/runs", study, 202)
	path := fmt.Sprintf("/api/v1/workspaces/main/runs/%.0f", run["id"])
	require.Eventually(
		w,
		func() bool { return w.do("GET", path, nil, 200)["state"] == "done" },
		patience,
		20*time.Millisecond,
	)
	return path
}

// rehearsed gives the path of a rehearsal in which time stands.
func (w *walk) rehearsed() string {
	if len(w.going) == 6 { // one person holds twelve at most
		w.http.Do(w.delete(w.going[1]))
		w.going = append(w.going[:1], w.going[2:]...)
	}
	path := "/api/v1/workspaces/main/rehearsals/" + w.do("POST", w.freshModel()+"/rehearsals", map[string]any{"paused": true}, 201)["id"].(string)
	w.going = append(w.going, path)
	return path
}

func (w *walk) delete(path string) *http.Request {
	req, err := http.NewRequest("DELETE", w.url+path, nil)
	require.NoError(w, err)
	return req
}

// resting gives the path of a rehearsal and the name of a message that lies in it.
func (w *walk) resting() (path, message string) {
	path = w.rehearsed()
	w.do("POST", path+"/incidents", map[string]any{"link": "q:f", "paused": true}, 200)
	w.do(
		"POST",
		path+"/entries/q",
		map[string]any{"specversion": "1.0", "id": "1", "source": "s", "type": "t"},
		202,
		"Content-Type",
		"application/cloudevents+json",
	)
	list := w.do("GET", path+"/nodes/q/messages", nil, 200)["messages"].([]any)
	return path, fmt.Sprintf("%.0f", list[0].(map[string]any)["message"])
}

// ending gives the path of the stream of a rehearsal that ends soon.
func (w *walk) ending() string {
	path := w.rehearsed()
	req := w.delete(path)
	time.AfterFunc(300*time.Millisecond, func() { w.http.Do(req) })
	return path + "/events"
}

// goodRequests has a good call of every operation; each call makes what it needs.
func goodRequests(w *walk) map[string]func(c caller) request {
	text := map[string]any{"text": smallModel}
	run := w.finished(map[string]any{})
	variants := w.finished(map[string]any{"variants": []string{"fast"}, "replications": 2})
	sweep := w.finished(
		map[string]any{"sweep": []any{map[string]any{"path": "nodes.f.takes", "values": []string{"1s", "2s"}}}},
	)
	guesses := w.finished(
		map[string]any{
			"sensitivity": map[string]any{"of": []string{"run.ledger.copies"}, "trajectories": 2, "points": 0},
			"sets":        []string{"nodes.f.takes={guess: 1s}"},
		},
	)
	other := w.finished(map[string]any{"seed": 7})
	rehearsal := w.rehearsed()
	at := func(path string, body any, kind ...string) func(caller) request {
		q := request{path: path, body: body}
		for _, k := range kind {
			q.headers = map[string]string{"Content-Type": k}
		}
		return func(caller) request { return q }
	}
	main := "/api/v1/workspaces/main"
	settings := store.DefaultSettings
	settings.OpenShares = true
	return map[string]func(c caller) request{
		"sign-in":             at("/api/v1/session", map[string]string{"name": "nobody", "password": "wrong"}),
		"who-am-i":            at("/api/v1/session", nil),
		"sign-out":            at("/api/v1/session", nil),
		"sign-out-everywhere": at("/api/v1/sessions", nil),
		"set-password":        at("/api/v1/session/password", map[string]string{"password": "a long enough one"}),
		"list-tokens":         at("/api/v1/tokens", nil),
		"create-token":        at("/api/v1/tokens", map[string]any{"name": "t", "role": "viewer"}),
		"revoke-token":        at("/api/v1/tokens/999999", nil),
		"list-users":          at("/api/v1/users?limit=2", nil),
		"create-user":         func(caller) request { return request{path: "/api/v1/users", body: map[string]any{"name": w.fresh()}} },
		"change-user": func(caller) request {
			return request{path: "/api/v1/users/" + w.freshUser(), body: map[string]any{"admin": true}}
		},
		"delete-user":       func(caller) request { return request{path: "/api/v1/users/" + w.freshUser()} },
		"make-sign-in-link": func(caller) request { return request{path: "/api/v1/users/" + w.freshUser() + "/sign-in-link"} },
		"get-settings":      at("/api/v1/settings", nil),
		"set-settings":      at("/api/v1/settings", settings),
		"list-workers":      at("/api/v1/workers", nil),
		"list-audit":        at("/api/v1/audit?limit=3", nil),
		"verify-audit":      at("/api/v1/audit/chain", nil),
		"list-workspaces":   at("/api/v1/workspaces", nil),
		"create-workspace": func(caller) request {
			return request{path: "/api/v1/workspaces", body: map[string]any{"name": w.fresh()}}
		},
		"delete-workspace": func(caller) request {
			name := w.fresh()
			w.do("POST", "/api/v1/workspaces", map[string]any{"name": name}, 201)
			return request{path: "/api/v1/workspaces/" + name}
		},
		"list-members":         at(main+"/members", nil),
		"list-workspace-audit": at(main+"/audit", nil),
		"set-member": func(caller) request {
			return request{path: main + "/members/" + w.freshUser(), body: map[string]string{"role": "viewer"}}
		},
		"remove-member": func(caller) request {
			u := w.freshUser()
			w.do("PUT", main+"/members/"+u, map[string]string{"role": "editor"}, 204)
			return request{path: main + "/members/" + u}
		},
		"check": at("/api/v1/check", text),
		"apply-patch": at(
			"/api/v1/apply",
			map[string]any{
				"text":  smallModel,
				"patch": map[string]any{"nodes": map[string]any{"f": map[string]any{"takes": "2s"}}},
			},
		),
		"get-catalogue": at("/api/v1/catalogue", nil),
		"rename-node":   at("/api/v1/rename", map[string]any{"text": smallModel, "from": "q", "to": "slip"}),
		"remove-node":   at("/api/v1/remove", map[string]any{"text": smallModel, "node": "q"}),
		"fires": at(
			"/api/v1/fires",
			map[string]any{
				"text":  "ironweir: topology/1\nnodes: {s: {kind: schedule, cron: \"30 4 * * *\", links: {q: {}}}, q: {kind: queue}}\n",
				"from":  "2026-03-28T00:00:00Z",
				"until": "2026-03-30T00:00:00Z",
			},
		),
		"read-schedule": at(
			"/api/v1/schedule",
			map[string]any{"words": "every weekday at 6", "from": "2026-03-28T00:00:00Z"},
		),
		"sample":     at("/api/v1/sample", map[string]any{"text": smallModel, "node": "q"}),
		"follow":     at("/api/v1/follow", map[string]any{"text": smallModel, "node": "q"}),
		"guarantees": at("/api/v1/guarantees", map[string]any{"text": smallModel}),
		"witness": at("/api/v1/witness", map[string]any{"text": smallModel + "  done: {kind: bucket}\n" +
			"  g: {kind: function, fails: 10%, rate: 1/m, links: {done: {}}}\n", "from": "g", "to": "done", "what": "lost"}),
		"mend":          at("/api/v1/mend", map[string]any{"text": smallModel}),
		"takes":         at("/api/v1/takes", map[string]any{"text": smallModel, "key": "a.csv"}),
		"list-starters": at("/api/v1/starters", nil),
		"list-rules":    at("/api/v1/rules", nil),
		"merge": at("/api/v1/merge", map[string]any{
			"base": smallModel, "mine": smallModel + "  late: {kind: queue}\n", "theirs": smallModel}),
		"import": at(
			"/api/v1/import",
			map[string]any{"name": "m.yaml", "content": base64.StdEncoding.EncodeToString([]byte(smallModel))},
		),
		"do-command": at(
			"/api/v1/commands/check",
			map[string]any{"args": []string{"m.yaml"}, "files": map[string][]byte{"m.yaml": []byte(smallModel)}},
		),
		"diff": at(
			"/api/v1/diff",
			map[string]any{"before": smallModel, "after": strings.Replace(smallModel, "1/m", "2/m", 1)},
		),
		"list-models": at(main+"/models?search=small&limit=1", nil),
		"create-model": func(caller) request {
			return request{
				path:    main + "/models",
				body:    map[string]string{"name": w.fresh(), "text": smallModel},
				headers: map[string]string{"Idempotency-Key": w.fresh()},
			}
		},
		"get-model":      func(caller) request { return request{path: w.freshModel()} },
		"delete-model":   func(caller) request { return request{path: w.freshModel()} },
		"list-revisions": func(caller) request { return request{path: w.freshModel() + "/revisions"} },
		"get-revision":   func(caller) request { return request{path: w.freshModel() + "/revisions/1"} },
		"get-findings":   func(caller) request { return request{path: w.freshModel() + "/revisions/1/findings"} },
		"save-revision": func(caller) request {
			return request{
				path:    w.freshModel() + "/revisions",
				body:    text,
				headers: map[string]string{"If-Match": `"1"`},
			}
		},
		"list-scenarios": func(caller) request { return request{path: w.freshModel() + "/scenarios"} },
		"get-scenario":   func(caller) request { return request{path: w.freshModel() + "/scenarios/calm"} },
		"save-scenario": func(caller) request {
			return request{
				path: w.freshModel() + "/scenarios/storm",
				body: map[string]string{"text": "ironweir: scenario/1\nlength: 5m\n"},
			}
		},
		"delete-scenario": func(caller) request { return request{path: w.freshModel() + "/scenarios/calm"} },
		"list-variants":   func(caller) request { return request{path: w.freshModel() + "/variants"} },
		"get-variant":     func(caller) request { return request{path: w.freshModel() + "/variants/fast"} },
		"save-variant": func(caller) request {
			return request{
				path: w.freshModel() + "/variants/slow",
				body: map[string]string{"text": "nodes: {f: {takes: 9s}}\n"},
			}
		},
		"delete-variant": func(caller) request { return request{path: w.freshModel() + "/variants/fast"} },
		"start-run": func(caller) request {
			return request{path: w.freshModel() + "/runs", body: map[string]string{"scenario": "calm"}}
		},
		"start-rehearsal": func(caller) request {
			return request{
				path: w.freshModel() + "/rehearsals",
				body: map[string]any{"scenario": "calm", "paused": true},
			}
		},
		"list-rehearsals": at(main+"/rehearsals", nil),
		"get-rehearsal":   at(rehearsal, nil),
		"end-rehearsal":   func(caller) request { return request{path: w.rehearsed()} },
		"watch-rehearsal": func(caller) request { return request{path: w.ending()} },
		"set-time":        at(rehearsal+"/time", map[string]any{"running": false}),
		"step-rehearsal":  at(rehearsal+"/step", nil),
		"interfere":       at(rehearsal+"/incidents", map[string]any{"node": "f", "fails": "50%"}),
		"heal":            at(rehearsal+"/heal", map[string]any{"target": "f"}),
		"point":           at(rehearsal+"/pointer", map[string]any{"node": "f", "x": 4, "y": 5}),
		"list-messages":   at(rehearsal+"/nodes/q/messages", nil),
		"get-message":     func(caller) request { p, m := w.resting(); return request{path: p + "/messages/" + m} },
		"move-message": func(caller) request {
			p, m := w.resting()
			return request{path: p + "/messages/" + m, body: map[string]string{"to": "f"}}
		},
		"remove-message":         func(caller) request { p, m := w.resting(); return request{path: p + "/messages/" + m} },
		"get-rehearsed-journey":  func(caller) request { p, _ := w.resting(); return request{path: p + "/journeys/1"} },
		"get-rehearsed-result":   func(caller) request { p, _ := w.resting(); return request{path: p + "/result"} },
		"get-rehearsed-scenario": func(caller) request { p, _ := w.resting(); return request{path: p + "/scenario"} },
		"keep-rehearsal":         func(caller) request { p, _ := w.resting(); return request{path: p + "/scenario/kept"} },
		"get-observed":           at(rehearsal+"/observed", nil),
		"post-events": at(
			rehearsal+"/entries/q",
			map[string]any{"specversion": "1.0", "id": "1", "source": "s", "type": "t"},
			"application/cloudevents+json",
		),
		"ask-to-post":        at(rehearsal+"/entries/q", nil),
		"post-traces":        at(rehearsal+"/v1/traces", map[string]any{}),
		"post-model-traces":  at(main+"/models/kittiwake/v1/traces", map[string]any{}),
		"get-observation":    at(main+"/models/kittiwake/observation", nil),
		"delete-observation": func(caller) request { return request{path: w.freshModel() + "/observation"} },
		"set-webhook": func(caller) request {
			return request{path: w.freshModel() + "/webhook", body: map[string]string{"address": ""}}
		},
		"get-rehearsed-model":    at(rehearsal+"/model", nil),
		"list-runs":              at(main+"/runs?limit=2", nil),
		"get-run":                at(run, nil),
		"get-result":             at(run+"/result", nil),
		"get-variants-result":    at(variants+"/variants", nil),
		"get-sweep-result":       at(sweep+"/sweep", nil),
		"get-sensitivity-result": at(guesses+"/sensitivity", nil),
		"cancel-run":             at(run+"/cancel", nil),
		"create-share":           at(main+"/shares", map[string]any{"what": "run", "id": lastOf(run)}),
		"view-model":             at(main+"/models/kittiwake/viewing", nil),
		"get-places":             at(main+"/models/kittiwake/places", nil),
		"place-nodes":            at(main+"/models/kittiwake/places", map[string]any{"places": map[string]any{}}),
		"tidy-board":             at(main+"/models/kittiwake/places", nil),
		"list-shares":            at(main+"/shares", nil),
		"revoke-share": func(caller) request {
			made := w.do("POST", main+"/shares", map[string]any{"what": "revision", "id": "kittiwake"}, 201)
			return request{path: fmt.Sprintf("%s/shares/%.0f", main, made["share"].(map[string]any)["id"])}
		},
		"open-share": func(caller) request {
			made := w.do("POST", main+"/shares", map[string]any{"what": "revision", "id": "kittiwake"}, 201)
			return request{
				path: "/api/v1/shares/open",
				body: map[string]any{"secret": strings.TrimPrefix(made["link"].(string), "/s/")},
			}
		},
		"follow-run":       at(run+"/events", nil),
		"list-journeys":    at(run+"/journeys", nil),
		"get-run-scenario": at(run+"/scenario", nil),
		"get-journey":      at(run+"/journeys/1", nil),
		"get-rest":         at(run+"/rest?node=q&at=60", nil),
		"get-report":       at(run+"/report", nil),
		"compare-runs": at(
			main+"/compare?run="+run[strings.LastIndex(run, "/")+1:]+"&run="+other[strings.LastIndex(other, "/")+1:],
			nil,
		),
		"delete-run": func(caller) request { return request{path: w.finished(map[string]any{})} },
	}
}

// expectedOtherwise are the answers of good calls that are not the operation's
// first success: wrong on purpose, or refused to tokens.
var expectedOtherwise = map[string]int{
	"sign-in": 401, "set-password": 403, "create-token": 403, "revoke-token": 403, "sign-out-everywhere": 403,
	"create-share": 403, "revoke-share": 403,
}

// call sends a request as somebody; the method is the operation's.
func (w *walk) call(c caller, method string, q request) (int, http.Header, []byte) {
	w.Helper()
	var body io.Reader
	if q.body != nil {
		text, err := json.Marshal(q.body)
		require.NoError(w, err)
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequest(strings.ToUpper(method), w.url+q.path, body)
	require.NoError(w, err)
	if q.body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for k, v := range q.headers {
		req.Header.Set(k, v)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	answer, err := (&http.Client{Timeout: patience}).Do(req)
	require.NoError(w, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(w, err)
	return answer.StatusCode, answer.Header, text
}

// people makes one caller of each sort, each with a token.
func (w *walk) people() []caller {
	out := []caller{{name: "nobody", rank: -1}}
	for rank, role := range []string{"", "viewer", "editor", "admin", "service"} {
		name := "somebody" + role
		user, err := w.store.CreateUser(context.Background(), name, role == "service", store.Idempotency{})
		require.NoError(w, err)
		if rank > 0 && rank < 4 {
			space, err := w.store.Workspace(context.Background(), "main")
			require.NoError(w, err)
			require.NoError(w, w.store.SetMember(context.Background(), space, name, role))
		}
		token, _, err := w.store.CreateToken(context.Background(), user, "test", "admin", nil, time.Hour)
		require.NoError(w, err)
		out = append(out, caller{name, token, rank})
	}
	return out
}

var rankOf = map[string]int{"": -1, "viewer": 1, "editor": 2, "admin": 3, "service": 4}

// TestEveryOperationAnswersAsDescribed walks the description of the API: every
// operation is called by everybody, who may and who may not, and with bad input;
// each answer has a status that is described, and fits the schema given for it.
func TestEveryOperationAnswersAsDescribed(t *testing.T) {
	w := &walk{running: start(t).signIn()}
	w.openShares(true)
	people := w.people()
	_, _, source := w.call(people[0], "GET", request{path: "/api/openapi.json"})
	fits := answersOf(t, source)
	good := goodRequests(w)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string                `json:"operationId"`
			Security    []map[string][]string `json:"security"`
			Responses   map[string]any        `json:"responses"`
			RequestBody any                   `json:"requestBody"`
		}
	}
	require.NoError(t, json.Unmarshal(source, &doc))
	walked := 0
	for path, operations := range doc.Paths {
		for method, op := range operations {
			walked++
			needed := ""
			if len(op.Security) > 0 {
				needed = op.Security[0]["session"][0]
			}
			make, ok := good[op.OperationID]
			require.True(t, ok, "give an example of %s in this test", op.OperationID)
			inSpace := strings.Contains(path, "{workspace}")
			for _, c := range people {
				what := op.OperationID + " as " + c.name
				q := make(c)
				status, header, body := w.call(c, method, q)
				fits(what, op.OperationID, status, header, body)
				require.NotEmpty(t, header.Get("X-Request-Id"), what)
				switch {
				case needed != "" && c.rank < 0:
					require.Equal(t, 401, status, what)
				case inSpace && c.rank == 0:
					require.Equal(t, 404, status, "%s: to who is no member a workspace does not exist", what)
				case needed == "service" && c.rank < 4 && strings.HasPrefix(q.path, "/api/v1/workspaces/thing"):
					require.Contains(t, []int{403, 404}, status, what)
				case (inSpace || needed == "service") && c.rank < rankOf[needed]:
					require.Equal(t, 403, status, "%s: %s", what, body)
				case expectedOtherwise[op.OperationID] != 0:
					require.Equal(t, expectedOtherwise[op.OperationID], status, what)
				default:
					require.True(t, status >= 200 && status < 300, "%s: %d %s", what, status, body)
				}
			}
			// Bad input, by somebody who may do everything.
			boss := people[len(people)-1]
			q := make(boss)
			joint := "?"
			if strings.Contains(q.path, "?") {
				joint = "&"
			}
			status, header, body := w.call(
				boss,
				method,
				request{path: q.path + joint + "surely-unknown=1", body: q.body, headers: q.headers},
			)
			fits(op.OperationID+" with an unknown parameter", op.OperationID, status, header, body)
			require.Equal(t, 422, status, "%s: %s", op.OperationID, body)
			if op.RequestBody != nil {
				for _, bad := range []any{[]int{1}, map[string]any{"surely-unknown": 1}, "text", 3} {
					if _, unknown := bad.(map[string]any); unknown && strings.HasSuffix(path, "/v1/{signal}") {
						continue // OTLP has receivers pass over what they do not know
					}
					q.body = bad
					status, header, body := w.call(boss, method, q)
					fits(op.OperationID+" with a bad body", op.OperationID, status, header, body)
					require.Contains(t, []int{400, 422}, status, "%s with %v: %s", op.OperationID, bad, body)
				}
			}
		}
	}
	require.Equal(t, len(good), walked, "an example is of an operation that there no longer is")
}

// answersOf gives a function that holds answers against the description.
func answersOf(t *testing.T, source []byte) func(what, operation string, status int, header http.Header, body []byte) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(source))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	compiler.UseLoader(jsonschema.SchemeURLLoader{})
	require.NoError(t, compiler.AddResource("openapi.json", doc))
	where := map[string]string{} // pointer of each operation
	for path, operations := range doc.(map[string]any)["paths"].(map[string]any) {
		for method, op := range operations.(map[string]any) {
			escaped := strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(path)
			where[op.(map[string]any)["operationId"].(string)] = "#/paths/" + escaped + "/" + method
		}
	}
	find := func(operation string, status int) map[string]any {
		for _, operations := range doc.(map[string]any)["paths"].(map[string]any) {
			for _, op := range operations.(map[string]any) {
				o := op.(map[string]any)
				if o["operationId"] == operation {
					r, _ := o["responses"].(map[string]any)[fmt.Sprint(status)].(map[string]any)
					return r
				}
			}
		}
		return nil
	}
	return func(what, operation string, status int, header http.Header, body []byte) {
		t.Helper()
		answer := find(operation, status)
		require.NotNil(t, answer, "%s answered %d, which is not described: %s", what, status, body)
		content, _ := answer["content"].(map[string]any)
		if len(content) == 0 {
			require.Empty(t, body, what)
			return
		}
		kind, _, _ := strings.Cut(header.Get("Content-Type"), ";")
		kinds := []string{}
		for k := range content {
			kinds = append(kinds, k)
		}
		require.True(t, slices.Contains(kinds, kind), "%s answered %s, described is %v", what, kind, kinds)
		if !strings.HasSuffix(kind, "json") {
			require.NotEmpty(t, body, what)
			return
		}
		schema, err := compiler.Compile(
			fmt.Sprintf(
				"openapi.json%s/responses/%d/content/%s/schema",
				where[operation],
				status,
				strings.ReplaceAll(kind, "/", "~1"),
			),
		)
		require.NoError(t, err, what)
		got, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
		require.NoError(t, err, what)
		require.NoError(t, schema.Validate(got), "%s answered %d: %.500s", what, status, body)
	}
}
