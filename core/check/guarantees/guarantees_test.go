package guarantees_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/graph"
	"ironweir/core/model"
)

func guaranteesOf(t *testing.T, nodes string) map[string]guarantees.Guarantee {
	m, err := model.Parse("model.yaml", []byte("ironweir: topology/1\nname: t\nnodes:\n"+nodes), model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	out := map[string]guarantees.Guarantee{}
	for _, q := range guarantees.Of(flow.Analyse(g, nil), "", "") {
		out[q.From+" "+q.To] = q
	}
	return out
}

// TestEffects of a message, without a fault and with one.
func TestEffects(t *testing.T) {
	for name, c := range map[string]struct{ nodes, noFault, oneFault, why string }{
		"one write after another": {
			"  q: {kind: queue, rate: 1/m, links: {f: {retry: {tries: 3}, dead-letter: desk}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, links: {d: {}, e: {}}}\n" +
				"  d: {kind: table}\n  e: {kind: table}\n  desk: {kind: queue}",
			"exactly_once", "any_number", "`e` rejects the later write",
		},
		"together": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {retry: {tries: 3}, dead-letter: desk}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, sends: together, links: {d: {}, e: {}}}\n" +
				"  d: {kind: table}\n  e: {kind: table}\n  desk: {kind: queue}",
			"exactly_once", "at_most_once", "",
		},
		"a lease shorter than a run": {
			"  q: {kind: queue, rate: 1/m, lease: 5s, links: {f: {read: {parallel: 2}, retry: {tries: 3}}}}\n" +
				"  f: {kind: function, takes: 8s, timeout: 10s, links: {d: {}}}\n  d: {kind: table}",
			"any_number", "any_number", "the lease of `q` ends while a run of `f` is in progress",
		},
		"a send at the start of a run that may fail": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {retry: {tries: 3}, dead-letter: desk}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, fails: 1%, links: {d: {at: start}}}\n" +
				"  d: {kind: table}\n  desk: {kind: queue}",
			"at_least_once", "any_number", "the run can fail later",
		},
		"a bucket that notifies twice": {
			"  b: {kind: bucket, rate: 1/m, keys: [\"in/{seq}\"], duplicates: 1%, links: {q: {}}}\n  q: {kind: queue}",
			"at_least_once", "any_number", "`b` delivers some messages twice",
		},
		"a loop": {
			"  q: {kind: queue, rate: 1/m, links: {f: {retry: {tries: 3}, dead-letter: desk}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, links: {t: {}}}\n" +
				"  t: {kind: topic, links: {q: {}, d: {}}}\n  d: {kind: table}\n  desk: {kind: queue}",
			"at_least_once", "any_number", "messages pass `t` again",
		},
		"no retries": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {retry: {tries: 1}}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, fails: 1%, links: {d: {at: start}}}\n  d: {kind: table}",
			"exactly_once", "at_most_once", "", // a run that fails has sent it before
		},
		"no retries, and a send at the end": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {retry: {tries: 1}}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, fails: 1%, links: {d: {}}}\n  d: {kind: table}",
			"at_most_once", "at_most_once", "",
		},
		"a send at the start, by an intake": {
			"  b: {kind: bucket, rate: 1/m, links: {f: {retry: {tries: 1}}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, fails: 1%, links: {q: {at: start, on-error: ignore}}}\n" +
				"  q: {kind: queue}",
			"exactly_once", "at_most_once", "",
		},
		"a later write whose rejection is ignored": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {retry: {tries: 3}, dead-letter: desk}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, links: {d: {}, e: {on-error: ignore}}}\n" +
				"  d: {kind: table}\n  e: {kind: table, fails: 30%}\n  desk: {kind: queue}",
			"exactly_once", "at_most_once", "",
		},
		"a dead letter that is lost where nothing is given up": {
			"  q: {kind: queue, rate: 1/m, lease: 5m, links: {f: {}}}\n" +
				"  f: {kind: function, takes: 1s, timeout: 10s, links: {t: {}, d: {}}}\n" +
				"  t: {kind: topic}\n  d: {kind: table, links: {e: {dead-letter: t, retry: {tries: 1}}}}\n  e: {kind: bucket}",
			"exactly_once", "at_most_once", "",
		},
	} {
		t.Run(name, func(t *testing.T) {
			all := guaranteesOf(t, c.nodes)
			found, is := all["q d"]
			if !is {
				found = all["b q"]
			}
			require.Equal(t, guarantees.Effects{NoFault: c.noFault, OneFault: c.oneFault}, found.Effects, "%+v", found)
			if c.why == "" {
				require.Empty(t, found.Repeats)
				return
			}
			require.NotEmpty(t, found.Repeats)
			var why []string
			for _, b := range found.Repeats {
				why = append(why, b.Why)
			}
			require.Contains(t, strings.Join(why, "\n"), c.why)
		})
	}
}

