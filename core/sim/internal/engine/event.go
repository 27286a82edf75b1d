package engine

import (
	"encoding/base64"
	"encoding/json"
	"maps"
	"strconv"
	"time"
	"unicode/utf8"

	"ironweir/core/expr"
	"ironweir/core/graph"
	"ironweir/core/model"
)

// Attributes are those of an event from outside.
type Attributes = expr.Attributes

// InputEvent is an event that comes in at a node, or that a hook returns.
type InputEvent struct {
	Node        string                        `json:"node,omitempty"`
	Link        string                        `json:"link,omitempty"` // of what a hook returns: the name of the link that it goes by
	Type        string                        `json:"type,omitempty"`
	Subject     string                        `json:"subject,omitempty"`
	Data        any                           `json:"data,omitempty"`
	Size        int64                         `json:"size,omitempty"`   // bytes
	Wanted      bool                          `json:"wanted,omitempty"` // a caller waits for the answer to this request
	*Attributes `json:"attributes,omitempty"` // nil: it has none of its own
}

// identified reports whether events must be distinguished: an expression, a filter or an
// output reads who made them, and when. Otherwise what a run passes on unchanged shares
// the content of what it received.
func (e *Engine) identified() bool { return e.Graph.UsesIdentity || e.Trace != nil }

// eventID returns the id of an event: as text, or, where that is empty, as a number.
// It is unique among the events of its source [PE-07], and the same for all copies and
// deliveries of one event [PE-08].
func (e *Engine) eventID(m *Message) (string, uint64) {
	c := &e.Contents[m.Content]
	switch {
	case c.Attributes != nil && c.Attributes.ID != "":
		return c.Attributes.ID, 0
	case c.Source < 0:
		return "", e.Journeys.At(m.Journey).ID()
	}
	return "", c.serial
}

// sourceOf returns the source of an event: a node's name [PE-06], or what it brought
// from outside.
func (e *Engine) sourceOf(c *Content) string {
	switch {
	case c.Source >= 0:
		return e.Graph.Nodes[c.Source].Name
	case c.Attributes != nil && c.Attributes.Source != "":
		return c.Attributes.Source
	}
	return "outside"
}

func (e *Engine) timeOf(c *Content) time.Time {
	if c.Attributes != nil && !c.Attributes.Time.IsZero() {
		return c.Attributes.Time
	}
	return e.Instant(c.Made).UTC()
}

// eventOf gives a message as a CloudEvent in its JSON form, with the payload as
// expressions see it.
func (e *Engine) eventOf(m *Message, kind string) map[string]any {
	c := &e.Contents[m.Content]
	id, number := e.eventID(m)
	if id == "" {
		id = strconv.FormatUint(number, 10)
	}
	out := map[string]any{}
	if a := c.Attributes; a != nil {
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
	if c.Kind != "" {
		out["type"] = c.Kind
	}
	if len(c.Subject) > 0 {
		out["subject"] = string(c.Subject)
	}
	if c.Data != nil {
		out["data"] = c.Data
	}
	return out
}

// EventOut gives a message as a CloudEvent that leaves the simulation: its payload is
// that which came in, byte for byte, and binary data stays binary [PE-05].
func (e *Engine) EventOut(m *Message, kind string) map[string]any {
	out := e.eventOf(m, kind)
	a := e.Contents[m.Content].Attributes
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
func (e *Engine) noticeOf(n *Node, con uint32) uint32 {
	old := &e.Contents[con]
	large := e.payload > 0 && old.Size > e.payload
	if n.Kind != model.Bucket || !large && !e.identified() && old.Kind == "" && old.Attributes == nil {
		old.Refs++
		return con
	}
	i := e.NewContent()
	c, old := &e.Contents[i], &e.Contents[con]
	c.Subject = append(c.Subject, old.Subject...)
	c.Size, c.Data, c.Source, c.notice = old.Size, old.Data, int32(n.ID), true
	return i
}

// Describe gives a copy as a CloudEvent.
func (e *Engine) Describe(c *Copy) map[string]any {
	m := e.MessageOf(c)
	return e.EventOut(&m, KindOfEvent(e.SenderOf(c), c.Flags))
}

// SenderOf returns the node whose link delivered a copy; nil: it came from outside, or
// as a dead letter.
func (e *Engine) SenderOf(c *Copy) *graph.Node {
	if via := e.Deliveries[c.Via].Link; via >= 0 {
		return &e.Graph.Nodes[e.Graph.Links[via].From]
	}
	return nil
}

// returnedContent makes the content of an event that a hook returned.
func (e *Engine) returnedContent(from int32, m *Message, ev *InputEvent) uint32 {
	i := e.NewContent()
	con, old := &e.Contents[i], &e.Contents[m.Content]
	con.Kind, con.Data, con.Size, con.Source = ev.Type, ev.Data, ev.Size, from
	if a := ev.Attributes; a != nil { // it is a new event of the function [PE-06]
		con.Attributes = &Attributes{
			ContentType: a.ContentType,
			Schema:      a.Schema,
			Extensions:  a.Extensions,
			Bytes:       a.Bytes,
			Binary:      a.Binary,
		}
	}
	if ev.Subject != "" {
		con.Subject = append(con.Subject, ev.Subject...)
	} else {
		con.Subject = append(con.Subject, old.Subject...)
	}
	return i
}
