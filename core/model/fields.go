package model

import (
	"slices"
	"strings"
)

// fieldSpec is a field that nodes or links may have. What a form, completion, the JSON Schema and
// the message for a misplaced field say of it comes from here; the reader and the reference
// are held against it by tests.
type fieldSpec struct {
	path     string // with a dot where it lies in a map: read.up-to
	group    string // the heading that it stands under in a form
	form     string // what is written there, as in CatalogueField; a choice by its values: fresh|carried
	fallback string // what holds where nothing is written, empty: nothing
	about    string
	on       []string // of a link: the kinds that it may leave from; nil: all
}

// The headings of a form, in their order.
const (
	general = "General"
	trigger = "Trigger"
	reads   = "Reading"
	failure = "Failure"
	sent    = "Sends"
	limits  = "Limits and cost"
)

// choices lists the values of a choice; none: it is no choice.
func (f *fieldSpec) choices() []string {
	if strings.Contains(f.form, "|") {
		return strings.Split(f.form, "|")
	}
	return nil
}

// everyNode are the fields that all kinds have.
var everyNode = []fieldSpec{
	{"about", general, "text", "", "description", nil},
	{"owner", general, "text", "", "person or team responsible", nil},
	{"rate", general, "rate", "", "arrival rate from external senders, without a scenario", nil},
	{
		"takes", limits, "distribution", "0s",
		"duration of a run; of a write, except on functions and outside systems", nil,
	},
	{
		"fails", failure, "anything", "0%",
		"share of runs that fail; of writes that are rejected, except on functions and outside systems", nil,
	},
	{
		"keys", general, "words", "",
		"subjects that external senders use, as templates: inbound/{haulier}/{seq}.csv", nil,
	},
	{"types", general, "words", "", "event types that external senders use", nil},
	{"sources", general, "words", "", "event sources that external senders use", nil},
	{"breaks", failure, "anything", "", "{every: 60d, for: 25m}: it breaks down by itself", nil},
	{"callers", general, "words", "everyone linked", "who may send to it or call it", nil},
	{"observed-as", general, "words", "its name", "its names in traces of the real system", nil},
	{"public", general, "truth", "false", "may be linked to from other parts", nil},
}

// nodeFields are the fields that only some kinds have: which, their traits say.
var nodeFields = []fieldSpec{
	{"notice", trigger, "distribution", "0s", "delay between a change and its event", nil},
	{
		"object-life", reads, "duration", "",
		"an object is deleted automatically after this; the deletion is an event", nil,
	},
	{"duplicates", failure, "share", "", "share of messages delivered twice", nil},
	{"order", general, "any|grouped", "any", "grouped: in order within a group", nil},
	{"group", general, "expression", "", "gives the group of a message", nil},
	{"retention", reads, "duration", "7d", "a message that is not consumed within this expires", nil},
	{"delay", reads, "duration", "0s", "a new message stays invisible for this time", nil},
	{"capacity", limits, "whole", "", "largest number of messages; more are rejected", nil},
	{
		"lease", reads, "duration", "60s",
		"a message that a reader took is hidden for this time, then delivered again", nil,
	},
	{
		"age", reads, "fresh|carried", "fresh",
		"of dead letters: whether the time that they already waited counts here", nil,
	},
	{
		"dedupe", reads, "anything", "",
		"{by: expression, within: duration}: a second message with the same key within this is dropped", nil,
	},
	{"ignore", failure, "anything", "", "a match: messages that no consumer is meant to receive", nil},
	{"partitions", general, "anything", "1", "how many, or auto", nil},
	{"by", general, "expression", "spread evenly", "gives the partition key of a record", nil},
	{"partition-rate", limits, "rate", "", "records per second and partition, above which a write is rejected", nil},
	{"every", trigger, "duration", "", "interval between two firings", nil},
	{"cron", trigger, "text", "", "calendar of the firings, a cron expression", nil},
	{
		"cron-fields", trigger, "standard|with-seconds|with-year|with-both", "standard",
		"field layout of cron: 5 fields; a second in front; a year at the end; both", nil,
	},
	{"sunday", trigger, "0|1", "0", "weekday number of Sunday", nil},
	{"zone", trigger, "text", "UTC", "time zone of the calendar: Europe/Lisbon", nil},
	{"jitter", trigger, "duration", "", "random delay of a firing, at most", nil},
	{"from", trigger, "text", "", "not before this time", nil},
	{"until", trigger, "text", "", "not from this time on", nil},
	{"enabled", trigger, "truth", "true", "whether it fires", nil},
	{"data", sent, "anything", "", "the payload that it sends", nil},
	{"method", general, "text", "POST", "of a request", nil},
	{"path", general, "text", "its name", "of a request", nil},
	{"accepts", general, "anything", "", "JSON Schema of the payload; others are answered 400, or fail the run", nil},
	{
		"timeout", limits, "duration", "45s",
		"a run that takes longer fails; a request that waits longer is answered 504", nil,
	},
	{"rate-limit", limits, "rate", "", "a request above this rate is rejected", nil},
	{"memory", limits, "size", "", "memory of an instance, for the cost: 256MB", nil},
	{
		"cold-start", limits, "anything", "",
		"{takes, idle}: extra duration of the first run, and of one after `idle` without use", nil,
	},
	{
		"cases", failure, "anything", "",
		"by name: {if, takes, fails}; the first that holds replaces takes and fails", nil,
	},
	{"concurrency", limits, "whole", "", "largest number of concurrent runs", nil},
	{"pool", limits, "text", "", "pool whose concurrency it shares", nil},
	{"hop-limit", limits, "whole", "", "largest number of functions that a message may have passed through", nil},
	{
		"idempotent", general, "expression", "",
		"a message whose key already succeeded is finished without sending again", nil,
	},
	{"sends", sent, "one-by-one|together", "one-by-one", "together: no send stands unless all do", nil},
	{"hook", sent, "text", "", "a loopback address that answers for it in a rehearsal", nil},
	{"retry", failure, "anything", "", "of asynchronous links to it that do not state their own", nil},
	{"dead-letter", failure, "node", "", "dead-letter node of asynchronous links to it that state none", nil},
	{"results", sent, "async|all", "async", "which runs use its success and failure links", nil},
	{"do", sent, "anything", "", "the tasks, in the Serverless Workflow DSL", nil},
}

