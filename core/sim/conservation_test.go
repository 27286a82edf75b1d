package sim_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// marshal gives a document as JSON.
func marshal(t require.TestingT, doc any) string {
	text, err := json.Marshal(doc)
	require.NoError(t, err)
	return string(text)
}

// drawTopology makes a random topology of every kind that the engine knows,
// with random tries, leases, filters, limits and ways to fail.
func drawTopology(t *rapid.T) string {
	kinds := []string{
		"bucket",
		"queue",
		"topic",
		"function",
		"outside",
		"function",
		"queue",
		"stream",
		"table",
		"workflow",
	}
	n := rapid.IntRange(2, 9).Draw(t, "nodes")
	kind := make([]string, n)
	name := func(i int) string { return fmt.Sprintf("n%d", i) }
	for i := range kind {
		kind[i] = rapid.SampledFrom(kinds).Draw(t, "kind")
	}
	pick := func(label string, options ...string) string { return rapid.SampledFrom(options).Draw(t, label) }
	target := func(label string) int { return rapid.IntRange(0, n-1).Draw(t, label) }
	var b strings.Builder
	b.WriteString("limits: {payload: 64KB}\npools: {shared: 3}\nnodes:\n")
	b.WriteString("  helper: {kind: function, takes: 1s, fails: 30%, concurrency: 3}\n")
	b.WriteString(
		"  log: {kind: stream, partitions: 2, links: {helper: {read: {up-to: 3, failed: halve}, retry: {tries: 2}, dead-letter: desk}}}\n  desk: {kind: queue, retention: 2m}\n",
	)
	press := pick(
		"press",
		"takes: {dist: exponential, mean: 1s}, fails: 20%",
		"takes: 1s, fails: {for-good: 20%}",
		"takes: {dist: exponential, mean: 3s}",
		"takes: 0s, fails: 10%, timeout: 1s",
	)
	fmt.Fprintf(
		&b,
		"  line: {kind: queue, lease: %s, retention: %s, links: {press: {read: {parallel: 2}, retry: %s, dead-letter: desk}}}\n  press: {kind: function, concurrency: 2, %s, links: {packed: {}, n0x: {to: packed}}}\n",
		pick(
			"lease",
			"5s",
			"30s",
		),
		pick("kept", "20s", "1h"),
		pick("again", "{tries: 3, wait: 1s}", "{tries: 2}", "{}", "{tries: 4, wait: 1s, jitter: 50%, give-up: 5s}"),
		press,
	)
	b.WriteString("  packed: {kind: queue, links: {loader: {}}}\n  loader: {kind: function, takes: 500ms}\n")
	b.WriteString("  tick: {kind: schedule, every: 7s, links: {n0: {}}}\n")
	b.WriteString("  door: {kind: endpoint, rate-limit: 3/s, links: {d0: {to: n0" + doorMode(kind[0]) + "}}}\n")
	for i := range kind {
		fmt.Fprintf(&b, "  %s:\n    kind: %s\n", name(i), kind[i])
		switch kind[i] {
		case "queue":
			fmt.Fprintf(
				&b,
				"    lease: %s\n    retention: %s\n    delay: %s\n",
				pick("lease", "1s", "3s", "60s"),
				pick("retention", "20s", "5m", "7d"),
				pick("delay", "0s", "2s"),
			)
			if rapid.Bool().Draw(t, "capped") {
				b.WriteString("    capacity: 5\n")
			}
			if rapid.Bool().Draw(t, "grouped") {
				b.WriteString("    order: grouped\n    group: event.subject.size() % 3\n")
			}
			if rapid.Bool().Draw(t, "dedupe") {
				b.WriteString("    dedupe: {by: event.subject, within: 5s}\n")
			}
			if rapid.Bool().Draw(t, "carried") {
				b.WriteString("    age: carried\n")
			}
			fmt.Fprintf(&b, "    fails: %s\n    takes: %s\n", pick("fails", "0", "20%"), pick("takes", "0s", "100ms"))
		case "bucket", "topic":
			fmt.Fprintf(&b, "    fails: %s\n    duplicates: %s\n", pick("fails", "0", "30%"), pick("twice", "0", "30%"))
			if kind[i] == "bucket" && rapid.Bool().Draw(t, "life") {
				b.WriteString("    object-life: 20s\n")
			}
		case "stream":
			fmt.Fprintf(
				&b,
				"    retention: %s\n    partitions: %s\n    partition-rate: %s\n    fails: %s\n",
				pick("retention", "20s", "2h"),
				pick("partitions", "1", "3", "auto"),
				pick("rate", "1/s", "100/s"),
				pick("fails", "0", "20%"),
			)
			if rapid.Bool().Draw(t, "by") {
				b.WriteString("    by: event.subject\n")
			}
		case "table":
			fmt.Fprintf(
				&b,
				"    retention: %s\n    partitions: %s\n",
				pick("retention", "20s", "2h"),
				pick("partitions", "1", "3"),
			)
		case "workflow":
			b.WriteString("    timeout: 20s\n    do:\n" + pick(
				"do",
				"      - rest: {wait: 2s}\n      - call: {call: helper}\n",
				"      - careful: {try: [{one: {call: helper}}], catch: {retry: {delay: 1s, limit: {attempt: {count: 2}}}, do: [{two: {call: helper}}]}}\n",
				"      - both: {fork: {branches: [{a: {call: helper}}, {b: {wait: 1s}}, {c: {raise: odd}}]}}\n",
				"      - both: {fork: {compete: true, branches: [{a: {call: helper}}, {b: {do: [{r: {wait: 1s}}, {c: {call: helper}}]}}]}}\n      - after: {call: helper}\n",
			))
		case "function":
			fmt.Fprintf(
				&b,
				"    takes: %s\n    timeout: %s\n    fails: %s\n",
				pick("takes", "0s", "500ms", "{dist: exponential, mean: 2s}", "4s"),
				pick("timeout", "3s", "45s"),
				pick(
					"fails",
					"0",
					"30%",
					"100%",
					"{each-try: 20%, for-good: 10%, per: message}",
					"{for-good: 5%, error: odd}",
				),
			)
			if rapid.Bool().Draw(t, "limited") {
				b.WriteString("    concurrency: 2\n")
			}
			if rapid.Bool().Draw(t, "pooled") {
				b.WriteString("    pool: shared\n")
			}
			fmt.Fprintf(
				&b,
				"    hop-limit: %d\n    sends: %s\n    results: %s\n",
				rapid.IntRange(3, 12).Draw(t, "hops"),
				pick("sends", "one-by-one", "together"),
				pick("results", "async", "all"),
			)
			if rapid.IntRange(0, 3).Draw(t, "idempotent") == 0 {
				b.WriteString("    idempotent: event.subject\n")
			}
			if rapid.Bool().Draw(t, "cold") {
				b.WriteString("    cold-start: {takes: 1s, idle: 5s}\n")
			}
		case "outside":
			fmt.Fprintf(
				&b,
				"    takes: %s\n    fails: %s\n    rate-limit: %s\n",
				pick("takes", "0s", "300ms"),
				pick("fails", "0", "25%"),
				pick("limit", "2/s", "50/s"),
			)
		}
		links := rapid.IntRange(0, 3).Draw(t, "links")
		if links == 0 {
			continue
		}
		b.WriteString("    links:\n")
		for k := 0; k < links; k++ {
			to := target("to")
			fields := []string{"to: " + name(to)}
			add := func(f string) { fields = append(fields, f) }
			runs := kind[i] == "function" || kind[i] == "outside" || kind[i] == "workflow"
			toRuns := kind[to] == "function" || kind[to] == "outside" || kind[to] == "workflow"
			switch {
			case !runs:
				if rapid.Bool().Draw(t, "filter") {
					add(`match: {suffix: [".a", ".b"]}`)
				}
				if rapid.Bool().Draw(t, "retry") {
					add(
						pick(
							"retry",
							"retry: {tries: 2}",
							"retry: {tries: 3, wait: 1s, factor: 2, jitter: 20%}",
							"retry: {tries: 2, wait: 500ms, give-up: 10s, except: [odd]}",
						),
					)
				}
				if d := target("dead"); rapid.Bool().Draw(t, "has-dead") && d != i {
					add("dead-letter: " + name(d))
				}
				if kind[i] == "stream" || kind[i] == "table" {
					add(
						pick(
							"reads",
							"read: {up-to: 1}",
							"read: {up-to: 4, within: 2s}",
							"read: {up-to: 3, failed: each}",
							"read: {up-to: 5, failed: halve}",
						),
					)
				}
				if rapid.IntRange(0, 3).Draw(t, "wrapped") == 0 {
					add("wrap: event")
				}
				if kind[i] == "queue" {
					add(
						pick(
							"read",
							"read: {up-to: 1}",
							"read: {up-to: 4, within: 2s, parallel: 2}",
							"read: {up-to: 3, failed: all, parallel: 3}",
						),
					)
				}
			case kind[i] != "outside" && rapid.IntRange(0, 3).Draw(t, "result") == 0:
				add("when: " + pick("when", "success", "failure"))
			default:
				if toRuns && kind[i] != "outside" {
					add("mode: " + pick("mode", "wait", "async"))
				}
				if kind[i] == "function" && rapid.IntRange(0, 4).Draw(t, "start") == 0 {
					add("at: start")
				}
				if rapid.Bool().Draw(t, "some") {
					add(pick("how", "chance: 50%", "count: 2", `key: "{stem}.b"`, "size: 70KB"))
				}
				if !toRuns && rapid.Bool().Draw(t, "ignore") {
					add("on-error: ignore")
				}
			}
			fmt.Fprintf(&b, "      l%d: {%s}\n", k, strings.Join(fields, ", "))
		}
	}
	return b.String()
}

