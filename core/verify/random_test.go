package verify

import (
	"fmt"
	"strings"

	"pgregory.net/rapid"
)

// generator writes random models over the whole format. Everything it draws is
// joined so that the model can be read; what cannot be is skipped by the reader.
type generator struct {
	t     *rapid.T
	kinds []string
	b     strings.Builder
}

func (g *generator) int(label string, low, high int) int {
	return rapid.IntRange(low, high).Draw(g.t, label)
}

// one reports true in one of n cases.
func (g *generator) one(n int, label string) bool { return g.int(label, 1, n) == n }

func (g *generator) pick(label string, of ...string) string {
	return rapid.SampledFrom(of).Draw(g.t, label)
}

func (g *generator) duration(label string) string {
	return g.pick(label, "1s", "5s", "20s", "45s", "1m", "5m", "20m")
}

func (g *generator) time(label string) string {
	return g.pick(
		label,
		"0s",
		"100ms",
		"1s",
		"1s",
		"3s",
		"30s",
		"50s",
		"{dist: exponential, mean: 2s}",
		"{dist: exponential, mean: 20s}",
		"{dist: uniform, min: 1s, max: 4s}",
		"{dist: lognormal, p50: 1s, p95: 20s}",
		"{dist: gamma, mean: 5s, cv: 0.5}",
		"{dist: samples, values: [1s, 2s, 60s]}",
	)
}

func (g *generator) share(label string) string {
	return g.pick(label, "1%", "10%", "10%", "40%", "100%")
}

// drawWhole writes a model whose entries are n0 and sometimes a schedule.
func drawWhole(t *rapid.T) string {
	g := &generator{t: t}
	n := g.int("nodes", 3, 8)
	g.kinds = make([]string, n)
	for i := range g.kinds {
		g.kinds[i] = g.pick(
			"kind",
			"queue",
			"function",
			"topic",
			"bucket",
			"function",
			"queue",
			"outside",
			"stream",
			"table",
			"function",
			"workflow",
		)
	}
	g.kinds[0] = g.pick("entry", "queue", "topic", "bucket", "endpoint", "function", "stream")
	if g.one(8, "limits") {
		g.b.WriteString("limits: {payload: 2KB}\n")
	}
	g.b.WriteString("nodes:\n")
	for i := range g.kinds {
		g.node(i)
	}
	if g.one(6, "schedule") {
		fmt.Fprintf(
			&g.b,
			"  s0: {kind: schedule, every: %s, links: {a: {to: n%d}}}\n",
			g.pick("every", "1m", "7m"),
			g.int("fires", 1, n-1),
		)
	}
	if g.one(6, "group") {
		g.b.WriteString("fails-together: {island: [n1, n2]}\n")
	}
	return g.b.String()
}

