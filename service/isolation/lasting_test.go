package isolation_test

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/service/isolation"
)

// done ends a lasting process of these tests.
var done = make(chan struct{})

// lasting is what a lasting process of these tests answers, beside what is hostile.
func lasting() http.Handler {
	mux := hostile().(*http.ServeMux)
	mux.HandleFunc("/stream", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintln(w, "begun")
		w.(http.Flusher).Flush()
		select {
		case <-done:
			fmt.Fprintln(w, "ended")
		case <-r.Context().Done():
		}
	})
	mux.HandleFunc("/done", func(http.ResponseWriter, *http.Request) { close(done) })
	mux.HandleFunc("/large", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, os.WriteFile(os.TempDir()+"/ironweir-isolation-test", make([]byte, 1<<20), 0o600),
			os.Remove(os.TempDir()+"/ironweir-isolation-test"))
	})
	return mux
}

func startLasting(t *testing.T) *isolation.Lasting {
	t.Helper()
	p, err := isolation.StartLasting([]string{os.Args[0], os.Args[0]}, 256<<20)
	require.NoError(t, err)
	t.Cleanup(p.Kill)
	return p
}

// send sends a request to a lasting process; the caller reads the answer.
func send(p *isolation.Lasting, ctx context.Context, path, body string) (*http.Response, error) {
	r, err := http.NewRequestWithContext(ctx, "POST", "http://service"+path, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Authorization", "Bearer secret")
	return p.RoundTrip(r)
}

// text sends a request that must be answered.
func text(t *testing.T, p *isolation.Lasting, path, body string) string {
	t.Helper()
	answer, err := send(p, t.Context(), path, body)
	require.NoError(t, err)
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(said)
}

func TestALastingProcessAnswersManyAtATime(t *testing.T) {
	p := startLasting(t)
	ctx, leave := context.WithCancel(t.Context())
	stream, err := send(p, ctx, "/stream", "")
	require.NoError(t, err)
	line, err := bufio.NewReader(stream.Body).ReadString('\n')
	require.NoError(t, err)
	require.Equal(t, "begun\n", line)

	pid := text(t, p, "/pid", "")
	require.NotEqual(t, strconv.Itoa(os.Getpid()), pid)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for k := range 20 {
				sent := strings.Repeat(fmt.Sprint(i, " ", k), 10_000)
				answer, err := send(p, t.Context(), "/echo", sent)
				if err != nil {
					t.Error(err)
					return
				}
				said, err := io.ReadAll(answer.Body)
				answer.Body.Close()
				if err != nil || string(said) != sent {
					t.Errorf("%d bytes, not %d: %v", len(said), len(sent), err)
				}
			}
		})
	}
	all.Wait()
	require.NotContains(t, text(t, p, "/headers", ""), "secret")
	leave()
	_, err = io.ReadAll(stream.Body)
	require.Error(t, err, "who reads has gone")
	require.Equal(t, pid, text(t, p, "/pid", ""), "the process goes on without that reader")
	require.Equal(t, "<nil> <nil>", text(t, p, "/large", ""), "it may keep what it needs in a file")
}

func TestALastingProcessEndsItselfAfterItsLastAnswers(t *testing.T) {
	p := startLasting(t)
	stream, err := send(p, t.Context(), "/stream", "")
	require.NoError(t, err)
	text(t, p, "/done", "")
	said, err := io.ReadAll(stream.Body)
	require.NoError(t, err)
	require.Equal(t, "begun\nended\n", string(said))
	<-p.Done()
	require.NoError(t, p.Failure())
	_, err = send(p, t.Context(), "/pid", "")
	require.ErrorIs(t, err, isolation.ErrEnded)
}

// TestALastingProcessThatFails: the service learns why, and nothing hangs.
func TestALastingProcessThatFails(t *testing.T) {
	for path, want := range map[string]error{"/grow": isolation.ErrMemory, "/exit": isolation.ErrEnded} {
		p := startLasting(t)
		stream, err := send(p, t.Context(), "/stream", "")
		require.NoError(t, err)
		_, err = send(p, t.Context(), path, "")
		require.Error(t, err, path)
		_, err = io.ReadAll(stream.Body)
		require.Error(t, err, path)
		<-p.Done()
		require.ErrorIs(t, p.Failure(), want, path)
	}
}

func TestALastingProcessIsEnded(t *testing.T) {
	p := startLasting(t)
	pid, err := strconv.Atoi(text(t, p, "/pid", ""))
	require.NoError(t, err)
	go send(p, t.Context(), "/loop", "")
	p.Kill()
	require.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
	require.NoError(t, p.Failure(), "it was asked for")
	_, err = send(p, t.Context(), "/pid", "")
	require.Error(t, err)
}

// TestALastingProcessGoesWithTheService: nothing is left of it when its connection is.
func TestALastingProcessGoesWithTheService(t *testing.T) {
	p := startLasting(t)
	text(t, p, "/pid", "")
	p.Leave()
	select {
	case <-p.Done():
	case <-time.After(time.Minute):
		t.Fatal("it is still there")
	}
}
