package isolation_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/service/isolation"
)

var hoard [][]byte

// hostile is what a process of these tests answers.
func hostile() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("/pid", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, os.Getpid()) })
	mux.HandleFunc("/echo", func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		w.Header().Set("Content-Type", "text/echo")
		w.WriteHeader(http.StatusTeapot)
		w.Write(body)
	})
	mux.HandleFunc("/headers", func(w http.ResponseWriter, r *http.Request) { r.Header.Write(w) })
	mux.HandleFunc("/environment", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, strings.Join(os.Environ(), "\n"))
	})
	mux.HandleFunc("/write", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, os.WriteFile(os.TempDir()+"/ironweir-isolation-test", []byte("x"), 0o600))
	})
	mux.HandleFunc("/loop", func(w http.ResponseWriter, r *http.Request) {
		for {
			runtime.Gosched()
		}
	})
	mux.HandleFunc("/grow", func(w http.ResponseWriter, r *http.Request) {
		for {
			b := make([]byte, 16<<20)
			for i := 0; i < len(b); i += 4096 {
				b[i] = 1
			}
			hoard = append(hoard, b)
		}
	})
	mux.HandleFunc("/deep", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, deep(1)) })
	mux.HandleFunc("/exit", func(w http.ResponseWriter, r *http.Request) { os.Exit(7) })
	mux.HandleFunc("/unread", func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(http.StatusBadRequest) })
	return mux
}

// deep goes deeper until its stack is used up.
func deep(n int) int {
	if n < 0 {
		return 0
	}
	return n + deep(n+1) + deep(n+2)
}

func TestMain(m *testing.M) {
	if isolation.IsChild() {
		if isolation.Lasts() {
			if err := isolation.RunUntil(done, lasting()); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
			os.Exit(0)
		}
		fmt.Fprintln(os.Stderr, isolation.Run(hostile()))
		os.Exit(1)
	}
	os.Exit(m.Run())
}

func pool(t *testing.T) *isolation.Pool {
	p := &isolation.Pool{
		Program: []string{os.Args[0], os.Args[0]},
		Memory:  256 << 20,
		Log:     slog.New(slog.DiscardHandler),
	}
	t.Cleanup(p.Close)
	return p
}

func ask(
	p *isolation.Pool, ctx context.Context, path, body string, within time.Duration,
) (*httptest.ResponseRecorder, error) {
	r := httptest.NewRequestWithContext(ctx, "POST", path, strings.NewReader(body))
	r.Header.Set("Authorization", "Bearer secret")
	r.Header.Set("Cookie", "secret")
	r.Header.Set("Connection", "close")
	w := httptest.NewRecorder()
	return w, p.Serve(w, r, within)
}

// fine asks what must be answered.
func fine(t *testing.T, p *isolation.Pool, path, body string) *httptest.ResponseRecorder {
	t.Helper()
	w, err := ask(p, context.Background(), path, body, time.Minute)
	require.NoError(t, err)
	return w
}

func TestAProcessIsUsedAgain(t *testing.T) {
	p := pool(t)
	first := fine(t, p, "/pid", "").Body.String()
	require.NotEqual(t, strconv.Itoa(os.Getpid()), first)
	for _, size := range []int{0, 1, 1 << 20, 10 << 20} {
		w := fine(t, p, "/echo", strings.Repeat("x", size))
		require.Equal(t, http.StatusTeapot, w.Code)
		require.Equal(t, "text/echo", w.Header().Get("Content-Type"))
		require.Equal(t, size, w.Body.Len())
	}
	require.Equal(t, first, fine(t, p, "/pid", "").Body.String())
	require.Equal(t, 1, p.Count())
}

func TestNothingSecretIsTold(t *testing.T) {
	t.Setenv("IRONWEIR_DATABASE", "postgres://weir:secret@/weir")
	p := pool(t)
	require.NotContains(t, fine(t, p, "/environment", "").Body.String(), "secret")
	require.NotContains(t, fine(t, p, "/headers", "").Body.String(), "secret")
}

// TestARequestEndsItsProcessAlone: whatever it does, the next request is answered.
func TestARequestEndsItsProcessAlone(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("only the time of a request is limited here")
	}
	p := pool(t)
	require.Contains(t, fine(t, p, "/write", "").Body.String(), "file too large")
	for path, want := range map[string]error{
		"/loop": isolation.ErrTime,
		"/grow": isolation.ErrMemory,
		"/deep": nil, // by its memory or by its stack
		"/exit": isolation.ErrEnded,
	} {
		within := time.Minute
		if path == "/loop" {
			within = 300 * time.Millisecond
		}
		w, err := ask(p, context.Background(), path, "", within)
		require.Error(t, err, path)
		if want != nil {
			require.ErrorIs(t, err, want, path)
		}
		require.False(t, w.Flushed || w.Body.Len() > 0, path)
		require.NotEmpty(t, fine(t, p, "/pid", "").Body.String(), "after "+path)
		require.Equal(t, 1, p.Count(), "after "+path)
	}
}

func TestWhoGoesEndsTheWork(t *testing.T) {
	p := pool(t)
	pid, err := strconv.Atoi(fine(t, p, "/pid", "").Body.String())
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(100*time.Millisecond, cancel)
	_, err = ask(p, ctx, "/loop", "", time.Minute)
	require.ErrorIs(t, err, context.Canceled)
	require.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "it has ended, not only been forgotten")
	require.Zero(t, p.Count())
}

func TestAnAnswerBeforeTheEndOfTheRequest(t *testing.T) {
	p := pool(t)
	w := fine(t, p, "/unread", strings.Repeat("x", 8<<20))
	require.Equal(t, http.StatusBadRequest, w.Code)
	require.NotEmpty(t, fine(t, p, "/pid", "").Body.String())
}

func TestManyAtOnce(t *testing.T) {
	p := pool(t)
	var all sync.WaitGroup
	for i := range 8 {
		all.Add(1)
		go func() {
			defer all.Done()
			for k := range 5 {
				text := fmt.Sprint(i, " ", k)
				w, err := ask(p, context.Background(), "/echo", text, time.Minute)
				if err != nil || w.Body.String() != text {
					t.Errorf("%q %v", w.Body.String(), err)
				}
			}
		}()
	}
	all.Wait()
	require.LessOrEqual(t, p.Count(), 2, "spare ones are ended")
}

func TestAProcessThatSomebodyEndedIsReplaced(t *testing.T) {
	p := pool(t)
	pid, err := strconv.Atoi(fine(t, p, "/pid", "").Body.String())
	require.NoError(t, err)
	require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	require.Eventually(t, func() bool { // what is asked while it dies may end with it
		w, err := ask(p, context.Background(), "/pid", "", time.Minute)
		return err == nil && w.Body.String() != strconv.Itoa(pid)
	}, 10*time.Second, time.Millisecond)
}

func TestAClosedPoolStartsNothing(t *testing.T) {
	p := pool(t)
	p.Warm()
	require.Equal(t, 1, p.Count())
	p.Close()
	require.Zero(t, p.Count())
	_, err := ask(p, context.Background(), "/pid", "", time.Minute)
	require.ErrorContains(t, err, "stopping")
}