// TestNothingIsSaidOfWhatNeverComes: no run of a function succeeds, so what it sends then is never sent.
func TestNothingIsSaidOfWhatNeverComes(t *testing.T) {
	for _, never := range []string{"fails: 100%", "takes: 50s, timeout: 45s"} {
		all := guaranteesOf(t, "  b: {kind: topic, rate: 1/m, links: {f: {}, q: {}}}\n"+
			"  f: {kind: function, "+never+", links: {d: {}, s: {at: start}}}\n"+
			"  d: {kind: table}\n  s: {kind: table}\n  q: {kind: queue}")
		require.Len(t, all, 2)
		require.Contains(t, all, "b q")
		require.Contains(t, all, "b s")
	}
}

// TestRejectedResultsAreParked: what a table rejects of the results of failed runs goes to their link's dead letter.
func TestRejectedResultsAreParked(t *testing.T) {
	found := guaranteesOf(t, "  f: {kind: function, rate: 1/m, takes: 1s, timeout: 10s, fails: {for-good: 5%}, "+
		"links: {d: {when: failure, dead-letter: desk}}}\n"+
		"  d: {kind: table, fails: 30%}\n  desk: {kind: function, takes: 1s}")["f d"]
	require.NotEmpty(t, found.Losses)
	for _, loss := range found.Losses {
		require.NotEqual(t, "f", loss.Fault, "%+v", loss)
	}
}

// TestAWorkflowRepeatsOnlyWhatComesBefore: a task that may fail is done before, or after.
func TestAWorkflowRepeatsOnlyWhatComesBefore(t *testing.T) {
	const rest = "  s: {kind: schedule, every: 1h, links: {w: {dead-letter: desk}}}\n" +
		"  a: {kind: outside, takes: 1s}\n  b: {kind: outside, takes: 1s, fails: 5%}\n  desk: {kind: queue}\n"
	last := guaranteesOf(t, rest+"  w: {kind: workflow, timeout: 1m, do: [{b: {call: b}}, {a: {call: a}}]}")["s a"]
	require.Equal(t, "exactly_once", last.Effects.NoFault)
	first := guaranteesOf(t, rest+"  w: {kind: workflow, timeout: 1m, do: [{a: {call: a}}, {b: {call: b}}]}")["s a"]
	require.Equal(t, "at_least_once", first.Effects.NoFault)
	again := guaranteesOf(t, strings.Replace(rest, "dead-letter: desk", "dead-letter: desk, retry: {tries: 1}", 1)+
		"  w: {kind: workflow, timeout: 1m, do: [{t: {try: [{a: {call: a}}, {b: {call: b}}], "+
		"catch: {retry: {delay: 1s, limit: {attempt: {count: 2}}}}}}]}")["s a"]
	require.Equal(t, "at_least_once", again.Effects.NoFault)
	require.Contains(t, again.Repeats[0].Why, "the tasks are tried again")
}

