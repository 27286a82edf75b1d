package workflow

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// TestTriesWaitAsTheRetryStates: each back-off, with jitter, up to a count and within a time.
func TestTriesWaitAsTheRetryStates(t *testing.T) {
	e := &Interpreter{Engine: &engine.Engine{}, luck: random.New(1, 0, "", "tasks")}
	waits := func(r model.TaskRetry) []time.Duration {
		task := &graph.Task{Task: &model.Task{Catch: &model.TaskCatch{Retry: &r}}}
		var out []time.Duration
		for f := (frame{tries: 1}); f.tries < 10; f.tries++ {
			wait, again := e.againAfter(task, &f)
			if !again {
				break
			}
			out = append(out, time.Duration(wait))
			e.Now += wait
		}
		e.Now = 0
		return out
	}
	const s = time.Second
	require.Equal(t, []time.Duration{s, s, s}, waits(model.TaskRetry{Delay: s, Count: 3}))
	require.Equal(t, []time.Duration{s, 2 * s, 3 * s}, waits(model.TaskRetry{Delay: s, Count: 3, Backoff: "linear"}))
	require.Equal(t, []time.Duration{s, 2 * s, 4 * s, 8 * s},
		waits(model.TaskRetry{Delay: s, Count: 4, Backoff: "exponential"}))
	require.Equal(t, []time.Duration{s, 2 * s, 4 * s},
		waits(model.TaskRetry{Delay: s, Backoff: "exponential", Within: 7 * s}), "the next would be at 15 s")
	require.Len(t, waits(model.TaskRetry{Delay: s}), 9, "without end")
	for _, wait := range waits(model.TaskRetry{Delay: s, JitterFrom: s, JitterTo: 3 * s}) {
		require.True(t, wait >= 2*s && wait <= 4*s, wait)
	}
	_, again := e.againAfter(&graph.Task{Task: &model.Task{Catch: &model.TaskCatch{}}}, &frame{tries: 1})
	require.False(t, again, "nothing is stated")
}
