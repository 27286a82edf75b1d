package verify_test

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
)

// everyField is a model in which each field can make a difference.
const everyField = `ironweir: topology/1
name: fields
limits: {payload: 1MB}
pools: {small: 1, large: 50}
prices: {currency: EUR, runs: 1, compute: 1/GB-s, messages: 1, storage: 1/GB-month}
nodes:
  bucket: {kind: bucket, rate: 1/s, keys: ["in/{seq}.csv", "in/{seq}.pdf"], links: {queue: {}, topic: {match: {prefix: in/}}}}
  queue: {kind: queue, lease: 10s, links: {function: {read: {parallel: 4}, retry: {tries: 3}, dead-letter: dead}}}
  topic: {kind: topic, links: {intake: {}, queue: {}, outside: {}}}
  stream: {kind: stream, rate: 2/s, links: {reader: {retry: {tries: 3}, dead-letter: dead}}}
  reader: {kind: function, takes: 100ms, fails: 5%, links: {table: {key: "{stem}"}}}
  table: {kind: table, links: {changed: {}}}
  changed: {kind: function, takes: 20ms}
  schedule: {kind: schedule, every: 7s, links: {intake: {}}}
  clock: {kind: schedule, cron: "*/2 * * * *", links: {intake: {}}}
  endpoint: {kind: endpoint, rate: 1/s, links: {called: {}, queue: {}}}
  called: {kind: function, takes: {dist: exponential, mean: 2s}, links: {outside: {}, sent: {}}}
  function: {kind: function, takes: {dist: exponential, mean: 1s}, fails: 10%, links: {bucket-2: {key: "out/{name}"}, sent: {}}}
  intake: {kind: function, takes: {dist: exponential, mean: 500ms}, fails: 20%, links: {good: {when: success}, bad: {when: failure}, sent: {}, flow: {}}}
  bucket-2: {kind: bucket}
  sent: {kind: queue, retention: 2m}
  good: {kind: queue}
  bad: {kind: queue}
  dead: {kind: queue}
  flow: {kind: workflow, do: [{one: {call: called}}]}
  outside: {kind: outside, takes: 100ms, fails: 1%, rate-limit: 100/s}
`

const everyScenario = `ironweir: scenario/1
length: 4m
seed: 3
traffic:
  in: {into: bucket, rate: 1/s, size: 2KB, key: "in/{seq}.csv", type: loaded, events: [{data: {kg: 3}}, {data: {kg: 9}}]}
  records: {into: stream, rate: 2/s, key: "k/{seq}"}
  calls: {into: endpoint, rate: 1/s, events: [{data: {kg: 3}}]}
`

// then stands between what the field needs to have an effect and the change itself.
const then = "then"

