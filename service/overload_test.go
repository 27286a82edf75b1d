package service_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
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
	require.Eventually(t, func() bool { return !working("0") }, patience, 20*time.Millisecond)
	for range 10 {
		other.do("POST", "/api/v1/check", map[string]string{"text": smallModel}, 200)
		other.do("GET", "/api/v1/workspaces/main/models", nil, 200)
	}
	require.Eventually(t, func() bool { return refused.Load() > 0 }, patience, 20*time.Millisecond)
	stop()
	floods.Wait()
	require.Eventually(t, func() bool { return working("0") }, patience, 20*time.Millisecond)
}

// TestAModelThatTakesTooMuchIsEnded, and what was to be saved is not.
func TestAModelThatTakesTooMuchIsEnded(t *testing.T) {
	if testing.Short() {
		t.Skip("it lets half a minute pass")
	}
	r := startWith(t, 0).signIn()
	r.http.Timeout = patience
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
		patience, 20*time.Millisecond)
}

// TestARehearsalEndsAlone: what ends the process of a rehearsal ends nothing else, and who
// watches it learns why.
func TestARehearsalEndsAlone(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("it finds the processes of rehearsals in /proc")
	}
	r := startWith(t, 0).signIn()
	const path = "/api/v1/workspaces/main/rehearsals"
	begin := func() string {
		const models = "/api/v1/workspaces/main/models/kittiwake"
		return r.do("POST", models+"/rehearsals", map[string]any{"pace": 100}, 201)["id"].(string)
	}
	before := lastingProcesses(t)
	first := begin()
	process := slices.DeleteFunc(lastingProcesses(t), func(pid int) bool { return slices.Contains(before, pid) })
	require.Len(t, process, 1)
	second := begin()

	stream, err := r.http.Get(r.url + path + "/" + first + "/events")
	require.NoError(t, err)
	defer stream.Body.Close()
	states := bufio.NewReader(stream.Body)
	_, err = states.ReadString('\n')
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(process[0], syscall.SIGKILL))
	_, err = io.Copy(io.Discard, states)
	require.Error(t, err, "the stream is cut off, not ended")
	require.Eventually(t, func() bool { return strings.Contains(r.page("/metrics"), `/rehearsals/:id/events"`) },
		patience, 20*time.Millisecond, "it counts as a request all the same")
	require.Contains(t, r.do("GET", path+"/"+first, nil, 404)["detail"], "ended by a fault")
	require.Contains(t, r.do("POST", path+"/"+first+"/step", nil, 404)["detail"], "ended by a fault")

	list := r.do("GET", path, nil, 200)["items"].([]any)
	require.Len(t, list, 1)
	require.Equal(t, second, list[0].(map[string]any)["id"])
	r.do("POST", path+"/"+second+"/step", nil, 200)
	require.Contains(t, r.page("/metrics"), "ironweir_rehearsals 1\n")
	r.do("DELETE", path+"/"+second, nil, 204)
	require.Subset(t, before, lastingProcesses(t), "a process ends with its rehearsal")
}

// lastingProcesses gives the processes that rehearsals of this one go on in.
func lastingProcesses(t *testing.T) (pids []int) {
	entries, err := os.ReadDir("/proc")
	require.NoError(t, err)
	for _, e := range entries {
		pid, err := strconv.Atoi(e.Name())
		if err != nil {
			continue
		}
		stat, _ := os.ReadFile("/proc/" + e.Name() + "/stat") // it may have ended
		environment, _ := os.ReadFile("/proc/" + e.Name() + "/environ")
		_, rest, _ := strings.Cut(string(stat), ") ")
		fields := strings.Fields(rest)
		if len(fields) > 1 && fields[1] == strconv.Itoa(os.Getpid()) &&
			bytes.Contains(environment, []byte("IRONWEIR_CHILD_LASTS=1")) {
			pids = append(pids, pid)
		}
	}
	slices.Sort(pids)
	return pids
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
	}, patience, 50*time.Millisecond)
}
