package asyncapi

import (
	"strings"

	"ironweir/core/model"
	"ironweir/formats/drafting"
)

// fromVersion2 writes a document of version 2 as one of version 3. What an application
// publishes and subscribes to is there told from the side of the others: `publish` is what
// the application receives, `subscribe` what it sends.
func fromVersion2(doc *model.Value) *model.Value {
	out := model.MapValue().Add("asyncapi", text("3.0.0"))
	for _, f := range fields(doc) {
		switch f.Key {
		case "asyncapi", "channels", "operations":
		default:
			out.Add(f.Key, f.Value)
		}
	}
	channels, operations := model.MapValue(), model.MapValue()
	for _, c := range fields(doc.Get("channels")) {
		channel := model.MapValue().Add("address", text(c.Key))
		for _, key := range []string{"title", "description", "bindings", "$ref"} {
			if v := c.Value.Get(key); v != nil {
				channel.Add(key, v)
			}
		}
		for _, side := range []struct{ key, action string }{{"publish", "receive"}, {"subscribe", "send"}} {
			op := c.Value.Get(side.key)
			if op == nil {
				continue
			}
			id := drafting.Scalar(op, "operationId")
			if id == "" {
				id = side.action + " " + c.Key
			}
			made := model.MapValue().Add("action", text(side.action)).Add("channel", ref("channels", c.Key))
			if b := op.Get("bindings"); b != nil {
				made.Add("bindings", b)
			}
			if m := op.Get("message"); m != nil {
				list := []*model.Value{m}
				if several := m.Get("oneOf"); several != nil {
					list = several.Items
				}
				made.Add("messages", model.ListValue(list...))
			}
			for operations.Get(id) != nil {
				id += " again"
			}
			operations.Add(id, made)
		}
		channels.Add(c.Key, channel)
	}
	return out.Add("channels", channels).Add("operations", operations)
}

// kindBy is a kind that the bindings of a channel tell, with what they say of it.
type kindBy struct {
	kind   string
	fields []model.Field
	why    string
}

// bindingKinds give the kind of a channel by a binding of it; nil: the binding does not say.
var bindingKinds = []struct {
	binding string
	read    func(b *model.Value) *kindBy
}{
	{"http", func(*model.Value) *kindBy {
		return &kindBy{"endpoint", []model.Field{{Key: "method", Value: text("POST")}}, "it is bound to HTTP"}
	}},
	{"kafka", logBinding},
	{"amqp", func(b *model.Value) *kindBy {
		switch {
		case drafting.Scalar(b, "is") == "queue" || b.Get("queue") != nil && b.Get("exchange") == nil:
			return &kindBy{"queue", nil, "its binding says that it is a queue"}
		case drafting.Scalar(b, "is") == "routingKey" || b.Get("exchange") != nil:
			return &kindBy{"topic", nil, "its binding names an exchange, which keeps nothing"}
		}
		return nil
	}},
	{"jms", destinationBinding},
	{"mqtt", func(*model.Value) *kindBy {
		return &kindBy{"topic", nil, "it is bound to MQTT, whose topics keep nothing"}
	}},
	{"ws", func(*model.Value) *kindBy {
		return &kindBy{"topic", nil, "it is bound to a socket, which keeps nothing"}
	}},
}

// logBinding reads the binding of a channel to a log with partitions.
func logBinding(b *model.Value) *kindBy {
	out := &kindBy{kind: "stream", why: "it is bound to a log with partitions"}
	if n := drafting.Scalar(b, "partitions"); n != "" {
		out.fields = append(out.fields, model.Field{Key: "partitions", Value: model.NumberValue(n)})
	}
	if ms := drafting.Scalar(b, "topicConfiguration", "retention.ms"); ms != "" && !strings.HasPrefix(ms, "-") {
		out.fields = append(out.fields, model.Field{Key: "retention", Value: text(ms + "ms")})
	}
	return out
}

// destinationBinding reads a binding that says whether a destination is a queue or a topic.
func destinationBinding(b *model.Value) *kindBy {
	said := strings.ToLower(drafting.Scalar(b, "destinationType") + drafting.Scalar(b, "type"))
	switch {
	case strings.Contains(said, "queue"):
		return &kindBy{"queue", nil, "its binding says that it is a queue"}
	case strings.Contains(said, "topic"):
		return &kindBy{"topic", nil, "its binding says that it is a topic"}
	}
	return nil
}

// kindOfChannel gives the kind of a channel by its bindings; nil: they do not say.
func (d *draft) kindOfChannel(channel *model.Value) *kindBy {
	bindings, _ := d.At(channel.Get("bindings"))
	for _, b := range bindingKinds {
		if own := bindings.Get(b.binding); own != nil {
			if found := b.read(own); found != nil {
				return found
			}
		}
	}
	return nil
}
