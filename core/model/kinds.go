package model

// Kind is what a node is.
type Kind string

const (
	Bucket   Kind = "bucket"
	Queue    Kind = "queue"
	Topic    Kind = "topic"
	Stream   Kind = "stream"
	Table    Kind = "table"
	Schedule Kind = "schedule"
	Endpoint Kind = "endpoint"
	Function Kind = "function"
	Workflow Kind = "workflow"
	Outside  Kind = "outside"
)

// Role is what a node does with messages, which its shape shows.
type Role string

const (
	Holds  Role = "holds"
	Moves  Role = "moves"
	Works  Role = "works"
	Starts Role = "starts"
	Ends   Role = "ends"
)

// traits is what the program knows of a kind: how it is read, drawn, joined with others. How
// its nodes behave in a run is an entry of `behaviours` in core/sim.
type traits struct {
	kind     Kind
	noun     string // with its article, as a sentence names it
	about    string
	role     Role
	channel  bool              // it takes writes: what is sent to it stands there
	keeps    bool              // objects or rows lie in it under their keys
	runs     bool              // it works on messages in runs of its own
	polled   bool              // readers take messages from it, which hands out none by itself
	leases   bool              // of what is polled: each message is leased by itself, not read in order
	invoked  bool              // of what runs: it holds what is sent to it asynchronously, and tries it
	answers  bool              // requests from outside come in there, and are answered
	fires    bool              // it sends by a calendar
	delivers bool              // it hands its messages on by itself, to each link that takes them
	refuses  string            // why nothing can be sent to it
	event    string            // the type of an event that states none, where it hands it on; empty: message
	changes  []string          // what may happen to an object or row
	wanted   []string          // of those, what a link takes that states none
	fields   []string          // that it has beside those of every node, in the order of a form
	defaults map[string]string // where they differ from those in `nodeFields`
	read     func(*object, *Node)
}

// kinds is the table of kinds, in the order of the reference.
var kinds []traits

// Kinds lists every kind, in the order of the reference.
var Kinds []Kind

func init() { // not where it is declared: what reads a node names its kind, which looks into the table
	kinds = table()
	for k := range kinds {
		Kinds = append(Kinds, kinds[k].kind)
		places[kinds[k].kind.place()] = &kinds[k]
	}
}

func table() []traits {
	return []traits{
		{
			kind: Bucket, noun: "a bucket", about: "Stores objects; each change is an event.",
			role: Holds, channel: true, keeps: true, delivers: true,
			event: "written", changes: []string{"written", "deleted"}, wanted: []string{"written"},
			fields: []string{"notice", "object-life", "duplicates"},
			read:   (*object).bucketFields,
		},
		{
			kind: Queue, noun: "a queue", about: "Holds messages; each goes to one consumer.",
			role: Holds, channel: true, polled: true, leases: true,
			fields: []string{
				"order", "group", "retention", "delay", "capacity", "lease", "age", "dedupe", "duplicates",
			},
			read: (*object).queueFields,
		},
		{
			kind: Topic, noun: "a topic", about: "Copies each message to every link that matches; stores nothing.",
			role: Moves, channel: true, delivers: true,
			fields: []string{"duplicates", "ignore"},
			read:   (*object).topicFields,
		},
		{
			kind: Stream, noun: "a stream", about: "Keeps records in order, by partition; each link reads all of them.",
			role: Holds, channel: true, polled: true,
			fields:   []string{"partitions", "by", "retention", "partition-rate"},
			defaults: map[string]string{"retention": "48h"},
			read:     (*object).streamFields,
		},
		{
			kind: Table, noun: "a table", about: "Stores rows; its change feed is read as a stream.",
			role: Holds, channel: true, keeps: true, polled: true,
			event: "inserted", changes: []string{"inserted", "updated", "deleted"}, wanted: []string{"inserted", "updated"},
			fields:   []string{"partitions", "retention"},
			defaults: map[string]string{"retention": "48h"},
			read:     (*object).streamFields,
		},
		{
			kind: Schedule, noun: "a schedule", about: "Sends events by a calendar.",
			role: Starts, fires: true, delivers: true, event: "fired",
			refuses: "nothing can be sent to a schedule; it fires by its calendar alone",
			fields: []string{
				"every", "cron", "cron-fields", "sunday", "zone", "jitter", "from", "until", "enabled", "data",
			},
			read: (*object).scheduleFields,
		},
		{
			kind: Endpoint, noun: "an endpoint", about: "Receives requests and answers them.",
			role: Starts, answers: true, event: "request",
			refuses:  "an endpoint is where requests from outside come in; link to what stands behind it",
			fields:   []string{"method", "path", "accepts", "timeout", "rate-limit"},
			defaults: map[string]string{"timeout": "30s"},
			read:     (*object).endpointFields,
		},
		{
			kind: Function, noun: "a function", about: "Runs for each message or batch.",
			role: Works, runs: true, invoked: true,
			fields: []string{
				"memory", "timeout", "cold-start", "cases", "accepts", "concurrency", "pool", "hop-limit", "idempotent",
				"sends", "hook", "retry", "dead-letter", "results",
			},
			read: (*object).functionFields,
		},
		{
			kind: Workflow, noun: "a workflow", about: "Runs tasks in order; each call waits.",
			role: Works, runs: true, invoked: true,
			fields:   []string{"do", "timeout", "retry", "dead-letter", "concurrency", "results"},
			defaults: map[string]string{"timeout": ""},
			read:     (*object).workflowFields,
		},
		{
			kind: Outside, noun: "an outside system", about: "A system or person beyond the model.",
			role: Ends, runs: true,
			fields:   []string{"rate-limit", "timeout"},
			defaults: map[string]string{"timeout": ""},
			read:     (*object).outsideFields,
		},
	}
}