func (g *generator) node(i int) {
	k := g.kinds[i]
	var f []string
	add := func(format string, args ...any) { f = append(f, fmt.Sprintf(format, args...)) }
	if i == 0 {
		add("rate: %s", g.pick("rate", "6/m", "30/m", "40/h"))
		if g.one(2, "keys") {
			add("keys: [%s]", g.pick("key", `"in/{seq}.csv"`, `"in/{who}/{seq}.csv", "in/{seq}.pdf"`, `"tmp/{seq}"`))
		}
	}
	switch k {
	case "function":
		add("takes: %s", g.time("takes"))
		if g.one(3, "timeout") {
			add("timeout: %s", g.pick("limit", "2s", "30s", "2m"))
		}
		if g.one(2, "fails") {
			add(
				"fails: %s",
				g.pick(
					"how",
					g.share("share"),
					"{each-try: 10%, for-good: 2%}",
					"{for-good: 5%}",
					"{for-good: 5%, per: message}",
					"{each-try: 20%, per: message}",
				),
			)
		}
		if g.one(8, "case") {
			add(
				"cases: {odd: {if: %q, %s}}",
				g.pick(
					"when",
					"event.size > 1000",
					"event.subject.startsWith('in/')",
					"event.type == 'a'",
					"event.try > 0",
				),
				g.pick("then", "fails: 100%", "takes: 20s", "fails: 30%"),
			)
		}
		if g.one(8, "concurrency") {
			add("concurrency: %d", g.int("runs", 5, 20))
		}
		if g.one(10, "hops") {
			add("hop-limit: %d", g.int("limit", 0, 4))
		}
		if g.one(12, "cold") {
			add("cold-start: {takes: %s, idle: 5m}", g.pick("cold-time", "1s", "40s"))
		}
		if g.one(6, "own-retry") {
			add("retry: {tries: %d, wait: %s}", g.int("own-tries", 1, 3), g.duration("own-wait"))
		}
		if g.one(6, "own-dead") {
			g.deadLetter(i, i, &f)
		}
		if g.one(10, "results") {
			add("results: all")
		}
		if g.one(10, "together") {
			add("sends: together")
		}
	case "workflow":
		g.workflow(i, &f)
	case "outside":
		add("takes: %s", g.time("takes"))
		if g.one(2, "fails") {
			add("fails: %s", g.share("share"))
		}
		if g.one(4, "timeout") {
			add("timeout: %s", g.pick("limit", "2s", "30s"))
		}
	case "queue":
		add("retention: %s", g.pick("retention", "1h", "3h", "10h"))
		if g.one(2, "lease") {
			add("lease: %s", g.pick("hide", "10s", "2m", "5m"))
		}
		if g.one(6, "delay") {
			add("delay: %s", g.pick("hidden", "1m", "2h"))
		}
		if g.one(10, "capacity") {
			add("capacity: %d", g.int("room", 30, 300))
		}
		if g.one(10, "grouped") {
			add("order: grouped, group: event.subject")
		}
	case "stream":
		add("retention: %s", g.pick("retention", "1h", "5h"))
		add("partitions: %d", g.int("partitions", 1, 3))
	case "table":
		add("retention: %s", g.pick("retention", "1h", "5h"))
	case "bucket":
		if g.one(3, "notice") {
			add("notice: %s", g.pick("late", "1s", "1m"))
		}
		if g.one(10, "life") {
			add("object-life: 1h")
		}
	}
	if (k == "queue" || k == "topic" || k == "bucket" || k == "table" || k == "stream") && g.one(8, "rejects") {
		add("fails: %s", g.pick("reject", "5%", "30%"))
	}
	if (k == "queue" || k == "table") && g.one(8, "slow-write") {
		add("takes: 200ms")
	}
	if links := g.links(i); links != "" {
		add("links: {%s}", links)
	}
	fmt.Fprintf(&g.b, "  n%d: {kind: %s%s}\n", i, k, prefixed(f))
}

func prefixed(f []string) string {
	if len(f) == 0 {
		return ""
	}
	return ", " + strings.Join(f, ", ")
}

// deadLetter adds a dead-letter node that can be one, and is not the target itself.
func (g *generator) deadLetter(i, target int, f *[]string) {
	to := g.int("dead", 0, len(g.kinds)-1)
	if to != i && to != target && g.kinds[to] != "endpoint" {
		*f = append(*f, fmt.Sprintf("dead-letter: n%d", to))
	}
}

func (g *generator) workflow(i int, f *[]string) {
	var callees []int
	for k, kind := range g.kinds {
		if k != i && (kind == "function" || kind == "outside") {
			callees = append(callees, k)
		}
	}
	if callees == nil {
		*f = append(*f, "do: [{rest: {wait: 1s}}]")
		return
	}
	call := fmt.Sprintf("{a: {call: n%d}}", callees[g.int("callee", 0, len(callees)-1)])
	switch g.int("shape", 0, 3) {
	case 0:
		*f = append(*f, "do: ["+call+"]")
	case 1:
		*f = append(*f, "do: [{try-it: {try: ["+call+"], catch: {}}}]")
	case 2:
		*f = append(
			*f,
			"do: [{try-it: {try: ["+call+"], catch: {retry: {delay: 10s, limit: {attempt: {count: 2}}}, do: [{stop: {raise: broken}}]}}}]",
		)
	case 3:
		*f = append(*f, "do: [{first: {wait: 2s}}, "+call+"]")
	}
}