func doorMode(kind string) string {
	if kind == "function" || kind == "outside" || kind == "workflow" {
		return ", mode: wait"
	}
	return ""
}

func drawScenario(t *rapid.T) string {
	node := func() string { return "n" + fmt.Sprint(rapid.IntRange(0, 1).Draw(t, "hit")) }
	return fmt.Sprintf(`length: 3m
seed: %d
traffic:
  a: {into: n0, rate: 1/s, arrivals: %s, key: "x/{seq}.a", size: 1KB}
  b: {into: n1, rate: 20/m, size: 1KB}
  c: {into: door, rate: 1/s, size: 1KB}
  d: {into: log, rate: 1/s, size: 1KB}
  e: {into: line, rate: 1/s, size: 1KB}
  f: {into: line, rate: 0.5/s, arrivals: even, size: 70KB}
incidents:
  down: {at: 20s, for: 30s, node: %s, fails: 100%%}
  slow: {at: 40s, for: 1m, node: %s, slow: 4}
  jammed: {at: 60s, for: 20s, node: packed, fails: 50%%}
  slower: {at: 100s, for: 20s, node: press, slow: 3}
  tight: {at: 140s, for: 10s, node: press, concurrency: 0}
  stuck: {at: 45s, for: 5s, link: "line:press", paused: true}
  squeezed: {at: 30s, for: 20s, node: helper, concurrency: 1}
  held: {at: 50s, for: 15s, link: "log:helper", paused: true}
  again: {at: 80s, rewind: {link: "log:helper", by: 1m}}
  worked-off: {at: 90s, send-back: {from: desk, to: n0, rate: 2/s}}
`, rapid.Uint64Range(1, 1000).Draw(t, "seed"), rapid.SampledFrom([]string{"poisson", "even"}).Draw(t, "arrivals"), node(), node())
}

