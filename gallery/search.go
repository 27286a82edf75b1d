package gallery

import (
	"slices"
	"sort"
	"strings"
)

// Match is a starter that fits what somebody looks for.
type Match struct {
	Starter
	Words []string // of those looked for that it fits
}

// meant gives other words for what the starters say, as people look for it.
var meant = map[string][]string{
	"dlq": {
		"dead letter",
	}, "dead": {"dead letter"}, "letter": {"dead letter"}, "letters": {"dead letter"}, "dead-letter": {"dead letter"},
	"failures": {"dead letter", "failing"},
	"cron": {
		"schedule",
	}, "timer": {"schedule"}, "nightly": {"schedule"}, "scheduled": {"schedule"}, "upload": {"bucket"},
	"uploads": {"bucket"}, "file": {"bucket"}, "files": {"bucket"}, "object": {"bucket"}, "storage": {"bucket"},
	"http": {
		"endpoint",
	}, "api": {"endpoint"}, "webhook": {"endpoint"}, "rest": {"endpoint"}, "request": {"endpoint"},
	"publish": {"topic"}, "subscribe": {"topic"}, "pubsub": {"topic"}, "broadcast": {"topic"},
	"fanout": {"fan-out", "topic"},
	"fifo": {
		"grouped",
		"partitions",
	}, "order": {"grouped", "partitions", "order"}, "ordered": {"grouped", "partitions", "order"},
	"duplicate": {"idempotent"}, "duplicates": {"idempotent"}, "exactly": {"idempotent"}, "once": {"idempotent"},
	"backoff": {
		"retry",
	}, "retries": {"retry"}, "rate": {"rate-limit"}, "throttle": {"rate-limit"}, "throttling": {"rate-limit"},
	"limit": {"rate-limit"}, "large": {"claim"}, "batch": {"up-to", "batch"}, "records": {"stream"},
	"sensors": {"stream"}, "log": {"stream"},
	"orchestrate": {
		"workflow",
	}, "orchestration": {"workflow"}, "saga": {"workflow"}, "steps": {"workflow"}, "database": {"table"},
	"rows": {"table"}, "partner": {"outside"}, "external": {"outside"}, "third-party": {"outside"},
}

// Search finds the starters that fit words, those that fit most of them first. A word
// fits what a starter is called or says of itself; where it fits none of them so, the kinds
// and fields that they use count.
func Search(words []string) []Match {
	starters := Starters()
	found := make([]Match, len(starters))
	for i := range starters {
		found[i].Starter = starters[i]
	}
	for _, word := range wordsOf(words) {
		also := append([]string{strings.TrimSuffix(word, "s")}, meant[word]...)
		fits := func(within func(s *Starter) string, form string) bool {
			any := false
			for i := range found {
				text := strings.ToLower(within(&found[i].Starter))
				if slices.ContainsFunc(
					also,
					func(w string) bool { return strings.Contains(text, strings.ReplaceAll(form, "WORD", w)) },
				) {
					found[i].Words, any = append(found[i].Words, word), true
				}
			}
			return any
		}
		_ = fits(func(s *Starter) string { return s.Name + " " + s.About }, "WORD") ||
			fits(func(s *Starter) string { return string(s.Text) }, "kind: WORD") ||
			fits(func(s *Starter) string { return string(s.Text) }, "WORD:")
	}
	score := func(m *Match) int { // more words first; of as many, those whose name fits
		n := 10 * len(m.Words)
		for _, w := range m.Words {
			if strings.Contains(m.Name, strings.TrimSuffix(w, "s")) {
				n++
			}
		}
		return n
	}
	sort.SliceStable(found, func(i, j int) bool { return score(&found[i]) > score(&found[j]) })
	most := len(found[0].Words)
	return slices.DeleteFunc(found, func(m Match) bool { return len(m.Words) == 0 || len(m.Words) < most })
}

// wordsOf splits what is looked for into words that say something.
func wordsOf(texts []string) []string {
	var out []string
	for _, w := range strings.FieldsFunc(strings.ToLower(strings.Join(texts, " ")),
		func(r rune) bool { return r == ' ' || r == ',' || r == '+' || r == '/' }) {
		if w = strings.Trim(w, ".?!\"'"); len(w) > 1 &&
			!slices.Contains(
				[]string{"the", "and", "with", "for", "to", "of", "on", "in", "an", "my", "from", "that", "is", "out"},
				w,
			) {
			out = append(out, w)
		}
	}
	return out
}
