package service_test

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestJourneysOfARunAreTold: those behind a number, one of them step by step, and
// what rested in a queue at an instant.
func TestJourneysOfARunAreTold(t *testing.T) {
	t.Parallel()
	r := start(t).signIn()
	run := r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake-draft/runs",
		map[string]any{"scenario": "friday-evening"},
		202,
	)
	path := fmt.Sprintf("/api/v1/workspaces/main/runs/%v", run["id"])
	require.Eventually(
		t,
		func() bool { return r.do("GET", path, nil, 200)["state"] == "done" },
		patience,
		50*time.Millisecond,
	)

	all := r.do("GET", path+"/journeys", nil, 200)
	require.Equal(t, all["journeys"], r.do("GET", path+"/journeys", nil, 200)["journeys"], "what was told is kept")
	kept, err := r.store.Journeys(context.Background(), int64(run["id"].(float64)))
	require.NoError(t, err)
	require.NotEmpty(t, kept)
	failed := r.do("GET", path+"/journeys?outcome=failed&node=mail", nil, 200)["journeys"].([]any)
	require.NotEmpty(t, failed)
	require.Less(t, len(failed), len(all["journeys"].([]any)))
	first := failed[0].(map[string]any)
	require.NotEmpty(t, first["ends"])

	told := r.do("GET", fmt.Sprintf("%s/journeys/%v", path, first["journey"]), nil, 200)
	require.Equal(t, first["key"], told["key"])
	require.NotEmpty(t, told["steps"])
	keyed := r.do("GET", path+"/journeys?key="+first["key"].(string), nil, 200)["journeys"].([]any)
	require.NotEmpty(t, keyed)
	other := r.do("GET", path+"/journeys/3", nil, 200) // whether it is in the sample or not
	require.Equal(t, 3.0, other["journey"])
	r.do("GET", path+"/journeys/99999999", nil, 404)

	// Searched by what they carry: every journey that is listed has the text in some event.
	entered := r.do("GET", path+"/journeys?data=kg", nil, 200)["journeys"].([]any)
	require.NotEmpty(t, entered)
	require.Less(t, len(entered), len(all["journeys"].([]any)))
	require.Empty(t, r.do("GET", path+"/journeys?data=surely-nowhere", nil, 200)["journeys"])

	// By how something of them ended: each that is listed tells such a step.
	exhausted := r.do("GET", path+"/journeys?ends=exhausted", nil, 200)["journeys"].([]any)
	require.NotEmpty(t, exhausted)
	told = r.do("GET", fmt.Sprintf("%s/journeys/%v", path, exhausted[0].(map[string]any)["journey"]), nil, 200)
	require.True(
		t,
		slices.ContainsFunc(
			told["steps"].([]any),
			func(s any) bool { return s.(map[string]any)["fate"] == "exhausted" },
		),
	)
	late := r.do("GET", path+"/journeys?ends=exhausted&from=36000&until=36600", nil, 200)["journeys"].([]any)
	require.NotEmpty(t, late, "however late, though the first 200 that failed did so before")
	for _, j := range late[:min(len(late), 2)] {
		number := j.(map[string]any)["journey"]
		journey := r.do("GET", fmt.Sprintf("%s/journeys/%v?from=36000&until=36600", path, number), nil, 200)
		require.True(t, slices.ContainsFunc(journey["steps"].([]any), func(s any) bool {
			step := s.(map[string]any)
			return step["fate"] == "exhausted" && step["t_s"].(float64) >= 36000 && step["t_s"].(float64) < 36600
		}), "it ended so then, as its steps say")
		ended, tried := j.(map[string]any)["ended_s"].(float64), j.(map[string]any)["tried_s"].(float64)
		require.True(t, tried >= ended-2*3600 && tried <= ended && ended >= 36000 && ended < 36600)
		require.Contains(t, j.(map[string]any)["nodes"], "manifest-drop")
	}
	require.Empty(t, r.do("GET", path+"/journeys?ends=overflow", nil, 200)["journeys"])

	rests := r.do("GET", path+"/rest?node=consignments&at=12000", nil, 200)
	require.Greater(t, rests["count"], 10.0, "the registry has been down for twenty minutes")
	require.NotEmpty(t, rests["messages"])
	r.do("GET", path+"/rest?node=nowhere&at=10", nil, 422)
	r.do("GET", path+"/rest?node=consignments&at=99999999", nil, 422)
	r.do("GET", "/api/v1/workspaces/main/runs/999/journeys", nil, 404)
}

// TestARunTellsWhatHasHappenedSoFar: while it goes on, how many messages have come
// in; never more than in the end.
func TestARunTellsWhatHasHappenedSoFar(t *testing.T) {
	t.Parallel()
	r := start(t).signIn()
	path := r.runFor("3d")
	last := 0.0
	require.Eventually(t, func() bool {
		run := r.do("GET", path, nil, 200)
		if run["state"] != "done" {
			require.GreaterOrEqual(t, run["entered"].(float64), last)
			last = run["entered"].(float64)
		}
		return run["state"] == "done"
	}, 2*time.Minute, 20*time.Millisecond)
	require.Positive(t, last)
	ledger := r.do("GET", path+"/result", nil, 200)["ledger"].(map[string]any)
	require.LessOrEqual(t, last, ledger["entered"])
}
