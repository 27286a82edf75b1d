package verify

import (
	"strings"

	"pgregory.net/rapid"
)

// drawWriters writes a system around a function that writes to several nodes, in any order: one of them is busy, fills
// up or fails, some are ignored or stand together, and what the function calls may hold it up. What is retried,
// rejected or ignored after another write stands is where rates and losses depend on each other most.
func drawWriters(t *rapid.T) string {
	g := &generator{t: t}
	if g.one(5, "limit") {
		g.b.WriteString("limits: {payload: 2KB}\n")
	}
	g.b.WriteString("nodes:\n")
	source := g.pick("source", "topic", "queue", "stream", "bucket", "schedule", "endpoint", "table")
	switch rate := g.pick("rate", "rate: 2/m", "rate: 6/m", "rate: 20/m", "rate: 60/m"); source {
	case "queue":
		g.line("source", "kind: queue, %s, lease: %s, retention: %s, links: {on: {to: work, %s}}",
			rate, g.pick("lease", "20s", "1m", "5m"), g.pick("kept", "1h", "6h", "2d"), g.reading("queue"))
	case "stream", "table":
		g.line("source", "kind: %s, %s, partitions: %s, retention: %s, links: {on: {to: work, %s}}",
			source, rate, g.pick("partitions", "1", "3"), g.pick("kept", "1h", "6h"), g.reading("stream"))
	case "schedule":
		g.line("source", "kind: schedule, every: %s, links: {on: {to: work%s}}",
			g.pick("every", "10s", "1m"), g.delivery())
	case "endpoint":
		g.line("source", "kind: endpoint, %s, links: {on: {to: work, mode: %s}}",
			rate, g.pick("mode", "wait", "accept"))
	default:
		g.line("source", "kind: %s, %s, links: {on: {to: work%s}}", source, rate, g.delivery())
	}
	g.writer()
	g.busy()
	g.line("rows", "kind: %s", g.pick("rows", "table", "bucket, fails: 10%", "queue", "table, takes: 500ms"))
	g.line("helper", "kind: %s", g.pick("helper", "outside, takes: 2s, fails: 10%", "function, takes: 1s, fails: 5%",
		"outside, takes: {dist: exponential, mean: 3s}, timeout: 10s", "function, takes: 3s, concurrency: 2"))
	g.line("outcome", "kind: queue, retention: 14d")
	g.line("parked", "kind: queue, retention: 14d")
	return g.b.String()
}

// writer writes the function in the middle.
func (g *generator) writer() {
	write := func() string {
		return g.pick("ignored", "", "", "", ", on-error: ignore") +
			g.pick("chance", "", "", "", ", chance: 30%", ", chance: 70%") +
			g.pick("count", "", "", "", "", ", count: 2") + g.pick("start", "", "", "", "", ", at: start") +
			g.pick("size", "", "", "", ", size: 5KB") + g.pick("retry", "", "", ", retry: {tries: 2, wait: 5s}",
			", retry: {tries: 4, wait: 10s, factor: 2}")
	}
	links := []string{}
	add := func(link string) { links = append(links, link) }
	if !g.one(5, "no busy") {
		add("busy: {to: busy" + write() + "}")
	}
	if g.one(2, "calls") {
		add("ask: {to: helper, mode: wait" + g.pick("again", "", ", retry: {tries: 2, wait: 1s}") +
			g.pick("ignored", "", "", ", on-error: ignore", ", chance: 50%") + "}")
	}
	if !g.one(3, "no rows") {
		add("rows: {to: rows" + write() + "}")
	}
	if g.one(2, "results") {
		add("result: {to: outcome, when: " + g.pick("when", "success", "failure") + "}")
	}
	links = rapid.Permutation(links).Draw(g.t, "order")
	g.line("work", "kind: function, takes: %s, timeout: %s, %s, %s, %s, links: {%s}",
		g.pick("takes", "1s", "5s", "{dist: exponential, mean: 2s}", "{dist: uniform, min: 1s, max: 4s}"),
		g.pick("timeout", "10s", "30s", "1m"),
		g.pick("fails", "", "", "fails: 5%", "fails: 30%", "fails: {for-good: 5%}",
			"fails: {each-try: 10%, for-good: 2%}"),
		g.pick("concurrency", "", "", "", "concurrency: 1", "concurrency: 5"),
		g.pick("together", "", "", "", "sends: together"),
		strings.Join(links, ", "))
}

// busy writes a node that does not take all writes at once.
func (g *generator) busy() {
	switch g.pick("busy", "full", "failing", "slow", "passing on") {
	case "full":
		g.line("busy", "kind: queue, capacity: 30, links: {next: {to: next, read: {parallel: 1}, retry: {tries: 3}}}")
		g.line("next", "kind: function, takes: 2s, timeout: 30s, concurrency: 1")
	case "failing":
		g.line("busy", "kind: table, fails: 20%%")
	case "slow":
		g.line("busy", "kind: queue, retention: 1h, links: {next: {to: next, %s}}", g.reading("queue"))
		g.line("next", "kind: function, takes: 4s, timeout: 20s, fails: 10%%")
	default:
		g.line("busy", "kind: topic, links: {next: {to: next, retry: {tries: 2}}}")
		g.line("next", "kind: function, takes: 1s")
	}
}