// changes gives each field of the catalogue a value that makes a difference in the model
// above; the path of a node's field begins with its kind, that of a link's with link.
var changes = map[string][]string{
	"bucket.rate": {
		"nodes.bucket.rate=5/s",
	}, "bucket.keys": {`nodes.bucket.keys=["other/{seq}"]`}, "bucket.callers": {"nodes.bucket-2.callers=[reader]"},
	"bucket.fails": {
		"nodes.bucket.fails=50%",
	}, "bucket.takes": {"nodes.bucket-2.takes=1s"}, "bucket.notice": {"nodes.bucket.notice=5s"}, "bucket.object-life": {"nodes.bucket.object-life=30s"}, "bucket.duplicates": {"nodes.bucket.duplicates=50%"},
	"bucket.types": {
		"nodes.stream.links.reader.match={type: b}",
		then,
		"nodes.stream.types=[a]",
	}, "bucket.sources": {"nodes.stream.links.reader.match={source: b}", then, "nodes.stream.sources=[a]"}, "bucket.owner": {"nodes.bucket.owner=quay"},
	"queue.order": {
		"nodes.queue.order=grouped",
		`nodes.queue.group="'all'"`,
	}, "queue.group": {"nodes.queue.order=grouped", `nodes.queue.group="'all'"`, then, "nodes.queue.group=event.subject"}, "queue.retention": {"nodes.sent.retention=20s"}, "queue.delay": {"nodes.queue.delay=5s"}, "queue.capacity": {"nodes.sent.capacity=5"},
	"queue.lease": {
		"nodes.queue.lease=1s",
	}, "queue.age": {"nodes.dead.retention=25s", then, "nodes.dead.age=carried"}, "queue.dedupe": {`nodes.queue.dedupe={by: "'same'", within: 1m}`}, "queue.duplicates": {"nodes.queue.duplicates=30%"},
	"topic.duplicates": {
		"nodes.topic.duplicates=50%",
	}, "topic.ignore": {"nodes.topic.links={intake: {match: {prefix: none/}}}", then, "nodes.topic.ignore={prefix: in/}"},
	"stream.partitions": {
		"nodes.stream.partitions=4",
	}, "stream.by": {"nodes.stream.partitions=4", then, `nodes.stream.by="'one'"`}, "stream.retention": {"nodes.stream.retention=1s"}, "stream.partition-rate": {"nodes.stream.partition-rate=1/s"},
	"table.partitions": {
		"nodes.changed.takes=3s",
		then,
		"nodes.table.partitions=3",
	}, "table.retention": {"nodes.changed.takes=3s", then, "nodes.table.retention=1s"},
	"schedule.every": {
		"nodes.schedule.every=11s",
	}, "schedule.cron": {`nodes.clock.cron="* * * * *"`}, "schedule.cron-fields": {"nodes.clock.cron-fields=with-seconds", `nodes.clock.cron="30 */2 * * * *"`}, "schedule.sunday": {`nodes.clock.cron="* * * * 2"`, then, "nodes.clock.sunday=1"}, "schedule.zone": {`nodes.clock.cron="* 1 * * *"`, then, "nodes.clock.zone=Europe/Oslo"},
	"schedule.jitter": {
		"nodes.schedule.jitter=5s",
	}, "schedule.from": {"nodes.schedule.from=2026-03-02T00:01:00Z"}, "schedule.until": {"nodes.schedule.until=2026-03-02T00:01:00Z"}, "schedule.enabled": {"nodes.schedule.enabled=false"}, "schedule.data": {`nodes.intake.cases={light: {if: "has(event.data.kg) && event.data.kg == 1.0", takes: 9s}}`, then, "nodes.schedule.data={kg: 1}"},
	"endpoint.accepts": {
		"nodes.endpoint.accepts={type: object, required: [name]}",
	}, "endpoint.timeout": {"nodes.endpoint.timeout=1s"}, "endpoint.rate-limit": {"nodes.endpoint.rate-limit=0.5/s"},
	"function.memory": {
		"nodes.function.memory=512MB",
	}, "function.timeout": {"nodes.function.timeout=1s"}, "function.cold-start": {"nodes.function.cold-start={takes: 3s, idle: 1s}"}, "function.cases": {`nodes.function.cases={heavy: {if: "event.data.kg > 5", fails: 100%}}`}, "function.accepts": {"nodes.function.accepts={type: object, required: [name]}"},
	"function.concurrency": {
		"nodes.function.concurrency=1",
	}, "function.pool": {"nodes.function.pool=small"}, "function.hop-limit": {"nodes.changed.hop-limit=0"}, "function.idempotent": {`nodes.function.idempotent="'same'"`}, "function.sends": {"nodes.sent.fails=50%", then, "nodes.function.sends=together"},
	"function.retry": {
		"nodes.intake.retry={tries: 1}",
	}, "function.dead-letter": {"nodes.intake.dead-letter=dead"}, "function.results": {"nodes.queue.links.function.to=intake", then, "nodes.intake.results=all"},
	"workflow.do": {
		"nodes.flow.do=[{one: {call: called}}, {two: {wait: 10s}}]",
	}, "workflow.timeout": {"nodes.flow.timeout=1s"}, "workflow.retry": {"nodes.called.fails=50%", then, "nodes.flow.retry={tries: 1}"}, "workflow.dead-letter": {"nodes.called.fails=50%", "nodes.flow.retry={tries: 1}", then, "nodes.flow.dead-letter=dead"}, "workflow.concurrency": {"nodes.flow.concurrency=1"},
	"workflow.results": {
		"nodes.flow.links={good: {when: success}}",
		"nodes.sent.links={flow: {}}",
		then,
		"nodes.flow.results=all",
	},
	"outside.rate-limit": {
		"nodes.outside.rate-limit=0.5/s",
	}, "outside.timeout": {"nodes.outside.takes=3s", then, "nodes.outside.timeout=1s"}, "outside.fails": {"nodes.outside.fails=60%"}, "outside.takes": {"nodes.outside.takes=3s"},
	"bucket.breaks": {"nodes.queue.breaks={every: 1m, for: 30s}"},
	"link.to": {
		"nodes.topic.links.queue.to=good",
	}, "link.mode": {"nodes.called.links.outside.mode=async"}, "link.enabled": {"nodes.topic.links.queue.enabled=false"}, "link.changes": {"nodes.bucket.links.queue.changes=[deleted]"},
	"link.match.prefix": {
		"nodes.bucket.links.queue.match={prefix: out/}",
	}, "link.match.suffix": {"nodes.bucket.links.queue.match={suffix: .pdf}"}, "link.match.type": {"nodes.bucket.links.queue.match={type: loaded}"}, "link.match.source": {"nodes.bucket.links.queue.match={source: elsewhere}"}, "link.match.if": {`nodes.bucket.links.queue.match={if: "event.data.kg > 5"}`},
	"link.read.up-to": {
		"nodes.queue.links.function.read.up-to=5",
	}, "link.read.within": {"nodes.queue.links.function.read={up-to: 5, parallel: 4}", then, "nodes.queue.links.function.read.within=3s"}, "link.read.parallel": {"nodes.queue.links.function.read.parallel=1"}, "link.read.failed": {"nodes.queue.links.function.read={up-to: 5}", "nodes.function.fails={each-try: 20%, per: message}", then, "nodes.queue.links.function.read.failed=all"},
	"link.read.settle": {
		then,
		"nodes.queue.links.function.read.settle=reject",
	}, "link.read.prefetch": {"nodes.queue.links.function.read.parallel=1", then, "nodes.queue.links.function.read.prefetch=3"},
	"link.retry.tries": {
		"nodes.queue.links.function.retry.tries=1",
	}, "link.retry.wait": {"nodes.queue.links.function.retry.wait=1s"}, "link.retry.factor": {"nodes.queue.links.function.retry={tries: 4, wait: 1s}", then, "nodes.queue.links.function.retry.factor=3"}, "link.retry.max-wait": {"nodes.topic.links.intake.retry={wait: 10s}", then, "nodes.topic.links.intake.retry.max-wait=11s"}, "link.retry.jitter": {"nodes.topic.links.intake.retry={jitter: 50%}"}, "link.retry.give-up": {"nodes.topic.links.intake.retry={give-up: 10s}"}, "link.retry.except": {"nodes.topic.links.intake.retry={except: [failed]}"},
	"link.dead-letter": {
		"nodes.queue.links.function.dead-letter=bad",
	}, "link.on-error": {"nodes.outside.fails=50%", then, "nodes.called.links.outside.on-error=ignore"}, "link.wrap": {`nodes.intake.cases={whole: {if: "has(event.data.specversion)", takes: 9s}}`, then, "nodes.topic.links.intake.wrap=event"}, "link.when": {"nodes.intake.links.sent.when=failure"}, "link.at": {"nodes.function.links.sent.at=start"}, "link.per": {"nodes.queue.links.function.read={up-to: 5, within: 5s}", then, "nodes.function.links.sent.per=run"},
	"link.count": {
		"nodes.function.links.sent.count=3",
	}, "link.for-each": {`nodes.function.links.sent.for-each="[1, 2]"`}, "link.chance": {"nodes.function.links.sent.chance=50%"}, "link.if": {`nodes.function.links.sent.if="event.data.kg > 5"`}, "link.key": {"nodes.table.links.changed.changes=[inserted]", then, `nodes.reader.links.table.key="one"`}, "link.type": {"nodes.sent.links={changed: {match: {type: made}}}", then, "nodes.function.links.sent.type=made"},
	"link.data": {
		`nodes.sent.links={changed: {match: {if: "event.data.kg == 1.0"}}}`,
		then,
		"nodes.function.links.sent.data={kg: 1}",
	}, "link.size": {"nodes.function.links.sent.size=2MB"}, "link.op": {"nodes.function.links.bucket-2.op=read"},
}

