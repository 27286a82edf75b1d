package service_test

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/store"
)

// member makes a person with a role in the workspace main, signed in.
func (r *running) member(name, role string) *running {
	r.Helper()
	r.do("POST", "/api/v1/users", map[string]any{"name": name}, 201)
	r.do("PUT", "/api/v1/workspaces/main/members/"+name, map[string]string{"role": role}, 204)
	return r.signedIn(name)
}

// signedIn opens a session of a person by a one-time link.
func (r *running) signedIn(name string) *running {
	r.Helper()
	secret, err := r.store.SignInLink(context.Background(), name, time.Hour)
	require.NoError(r, err)
	other := r.as()
	other.do("POST", "/api/v1/session", map[string]string{"secret": secret}, 200)
	return other
}

// follows opens a stream, and gives a channel that is closed when it ends.
func (r *running) follows(path string, headers ...string) <-chan struct{} {
	r.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	r.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", r.url+path, nil)
	require.NoError(r, err)
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	client := *r.http
	client.Timeout = 0
	answer, err := client.Do(req)
	require.NoError(r, err)
	require.Equal(r, 200, answer.StatusCode)
	lines := bufio.NewScanner(answer.Body)
	require.True(r, lines.Scan(), "how things stand")
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		defer answer.Body.Close()
		for lines.Scan() {
		}
	}()
	return ended
}

// TestStreamsEndWithTheAccess of who follows them: of runs and of rehearsals, however the
// access ends. A stream of somebody else goes on.
func TestStreamsEndWithTheAccess(t *testing.T) {
	r := startWith(t, 0).signIn()
	progress := r.long() + "/events" // nobody works on it
	made := r.do("POST", "/api/v1/workspaces/main/models/kittiwake/rehearsals", map[string]any{"paused": true}, 201)
	states := fmt.Sprintf("/api/v1/workspaces/main/rehearsals/%s/events", made["id"])
	mine := r.follows(progress)
	for name, end := range map[string]func(who *running, name string){
		"signed-out":  func(who *running, _ string) { who.do("DELETE", "/api/v1/session", nil, 204) },
		"left-behind": func(_ *running, name string) { r.do("DELETE", "/api/v1/workspaces/main/members/"+name, nil, 204) },
		"deleted":     func(_ *running, name string) { r.do("DELETE", "/api/v1/users/"+name, nil, 204) },
		"elsewhere":   func(_ *running, name string) { r.signedIn(name).do("DELETE", "/api/v1/sessions", nil, 204) },
	} {
		who := r.member(name, "viewer")
		run, rehearsal := who.follows(progress), who.follows(states)
		end(who, name)
		for what, stream := range map[string]<-chan struct{}{"run": run, "rehearsal": rehearsal} {
			select {
			case <-stream:
			case <-time.After(30 * time.Second):
				t.Errorf("the stream of the %s goes on after %s", what, name)
			}
		}
	}
	token := r.do("POST", "/api/v1/tokens", map[string]any{"name": "watcher", "role": "viewer"}, 201)
	watched := r.as().follows(states, "Authorization", "Bearer "+token["secret"].(string))
	r.do("DELETE", fmt.Sprintf("/api/v1/tokens/%.0f", token["id"]), nil, 204)
	<-watched
	select {
	case <-mine:
		t.Error("a stream ended whose reader still has access")
	case <-time.After(1500 * time.Millisecond): // longer than access is looked at again
	}
}

// TestAWorkspaceMadeAnewIsAnother: it shows nothing of the one that bore its name before.
func TestAWorkspaceMadeAnewIsAnother(t *testing.T) {
	r := startWith(t, 0).signIn()
	const yard = "/api/v1/workspaces/yard"
	r.do("POST", "/api/v1/workspaces", map[string]string{"name": "yard"}, 201)
	r.do("POST", yard+"/models", map[string]string{"name": "slip", "text": smallModel}, 201)
	made := r.do("POST", yard+"/models/slip/rehearsals", map[string]any{}, 201)
	stream := r.follows(fmt.Sprintf("%s/rehearsals/%s/events", yard, made["id"]))
	r.do("DELETE", yard, nil, 204)
	<-stream
	r.do("POST", "/api/v1/workspaces", map[string]string{"name": "yard"}, 201)
	require.Empty(t, r.do("GET", yard+"/models", nil, 200)["items"])
	require.Empty(t, r.do("GET", yard+"/rehearsals", nil, 200)["items"])
	r.do("GET", fmt.Sprintf("%s/rehearsals/%s", yard, made["id"]), nil, 404)
	said := fmt.Sprint(r.do("GET", yard+"/audit", nil, 200)["items"])
	require.Contains(t, said, "create-workspace")
	require.NotContains(t, said, "create-model")
	all := fmt.Sprint(r.do("GET", "/api/v1/audit?limit=500", nil, 200)["items"])
	require.Contains(t, all, "delete-workspace")
}

