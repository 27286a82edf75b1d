package service_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// openShares lets share links open for anybody, or for who is signed in alone.
func (r *running) openShares(anybody bool) {
	r.Helper()
	settings := r.do("GET", "/api/v1/settings", nil, 200)
	delete(settings, "")
	delete(settings, "$schema")
	settings["open_shares"] = anybody
	r.do("PUT", "/api/v1/settings", settings, 204)
}

// opened gives a browser that has opened a share link, signed in as nobody.
func (r *running) opened(link string) *running {
	r.Helper()
	out := r.as()
	out.open(link, 200)
	return out
}

func (r *running) open(link string, status int) {
	r.Helper()
	secret := strings.TrimPrefix(link, "/s/")
	r.do("POST", "/api/v1/shares/open", map[string]any{"secret": secret}, status)
}

func lastOf(path string) string { return path[strings.LastIndex(path, "/")+1:] }

// TestAShareLinkReadsOneThing: who has a link reads the run that it shares, and the board of
// its model, and is refused everything else: other runs, lists, changes, the rest of the
// service. A revoked link ends at once, and so does a stream that is read by it.
func TestAShareLinkReadsOneThing(t *testing.T) {
	w := &walk{running: start(t).signIn()}
	run, other := w.finished(map[string]any{}), w.finished(map[string]any{"seed": 7})
	const main = "/api/v1/workspaces/main"
	made := w.do("POST", main+"/shares", map[string]any{"what": "run", "id": lastOf(run)}, 201)
	share := made["share"].(map[string]any)
	require.Regexp(t, `^run \d+ of \S+ under calm$`, share["what"])
	until, err := time.Parse(time.RFC3339, share["expires_at"].(string))
	require.NoError(t, err)
	require.InDelta(t, 14*24, time.Until(until).Hours(), 1)

	w.as().open(made["link"].(string), 401)
	w.as().do("GET", run, nil, 401, "Authorization", "Bearer "+strings.TrimPrefix(made["link"].(string), "/s/"))
	w.openShares(true)
	guest := w.opened(made["link"].(string))
	w.as().do("GET", run, nil, 200, "Authorization", "Bearer "+strings.TrimPrefix(made["link"].(string), "/s/"))
	who := guest.do("GET", "/api/v1/session", nil, 200)
	require.Contains(t, who["name"], "share link of ")
	require.Equal(t, false, who["admin"])
	model := guest.do("GET", run, nil, 200)["model"].(string)
	revision := fmt.Sprintf("%s/models/%s/revisions/", main, model)
	for _, path := range []string{run + "/result", run + "/journeys", run + "/events", revision + "1"} {
		guest.do("GET", path, nil, 200)
	}
	spaces := guest.do("GET", "/api/v1/workspaces", nil, 200)["items"].([]any)
	require.Len(t, spaces, 1)
	require.Equal(t, "viewer", spaces[0].(map[string]any)["role"])
	text := guest.do("GET", revision+"1", nil, 200)["text"]
	require.NotEmpty(t, guest.do("POST", "/api/v1/check", map[string]any{"text": text}, 200)["board"])

	for _, refused := range []string{
		other, other + "/result", main + "/runs", main + "/models", main + "/models/" + model,
		revision[:len(revision)-1], main + "/members", main + "/shares", "/api/v1/tokens", "/api/v1/catalogue",
	} {
		guest.do("GET", refused, nil, 403)
	}
	for method, path := range map[string]string{"DELETE": run, "POST": run + "/cancel"} {
		guest.do(method, path, nil, 403)
	}
	guest.do("POST", "/api/v1/mend", map[string]any{"text": text}, 403)
	guest.do("POST", main+"/shares", map[string]any{"what": "revision", "id": model}, 403)
	guest.do("POST", "/api/v1/tokens", map[string]any{"name": "x", "role": "viewer"}, 403)

	// It is listed, with when it was last read, and not among the tokens.
	list := w.do("GET", main+"/shares", nil, 200)["items"].([]any)
	require.Len(t, list, 1)
	require.NotNil(t, list[0].(map[string]any)["used_at"])
	require.Empty(t, w.do("GET", "/api/v1/tokens", nil, 200)["items"])
	w.do("DELETE", fmt.Sprintf("%s/shares/%.0f", main, share["id"]), nil, 204)
	guest.do("GET", run, nil, 401)
	w.as().open(made["link"].(string), 404)
	w.do("DELETE", fmt.Sprintf("%s/shares/%.0f", main, share["id"]), nil, 404)
}

