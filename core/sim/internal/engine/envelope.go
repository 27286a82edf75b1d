package engine

import (
	"encoding/base64"
	"encoding/json"
)

// envelope is how a payload reaches a consumer.
type envelope uint8

const (
	Unwrapped envelope = iota
	asEvent            // the whole event as data
	asBase64           // the payload as base64 text
)

var wrappings = map[string]envelope{"": Unwrapped, "none": Unwrapped, "event": asEvent, "base64": asBase64}

// Wrapped gives the payload of a message as its consumer gets it, and its size
// in bytes. kind is its event type.
func (e *Engine) Wrapped(m *Message, kind string) (any, int64) {
	c := &e.Contents[m.Content]
	size := c.Size
	if m.Wrap == asBase64 {
		size = int64(base64.StdEncoding.EncodedLen(int(size)))
	}
	if !e.Graph.UsesData && e.Trace == nil {
		return nil, size
	}
	if m.Wrap == asBase64 {
		text, err := json.Marshal(c.Data)
		if err != nil {
			return nil, size
		}
		return base64.StdEncoding.EncodeToString(text), size
	}
	return e.eventOf(m, kind), size
}

// wrapContent makes the content of a message that a link wraps on its way to a
// channel; the caller drops its reference.
func (e *Engine) wrapContent(m *Message, con uint32, w envelope, kind string) uint32 {
	probe := *m
	probe.Content, probe.Wrap = con, w
	data, size := e.Wrapped(&probe, kind)
	i := e.NewContent()
	c, old := &e.Contents[i], &e.Contents[con]
	c.Subject = append(c.Subject, old.Subject...)
	c.Kind, c.Source, c.Made, c.Data, c.Size, c.serial = old.Kind, old.Source, old.Made, data, size, old.serial
	c.notice = old.notice
	if a := old.Attributes; a != nil { // the event is the same, and its payload another
		wrapped := *a
		wrapped.Bytes, wrapped.Binary, wrapped.ContentType = nil, false, ""
		c.Attributes = &wrapped
	}
	return i
}