// outOfScope are fields that a run and a check need not look at, and who does.
var outOfScope = map[string]string{
	"about":       "search and pages",
	"tags":        "search",
	"public":      "parts",
	"observed-as": "learn",
	"method":      "rehearsal",
	"path":        "rehearsal",
	"hook":        "rehearsal",
	"read.from":   "a stream is empty at the start of a run",
}

// TestEachFieldMakesADifference changes each field of the catalogue in turn: a run or a
// check must change. A field that does nothing is a defect.
func TestEachFieldMakesADifference(t *testing.T) {
	compiled := func(sets []string) *graph.Graph {
		m, err := model.Parse("fields.yaml", []byte(everyField), model.Options{Sets: sets})
		require.NoError(t, err, "%v", sets)
		g, err := graph.Compile(m)
		require.NoError(t, err, "%v", sets)
		return g
	}
	asJSON := func(doc any, err error) string {
		require.NoError(t, err)
		body, err := json.Marshal(doc)
		require.NoError(t, err)
		return string(body)
	}
	run := func(sets []string, drawn bool) string {
		g, text := compiled(sets), everyScenario
		if drawn {
			text += "breakdowns: drawn\n"
		}
		s, err := model.ParseScenario("fields-scenario.yaml", []byte(text), g.Topology)
		require.NoError(t, err)
		res, err := sim.Run(sim.Plan{Graph: g, Scenario: s})
		require.NoError(t, err, "%v", sets)
		return asJSON(study.Merge(g, s, []*sim.Result{res}, document.Head{}))
	}
	checks := func(sets []string) string {
		return asJSON(check.Run(compiled(sets), nil, document.Head{}, time.Time{}), nil)
	}
	seen := map[string]bool{}
	one := func(path string) {
		if seen[path] {
			return
		}
		seen[path] = true
		t.Run(path, func(t *testing.T) {
			sets := changes[path]
			require.NotEmpty(t, sets, "no change is known here that makes a difference")
			drawn := strings.HasSuffix(path, ".breaks")
			var before []string
			if k := slices.Index(sets, then); k >= 0 {
				before, sets = sets[:k], slices.Concat(sets[:k], sets[k+1:])
			}
			if run(before, drawn) == run(sets, drawn) { // what no run shows, a check does
				require.NotEqual(t, checks(before), checks(sets), "%v changes nothing", sets)
			}
		})
	}
	c := model.WholeCatalogue()
	common := map[string]bool{}
	for _, k := range c.Kinds {
		for _, f := range k.Fields {
			if outOfScope[f.Path] != "" {
				continue
			}
			path := fmt.Sprintf("%s.%s", k.Kind, f.Path)
			if changes[path] == nil && changes["bucket."+f.Path] != nil {
				path = "bucket." + f.Path // a field of every node
				common[path] = true
			}
			one(path)
		}
	}
	for _, f := range c.Link {
		if outOfScope[f.Path] == "" {
			one("link." + f.Path)
		}
	}
	for path := range changes {
		require.True(t, seen[path] || strings.HasPrefix(path, "outside."), "%s is no field", path)
	}
}