// TestSharesAreTheirOwners: an editor sees and revokes their own links, an administrator of the
// workspace all; a link ends with the membership of who made it, and with their sessions.
func TestSharesAreTheirOwners(t *testing.T) {
	w := &walk{running: start(t).signIn()}
	const main = "/api/v1/workspaces/main"
	asked := map[string]any{"what": "revision", "id": "kittiwake"}
	mine := w.do("POST", main+"/shares", asked, 201)
	editor := w.member("ines", "editor")
	theirs := editor.do("POST", main+"/shares", asked, 201)
	require.Len(t, editor.do("GET", main+"/shares", nil, 200)["items"], 1)
	require.Len(t, w.do("GET", main+"/shares", nil, 200)["items"], 2)
	editor.do("DELETE", fmt.Sprintf("%s/shares/%.0f", main, mine["share"].(map[string]any)["id"]), nil, 404)

	w.openShares(true)
	guest := w.opened(theirs["link"].(string))
	const revision = main + "/models/kittiwake/revisions/1"
	guest.do("GET", revision, nil, 200)
	guest.do("GET", main+"/models/kittiwake/revisions/2", nil, 403)
	// Who is signed in, and no member, reads it too, and nothing else.
	w.do("POST", "/api/v1/users", map[string]any{"name": "jonas"}, 201)
	outsider := w.signedIn("jonas")
	outsider.do("GET", revision, nil, 404)
	w.openShares(false) // they need no more than to be signed in
	guest.do("GET", revision, nil, 401)
	outsider.open(theirs["link"].(string), 200)
	outsider.do("GET", revision, nil, 200)
	outsider.do("GET", main+"/runs", nil, 403)

	w.openShares(true)
	guest.do("GET", revision, nil, 200)
	editor.do("DELETE", "/api/v1/sessions", nil, 204)
	guest.do("GET", revision, nil, 401)
	require.Len(t, w.do("GET", main+"/shares", nil, 200)["items"], 1)
}

// TestASharedRehearsalIsWatched by who has the link, who cannot act in it; the stream ends
// with the link.
func TestASharedRehearsalIsWatched(t *testing.T) {
	w := &walk{running: start(t).signIn()}
	w.openShares(true)
	path := w.rehearsed()
	const main = "/api/v1/workspaces/main"
	made := w.do("POST", main+"/shares", map[string]any{"what": "rehearsal", "id": lastOf(path)}, 201)
	guest := w.opened(made["link"].(string))
	guest.do("GET", path, nil, 200)
	guest.do("GET", path+"/model", nil, 200)
	guest.do("POST", path+"/step", nil, 403)
	guest.do("POST", path+"/incidents", map[string]any{"link": "q:f", "paused": true}, 403)
	guest.do("DELETE", path, nil, 403)
	ended := guest.follows(path + "/events")
	require.Eventually(t, func() bool {
		state := w.do("GET", path, nil, 200)["state"].(map[string]any)
		return slices.Contains(state["watchers"].([]any), any("share link of admin"))
	}, patience, 50*time.Millisecond, "it is seen who watches")
	w.do("DELETE", fmt.Sprintf("%s/shares/%.0f", main, made["share"].(map[string]any)["id"]), nil, 204)
	select {
	case <-ended:
	case <-time.After(patience):
		t.Fatal("the stream goes on after its link was revoked")
	}
}