func TestMain(m *testing.M) {
	flag.Parse()
	if flag.Lookup("rapid.checks").Value.String() == "100" { // not chosen by hand
		flag.Set("rapid.checks", "500")
	}
	if flag.Lookup("rapid.seed").Value.String() == "0" { // a build does not depend on luck
		flag.Set("rapid.seed", "1")
	}
	os.Exit(m.Run())
}

// TestLedgerAddsUp [L-16] [L-42] [L-43] [L-44] runs random topologies and checks after every event that
// each node's copies are all accounted for.
func TestLedgerAddsUp(t *testing.T) {
	ran := 0
	rapid.Check(t, func(t *rapid.T) {
		topology := drawTopology(t)
		text := "ironweir: topology/1\nname: random\n" + topology
		m, err := model.Parse("random.yaml", []byte(text), model.Options{})
		if err != nil {
			t.Skip(err.Error()) // two kinds that cannot be joined
		}
		g, err := graph.Compile(m)
		require.NoError(t, err)
		s, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\n"+drawScenario(t)), m)
		require.NoError(t, err)
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Audit: true, Limits: sim.Limits{Events: 4000}})
		require.NoError(t, err, text)
		doc, err := study.Merge(g, s, []*sim.Result{res}, document.Head{})
		require.NoError(t, err, text)
		require.Equal(t, doc.Ledger.Copies, doc.Ledger.Sum())
		for name, n := range doc.Nodes {
			require.Equal(t, n.Copies, n.Fates.Sum(), "%s\n%s", name, text)
		}
		for name, l := range doc.Links {
			if l.Fates != nil {
				require.Equal(t, l.Copies, l.Fates.Sum(), "%s\n%s", name, text)
			}
		}
		require.Equal(t, doc.Ledger.Entered, doc.Journeys.Count, text)
		for i, steps := range res.Series.Links {
			sum, along := int64(0), max(res.Links[i].Copies, res.Links[i].Matched)
			for _, n := range steps {
				sum += n
			}
			require.True(t, sum == along || sum < along && res.Stopped != "", "%s: %d of %d\n%s",
				g.Links[i].Link.ID(), sum, along, text)
		}
		ran++

		again, err := sim.Run(sim.Plan{Graph: g, Scenario: s, Limits: sim.Limits{Events: 4000}})
		require.NoError(t, err)
		second, err := study.Merge(g, s, []*sim.Result{again}, document.Head{})
		require.NoError(t, err)
		require.Equal(t, marshal(t, doc), marshal(t, second), "the same seed must give the same bytes")
	})
	t.Logf("%d topologies", ran)
}
