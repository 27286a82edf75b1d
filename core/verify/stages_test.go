package verify

import (
	"fmt"
	"strings"

	"pgregory.net/rapid"
)

// drawStages writes a system of two or three stages: what starts it, what works, where that writes, and what works on
// from there. Beside functions there are workflows; beside queues and streams, tables and buckets that say what
// changes; a stream or topic may have two readers.
func drawStages(t *rapid.T) string {
	g := &generator{t: t}
	fmt.Fprintf(&g.b, "nodes:\n")
	limit := ""
	start := g.pick("start", "schedule", "queue", "stream", "topic", "table", "bucket", "endpoint")
	second := ""
	if (start == "stream" || start == "topic" || start == "table") && g.one(2, "two readers") {
		read := g.delivery()
		if start != "topic" {
			read = join(", ", g.reading("stream"))
		}
		second = ", too: {to: other" + read + "}"
	}
	switch start {
	case "schedule":
		limit = g.intake()
		g.line("source", "kind: schedule, every: %s, links: {on: {to: work%s}}",
			g.pick("every", "5s", "20s", "1m"), g.delivery())
	case "queue":
		g.line("source", "kind: queue, %s, %s, links: {on: {to: work, %s}}",
			g.arrivals(), g.queue(), g.reading("queue"))
	case "stream", "table":
		shape := fmt.Sprintf("partitions: %d, retention: %s", g.int("partitions", 1, 3), g.pick("kept", "2h", "6h", "1d"))
		if start == "table" {
			shape = ""
		}
		g.line("source", "kind: %s, %s, %s, links: {on: {to: work, %s}%s}",
			start, shape, g.arrivals(), g.reading("stream"), second)
	case "topic", "bucket":
		limit = g.intake()
		g.line("source", "kind: %s, %s, links: {on: {to: work%s}%s}", start, g.arrivals(), g.delivery(), second)
	case "endpoint":
		limit = g.intake()
		g.line("source", "kind: endpoint, %s, links: {on: {to: work%s}}",
			g.arrivals(), g.pick("answers", "", ", mode: wait", ", mode: async"))
	}
	if second != "" {
		g.line("other", "kind: function, takes: %s, %s",
			g.pick("other takes", "100ms", "1s", "8s"), g.pick("other", "", "fails: 10%", "concurrency: 1"))
	}
	g.stage("work", limit, "middle", g.one(3, "workflow"))
	g.hand("middle", "finish")
	g.stage("finish", g.intake(), "end", false)
	g.line("end", "kind: %s, %s", g.pick("end", "table", "bucket", "queue"), g.pick("end fails", "", "", "fails: 5%"))
	g.line("expert", "kind: %s, takes: %s, %s", g.pick("expert", "function", "outside"),
		g.pick("thinks", "200ms", "2s", "6s", "15s"), g.pick("errs", "", "", "fails: 10%", "fails: {for-good: 5%}", "concurrency: 2"))
	g.line("parked", "kind: queue, retention: 14d")
	return g.b.String()
}

func join(sep, s string) string {
	if s == "" {
		return ""
	}
	return sep + s
}

// hand writes what takes a stage's results on to the next.
func (g *generator) hand(name, next string) {
	switch k := g.pick("hand", "queue", "queue", "topic", "stream", "table", "bucket"); k {
	case "queue":
		g.line(name, "kind: queue, %s, links: {next: {to: %s, %s}}", g.queue(), next, g.reading("queue"))
	case "stream":
		g.line(name, "kind: stream, partitions: %d, retention: %s, links: {next: {to: %s, %s}}",
			g.int("partitions", 1, 3), g.pick("kept", "2h", "6h", "1d"), next, g.reading("stream"))
	case "table":
		g.line(name, "kind: table, %s, links: {next: {to: %s, %s}}",
			g.pick("slow", "", "", "takes: 300ms", "fails: 5%"), next, g.reading("stream"))
	default:
		g.line(name, "kind: %s, %s, links: {next: {to: %s%s}}",
			k, g.pick("slow", "", "", "fails: 5%"), next, g.delivery())
	}
}

// stage writes a function or workflow that asks the expert and writes on.
func (g *generator) stage(name, limit, on string, workflow bool) {
	f := []string{"kind: function", "takes: " + g.pick("takes", "100ms", "1s", "1s", "5s", "{dist: exponential, mean: 2s}")}
	links := []string{fmt.Sprintf("out: {to: %s%s}",
		on, g.pick("write", "", "", ", count: 2", ", on-error: ignore", ", chance: 50%", ", per: run", ", retry: {tries: 2, wait: 2s}"))}
	ask := g.one(2, "asks")
	if workflow {
		f = []string{"kind: workflow"}
		if strings.HasPrefix(limit, "concurrency") {
			limit = ""
		}
		links[0] = fmt.Sprintf("out: {to: %s, when: success}", on)
		f = append(f, g.pick("do", "do: [{a: {call: expert}}]", "do: [{rest: {wait: 3s}}]",
			"do: [{try-it: {try: [{a: {call: expert}}], catch: {}}}]",
			"do: [{try-it: {try: [{a: {call: expert}}], catch: {retry: {delay: 5s, limit: {attempt: {count: 2}}}}}}]",
			"do: [{both: {fork: {branches: [{a: {call: expert}}, {b: {wait: 1s}}]}}}]"))
	} else if ask {
		links = append(links, fmt.Sprintf("ask: {to: expert, mode: %s%s}", g.pick("how asks", "wait", "wait", "async"),
			g.pick("call", "", "", ", retry: {tries: 2, wait: 1s}", ", chance: 50%")))
	}
	if g.one(4, "failure") {
		links = append(links, "gone: {to: parked, when: failure}")
	}
	if limit != "" {
		f = append(f, limit)
	}
	if g.one(3, "timeout") {
		f = append(f, "timeout: "+g.pick("limit", "4s", "10s", "1m"))
	}
	if !workflow && g.one(3, "fails") {
		f = append(f, "fails: "+g.pick("how", "1%", "10%", "30%", "{for-good: 5%}"))
	}
	g.line(name, "%s, links: {%s}", strings.Join(f, ", "), strings.Join(links, ", "))
}
