package verify

import (
	"fmt"
	"strings"

	"pgregory.net/rapid"
)

// drawDetails writes a small system with the fields that others use seldom: what external senders state, filters by
// source and expression, order, duplicates and deduplication, leases and prefetching, calendars, pools, payloads and
// what becomes of them, and who may call whom. Some of the others stand beside them.
func drawDetails(t *rapid.T) string {
	g := &generator{t: t}
	if g.one(4, "limit") {
		g.b.WriteString("limits: {payload: 2KB}\n")
	}
	pooled := g.one(4, "pool")
	if pooled {
		g.b.WriteString("pools: {crew: 4}\n")
	}
	if g.one(6, "explicit") {
		g.b.WriteString("permissions: explicit\n")
	}
	if g.one(6, "group") {
		g.b.WriteString("fails-together: {quay: [work, kept]}\n")
	}
	g.b.WriteString("nodes:\n")
	g.origin()
	g.worker(pooled)
	kept := g.pick("kept", "queue", "table, takes: 100ms", "bucket, notice: 1s", "topic", "stream, partitions: 2")
	g.line("kept", "kind: %s, %s, %s", kept, g.breaks(), g.callers("work"))
	g.line("desk", "kind: outside, takes: %s, %s, %s, %s, %s",
		g.pick("desk takes", "200ms", "2s", "{dist: exponential, mean: 1s}"), g.pick("desk fails", "", "", "fails: 10%"),
		g.pick("desk limit", "", "", "", "rate-limit: 2/s", "rate-limit: 10/m"), g.breaks(), g.callers("work"))
	g.line("parked", "kind: queue, retention: 14d, age: %s, %s", g.pick("age", "fresh", "carried"), g.callers("work"))
	return g.b.String()
}

// from draws what external senders state of their messages.
func (g *generator) from() string {
	return strings.Join([]string{
		g.pick("rate", "rate: 2/m", "rate: 6/m", "rate: 20/m", "rate: 60/m"),
		g.pick("keys", "", "", `keys: ["in/{seq}.csv"]`, `keys: ["in/{seq}.csv", "tmp/{seq}.pdf"]`),
		g.pick("types", "", "", "types: [a]", "types: [a, b]"),
		g.pick("sources", "", "", "sources: [quay]", "sources: [quay, pier]"),
		g.breaks(),
		g.callers("desk"),
	}, ", ")
}

func (g *generator) breaks() string {
	return g.pick("breaks", "", "", "", "", "breaks: {every: 60d, for: 25m}")
}

func (g *generator) callers(usual string) string {
	return g.pick("callers", "", "", "", "callers: ["+usual+"]", "callers: ["+usual+", origin]")
}

// again draws how often, and how, is tried.
func (g *generator) again() string {
	return g.pick("again", "", "", ", retry: {tries: 3, wait: 10s, factor: 3, max-wait: 20s}",
		", retry: {tries: 3, wait: 5s, jitter: 50%}", ", retry: {tries: 3, wait: 5s, except: [odd]}",
		", retry: {tries: 4, wait: 20s, give-up: 1m}", ", retry: {tries: 1}") +
		g.pick("dead", "", "", ", dead-letter: parked")
}

// taken draws what a link takes, and how it hands it over.
func (g *generator) taken() string {
	return g.pick("match", "", "", "", ", match: {source: quay}", ", match: {type: a}",
		", match: {type: a, source: pier}", ", match: [{type: b}, {suffix: .pdf}]", `, match: {if: "event.type == 'a'"}`,
		`, match: {if: "event.size > 3000"}`, `, match: {if: "event.source == 'quay'"}`) +
		g.pick("wrap", "", "", "", ", wrap: event", ", wrap: base64") +
		g.pick("off", "", "", "", "", "", "", "", ", enabled: false")
}

// leased draws how a queue is read.
func (g *generator) leased() string {
	read := []string{fmt.Sprintf("parallel: %d", g.int("parallel", 1, 4))}
	if g.one(3, "batch") {
		read = append(read, "up-to: "+g.pick("up to", "2", "5"))
	}
	if g.one(2, "settle") {
		read = append(read, "settle: reject")
	}
	if g.one(3, "prefetch") {
		read = append(read, "prefetch: "+g.pick("ahead", "1", "5", "20"))
	}
	return ", read: {" + strings.Join(read, ", ") + "}"
}

