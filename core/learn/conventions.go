package learn

import (
	"net/url"
	"regexp"
	"strconv"
	"strings"
)

// The conventions by which tracing libraries name attributes have changed over the
// years, and some attributes belong to one kind of broker. The tables of this file
// translate what is found to one set of names, those of span.go; the rest of the
// package knows only these. A convention is added by a line in a table.

// aliases are the names under which an attribute may stand, the best first. A name that
// starts with a star stands for every attribute that starts with "messaging." and ends
// with what follows.
var aliases = []struct {
	name string
	from []string
}{
	{
		Destination,
		[]string{
			"messaging.destination",
			"messaging.source.name",
			"messaging.source",
			"message_bus.destination",
			"messaging.destination.template",
		},
	},
	{RoutingKey, []string{"*routing_key"}},
	{Operation, []string{"messaging.operation", "messaging.operation.name", "message_bus.operation"}},
	{MessageID, []string{"messaging.message_id", "message_bus.message_id"}},
	{BatchCount, []string{"messaging.batch.size"}},
	{MessageOffset, []string{"*.offset"}},
	{Partition, []string{"*partition.id", "*destination.partition", "*.partition"}},
	{Group, []string{"*consumer.group.name", "*consumer.group", "*consumer_group"}},
	{Method, []string{"http.method"}},
	{URLPath, []string{"http.target"}},
	{URL, []string{"http.url"}},
	{Status, []string{"http.status_code"}},
	{ServerAddress, []string{"net.peer.name", "net.peer.ip", "network.peer.address", "http.host"}},
	{ServerPort, []string{"net.peer.port", "network.peer.port"}},
	{Database, []string{"db.name"}},
	{DatabaseSystem, []string{"db.system"}},
}

// operations are the words for what is done with messages: in an attribute, or in the
// name of a span.
var operations = map[string]role{
	"send": sends, "publish": sends, "create": sends,
	"process": processes, "deliver": processes, "consume": processes,
	"receive": receives, "poll": receives, "get": receives,
	"settle": settles, "ack": settles, "nack": settles, "reject": settles, "complete": settles, "abandon": settles,
	"dead_letter": settles, "release": settles,
}

// refusals are the operations by which a consumer gives a message back as failed.
var refusals = map[string]bool{"nack": true, "reject": true, "abandon": true, "dead_letter": true}

// role is what a span says that its service did.
type role int

const (
	unknown   role = iota
	sends          // a message to a channel, or to another service
	processes      // a run for messages of a channel
	receives       // took messages from a channel, whatever became of them
	settles        // told the channel what became of a message
	serves         // a run that somebody calls
	calls          // and waits for the answer
	works          // a part of a run
)

var (
	verbFirst = regexp.MustCompile(`^([a-z_]+) (\S.*)$`)
	verbLast  = regexp.MustCompile(`^(\S.*) ([a-z_]+)$`)
)

// named reads a channel and an operation in the name of a messaging span, such as
// "publish orders" or "billing process".
func named(name string) (operation, channel string) {
	if m := verbFirst.FindStringSubmatch(name); m != nil && operations[m[1]] != unknown {
		return m[1], m[2]
	}
	if m := verbLast.FindStringSubmatch(name); m != nil && operations[m[2]] != unknown {
		return m[2], m[1]
	}
	return "", ""
}

// anonymous are names of the exchange from which a message goes to the channel that its
// routing key names.
var anonymous = map[string]bool{"": true, "<default>": true, "(default)": true, "amq.default": true}

// understand translates the attributes of a span and gives its role; why says what is
// missing where that is unknown.
func understand(s Span) (out Span, is role, why string) {
	out = s
	out.Attributes = make(map[string]string, len(s.Attributes)+4)
	for k, v := range s.Attributes {
		out.Attributes[k] = v
	}
	messaging := s.Kind == Producer || s.Kind == Consumer
	for k := range s.Attributes {
		messaging = messaging || strings.HasPrefix(k, "messaging.") || strings.HasPrefix(k, "message_bus.")
	}
	for _, alias := range aliases {
		if out.Attributes[alias.name] == "" {
			out.Attributes[alias.name] = found(s.Attributes, alias.from)
		}
	}
	out.address()
	if status, err := strconv.Atoi(out.Attributes[Status]); err == nil && out.Error == "" && status >= 500 {
		out.Error = strconv.Itoa(status)
	}
	switch {
	case s.Attributes[Trigger] == "timer" || s.Kind == Server:
		return out, serves, ""
	case messaging:
		return out.messaging(s)
	case s.Kind == Client:
		if out.peer() == "" {
			return out, unknown, "a call that does not say whom it calls (peer.service, server.address, url.full, db.* or rpc.*)"
		}
		return out, calls, ""
	}
	return out, works, ""
}

