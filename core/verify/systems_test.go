package verify

import (
	"fmt"
	"strings"

	"pgregory.net/rapid"
)

// drawSystem writes a small system as people grow them, one trigger at a time: an entry, what stands between it and a
// function, what the function calls and writes, and where what fails goes. Unlike a whole random model it is busy,
// reads in batches, and calls slow callees within time-outs.
func drawSystem(t *rapid.T) string {
	g := &generator{t: t}
	fmt.Fprintf(&g.b, "nodes:\n")
	limit := ""
	how := g.pick(
		"way in", "queue", "queue", "stream", "topic to queue", "bucket", "function", "endpoint", "topic",
	)
	switch how {
	case "queue":
		g.line("inbox", "kind: queue, %s, %s, links: {take: {to: work, %s}}", g.arrivals(), g.queue(), g.reading("queue"))
	case "stream":
		g.line("inbox", "kind: stream, partitions: %d, retention: %s, %s, links: {take: {to: work, %s}}",
			g.int("partitions", 1, 4), g.pick("kept", "2h", "6h", "1d"), g.arrivals(), g.reading("stream"))
	case "topic to queue":
		g.line("news", "kind: topic, %s, links: {on: {to: inbox}}", g.arrivals())
		g.line("inbox", "kind: queue, %s, links: {take: {to: work, %s}}", g.queue(), g.reading("queue"))
	case "endpoint":
		g.line("gate", "kind: endpoint, %s, links: {in: {to: inbox}}", g.arrivals())
		g.line("inbox", "kind: queue, %s, links: {take: {to: work, %s}}", g.queue(), g.reading("queue"))
	case "bucket", "topic":
		limit = g.intake()
		g.line("drops", "kind: %s, %s, links: {on: {to: work%s}}", how, g.arrivals(), g.delivery())
	case "function":
		limit = g.intake()
		g.line("first", "kind: function, %s, takes: %s, links: {next: {to: work, mode: async%s}%s}",
			g.arrivals(), g.pick("first", "0s", "100ms", "1s"), g.pick("kinds", "", ", type: a, chance: 70%"),
			g.pick("again", "", ", other: {to: work, mode: async, type: b, chance: 20%}"))
	}
	g.work(limit)
	g.line("parked", "kind: queue, retention: 14d")
	return g.b.String()
}

func (g *generator) line(name, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	for strings.Contains(text, ", ,") || strings.Contains(text, ", }") {
		text = strings.ReplaceAll(strings.ReplaceAll(text, ", ,", ","), ", }", "}")
	}
	fmt.Fprintf(&g.b, "  %s: {%s}\n", name, text)
}

func (g *generator) arrivals() string {
	return g.pick("arrivals", "rate: 2/m", "rate: 4/m", "rate: 10/m", "rate: 20/m")
}

func (g *generator) queue() string {
	return fmt.Sprintf("retention: %s, lease: %s%s", g.pick("kept", "2h", "6h", "1d"), g.pick("lease", "30s", "1m", "5m"),
		g.pick("delay", "", "", "", ", delay: 30s", ", capacity: 50"))
}

func (g *generator) reading(of string) string {
	f := []string{}
	read := []string{}
	if of == "queue" && g.one(2, "parallel") {
		read = append(read, fmt.Sprintf("parallel: %d", g.int("readers", 2, 5)))
	}
	if g.one(2, "batch") {
		read = append(read, fmt.Sprintf("up-to: %d", g.int("up to", 2, 10)))
		if g.one(2, "fill") {
			read = append(read, "within: "+g.pick("within", "2s", "10s", "1m"))
		}
		if g.one(3, "failed") {
			read = append(read, "failed: "+g.pick("part", "all", "each"))
		}
	}
	if len(read) > 0 {
		f = append(f, "read: {"+strings.Join(read, ", ")+"}")
	}
	if g.one(2, "tries") {
		age := g.pick("age", "", "", "", ", give-up: 10m")
		f = append(f, fmt.Sprintf("retry: {tries: %s%s}", g.pick("times", "1", "2", "3", "5"), age))
		if g.one(2, "dead") {
			f = append(f, "dead-letter: parked")
		}
	}
	return strings.Join(f, ", ")
}

// delivery is of a link that starts runs.
func (g *generator) delivery() string {
	return g.pick("delivery", "", ", dead-letter: parked", ", retry: {tries: 2, wait: 10s}", ", retry: {tries: 3, wait: 1m}, dead-letter: parked")
}

// intake is of a function that is called without waiting.
func (g *generator) intake() string {
	return g.pick("intake", "", "", "concurrency: 1", "concurrency: 3", "retry: {tries: 2, wait: 20s}", "dead-letter: parked")
}

// work writes the function in the middle, with what it uses.
func (g *generator) work(limit string) {
	links := []string{}
	var after []func()
	add := func(format string, args ...any) { links = append(links, fmt.Sprintf(format, args...)) }
	if g.one(2, "calls") {
		add("ask: {to: helper, mode: wait%s%s}", g.pick("call", "", "", ", retry: {tries: 2, wait: 1s}", ", count: 2", ", per: run", ", chance: 50%"),
			g.pick("if", "", "", ", if: \"event.type == 'a'\"", ", on-error: ignore"))
		after = append(after, func() {
			g.line("helper", "kind: %s, takes: %s, %s", g.pick("helper", "function", "outside", "function"),
				g.pick("answers", "100ms", "2s", "5s", "10s", "20s", "{dist: exponential, mean: 3s}"), g.pick("helps", "", "", "fails: 10%", "fails: 40%", "concurrency: 1"))
		})
	}
	if g.one(2, "writes") {
		add("keep: {to: ledger%s}", g.pick("write", "", "", ", per: run", ", on-error: ignore", ", chance: 50%", ", at: start"))
		after = append(after, func() {
			g.line("ledger", "kind: %s, %s", g.pick("ledger", "table", "bucket", "queue", "topic"),
				g.pick("stands", "", "", "takes: 500ms", "fails: 10%"))
		})
	}
	if g.one(3, "results") {
		add("%s: {to: outcome, when: %s}", g.pick("name", "done", "gone"), g.pick("when", "success", "failure"))
		after = append(after, func() { g.line("outcome", "kind: queue, retention: 14d") })
	}
	f := []string{"kind: function", "takes: " + g.pick("takes", "100ms", "1s", "1s", "5s", "20s", "{dist: exponential, mean: 3s}")}
	if limit != "" {
		f = append(f, limit)
	}
	if g.one(3, "timeout") {
		f = append(f, "timeout: "+g.pick("limit", "3s", "10s", "30s", "2m"))
	}
	if g.one(3, "fails") {
		f = append(f, "fails: "+g.pick("how", "1%", "10%", "30%", "{for-good: 5%}", "{each-try: 20%, per: message}", "{for-good: 5%, per: message}"))
	}
	if g.one(5, "case") {
		f = append(f, fmt.Sprintf("cases: {odd: {if: %q, %s}}", g.pick("which", "event.type == 'b'", "event.try > 0"),
			g.pick("then", "fails: 100%", "takes: 20s", "fails: 30%")))
	}
	g.line("work", "%s, links: {%s}", strings.Join(f, ", "), strings.Join(links, ", "))
	for _, write := range after {
		write()
	}
}
