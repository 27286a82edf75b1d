package model

import (
	"slices"
	"strings"
)

// CatalogueField is a field that a node or link may have, as forms and completion show
// it.
type CatalogueField struct {
	Path    string   `json:"path" doc:"with a dot where it lies in a map: read.up-to"`
	Form    string   `json:"form" enum:"text,duration,rate,share,size,whole,number,truth,choice,words,node,distribution,expression,anything" doc:"what is written there; words: a text or a list of texts; node: the name of a node"`
	Choices []string `json:"choices" doc:"of the form choice"`
	Default string   `json:"default" doc:"what holds where nothing is written; empty: nothing"`
	About   string   `json:"about"`
	On      []string `json:"on" doc:"of a link: the kinds that it may leave from; empty: all"`
	Group   string   `json:"group" enum:"General,Trigger,Reading,Failure,Sends,Limits and cost" doc:"the heading it stands under in a form"`
}

// fieldEntry is a field as the tables below list it: as CatalogueField, without its group.
type fieldEntry struct {
	Path, Form     string
	Choices        []string
	Default, About string
	On             []string
}

// fieldGroups are the headings of a form, in their order, with the fields that stand under
// each: of a field with a dot the part before it counts.
var fieldGroups = []struct {
	name   string
	fields string
}{
	{"General", "about owner to keys types sources rate callers observed-as public method path accepts " +
		"partitions by order group idempotent mode"},
	{"Trigger", "match changes enabled every cron cron-fields sunday zone jitter from until notice when"},
	{"Reading", "read lease age dedupe delay retention object-life wrap"},
	{"Failure", "fails cases breaks retry dead-letter ignore on-error duplicates"},
	{"Sends", "sends results do hook data at per count for-each chance if key type size op"},
	{"Limits and cost", "takes timeout concurrency pool memory cold-start capacity partition-rate rate-limit hop-limit"},
}

// groupOf returns the heading of a field; empty: it has none.
func groupOf(path string) string {
	first, _, _ := strings.Cut(path, ".")
	for _, g := range fieldGroups {
		if slices.Contains(strings.Fields(g.fields), first) {
			return g.name
		}
	}
	return ""
}

// KindOf is what a kind of node may have.
type KindOf struct {
	Kind   string           `json:"kind"`
	About  string           `json:"about"`
	Fields []CatalogueField `json:"fields"`
}

// Catalogue is every field of nodes and links.
type Catalogue struct {
	Kinds []KindOf         `json:"kinds"`
	Link  []CatalogueField `json:"link"`
}

var kindAbouts = map[Kind]string{
	Bucket: "Stores objects; each change is an event.", Queue: "Holds messages; each goes to one consumer.", Topic: "Copies each message to every link that matches; stores nothing.",
	Stream: "Keeps records in order, by partition; each link reads all of them.", Table: "Stores rows; its change feed is read as a stream.", Schedule: "Sends events by a calendar.",
	Endpoint: "Receives requests and answers them.", Function: "Runs for each message or batch.", Workflow: "Runs tasks in order; each call waits.", Outside: "A system or person beyond the model.",
}

// everyNode are the fields that all kinds have.
var everyNode = []fieldEntry{
	{"about", "text", nil, "", "description", nil},
	{"owner", "text", nil, "", "person or team responsible", nil},
	{"rate", "rate", nil, "", "arrival rate from external senders, without a scenario", nil},
	{"takes", "distribution", nil, "0s", "duration of a run; of a write, except on functions and outside systems", nil},
	{
		"fails",
		"anything",
		nil,
		"0%",
		"share of runs that fail; of writes that are rejected, except on functions and outside systems",
		nil,
	},
	{"keys", "words", nil, "", "subjects that external senders use, as templates: inbound/{haulier}/{seq}.csv", nil},
	{"types", "words", nil, "", "event types that external senders use", nil},
	{"sources", "words", nil, "", "event sources that external senders use", nil},
	{"breaks", "anything", nil, "", "{every: 60d, for: 25m}: it breaks down by itself", nil},
	{"callers", "words", nil, "everyone linked", "who may send to it or call it", nil},
	{"observed-as", "words", nil, "its name", "its names in traces of the real system", nil},
	{"public", "truth", nil, "false", "may be linked to from other parts", nil},
}

