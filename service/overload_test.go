package service_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironweir/jobs"
	"ironweir/service"
	"ironweir/store"
)

// tangle is a model of topics of which each feeds many others: it takes long to check.
func tangle(nodes, links int) string {
	var text strings.Builder
	text.WriteString("ironweir: topology/1\nname: tangle\nnodes:\n")
	for i := range nodes {
		fmt.Fprintf(&text, "  n%d: {kind: topic, links: {", i)
		for k := range links {
			fmt.Fprintf(&text, "l%d: {to: n%d}, ", k, (i*7+k*13+1)%nodes)
		}
		text.WriteString("}}\n")
	}
	return text.String()
}

// TestOneCannotTakeItFromOthers: while somebody has as many hostile models checked as they
// can send, others are answered; who is refused is told who holds the budget; and nothing
// goes on once the sender has gone.
func TestOneCannotTakeItFromOthers(t *testing.T) {
	r := startWith(t, 0).signIn()
	hostile, other := r.member("gale", "viewer"), r.member("skerry", "viewer")
	ctx, stop := context.WithCancel(context.Background())
	var floods sync.WaitGroup
	var refused atomic.Int64
	body := fmt.Sprintf(`{"text": %q}`, tangle(2_000, 30))
	for range 24 {
		floods.Add(1)
		go func() {
			defer floods.Done()
			for ctx.Err() == nil {
				req, err := http.NewRequestWithContext(ctx, "POST", r.url+"/api/v1/check", strings.NewReader(body))
				if !assert.NoError(t, err) {
					return
				}
				req.Header.Set("Content-Type", "application/json")
				answer, err := hostile.http.Do(req)
				if err != nil {
					continue
				}
				said, _ := io.ReadAll(answer.Body)
				answer.Body.Close()
				if answer.StatusCode == http.StatusTooManyRequests {
					refused.Add(1)
					assert.Contains(t, string(said), "by gale")
				}
			}
		}()
	}
	working := func(n string) bool { return strings.Contains(r.page("/metrics"), "ironweir_computations "+n+"\n") }
	require.Eventually(t, func() bool { return !working("0") }, 30*time.Second, 20*time.Millisecond)
	for range 10 {
		other.do("POST", "/api/v1/check", map[string]string{"text": smallModel}, 200)
		other.do("GET", "/api/v1/workspaces/main/models", nil, 200)
	}
	require.Eventually(t, func() bool { return refused.Load() > 0 }, time.Minute, 20*time.Millisecond)
	stop()
	floods.Wait()
	require.Eventually(t, func() bool { return working("0") }, 30*time.Second, 20*time.Millisecond)
}

// TestAModelThatTakesTooMuchIsEnded, and what was to be saved is not.
func TestAModelThatTakesTooMuchIsEnded(t *testing.T) {
	if testing.Short() {
		t.Skip("it lets half a minute pass")
	}
	r := startWith(t, 0).signIn()
	r.http.Timeout = 2 * time.Minute
	answer := r.do("POST", "/api/v1/workspaces/main/models",
		map[string]string{"name": "tangle", "text": tangle(4_000, 60)}, 422)
	require.Regexp(t, `longer than 30s|more than \d+ MB of memory`, answer["detail"])
	r.do("GET", "/api/v1/workspaces/main/models/tangle", nil, 404)
	r.do("POST", "/api/v1/check", map[string]string{"text": smallModel}, 200)
}

// TestRehearsalsShareTheMachine: rehearsals that never have done all that is due leave room
// for everything else, and end when they are told to.
func TestRehearsalsShareTheMachine(t *testing.T) {
	r := startWith(t, 0).signIn()
	busy := "ironweir: topology/1\nname: mill\nnodes:\n  s: {kind: schedule, every: 1s, links: {q: {}}}\n  q: {kind: topic, links: {f: {}}}\n  f: {kind: function, takes: 10ms, links: {q: {}, again: {to: q}}}\n"
	r.do("POST", "/api/v1/workspaces/main/models", map[string]string{"name": "mill", "text": busy}, 201)
	var ids []string
	for range 6 {
		made := r.do("POST", "/api/v1/workspaces/main/models/mill/rehearsals", map[string]any{"pace": 100_000}, 201)
		ids = append(ids, made["id"].(string))
	}
	r.do("POST", "/api/v1/check", map[string]string{"text": smallModel}, 200)
	require.Len(t, r.do("GET", "/api/v1/workspaces/main/rehearsals", nil, 200)["items"], 6)
	for _, id := range ids {
		r.do("DELETE", "/api/v1/workspaces/main/rehearsals/"+id, nil, 204)
	}
	require.Eventually(t, func() bool { return strings.Contains(r.page("/metrics"), "ironweir_rehearsals 0\n") },
		30*time.Second, 20*time.Millisecond)
}

// frozen passes bytes on to a database until it is told to freeze: connections stay open, and
// nothing comes through.
type frozen struct {
	net.Listener
	to   string
	mu   sync.RWMutex
	hold bool
}

func (f *frozen) freeze(on bool) {
	f.mu.Lock()
	f.hold = on
	f.mu.Unlock()
}

func (f *frozen) run() {
	for {
		in, err := f.Accept()
		if err != nil {
			return
		}
		out, err := net.Dial("unix", f.to)
		if err != nil {
			in.Close()
			continue
		}
		pass := func(to, from net.Conn) {
			defer to.Close()
			buffer := make([]byte, 64<<10)
			for {
				n, err := from.Read(buffer)
				for held := true; held; {
					f.mu.RLock()
					held = f.hold
					f.mu.RUnlock()
					if held {
						time.Sleep(10 * time.Millisecond)
					}
				}
				if _, failed := to.Write(buffer[:n]); err != nil || failed != nil {
					return
				}
			}
		}
		go pass(in, out)
		go pass(out, in)
	}
}

// TestADatabaseThatHangs holds nobody: requests are answered with 503 after some seconds, and
// go on once it answers again.
func TestADatabaseThatHangs(t *testing.T) {
	r := startWith(t, 0).signIn() // makes the records, and is not frozen
	address, err := url.Parse(r.records)
	require.NoError(t, err)
	query := address.Query()
	const socket = "/.s.PGSQL.5432"
	dir := t.TempDir()
	listener, err := net.Listen("unix", dir+socket)
	require.NoError(t, err)
	proxy := &frozen{Listener: listener, to: query.Get("host") + socket}
	defer listener.Close()
	go proxy.run()
	query.Set("host", dir)
	address.RawQuery = query.Encode()

	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s, err := store.Open(ctx, address.String())
	require.NoError(t, err)
	defer s.Close()
	queue, err := jobs.NewQueue(s, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	handler := service.New(s, queue, slog.New(slog.DiscardHandler), service.Options{Commands: command})
	defer handler.Close()
	server := httptest.NewServer(handler)
	defer server.Close()
	hung := *r
	hung.url = server.URL
	hung.do("GET", "/api/v1/workspaces/main/models", nil, 200)

	proxy.freeze(true)
	answer := hung.do("GET", "/api/v1/workspaces/main/models", nil, 503)
	require.Contains(t, answer["detail"], "database")
	proxy.freeze(false)
	require.Eventually(t, func() bool {
		answer, err := hung.http.Get(server.URL + "/api/v1/workspaces/main/models")
		if err != nil {
			return false
		}
		answer.Body.Close()
		return answer.StatusCode == 200
	}, time.Minute, 50*time.Millisecond)
}
