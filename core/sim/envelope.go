package sim

import (
	"encoding/base64"
	"encoding/json"
)

// envelope is how a payload reaches a consumer.
type envelope uint8

const (
	unwrapped envelope = iota
	asEvent            // the whole event as data
	asBase64           // the payload as base64 text
)

var wrappings = map[string]envelope{"": unwrapped, "none": unwrapped, "event": asEvent, "base64": asBase64}

// wrapped gives the payload of a message as its consumer gets it, and its size
// in bytes. kind is its event type.
func (e *engine) wrapped(m *message, kind string) (any, int64) {
	c := &e.contents[m.content]
	size := c.size
	if m.wrap == asBase64 {
		size = int64(base64.StdEncoding.EncodedLen(int(size)))
	}
	if !e.g.UsesData && e.trace == nil {
		return nil, size
	}
	if m.wrap == asBase64 {
		text, err := json.Marshal(c.data)
		if err != nil {
			return nil, size
		}
		return base64.StdEncoding.EncodeToString(text), size
	}
	return e.eventOf(m, kind), size
}

// wrapContent makes the content of a message that a link wraps on its way to a
// channel; the caller drops its reference.
func (e *engine) wrapContent(m *message, con uint32, w envelope, kind string) uint32 {
	probe := *m
	probe.content, probe.wrap = con, w
	data, size := e.wrapped(&probe, kind)
	i := e.newContent()
	c, old := &e.contents[i], &e.contents[con]
	c.subject = append(c.subject, old.subject...)
	c.kind, c.source, c.made, c.data, c.size, c.serial = old.kind, old.source, old.made, data, size, old.serial
	c.notice = old.notice
	if a := old.attributes; a != nil { // the event is the same, and its payload another
		wrapped := *a
		wrapped.Bytes, wrapped.Binary, wrapped.ContentType = nil, false, ""
		c.attributes = &wrapped
	}
	return i
}