// TestOrderAndDelay of messages of one key.
func TestOrderAndDelay(t *testing.T) {
	const grouped = "  q: {kind: queue, rate: 1/m, ORDER lease: 5m, retention: 1d, " +
		"links: {f: {read: {parallel: 4}, retry: {tries: 3}, dead-letter: desk}}}\n" +
		"  f: {kind: function, takes: 1s, timeout: 10s, fails: 1%, links: {d: {}}}\n  d: {kind: table}\n  desk: {kind: queue}"
	kept := guaranteesOf(t, strings.Replace(grouped, "ORDER", "order: grouped, group: event.subject,", 1))["q d"]
	require.Equal(t, guarantees.Order{Kept: true, By: []string{"event.subject"}}, kept.Order)
	require.InDelta(t, 1+0.01/0.99*300, *kept.Delay.Typical, 0.01, "a run, and now and then a lease")
	require.InDelta(t, 86410, *kept.Delay.AtMost, 1e-9, "the retention and one run")
	lost := guaranteesOf(t, strings.Replace(grouped, "ORDER", "", 1))["q d"]
	require.False(t, lost.Order.Kept)
	require.Equal(t, "`q` is not grouped and has 4 readers", lost.Order.Why)
	loop := guaranteesOf(t, "  q: {kind: queue, rate: 1/m, links: {f: {retry: {tries: 3}}}}\n"+
		"  f: {kind: function, links: {q: {}, d: {}}}\n  d: {kind: table}")["q d"]
	require.Nil(t, loop.Delay.AtMost)
	writes := guaranteesOf(t, "  s: {kind: schedule, every: 1h, links: {o: {retry: {tries: 2, wait: 10s}}}}\n"+
		"  o: {kind: outside, takes: 1s, links: {d: {}}}\n  d: {kind: table, takes: 200ms}")
	require.Nil(t, writes["s o"].Delay.AtMost, "an outside system that writes takes its writes' time too")
	require.Contains(t, loop.Delay.Why, "messages circulate")
}

// TestOrderWithNothingBroken: what is given up only under a fault overtakes nothing, what may be rejected does.
func TestOrderWithNothingBroken(t *testing.T) {
	const reader = "  s: {kind: stream, partitions: 1, rate: 1/m, links: {d: {retry: {tries: 3}, dead-letter: e}}}\n" +
		"  d: {kind: bucket, FAILS links: {e: {}}}\n  e: {kind: table}"
	kept := guaranteesOf(t, strings.Replace(reader, "FAILS", "", 1))
	require.True(t, kept["s d"].Order.Kept)
	require.True(t, kept["s e"].Order.Kept)
	given := guaranteesOf(t, strings.Replace(reader, "FAILS", "fails: 30%,", 1))
	require.Equal(t, "what `s` gives up comes later by another way", given["s e"].Order.Why)
	parked := guaranteesOf(t, "  s: {kind: stream, partitions: 1, rate: 1/m, links: {d: {retry: {tries: 3}, dead-letter: e}}}\n"+
		"  d: {kind: bucket}\n  e: {kind: table}")["s e"]
	require.True(t, parked.Order.Unused)
	require.Equal(t, "messages come there only after others have failed", parked.Order.Why)

	const moved = "  q: {kind: queue, rate: 1/m, links: {d: {dead-letter: e}}}\n  d: {kind: queue ROOM}\n  e: {kind: table}"
	require.True(t, guaranteesOf(t, strings.Replace(moved, "ROOM", "", 1))["q d"].Order.Kept)
	full := guaranteesOf(t, strings.Replace(moved, "ROOM", ", capacity: 10", 1))["q d"].Order
	require.Equal(t, "`q` is not grouped, and a message that fails comes back behind later ones", full.Why)

	const written = "  t: {kind: topic, rate: 1/m, links: {d: {retry: {tries: TRIES}}}}\n  d: {kind: table, fails: 5%}"
	require.True(t, guaranteesOf(t, strings.Replace(written, "TRIES", "1", 1))["t d"].Order.Kept, "none is written later")
	require.False(t, guaranteesOf(t, strings.Replace(written, "TRIES", "2", 1))["t d"].Order.Kept)
}