// origin writes what starts work.
func (g *generator) origin() {
	const form = "kind: %s, %s, links: {on: {to: work%s}}"
	switch kind := g.pick("origin", "bucket", "queue", "topic", "stream", "table", "schedule", "endpoint", "outside",
		"function", "workflow"); kind {
	case "bucket":
		life := g.pick("life", "", "", "object-life: 30m")
		bucket := "bucket, " + g.pick("twice", "", "", "duplicates: 20%") + ", " + life
		g.line("origin", form, bucket, g.from(), g.again()+g.taken()+
			g.pick("changes", "", "", "", ", changes: [written, deleted]", ", changes: [deleted]"))
	case "queue":
		g.line("origin", form, strings.Join([]string{
			"queue", g.pick("lease", "lease: 10s", "lease: 1m", "lease: 5m"),
			g.pick("kept", "retention: 1h", "retention: 2d"),
			g.pick("order", "", "", "order: grouped, group: event.subject"),
			g.pick("dedupe", "", "", `dedupe: {by: event.subject, within: 5m}`, `dedupe: {by: event.id, within: 5m}`),
			g.pick("twice", "", "", "duplicates: 20%"),
		}, ", "), g.from(), g.leased()+g.again()+g.taken())
	case "topic":
		g.line("origin", "kind: topic, %s, %s, %s, links: {on: {to: work%s}%s}",
			g.pick("twice", "", "", "duplicates: 20%"), g.pick("ignore", "", "", "ignore: {type: b}", "ignore: {source: pier}"), g.from(), g.again()+g.taken(),
			g.pick("second", "", ", too: {to: kept, match: {type: b}}", ", too: {to: desk}"))
	case "stream":
		g.line("origin", form, strings.Join([]string{
			"stream", g.pick("partitions", "partitions: 1", "partitions: 3", "partitions: auto"),
			g.pick("kept", "retention: 1h", "retention: 2d"),
			g.pick("by", "", "", "by: event.subject", "by: event.type"),
			g.pick("limit", "", "", "partition-rate: 1/s", "partition-rate: 10/m"),
			g.pick("slow", "", "", "takes: 200ms"), g.pick("rejects", "", "", "", "fails: 5%"),
		}, ", "), g.from(), g.again()+g.taken())
	case "table":
		g.line("origin", form, "table, "+g.pick("partitions", "", "partitions: 3"), g.from(), g.again()+g.taken())
	case "schedule":
		g.line("origin", form, "schedule", strings.Join([]string{
			g.pick("calendar", "every: 20s", `cron: "*/5 * * * *"`, `cron: "30 */2 * * * *", cron-fields: with-seconds`,
				`cron: "* * * * 1", sunday: "1"`, `cron: "*/2 * * * * 2026", cron-fields: with-year`),
			g.pick("zone", "", "", "zone: Europe/Oslo"), g.pick("jitter", "", "", "jitter: 5s"),
			g.pick("between", "", "", "from: 2026-03-02T00:30:00Z", "until: 2026-03-02T01:00:00Z"),
			g.pick("enabled", "", "", "", "enabled: false"), g.pick("data", "", "data: {kg: 1}"), g.breaks(),
		}, ", "), g.again()+g.taken())
	case "endpoint":
		g.line("origin", form, strings.Join([]string{
			"endpoint", g.pick("accepts", "", "", "accepts: {type: object}", "accepts: {type: object, required: [name]}"),
			g.pick("timeout", "", "timeout: 2s", "timeout: 1m"),
			g.pick("limit", "", "", "rate-limit: 1/s", "rate-limit: 10/m"),
			g.pick("slow", "", "", "takes: 1s"), g.pick("rejects", "", "", "", "fails: 5%"),
		}, ", "), g.from(), g.pick("mode", "", ", mode: accept"))
	case "outside":
		data := g.pick("data", "", ", data: {kg: 3}")
		g.line("origin", form, "outside", g.from(), g.pick("mode", "", ", mode: async")+data)
	case "function":
		g.line("origin", form, "function, takes: 100ms", g.from(), ", mode: async"+g.again()+
			g.pick("items", "", `, for-each: "[1, 2]"`, `, count: "2"`)+g.pick("data", "", ", data: {kg: 3}"))
	default:
		g.line("origin", form, "workflow, do: [{rest: {wait: 2s}}]", g.from(), ", when: success"+g.again())
	}
}

