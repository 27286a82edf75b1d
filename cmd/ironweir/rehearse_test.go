package main

import (
	"bytes"
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2"
	"github.com/stretchr/testify/require"
)

// TestRehearseAtTheTerminal types at a rehearsal while another program posts to it.
func TestRehearseAtTheTerminal(t *testing.T) {
	in, typed := io.Pipe()
	out := &lockedBuffer{}
	code := make(chan int)
	go func() {
		code <- Main(context.Background(), []string{"rehearse", "../../demo/kittiwake.yaml", "-pace", "500", "-listen", "127.0.0.1:0"}, in, out, out)
	}()
	says := func(what string) []string {
		t.Helper()
		var found []string
		require.Eventually(t, func() bool {
			found = regexp.MustCompile(what).FindStringSubmatch(out.String())
			return found != nil
		}, patience, 5*time.Millisecond, "%s\n%s", what, out)
		return found
	}
	does := func(line string) {
		_, err := io.WriteString(typed, line+"\n")
		require.NoError(t, err)
	}
	address := says(`being rehearsed at (http://127\.0\.0\.1:\d+),`)[1]
	does("fail goods-registry")
	does("state")
	says(`goods-registry .*fails 100%`)
	client, err := sdk.NewClientHTTP(sdk.WithTarget(address + "/entries/manifest-drop"))
	require.NoError(t, err)
	event := sdk.NewEvent()
	event.SetSource("haulier")
	event.SetType("manifest.written")
	event.SetSubject("inbound/gannet/77.csv")
	require.NoError(t, event.SetData(sdk.ApplicationJSON, map[string]any{"lines": []any{map[string]any{"kg": 1}}}))
	require.True(t, sdk.IsACK(client.Send(context.Background(), event)))
	says(`by http sent an event to manifest-drop`)
	does("wait 20m")
	does("rest consignments")
	says(`consignments: \d+ message[^\n]*\n *message +journey[^\n]*\n(?:.*inbound/gannet/77\.csv\n)`)
	does("heal goods-registry")
	does("send manifest-drop inbound/gannet/78.csv {\"lines\":[]}")
	says(`message \d+ enters manifest-drop`)
	answer, err := http.Post(
		address+"/bookings",
		"application/json",
		strings.NewReader(`{"sailing":"evening","vehicle":"KW-207"}`),
	)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 202, answer.StatusCode)
	does("stand")
	does("back 1m")
	says(`rewound to`)
	does("step 3")
	says(`(?m)^\d\d:\d\d:\d\d\.\d{3}  [a-z]`)
	file := filepath.Join(t.TempDir(), "kept.yaml")
	does("keep " + file)
	says(`written to .*kept\.yaml`)
	does("fial goods-registry")
	says(`no word "fial"; did you mean "fail"\?`)
	does("fail")
	says(`fail NODE`)
	does("exit") // as well as end
	require.Zero(t, <-code)
	kept, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(kept), "inbound/gannet/77.csv")
	require.Contains(t, string(kept), "node: goods-registry")

	var run bytes.Buffer
	require.Zero(
		t,
		Main(context.Background(), []string{"run", "../../demo/kittiwake.yaml", "-scenario", file}, nil, &run, &run),
		run.String(),
	)
	require.Contains(t, run.String(), "kept")
}

// TestRehearseAsksHooks: a function is answered by a handler on this machine, which
// a client that nobody here wrote reads; once it fails, once it is mended.
func TestRehearseAsksHooks(t *testing.T) {
	var broken atomic.Bool
	broken.Store(true)
	handler := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, err := sdk.NewEventFromHTTPRequest(r); err != nil || broken.Load() {
			http.Error(w, "no such lorry", http.StatusInternalServerError)
		}
	}))
	defer handler.Close()
	variant := filepath.Join(t.TempDir(), "hooked.yaml")
	require.NoError(t, os.WriteFile(variant, []byte("nodes: {departures: {hook: \""+handler.URL+"\"}}\n"), 0o644))
	in, typed := io.Pipe()
	out := &lockedBuffer{}
	code := make(chan int)
	go func() {
		code <- Main(context.Background(), []string{"rehearse", "../../demo/kittiwake.yaml", "-variant", variant, "-hooks", "-listen", "127.0.0.1:0"}, in, out, out)
	}()
	says := func(what string) {
		t.Helper()
		require.Eventually(
			t,
			func() bool { return strings.Contains(out.String(), what) },
			patience,
			5*time.Millisecond,
			"%s\n%s",
			what,
			out,
		)
	}
	_, err := io.WriteString(typed, "send departures\n")
	require.NoError(t, err)
	says("hook of departures failed: it answered 500: no such lorry")
	broken.Store(false)
	_, err = io.WriteString(typed, "pace 100\nwait 1m\nstate\nend\n")
	require.NoError(t, err)
	require.Zero(t, <-code)
	require.Regexp(
		t,
		`departures +1 +2 +1 +hook \d+(\.\d+)?(µs|ms|s)\n`,
		out.String(),
		"received once, two runs, of which one failed, and the handler's real time",
	)
}