// TestDeadLettersThatCirculate: they repeat effects only where messages are given up, by the fault of what gives up.
func TestDeadLettersThatCirculate(t *testing.T) {
	const redriven = "  t: {kind: topic, rate: 1/m, links: {d: {}, f: {dead-letter: q}}}\n" +
		"  f: {kind: function, takes: 1s, FAILS timeout: 10s, retry: {tries: 2}, dead-letter: q}\n" +
		"  q: {kind: queue, retention: 1d, links: {t: {}}}\n  d: {kind: table}"
	normal := guaranteesOf(t, strings.Replace(redriven, "FAILS", "", 1))["t d"]
	require.Equal(t, guarantees.Effects{NoFault: "exactly_once", OneFault: "any_number"}, normal.Effects)
	require.True(t, normal.Order.Kept)
	require.Len(t, normal.Repeats, 1)
	require.Equal(t, "f", normal.Repeats[0].Fault)
	require.Equal(t, "messages pass `t` again by `t:f`", normal.Repeats[0].Why)
	failing := guaranteesOf(t, strings.Replace(redriven, "FAILS", "fails: 30%,", 1))["t d"]
	require.Equal(t, guarantees.Effects{NoFault: "at_least_once", OneFault: "any_number"}, failing.Effects)
	require.Empty(t, failing.Repeats[0].Fault)
	require.False(t, failing.Order.Kept)
}

// TestAbsorbed: an idempotent function drops what a lease that is too short repeats.
func TestAbsorbed(t *testing.T) {
	found := guaranteesOf(t, "  q: {kind: queue, rate: 1/m, lease: 5s, links: {f: {read: {parallel: 2}, retry: {tries: 3}}}}\n"+
		"  f: {kind: function, takes: 8s, timeout: 10s, links: {r: {}}}\n"+
		"  r: {kind: queue, lease: 5m, links: {g: {retry: {tries: 3}}}}\n"+
		"  g: {kind: function, idempotent: event.subject, takes: 1s, timeout: 9s, links: {d: {}}}\n  d: {kind: table}")["q d"]
	require.NotEmpty(t, found.Repeats)
	require.Equal(t, []guarantees.Absorb{{Node: "g", Key: "event.subject"}}, found.Absorbed)
}

// TestAnswers: an endpoint's answers depend on what it waits for, what it writes to, and the queue that fills.
func TestAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		nodes, noFault string
		typical        float64
		losses         map[string]string // the reason by the faults
	}{
		"a waiting call that is made again": {
			"  orders: {kind: endpoint, method: POST, path: /o, rate: 1/s, timeout: 2s, links: {take: {}}}\n" +
				"  take: {kind: function, takes: 80ms, timeout: 1s, links: {stock: {mode: wait, retry: {tries: 2, wait: 100ms}}}}\n" +
				"  stock: {kind: function, takes: 50ms, fails: 3%, timeout: 500ms}",
			"at_most_once",
			0.13 + 0.03*0.97/(1-0.0009)*0.15,
			map[string]string{
				"":                    "0.09% of the requests are answered as failed, most often `call-failed`",
				"orders, stock, take": "every request is answered as failed",
				"take/crash":          "the requests in hand are answered as failed",
			},
		},
		"a queue that fills": {
			"  drop: {kind: endpoint, method: POST, path: /d, rate: 1/s, links: {q: {}}}\n" +
				"  q: {kind: queue, capacity: 100, links: {work: {}}}\n  work: {kind: function, takes: 10ms}",
			"exactly_once",
			0,
			map[string]string{
				"drop, q":                               "every request is answered as failed",
				"work, q:work/disabled, q:work/stopped": "requests are answered as failed once a queue is full,",
			},
		},
		"an error that is ignored": {
			"  orders: {kind: endpoint, method: POST, path: /o, rate: 1/s, links: {take: {}}}\n" +
				"  take: {kind: function, takes: 80ms, timeout: 1s, links: {stock: {mode: wait, on-error: ignore}}}\n" +
				"  stock: {kind: function, takes: 50ms, fails: 3%, timeout: 500ms}",
			"exactly_once",
			0.13,
			map[string]string{
				"orders, take": "every request is answered as failed",
				"take/crash":   "the requests in hand are answered as failed",
			},
		},
	} {
		t.Run(name, func(t *testing.T) {
			for _, g := range guaranteesOf(t, c.nodes) {
				if !g.Answer {
					continue
				}
				require.Equal(t, g.From, g.To)
				require.Equal(t, guarantees.Effects{NoFault: c.noFault, OneFault: "at_most_once"}, g.Effects)
				require.Zero(t, g.Survives)
				require.InDelta(t, c.typical, *g.Delay.Typical, 1e-6)
				require.NotNil(t, g.Delay.AtMost)
				found := map[string]string{}
				for _, b := range g.Losses {
					found[b.Fault] = b.Why
				}
				require.Equal(t, c.losses, found)
				return
			}
			require.Fail(t, "no answer")
		})
	}
}

