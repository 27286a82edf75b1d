package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/client"
)

// answering is a service of one handler.
func answering(t *testing.T, handler http.HandlerFunc) *client.Client {
	s := httptest.NewServer(handler)
	t.Cleanup(s.Close)
	return client.New(s.URL+"/", "secret", "main")
}

// A request bears the token, its headers and its body; names are one part of a path each.
func TestRequests(t *testing.T) {
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "Bearer secret", r.Header.Get("Authorization"))
		require.Equal(t, "application/json", r.Header.Get("Content-Type"))
		require.Equal(t, `"3"`, r.Header.Get("If-Match"))
		require.Equal(t, "/api/v1/workspaces/main/models/a%2Fb", r.URL.EscapedPath())
		body, _ := io.ReadAll(r.Body)
		require.JSONEq(t, `{"text": "x"}`, string(body))
		w.Header().Set("ETag", `"4"`)
		fmt.Fprint(w, `{"number": 4}`)
	})
	var got client.Revision
	header, err := c.Do(context.Background(), "PUT", c.Path("models", "a/b"), map[string]string{"text": "x"}, &got,
		"If-Match", `"3"`)
	require.NoError(t, err)
	require.Equal(t, 4, got.Number)
	require.Equal(t, `"4"`, header.Get("ETag"))
	var raw json.RawMessage
	c = answering(t, func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "not JSON") })
	_, err = c.Do(context.Background(), "GET", "/x", nil, &raw)
	require.NoError(t, err)
	require.Equal(t, "not JSON", string(raw))
	_, err = c.Do(context.Background(), "GET", "/x", nil, &got)
	require.ErrorIs(t, err, client.ErrUnreachable)
}

// A refusal names each place; a service that fails, and one that is not there, cannot be reached.
func TestErrors(t *testing.T) {
	status := http.StatusUnprocessableEntity
	c := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		fmt.Fprint(w, `{"title": "Unprocessable", "detail": "the model has problems", "errors": [
			{"message": "no such kind", "location": "nodes.q.kind",
			 "value": {"file": "m.yaml", "line": 4, "column": 7}},
			{"message": "is too long"}]}`)
	})
	_, err := c.Do(context.Background(), "GET", "/x", nil, nil)
	var problem *client.Problem
	require.ErrorAs(t, err, &problem)
	require.Equal(t, 422, problem.Status)
	require.NotErrorIs(t, err, client.ErrUnreachable)
	require.EqualError(t, err,
		"the model has problems\n  m.yaml:4:7: nodes.q.kind: no such kind\n  is too long")
	status = http.StatusServiceUnavailable
	_, err = c.Do(context.Background(), "GET", "/x", nil, nil)
	require.ErrorIs(t, err, client.ErrUnreachable)
	require.ErrorAs(t, err, &problem)

	plain := answering(t, func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "gone", http.StatusNotFound) })
	_, err = plain.Do(context.Background(), "GET", "/x", nil, nil)
	require.EqualError(t, err, "Not Found")

	absent := httptest.NewServer(nil)
	absent.Close()
	_, err = client.New(absent.URL, "", "main").WhoAmI(context.Background())
	require.ErrorIs(t, err, client.ErrUnreachable)
	require.ErrorContains(t, err, absent.URL)
	_, err = client.New("no address", "", "main").WhoAmI(context.Background())
	require.Error(t, err)
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = c.WhoAmI(ended)
	require.ErrorIs(t, err, context.Canceled)
}

// All pages of a list are read, each from where the one before ended.
func TestLists(t *testing.T) {
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Query().Get("cursor") {
		case "":
			fmt.Fprint(w, `{"items": [{"name": "a"}, {"name": "b"}], "next": "b&c"}`)
		case "b&c":
			fmt.Fprint(w, `{"items": [{"name": "c"}], "next": ""}`)
		default:
			http.Error(w, "an unknown cursor", http.StatusBadRequest)
		}
	})
	models, err := c.Models(context.Background())
	require.NoError(t, err)
	require.Len(t, models, 3)
	require.Equal(t, "c", models[2].Name)
}

// The progress of a run is followed to its end, over a stream that breaks and a service that is away for a moment.
func TestFollow(t *testing.T) {
	requests := 0
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "/api/v1/workspaces/main/runs/7/events", r.URL.Path)
		requests++
		switch requests {
		case 1:
			fmt.Fprint(w, "event: state\ndata: {\"state\": \"running\", \"progress\": 0.25}\n\n: nothing\ndata: {bro")
		case 2:
			http.Error(w, "starting", http.StatusServiceUnavailable)
		default:
			fmt.Fprint(w, "data: {\"state\": \"running\", \"progress\": 0.5}\n\n")
			fmt.Fprint(w, "data: {\"state\": \"done\", \"progress\": 1}\n\n")
		}
	})
	var told []float64
	last, err := c.Follow(context.Background(), 7, func(u client.Update) { told = append(told, u.Progress) })
	require.NoError(t, err)
	require.Equal(t, "done", last.State)
	require.Equal(t, []float64{0.25, 0.5, 1}, told)
	require.Equal(t, 3, requests)

	refused := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "no such run", http.StatusNotFound)
	})
	_, err = refused.Follow(context.Background(), 7, func(client.Update) {})
	require.EqualError(t, err, "Not Found", "what is refused is not tried again")
}

// A login leaves a token, and no session.
func TestLogin(t *testing.T) {
	var seen []string
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Method+" "+r.URL.Path+" "+r.Header.Get("Cookie"))
		require.NotEqual(t, "Bearer secret", r.Header.Get("Authorization"), "that of an earlier login is not sent")
		if r.Method == "POST" && r.URL.Path == "/api/v1/session" {
			body, _ := io.ReadAll(r.Body)
			require.JSONEq(t, `{"name": "ann", "password": "long enough"}`, string(body))
			http.SetCookie(w, &http.Cookie{Name: "session", Value: "s1", HttpOnly: true})
		}
		fmt.Fprint(w, `{"id": 3, "secret": "new"}`)
	})
	token, err := c.Login(context.Background(), "", "ann", "long enough", "laptop")
	require.NoError(t, err)
	require.Equal(t, "new", token.Secret)
	require.Equal(t, "new", c.Token)
	require.Equal(t, []string{
		"POST /api/v1/session ", "POST /api/v1/tokens session=s1", "DELETE /api/v1/session session=s1",
	}, seen)
}