// found returns the first attribute that is there under one of some names.
func found(attributes map[string]string, names []string) string {
	for _, name := range names {
		end, pattern := strings.CutPrefix(name, "*")
		if !pattern {
			if v := attributes[name]; v != "" {
				return v
			}
			continue
		}
		best := ""
		for k, v := range attributes {
			if v != "" && strings.HasPrefix(k, "messaging.") && strings.HasSuffix(k, end) && (best == "" || k < best) {
				best = k
			}
		}
		if best != "" {
			return attributes[best]
		}
	}
	return ""
}

// address completes the address that a span names from its URL.
func (s *Span) address() {
	if path, query := s.Attributes[URLPath], strings.IndexByte(s.Attributes[URLPath], '?'); query >= 0 {
		s.Attributes[URLPath] = path[:query]
	}
	if u, err := url.Parse("//" + s.Attributes[ServerAddress]); err == nil && u.Port() != "" {
		s.Attributes[ServerAddress], s.Attributes[ServerPort] = u.Hostname(), u.Port()
	}
	u, err := url.Parse(s.Attributes[URL])
	if err != nil || u.Host == "" {
		return
	}
	if s.Attributes[ServerAddress] == "" {
		s.Attributes[ServerAddress] = u.Hostname()
	}
	if s.Attributes[ServerPort] == "" {
		s.Attributes[ServerPort] = u.Port()
	}
	if s.Attributes[URLPath] == "" {
		s.Attributes[URLPath] = u.Path
	}
}

// peer names what a call goes to: a service, a database, or an address.
func (s *Span) peer() string {
	a := s.Attributes
	switch {
	case a[PeerService] != "":
		return a[PeerService]
	case a[InvokedName] != "":
		return a[InvokedName]
	case a[DatabaseSystem] != "":
		for _, name := range []string{a[Database], s.endpoint(), a[DatabaseSystem]} {
			if name != "" {
				return name
			}
		}
	}
	if address := s.endpoint(); address != "" {
		return address
	}
	return a[Procedure]
}

// endpoint is the address that a span calls, with its port unless that is the usual one.
func (s *Span) endpoint() string {
	address, port := s.Attributes[ServerAddress], s.Attributes[ServerPort]
	if address == "" || port == "" || port == "80" || port == "443" {
		return address
	}
	if strings.Contains(address, ":") {
		address = "[" + address + "]"
	}
	return address + ":" + port
}

// messaging gives the role of a span that is about messages. Its Destination becomes the
// channel that is written or read; what a message that is read was published to stands in
// Exchange, where it is another.
func (s Span) messaging(raw Span) (out Span, is role, why string) {
	a := s.Attributes
	verb, inName := named(s.Name)
	operation := strings.ToLower(a[Operation])
	if is = operations[operation]; is == unknown {
		is = operations[verb]
	}
	switch { // the kind decides where the words do not
	case is != unknown:
	case operation != "":
		return s, unknown, "a messaging span of the unknown operation " + operation
	case s.Kind == Producer:
		is = sends
	case s.Kind == Consumer:
		is = processes
	default:
		return s, unknown, "a messaging span without an operation (messaging.operation.type)"
	}
	if is == settles {
		name := strings.ToLower(raw.Attributes["messaging.operation.name"])
		if refusals[operation] || refusals[verb] || refusals[name] {
			a[refused] = "true"
		}
		return s, is, ""
	}
	if is == sends {
		if anonymous[a[Destination]] {
			a[Destination] = a[RoutingKey]
		}
		if a[Destination] == "" && !anonymous[inName] {
			a[Destination] = inName
		}
		if a[Destination] == "" && a[PeerService] == "" && a[DeadLetter] == "" {
			return s, unknown, "a message that does not say where it is sent (messaging.destination.name)"
		}
		return s, is, ""
	}
	published := raw.Attributes["messaging.destination"]
	if !anonymous[inName] && raw.Attributes[Destination] == "" {
		published, a[Destination] = a[Destination], inName
	}
	if anonymous[a[Destination]] {
		a[Destination] = a[RoutingKey]
	}
	if !anonymous[published] && published != a[Destination] {
		a[Exchange] = published
	}
	if a[Destination] == "" && a[Collection] == "" && is == receives {
		return s, unknown, "a receive that does not say from where (messaging.destination.name)"
	}
	return s, is, ""
}