// nodeFields describes each field that only some kinds have.
var nodeFields = map[string]fieldEntry{
	"notice": {"", "distribution", nil, "0s", "delay between a change and its event", nil},
	"object-life": {
		"",
		"duration",
		nil,
		"",
		"an object is deleted automatically after this; the deletion is an event",
		nil,
	}, "duplicates": {"", "share", nil, "", "share of messages delivered twice", nil},
	"order": {
		"",
		"choice",
		[]string{"any", "grouped"},
		"any",
		"grouped: in order within a group",
		nil,
	}, "group": {"", "expression", nil, "", "gives the group of a message", nil},
	"retention": {
		"",
		"duration",
		nil,
		"7d",
		"a message that is not consumed within this expires",
		nil,
	}, "delay": {"", "duration", nil, "0s", "a new message stays invisible for this time", nil},
	"capacity": {
		"",
		"whole",
		nil,
		"",
		"largest number of messages; more are rejected",
		nil,
	}, "lease": {"", "duration", nil, "60s", "a message that a reader took is hidden for this time, then delivered again", nil},
	"age": {
		"",
		"choice",
		[]string{"fresh", "carried"},
		"fresh",
		"of dead letters: whether the time that they already waited counts here",
		nil,
	},
	"dedupe": {
		"",
		"anything",
		nil,
		"",
		"{by: expression, within: duration}: a second message with the same key within this is dropped",
		nil,
	},
	"ignore": {"", "anything", nil, "", "a match: messages that no consumer is meant to receive", nil},
	"partitions": {
		"",
		"anything",
		nil,
		"1",
		"how many, or auto",
		nil,
	}, "by": {"", "expression", nil, "spread evenly", "gives the partition key of a record", nil},
	"partition-rate": {"", "rate", nil, "", "records per second and partition, above which a write is rejected", nil},
	"every": {
		"",
		"duration",
		nil,
		"",
		"interval between two firings",
		nil,
	}, "cron": {"", "text", nil, "", "calendar of the firings, a cron expression", nil},
	"cron-fields": {
		"",
		"choice",
		[]string{"standard", "with-seconds", "with-year", "with-both"},
		"standard",
		"field layout of cron: 5 fields; a second in front; a year at the end; both",
		nil,
	},
	"sunday": {
		"",
		"choice",
		[]string{"0", "1"},
		"0",
		"weekday number of Sunday",
		nil,
	}, "zone": {"", "text", nil, "UTC", "time zone of the calendar: Europe/Lisbon", nil},
	"jitter": {
		"",
		"duration",
		nil,
		"",
		"random delay of a firing, at most",
		nil,
	}, "from": {"", "text", nil, "", "not before this time", nil}, "until": {"", "text", nil, "", "not from this time on", nil},
	"enabled": {
		"",
		"truth",
		nil,
		"true",
		"whether it fires",
		nil,
	}, "data": {"", "anything", nil, "", "the payload that it sends", nil},
	"method": {
		"",
		"text",
		nil,
		"POST",
		"of a request",
		nil,
	}, "path": {"", "text", nil, "its name", "of a request", nil}, "accepts": {"", "anything", nil, "", "JSON Schema of the payload; others are answered 400, or fail the run", nil},
	"timeout": {
		"",
		"duration",
		nil,
		"45s",
		"a run that takes longer fails; a request that waits longer is answered 504",
		nil,
	}, "rate-limit": {"", "rate", nil, "", "a request above this rate is rejected", nil},
	"memory": {
		"",
		"size",
		nil,
		"",
		"memory of an instance, for the cost: 256MB",
		nil,
	}, "cold-start": {"", "anything", nil, "", "{takes, idle}: extra duration of the first run, and of one after `idle` without use", nil},
	"cases": {
		"",
		"anything",
		nil,
		"",
		"by name: {if, takes, fails}; the first that holds replaces takes and fails",
		nil,
	}, "concurrency": {"", "whole", nil, "", "largest number of concurrent runs", nil},
	"pool": {
		"",
		"text",
		nil,
		"",
		"pool whose concurrency it shares",
		nil,
	}, "hop-limit": {"", "whole", nil, "", "largest number of functions that a message may have passed through", nil},
	"idempotent": {
		"",
		"expression",
		nil,
		"",
		"a message whose key already succeeded is finished without sending again",
		nil,
	},
	"sends": {
		"",
		"choice",
		[]string{"one-by-one", "together"},
		"one-by-one",
		"together: no send stands unless all do",
		nil,
	},
	"hook": {
		"",
		"text",
		nil,
		"",
		"a loopback address that answers for it in a rehearsal",
		nil,
	}, "retry": {"", "anything", nil, "", "of asynchronous links to it that do not state their own", nil},
	"dead-letter": {"", "node", nil, "", "dead-letter node of asynchronous links to it that state none", nil},
	"results": {
		"",
		"choice",
		[]string{"async", "all"},
		"async",
		"which runs use its success and failure links",
		nil,
	}, "do": {"", "anything", nil, "", "the tasks, in the Serverless Workflow DSL", nil},
}

// The kinds that links with some fields leave from.
var (
	delivering = []string{"bucket", "queue", "topic", "stream", "table", "schedule", "endpoint"}
	reading    = []string{"queue", "stream", "table"}
	fromQueue  = []string{"queue"}
	changing   = []string{"bucket", "table"}
	sending    = []string{"function", "workflow", "outside"}
	running    = []string{"function", "workflow"}
)