// The kinds that links with some fields leave from.
var (
	delivering = []string{"bucket", "queue", "topic", "stream", "table", "schedule", "endpoint"}
	polled     = []string{"queue", "stream", "table"}
	fromQueue  = []string{"queue"}
	changing   = []string{"bucket", "table"}
	sending    = []string{"function", "workflow", "outside"}
	running    = []string{"function", "workflow"}
)

// linkFields are the fields of links.
var linkFields = []fieldSpec{
	{"to", general, "node", "its name", "the target", nil},
	{"match.prefix", trigger, "words", "", "the subject begins with this, or with one of these", delivering},
	{"match.suffix", trigger, "words", "", "the subject ends with this, or with one of these", delivering},
	{"match.type", trigger, "words", "", "the event's type", delivering},
	{"match.source", trigger, "words", "", "the event's source", delivering},
	{"match.if", trigger, "expression", "", "holds for the event: event.data.kg > 40", delivering},
	{"enabled", trigger, "truth", "true", "false switches the trigger off", nil},
	{
		"changes", trigger, "words", "",
		"of a bucket: written, deleted; of a table: inserted, updated, deleted", changing,
	},
	{"read.up-to", reads, "whole", "1", "largest number of messages in a batch", polled},
	{"read.within", reads, "duration", "0s", "wait this long to fill a batch", polled},
	{"read.parallel", reads, "whole", "1", "concurrent batches; on a stream or table, one per partition", polled},
	{"read.from", reads, "oldest|newest", "oldest", "where a new reader starts", polled},
	{
		"read.failed", reads, "each|all|halve", "",
		"what of a failed batch is tried again: the failed ones, all, or halves to find the bad one", polled,
	},
	{
		"read.settle", reads, "lease|reject", "lease",
		"what a failed run does to the message: leaves it until its lease ends, or gives it back at once", fromQueue,
	},
	{
		"read.prefetch", reads, "whole", "0",
		"messages that a reader takes ahead of the run that will handle them", fromQueue,
	},
	{"retry.tries", failure, "whole", "", "total number of tries", nil},
	{"retry.wait", failure, "duration", "", "wait before the next try", nil},
	{"retry.factor", failure, "number", "", "factor by which the wait grows", nil},
	{"retry.max-wait", failure, "duration", "", "upper bound of the wait", nil},
	{"retry.jitter", failure, "share", "", "share by which the wait varies", nil},
	{"retry.give-up", failure, "duration", "", "age at which a message is given up", nil},
	{"retry.except", failure, "words", "", "errors that are not tried again", nil},
	{"dead-letter", failure, "node", "", "node that receives messages that were given up", nil},
	{"mode", general, "wait|async|accept", "", "whether the sender waits", nil},
	{"on-error", failure, "fail|ignore", "fail", "what a failed call or write does to the run", sending},
	{"wrap", reads, "none|event|base64", "none", "how the payload reaches the consumer", delivering},
	{"when", trigger, "success|failure", "", "sent when a run has succeeded, or failed for good", running},
	{"at", sent, "end|start", "end", "start: sent also by a run that then fails, again on each try", running},
	{"per", sent, "message|run", "message", "of a batch: for each message, or once", running},
	{"count", sent, "anything", "1", "how many are sent", sending},
	{"for-each", sent, "expression", "", "one is sent for each item of this list", sending},
	{"chance", sent, "share", "100%", "how likely it is sent", sending},
	{"if", sent, "expression", "", "it is sent where this holds", sending},
	{"key", sent, "text", "passed on", "key template: stamped/{stem}.pdf", sending},
	{"type", sent, "text", "passed on", "event type", sending},
	{"data", sent, "anything", "passed on", "payload; a text that starts with = is an expression", sending},
	{"size", sent, "size", "", "size of what is sent", sending},
	{"op", sent, "write|delete|read|insert|update", "", "what is done to a bucket or table", nil},
}

// nodeField finds a field that only some kinds have; nil: there is none.
func nodeField(name string) *fieldSpec {
	if k := slices.IndexFunc(nodeFields, func(f fieldSpec) bool { return f.path == name }); k >= 0 {
		return &nodeFields[k]
	}
	return nil
}