func (g *generator) links(i int) string {
	k := g.kinds[i]
	most := 2
	if k == "queue" {
		most = 1 // of several, which takes a message is not known
	}
	count := g.int("links", 0, most)
	if i == 0 {
		count = max(count, 1)
	}
	var out []string
	waits := false
	for l := range count {
		to := g.int("to", 1, len(g.kinds)-1)
		target := g.kinds[to]
		runs := target == "function" || target == "workflow" || target == "outside"
		fields := []string{fmt.Sprintf("to: n%d", to)}
		add := func(format string, args ...any) { fields = append(fields, fmt.Sprintf(format, args...)) }
		sends := k == "function" || k == "outside" || k == "workflow"
		delivering := !sends
		switch {
		case (k == "function" || k == "workflow") && g.one(4, "result"):
			add("when: %s", g.pick("outcome", "success", "failure"))
			delivering, sends = true, false
		case sends:
			if runs {
				mode := g.pick("mode", "wait", "async")
				add("mode: %s", mode)
				if mode == "wait" && g.one(3, "call-retry") {
					add("retry: {tries: %d, wait: 1s}", g.int("call-tries", 2, 3))
				}
			}
			if g.one(6, "careless") && (!runs || fields[len(fields)-1] == "mode: wait") {
				add("on-error: ignore")
			}
			g.sending(k, target, add)
		case k == "endpoint":
			if runs {
				if waits || g.one(2, "accept") {
					add("mode: accept")
				} else {
					waits = true
				}
			}
		case k == "queue" || k == "stream" || k == "table":
			if g.one(2, "read") {
				read := fmt.Sprintf("parallel: %d", g.int("parallel", 1, 4))
				if g.one(3, "batch") {
					read += fmt.Sprintf(", up-to: %d", g.int("up-to", 2, 5))
				}
				if g.one(4, "failed") {
					read += ", failed: " + map[bool]string{true: "all", false: g.pick("part", "each", "halve", "all")}[k == "queue"]
				}
				add("read: {%s}", read)
			}
		}
		if delivering {
			if k != "endpoint" && !g.one(3, "no-dead") {
				dead := []string{}
				g.deadLetter(i, to, &dead)
				if len(dead) > 0 {
					add("%s", dead[0])
				}
			}
			if g.one(2, "retry") && k != "endpoint" {
				retry := fmt.Sprintf("tries: %d", g.int("tries", 1, 4))
				if g.one(2, "wait") {
					retry += fmt.Sprintf(", wait: %s, factor: %d", g.duration("wait-for"), g.int("factor", 1, 2))
				}
				if g.one(5, "give-up") {
					retry += ", give-up: " + g.pick("age", "1m", "10m")
				}
				add("retry: {%s}", retry)
			}
			if g.one(3, "filter") {
				add(
					"match: {%s}",
					g.pick(
						"clause",
						"prefix: in/",
						"suffix: .csv",
						"suffix: [.csv, .pdf, .txt]",
						"prefix: derived/",
						"type: a",
						"prefix: [in/, tmp/], suffix: .csv",
					),
				)
			}
			if (k == "bucket" || k == "table") && g.one(5, "changes") {
				add(
					"changes: %s",
					map[string]string{"bucket": g.pick("bucket-change", "[written]", "[deleted]"), "table": g.pick("table-change", "[inserted]", "[updated]", "[inserted, updated, deleted]")}[k],
				)
			}
		}
		out = append(out, fmt.Sprintf("l%d: {%s}", l, strings.Join(fields, ", ")))
	}
	return strings.Join(out, ", ")
}

// sending draws what a run's send makes.
func (g *generator) sending(kind, target string, add func(string, ...any)) {
	if g.one(4, "chance") {
		add("chance: %s", g.pick("luck", "30%", "70%"))
	}
	if g.one(5, "count") {
		add("count: %d", g.int("many", 2, 3))
	}
	if g.one(3, "key") {
		add("key: %q", g.pick("template", "derived/{name}", "in/{stem}.csv", "{key}", "{seq}.pdf"))
	}
	if g.one(5, "type") {
		add("type: %s", g.pick("kind-of", "a", "b"))
	}
	if g.one(6, "size") {
		add("size: %s", g.pick("bytes", "100B", "5KB"))
	}
	if kind == "function" && g.one(8, "start") {
		add("at: start")
	}
	switch {
	case target == "bucket" && g.one(5, "op"):
		add("op: %s", g.pick("bucket-op", "delete", "read"))
	case target == "table" && g.one(3, "op"):
		add("op: %s", g.pick("table-op", "update", "delete", "read"))
	}
}