// Callers of callers, each of which is tried again only where the first is: the ways to them are as many as four to the
// power of their layers.
func TestCallersOfCallers(t *testing.T) {
	const calls = 80
	layers := func(tries string) string {
		var b strings.Builder
		b.WriteString("  q: {kind: queue, rate: 1/m, lease: 10h, links: {f0: {retry: {tries: " + tries + "}}}}\n")
		b.WriteString("  rows: {kind: table}\n")
		for i := range calls {
			links := []string{"rows: {at: start}"}
			for k := (i/4 + 1) * 4; k < min((i/4+2)*4, calls); k++ {
				links = append(links, fmt.Sprintf("f%d: {mode: wait}", k))
			}
			fmt.Fprintf(&b, "  f%d: {kind: function, timeout: 9h, links: {%s}}\n", i, strings.Join(links, ", "))
		}
		return b.String()
	}
	require.Equal(t, "at_most_once", guaranteesOf(t, layers("1"))["q rows"].Effects.OneFault)
	require.Equal(t, "any_number", guaranteesOf(t, layers("2"))["q rows"].Effects.OneFault)
}

// What each run says of itself is said as often as it is tried; what is sent by chance is not certain to come.
func TestResultsOfEachRun(t *testing.T) {
	found := guaranteesOf(t, "  q: {kind: queue, rate: 1/m, links: {f: {retry: {tries: 3}}}}\n"+
		"  f: {kind: function, takes: 1s, timeout: 10s, fails: 10%, results: all, "+
		"links: {gone: {to: d, when: failure}, e: {chance: 50%}}}\n"+
		"  d: {kind: queue}\n  e: {kind: table}")
	require.Equal(t, "any_number", found["q d"].Effects.NoFault)
	require.Contains(t, found["q d"].Repeats[0].Why, "each run that fails has a result")
	require.Equal(t, "possible", found["q e"].Reaches)
}

// A message that finds the only run busy comes back behind later ones; runs that take no time find none busy.
func TestOrderAtAConcurrencyOfOne(t *testing.T) {
	of := func(takes string) guarantees.Guarantee {
		return guaranteesOf(t, "  t: {kind: topic, rate: 1/m, links: {f: {}}}\n"+
			"  f: {kind: function, takes: "+takes+", concurrency: 1, links: {d: {}}}\n  d: {kind: table}")["t d"]
	}
	require.True(t, of("0s").Order.Kept)
	require.False(t, of("1s").Order.Kept)
}

// Requests that an endpoint fails itself, or that come over its rate limit, are answered so.
func TestAnswersOfABusyEndpoint(t *testing.T) {
	of := func(field string) guarantees.Guarantee {
		return guaranteesOf(t, "  e: {kind: endpoint, rate: 1/m, "+field+"links: {f: {}}}\n  f: {kind: function}")["e e"]
	}
	require.Equal(t, "exactly_once", of("").Effects.NoFault)
	require.Equal(t, "at_most_once", of("fails: 5%, ").Effects.NoFault)
	require.Equal(t, "at_most_once", of("rate-limit: 10/m, ").Effects.NoFault)
}