// TestATokenActsOnNoOther: it sees and revokes itself alone, and what it did can be listed.
func TestATokenActsOnNoOther(t *testing.T) {
	r := startWith(t, 0).signIn()
	token := func(name, role string) (id float64, bearer string) {
		made := r.do("POST", "/api/v1/tokens", map[string]any{"name": name, "role": role, "workspace": "main"}, 201)
		return made["id"].(float64), "Bearer " + made["secret"].(string)
	}
	strong, _ := token("deploy", "admin")
	weak, bearer := token("reader", "editor")
	other := r.as()
	list := other.do("GET", "/api/v1/tokens", nil, 200, "Authorization", bearer)["items"].([]any)
	require.Len(t, list, 1)
	require.Equal(t, "reader", list[0].(map[string]any)["name"])
	other.do("DELETE", fmt.Sprintf("/api/v1/tokens/%.0f", strong), nil, 403, "Authorization", bearer)
	other.do("DELETE", "/api/v1/sessions", nil, 403, "Authorization", bearer)
	other.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "slip", "text": smallModel}, 201,
		"Authorization", bearer)
	other.do("DELETE", fmt.Sprintf("/api/v1/tokens/%.0f", weak), nil, 204, "Authorization", bearer)
	require.Len(t, r.do("GET", "/api/v1/tokens", nil, 200)["items"], 1)

	did := r.do("GET", fmt.Sprintf("/api/v1/audit?token=%.0f", weak), nil, 200)["items"].([]any)
	require.Len(t, did, 2)
	last := did[0].(map[string]any)
	require.Equal(t, "revoke-token", last["action"])
	require.Equal(t, fmt.Sprintf("reader (%.0f) of admin", weak), last["object"])
	require.Equal(t, "127.0.0.1", last["address"])
	require.Equal(t, "create-model", did[1].(map[string]any)["action"])
}

// TestRefusalsAreInTheAuditTrail: wrong passwords and links, and changes that somebody may
// not make, each once a minute.
func TestRefusalsAreInTheAuditTrail(t *testing.T) {
	r := startWith(t, 0).signIn()
	viewer := r.member("skerry", "viewer")
	for range 3 {
		viewer.do("DELETE", "/api/v1/workspaces/main/models/kittiwake", nil, 403)
	}
	viewer.do("GET", "/api/v1/users", nil, 403)
	r.as().do("POST", "/api/v1/session", map[string]string{"name": "skerry", "password": "kelp and rope"}, 401)
	r.as().do("POST", "/api/v1/session", map[string]string{"secret": "found in a bin"}, 401)
	var said []string
	for _, e := range r.do("GET", "/api/v1/audit?refused=true", nil, 200)["items"].([]any) {
		e := e.(map[string]any)
		require.NotEmpty(t, e["refused"])
		require.Equal(t, "127.0.0.1", e["address"])
		said = append(said, fmt.Sprintf("%v: %v %v in %v", e["who"], e["action"], e["object"], e["workspace"]))
	}
	require.Equal(t, []string{": sign-in  in ", ": sign-in skerry in ", "skerry: delete-model  in main"}, said)
	require.NotEmpty(t, r.do("GET", "/api/v1/workspaces/main/audit?who=skerry&action=delete-model", nil, 200)["items"])
}

// TestTheAuditTrailIsChained: an entry that was changed, or one that is missing, shows.
func TestTheAuditTrailIsChained(t *testing.T) {
	r := startWith(t, 0).signIn()
	for k := range 5 {
		r.do("POST", "/api/v1/users", map[string]any{"name": fmt.Sprint("crew-", k)}, 201)
	}
	sound := r.do("GET", "/api/v1/audit/chain", nil, 200)
	require.Nil(t, sound["broken"])
	require.Greater(t, sound["entries"], 5.0)
	entries := r.do("GET", "/api/v1/audit?limit=3", nil, 200)["items"].([]any)
	require.Equal(t, sound["hash"], entries[0].(map[string]any)["hash"])
	middle := entries[2].(map[string]any)["id"].(float64)
	pool, ctx := r.store.Pool(), context.Background()
	change := func(statement string, args ...any) {
		_, err := pool.Exec(ctx, statement, args...)
		require.NoError(t, err)
	}
	change("UPDATE audit SET who = 'nobody' WHERE id = $1", int64(middle))
	require.Equal(t, middle, r.do("GET", "/api/v1/audit/chain", nil, 200)["broken"])
	change("UPDATE audit SET who = 'admin' WHERE id = $1", int64(middle))
	require.Nil(t, r.do("GET", "/api/v1/audit/chain", nil, 200)["broken"])
	change("DELETE FROM audit WHERE id = $1", int64(middle))
	require.Equal(t, middle+1, r.do("GET", "/api/v1/audit/chain", nil, 200)["broken"])
	change("DELETE FROM audit WHERE id < $1", int64(middle)) // as the oldest go by the settings
	require.Nil(t, r.do("GET", "/api/v1/audit/chain", nil, 200)["broken"])
}

// TestALaterSchemaIsRefused: a program does not work on records that it does not understand.
func TestALaterSchemaIsRefused(t *testing.T) {
	r := startWith(t, 0)
	ctx := context.Background()
	_, err := r.store.Pool().Exec(ctx, "INSERT INTO goose_db_version (version_id, is_applied) VALUES (99999, true)")
	require.NoError(t, err)
	defer func() {
		_, err := r.store.Pool().Exec(ctx, "DELETE FROM goose_db_version WHERE version_id = 99999")
		require.NoError(t, err)
	}()
	_, err = store.Open(ctx, r.records)
	require.ErrorIs(t, err, store.ErrNewer)
	require.Contains(t, err.Error(), "version 99999")
	require.True(t, strings.Contains(err.Error(), "use the program that made it"))
}