// noTraits are those of what is no kind.
var noTraits = traits{}

// places finds most kinds at once: the engine asks for each message.
var places [64]*traits

// place is where a kind may stand in places.
func (k Kind) place() int {
	if k == "" {
		return 0
	}
	return int(k[0]*3+k[len(k)-1]) & (len(places) - 1)
}

// traits gives what is known of a kind.
func (k Kind) traits() *traits {
	if t := places[k.place()]; t != nil && t.kind == k {
		return t
	}
	for i := range kinds {
		if kinds[i].kind == k {
			return &kinds[i]
		}
	}
	return &noTraits
}

// Known reports whether it is a kind at all.
func (k Kind) Known() bool { return k.traits() != &noTraits }

// Noun gives the kind with its article, as a sentence names it: "a queue".
func (k Kind) Noun() string {
	if noun := k.traits().noun; noun != "" {
		return noun
	}
	return "a " + string(k)
}

// Role says what nodes of the kind do with messages.
func (k Kind) Role() Role { return k.traits().role }

// Channel reports whether the kind takes writes: what is sent to it stands there.
func (k Kind) Channel() bool { return k.traits().channel }

// Keeps reports whether objects or rows lie in the kind under their keys.
func (k Kind) Keeps() bool { return k.traits().keeps }

// Runs reports whether the kind works on messages in runs of its own.
func (k Kind) Runs() bool { return k.traits().runs }

// Process reports whether nodes of the kind are processes, which can stop and crash.
func (k Kind) Process() bool { return k.Runs() || k.Answers() }

// Polled reports whether readers take messages from the kind, which hands out
// none by itself.
func (k Kind) Polled() bool { return k.traits().polled }

// Leases reports whether readers lease each message of the kind by itself; of others that are
// polled they read partitions, in order.
func (k Kind) Leases() bool { return k.traits().leases }

// InPartitions reports whether readers of the kind read partitions, in order.
func (k Kind) InPartitions() bool { return k.Polled() && !k.Leases() }

// Invoked reports whether the kind holds what is sent to it asynchronously, and tries it.
func (k Kind) Invoked() bool { return k.traits().invoked }

// Answers reports whether requests from outside come in at the kind, and are answered.
func (k Kind) Answers() bool { return k.traits().answers }

// Fires reports whether the kind sends by a calendar.
func (k Kind) Fires() bool { return k.traits().fires }

// Event is the type of an event that states none, by where it is handed on.
func (k Kind) Event() string {
	if event := k.traits().event; event != "" {
		return event
	}
	return "message"
}

// Changes lists what may happen to an object or row that the kind keeps; others have none.
func (k Kind) Changes() []string { return k.traits().changes }

// WantedChanges lists the changes that a link takes which states none.
func (k Kind) WantedChanges() []string { return k.traits().wanted }
