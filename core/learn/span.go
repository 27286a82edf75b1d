// Package learn drafts a model from what was observed of a running system, and
// reports where a model and what was observed differ. It reads spans, as tracing
// libraries record them, whatever format they came in; it does no I/O.
package learn

// Span is one piece of work in a trace. Attributes bear the names of the open
// conventions for messaging, HTTP and functions.
type Span struct {
	Trace, ID, Parent string // hex; Parent is empty for the first of a trace
	Links             []Reference
	Service           string
	Name              string
	Kind              Kind
	Start, End        int64  // nanoseconds since 1970
	Error             string // its type; empty: it went well
	Attributes        map[string]string
}

// Reference names a span.
type Reference struct{ Trace, ID string }

// Kind says what part a span plays.
type Kind string

const (
	Internal Kind = "internal"
	Server   Kind = "server"
	Client   Kind = "client"
	Producer Kind = "producer"
	Consumer Kind = "consumer"
)

// Attributes that are looked at. Those that start with ironweir are this
// product's own, on what it exports; without them the same is guessed.
const (
	Destination    = "messaging.destination.name"
	Operation      = "messaging.operation.type"
	MessageID      = "messaging.message.id"
	BatchCount     = "messaging.batch.message_count"
	Partition      = "messaging.destination.partition.id"
	MessageOffset  = "messaging.message.offset" // in its partition
	Group          = "messaging.consumer.group.name"
	RoutingKey     = "messaging.routing_key"
	System         = "messaging.system"
	Trigger        = "faas.trigger"
	Cron           = "faas.cron"
	Collection     = "faas.document.collection"
	DocumentName   = "faas.document.name"
	InvokedName    = "faas.invoked_name"
	Method         = "http.request.method"
	Route          = "http.route"
	URLPath        = "url.path"
	Status         = "http.response.status_code"
	URL            = "url.full"
	ServerAddress  = "server.address"
	ServerPort     = "server.port"
	Database       = "db.namespace"
	DatabaseSystem = "db.system.name"
	Procedure      = "rpc.service"
	PeerService    = "peer.service"
	EventPrefix    = "cloudevents.event_"   // followed by id, source, type or subject
	OwnKind        = "ironweir.kind"        // of the service
	SourceKind     = "ironweir.source.kind" // of the channel that it is about
	EventType      = "ironweir.event.type"
	DeadLetter     = "ironweir.dead_letter"
	Outcome        = "ironweir.when"     // of the run after whose last try it is sent: success or failure
	Exchange       = "ironweir.exchange" // that a message read from a queue was published to
	refused        = "ironweir.refused"  // a settlement that gives the message back as failed
)
