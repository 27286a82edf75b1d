package sim

import (
	"encoding/base64"
	"encoding/json"
	"maps"
	"strconv"
	"time"
	"unicode/utf8"

	"ironweir/core/expr"
	"ironweir/core/model"
)

// Attributes are those of an event from outside.
type Attributes = expr.Attributes

// identified reports whether events must be told apart: an expression, a filter or an
// output reads who made them, and when. Otherwise what a run passes on unchanged shares
// the content of what it received.
func (e *engine) identified() bool { return e.g.UsesIdentity || e.trace != nil }

// eventID returns the id of an event: as text, or, where that is empty, as a number.
// It is unique among the events of its source [PE-07], and the same for all copies and
// deliveries of one event [PE-08].
func (e *engine) eventID(m *message) (string, uint64) {
	c := &e.contents[m.content]
	switch {
	case c.attributes != nil && c.attributes.ID != "":
		return c.attributes.ID, 0
	case c.source < 0:
		return "", e.journeys.At(m.journey).id()
	}
	return "", c.serial
}

// sourceOf returns the source of an event: a node's name [PE-06], or what it brought
// from outside.
func (e *engine) sourceOf(c *content) string {
	switch {
	case c.source >= 0:
		return e.g.Nodes[c.source].Name
	case c.attributes != nil && c.attributes.Source != "":
		return c.attributes.Source
	}
	return "outside"
}

func (e *engine) timeOf(c *content) time.Time {
	if c.attributes != nil && !c.attributes.Time.IsZero() {
		return c.attributes.Time
	}
	return e.instant(c.made).UTC()
}

// eventOf gives a message as a CloudEvent in its JSON form, with the payload as
// expressions see it.
func (e *engine) eventOf(m *message, kind string) map[string]any {
	c := &e.contents[m.content]
	id, number := e.eventID(m)
	if id == "" {
		id = strconv.FormatUint(number, 10)
	}
	out := map[string]any{}
	if a := c.attributes; a != nil {
		maps.Copy(out, a.Extensions)
		if a.ContentType != "" {
			out["datacontenttype"] = a.ContentType
		}
		if a.Schema != "" {
			out["dataschema"] = a.Schema
		}
	}
	out["specversion"], out["id"], out["source"], out["type"] = "1.0", id, e.sourceOf(c), kind
	out["time"] = e.timeOf(c).Format(time.RFC3339Nano)
	if c.kind != "" {
		out["type"] = c.kind
	}
	if len(c.subject) > 0 {
		out["subject"] = string(c.subject)
	}
	if c.data != nil {
		out["data"] = c.data
	}
	return out
}

// eventOut gives a message as a CloudEvent that leaves the simulation: its payload is
// that which came in, byte for byte, and binary data stays binary [PE-05].
func (e *engine) eventOut(m *message, kind string) map[string]any {
	out := e.eventOf(m, kind)
	a := e.contents[m.content].attributes
	if a == nil || len(a.Bytes) == 0 {
		return out
	}
	delete(out, "data")
	switch {
	case !a.Binary && json.Valid(a.Bytes):
		out["data"] = json.RawMessage(a.Bytes)
	case !a.Binary && utf8.Valid(a.Bytes):
		out["data"] = string(a.Bytes)
	default:
		out["data_base64"] = base64.StdEncoding.EncodeToString(a.Bytes)
	}
	return out
}

// noticeOf makes the content of a bucket's own event about an object [PE-03], where
// that differs from what was written, in something that may be read; the caller drops
// its reference.
func (e *engine) noticeOf(n *node, con uint32) uint32 {
	old := &e.contents[con]
	large := e.payload > 0 && old.size > e.payload
	if n.kind != model.Bucket || !large && !e.identified() && old.kind == "" && old.attributes == nil {
		old.refs++
		return con
	}
	i := e.newContent()
	c, old := &e.contents[i], &e.contents[con]
	c.subject = append(c.subject, old.subject...)
	c.size, c.data, c.source, c.notice = old.size, old.data, int32(n.id), true
	return i
}