// worker writes the node in the middle.
func (g *generator) worker(pooled bool) {
	if g.one(4, "workflow") {
		g.line("work", "kind: workflow, %s, do: [%s], links: {done: {to: kept, when: success}, gone: {to: parked, when: failure}}",
			strings.Join([]string{
				g.pick("fails", "", "", "fails: 5%"), g.pick("slow", "", "", "takes: 1s"),
				g.pick("limit", "", "concurrency: 3"), g.pick("results", "", "results: all"),
				g.pick("timeout", "", "timeout: 10s"), g.breaks(),
			}, ", "), g.tasks())
		return
	}
	pool := ""
	if pooled {
		pool = "pool: crew"
	}
	links := []string{"out: {to: kept" + g.sent() + g.pick("ignored", "", "", ", on-error: ignore") + "}"}
	switch {
	case g.one(3, "asks"):
		links = append(links, "ask: {to: desk, mode: wait"+g.sent()+g.pick("ignored", "", "", ", on-error: ignore")+"}")
	case g.one(3, "pushes"):
		links = append(links, "ask: {to: desk, mode: async"+g.sent()+"}")
	}
	g.line("work", "kind: function, %s, links: {%s}", strings.Join([]string{
		"takes: " + g.pick("takes", "200ms", "1s", "5s", "{dist: exponential, mean: 2s}"), pool,
		g.pick("memory", "", "memory: 512MB"), g.breaks(), g.callers("origin"),
		g.pick("accepts", "", "", "", "accepts: {type: object}", "accepts: {type: string}"),
		g.pick("idempotent", "", "", "idempotent: event.id", "idempotent: event.subject"),
		g.pick("fails", "", "fails: 10%", "fails: {each-try: 20%, error: odd}", "fails: {for-good: 5%, error: odd}",
			"fails: {each-try: 20%, per: message}"),
		g.pick("case", "", "", `cases: {odd: {if: "event.source == 'quay'", fails: 50%}}`,
			`cases: {odd: {if: "event.try > 0", takes: 3s}}`, `cases: {heavy: {if: "event.data.kg > 2", takes: 4s}}`),
		g.pick("cold", "", "", "", "cold-start: {takes: 3s, idle: 1m}"), g.pick("hops", "", "", "", "hop-limit: 1"),
		g.pick("limit", "", "", "concurrency: 2"), g.pick("timeout", "", "", "timeout: 4s"),
		g.pick("results", "", "results: all"),
	}, ", "), strings.Join(links, ", "))
}

// sent draws what a function's send makes.
func (g *generator) sent() string {
	return g.pick("items", "", "", "", `, for-each: "[1, 2, 3]"`, ", count: {dist: uniform, min: 0, max: 3}") +
		g.pick("data", "", "", ", data: {kg: 3}") + g.pick("if", "", "", "", `, if: "event.type == 'a'"`) +
		g.pick("size", "", "", "", ", size: 5KB")
}

// tasks draws those of a workflow, which call the desk.
func (g *generator) tasks() string {
	return g.pick("do",
		"{a: {call: desk}}",
		`{each: {for: {in: "[1, 2]"}, do: [{a: {call: desk}}]}}`,
		"{both: {fork: {branches: [{a: {call: desk}}, {b: {wait: 1s}}]}}}",
		"{first: {fork: {compete: true, branches: [{a: {call: desk}}, {b: {wait: 1s}}]}}}",
		`{way: {switch: [{odd: {when: "event.type == 'a'", then: end}}, {else: {then: continue}}]}}, {a: {call: desk}}`,
		"{t: {try: [{a: {call: desk}}], catch: {errors: {with: {type: failed}}, do: [{r: {raise: odd}}]}}}",
		"{t: {try: [{a: {call: desk}}], catch: {retry: {delay: 2s, backoff: {exponential: {}}, limit: {attempt: {count: 3}}}}}}",
		`{s: {set: {kg: 2}}}, {a: {call: desk, if: "event.data.kg > 1"}}`,
	)
}