// linkFields are the fields of links.
var linkFields = []fieldEntry{
	{"to", "node", nil, "its name", "the target", nil},
	{"match.prefix", "words", nil, "", "the subject begins with this, or with one of these", delivering},
	{"match.suffix", "words", nil, "", "the subject ends with this, or with one of these", delivering},
	{"match.type", "words", nil, "", "the event's type", delivering},
	{"match.source", "words", nil, "", "the event's source", delivering},
	{"match.if", "expression", nil, "", "holds for the event: event.data.kg > 40", delivering},
	{"enabled", "truth", nil, "true", "false switches the trigger off", nil},
	{"changes", "words", nil, "", "of a bucket: written, deleted; of a table: inserted, updated, deleted", changing},
	{"read.up-to", "whole", nil, "1", "largest number of messages in a batch", reading},
	{"read.within", "duration", nil, "0s", "wait this long to fill a batch", reading},
	{"read.parallel", "whole", nil, "1", "concurrent batches; on a stream or table, one per partition", reading},
	{"read.from", "choice", []string{"oldest", "newest"}, "oldest", "where a new reader starts", reading},
	{
		"read.failed",
		"choice",
		[]string{"each", "all", "halve"},
		"",
		"what of a failed batch is tried again: the failed ones, all, or halves to find the bad one",
		reading,
	},
	{
		"read.settle",
		"choice",
		[]string{"lease", "reject"},
		"lease",
		"what a failed run does to the message: leaves it until its lease ends, or gives it back at once",
		fromQueue,
	},
	{
		"read.prefetch",
		"whole",
		nil,
		"0",
		"messages that a reader takes ahead of the run that will handle them",
		fromQueue,
	},
	{"retry.tries", "whole", nil, "", "total number of tries", nil},
	{"retry.wait", "duration", nil, "", "wait before the next try", nil},
	{"retry.factor", "number", nil, "", "factor by which the wait grows", nil},
	{"retry.max-wait", "duration", nil, "", "upper bound of the wait", nil},
	{"retry.jitter", "share", nil, "", "share by which the wait varies", nil},
	{"retry.give-up", "duration", nil, "", "age at which a message is given up", nil},
	{"retry.except", "words", nil, "", "errors that are not tried again", nil},
	{"dead-letter", "node", nil, "", "node that receives messages that were given up", nil},
	{"mode", "choice", []string{"wait", "async", "accept"}, "", "whether the sender waits", nil},
	{"on-error", "choice", []string{"fail", "ignore"}, "fail", "what a failed call or write does to the run", sending},
	{"wrap", "choice", []string{"none", "event", "base64"}, "none", "how the payload reaches the consumer", delivering},
	{
		"when",
		"choice",
		[]string{"success", "failure"},
		"",
		"sent when a run has succeeded, or failed for good",
		running,
	},
	{
		"at",
		"choice",
		[]string{"end", "start"},
		"end",
		"start: sent also by a run that then fails, again on each try",
		running,
	},
	{"per", "choice", []string{"message", "run"}, "message", "of a batch: for each message, or once", running},
	{"count", "anything", nil, "1", "how many are sent", sending},
	{"for-each", "expression", nil, "", "one is sent for each item of this list", sending},
	{"chance", "share", nil, "100%", "how likely it is sent", sending},
	{"if", "expression", nil, "", "it is sent where this holds", sending},
	{"key", "text", nil, "passed on", "key template: stamped/{stem}.pdf", sending},
	{"type", "text", nil, "passed on", "event type", sending},
	{"data", "anything", nil, "passed on", "payload; a text that starts with = is an expression", sending},
	{"size", "size", nil, "", "size of what is sent", sending},
	{
		"op",
		"choice",
		[]string{"write", "delete", "read", "insert", "update"},
		"",
		"what is done to a bucket or table",
		nil,
	},
}

// kindDefaults are the defaults that differ from those in nodeFields.
var kindDefaults = map[Kind]map[string]string{
	Stream:   {"retention": "48h"},
	Table:    {"retention": "48h"},
	Endpoint: {"timeout": "30s"},
	Workflow: {"timeout": ""},
	Outside:  {"timeout": ""},
}

// WholeCatalogue gives every field of nodes and links.
func WholeCatalogue() Catalogue {
	out := Catalogue{Link: filled(linkFields)}
	for _, k := range Kinds {
		kind := KindOf{Kind: string(k), About: kindAbouts[k]}
		for _, name := range kindFields[k] {
			f := nodeFields[name]
			f.Path = name
			if value, ok := kindDefaults[k][name]; ok {
				f.Default = value
			}
			kind.Fields = append(kind.Fields, filled([]fieldEntry{f})...)
		}
		kind.Fields = append(kind.Fields, filled(everyNode)...)
		out.Kinds = append(out.Kinds, kind)
	}
	return out
}

// filled gives fields as they are shown; their lists are never null.
func filled(fields []fieldEntry) []CatalogueField {
	var out []CatalogueField
	for _, f := range fields {
		shown := CatalogueField{f.Path, f.Form, f.Choices, f.Default, f.About, f.On, groupOf(f.Path)}
		if shown.Choices == nil {
			shown.Choices = []string{}
		}
		if shown.On == nil {
			shown.On = []string{}
		}
		out = append(out, shown)
	}
	return out
}
