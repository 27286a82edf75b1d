// Package cloudevents reads CloudEvents 1.0: in their JSON forms (one event, a batch,
// JSON Lines), over HTTP, and arrivals from CSV. What an event says is kept: id, source,
// time, content type, extensions and the bytes of its payload. It does no I/O.
package cloudevents

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"mime"
	"net/url"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"ironweir/core/expr"
)

// Event is one event as the simulation takes it.
type Event struct {
	Type, Subject string
	Data          any   // JSON values; text where the payload is not JSON; nil where it is binary
	Size          int64 // of the payload, in bytes
	expr.Attributes
}

// Read reads one event, a batch (a JSON array) or JSON Lines. An error names the line,
// or the place in the batch, and the attribute.
func Read(text []byte) ([]Event, error) {
	trimmed := bytes.TrimSpace(text)
	if len(trimmed) == 0 {
		return nil, errors.New("no event: the text is empty")
	}
	if trimmed[0] == '[' {
		events, err := readBatch(trimmed)
		if err == nil && len(events) == 0 {
			return nil, errors.New("the batch holds no event")
		}
		return events, withLine(text, err)
	}
	if one, err := readOne(trimmed); err == nil {
		return []Event{one}, nil
	} else if !isLines(trimmed) {
		return nil, withLine(text, err)
	}
	var events []Event
	for i, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		e, err := readOne(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", i+1, err)
		}
		events = append(events, e)
	}
	return events, nil
}

// isLines reports whether a text looks like one JSON object a line.
func isLines(text []byte) bool {
	first, rest, more := bytes.Cut(text, []byte("\n"))
	first, rest = bytes.TrimSpace(first), bytes.TrimSpace(rest)
	return more && bytes.HasSuffix(first, []byte("}")) && bytes.HasPrefix(rest, []byte("{"))
}

// readBatch reads a JSON array of events, which may be empty.
func readBatch(text []byte) ([]Event, error) {
	var raw []json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, err
	}
	events := make([]Event, len(raw))
	for i, r := range raw {
		var err error
		if events[i], err = readOne(r); err != nil {
			return nil, fmt.Errorf("event %d of the batch: %w", i+1, err)
		}
	}
	return events, nil
}

func withLine(text []byte, err error) error {
	var syntax *json.SyntaxError
	if !errors.As(err, &syntax) {
		return err
	}
	upTo := text[:min(max(int(syntax.Offset)-1, 0), len(text))]
	return fmt.Errorf("not a CloudEvent 1.0: line %d is not JSON: %w", 1+bytes.Count(upTo, []byte("\n")), err)
}

// fault is what is wrong with an attribute of an event.
func fault(attribute, format string, args ...any) error {
	return fmt.Errorf("not a CloudEvent 1.0: `%s` %s", attribute, fmt.Sprintf(format, args...))
}

var attributeName = regexp.MustCompile(`^[a-z0-9]+$`)

// readOne reads one event in its JSON form.
func readOne(text []byte) (Event, error) {
	if !json.Valid(text) {
		var any json.RawMessage
		return Event{}, json.Unmarshal(text, &any)
	}
	fields, err := fieldsOf(text)
	if err != nil {
		return Event{}, err
	}
	var e Event
	var data, coded json.RawMessage
	version := ""
	for _, f := range fields {
		switch f.name {
		case "data":
			data = f.value
			continue
		case "data_base64":
			coded = f.value
			continue
		}
		if !attributeName.MatchString(f.name) {
			return e, fault(f.name, "is not an attribute name: use lower-case letters and digits")
		}
		if string(f.value) == "null" {
			continue // as if it were absent
		}
		value, err := attributeValue(f)
		if err != nil {
			return e, err
		}
		if f.name == "specversion" {
			version, _ = value.(string)
			continue
		}
		if err := e.set(f.name, value); err != nil {
			return e, err
		}
	}
	if version != "1.0" {
		return e, fault("specversion", `must be "1.0"; ironweir sample makes an example`)
	}
	if data != nil && coded != nil {
		return e, fault("data_base64", "stands beside `data`; an event has one of the two")
	}
	if err := e.payload(data, coded); err != nil {
		return e, err
	}
	return e, e.check()
}

type field struct {
	name  string
	value json.RawMessage
}

// fieldsOf returns the members of a JSON object in the order written; a name that
// occurs twice is an error.
func fieldsOf(text []byte) ([]field, error) {
	d := json.NewDecoder(bytes.NewReader(text))
	if open, err := d.Token(); err != nil || open != json.Delim('{') {
		return nil, errors.New("not a CloudEvent 1.0: an event is a JSON object")
	}
	var out []field
	seen := map[string]bool{}
	for d.More() {
		key, err := d.Token()
		if err != nil {
			return nil, err
		}
		name := key.(string)
		var value json.RawMessage
		if err := d.Decode(&value); err != nil {
			return nil, err
		}
		if seen[name] {
			return nil, fault(name, "occurs twice")
		}
		seen[name] = true
		out = append(out, field{name, value})
	}
	return out, nil
}

// attributeValue reads the value of an attribute: text, a whole number of 32 bits, or a
// truth value.
func attributeValue(f field) (any, error) {
	d := json.NewDecoder(bytes.NewReader(f.value))
	d.UseNumber()
	var value any
	if err := d.Decode(&value); err != nil {
		return nil, err
	}
	switch v := value.(type) {
	case string, bool:
		return v, nil
	case json.Number:
		n, err := v.Int64()
		if err != nil || n < math.MinInt32 || n > math.MaxInt32 {
			return nil, fault(f.name, "is %s: a number in an attribute is whole and has at most 32 bits; write it as text", v)
		}
		return float64(n), nil
	}
	return nil, fault(f.name, "is a map or a list: an attribute is text, a whole number, or true or false")
}

// set keeps one attribute, after its form has been checked.
func (e *Event) set(name string, value any) error {
	text, isText := value.(string)
	into := map[string]*string{"id": &e.ID, "source": &e.Source, "type": &e.Type, "subject": &e.Subject,
		"datacontenttype": &e.ContentType, "dataschema": &e.Schema}[name]
	if (into != nil || name == "time") && (!isText || text == "") {
		return fault(name, "must be a text that is not empty")
	}
	if isText {
		if bad := strings.IndexFunc(text, func(r rune) bool {
			return r < 0x20 || r >= 0x7f && r <= 0x9f ||
				r == utf8.RuneError
		}); bad >= 0 {
			return fault(name, "holds a control character or invalid UTF-8 at byte %d", bad)
		}
	}
	switch name {
	case "time":
		t, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			return fault(name, "is %q: use RFC 3339, such as 2026-03-27T18:00:00Z", text)
		}
		e.Time = t
		return nil
	case "source":
		if u, err := url.Parse(text); err != nil || strings.ContainsAny(text, " <>\"{}|\\^`") || u == nil {
			return fault(name, "is %q, which is not a URI reference: use one such as urn:plant:fan or /scales/3", text)
		}
	case "dataschema":
		if u, err := url.Parse(text); err != nil || !u.IsAbs() || strings.ContainsAny(text, " <>\"{}|\\^`") {
			return fault(name, "is %q, which is not an absolute URI", text)
		}
	case "datacontenttype":
		if _, _, err := mime.ParseMediaType(text); err != nil {
			return fault(name, "is %q, which is not a media type such as application/json", text)
		}
	}
	if into != nil {
		*into = text
		return nil
	}
	if e.Extensions == nil {
		e.Extensions = map[string]any{}
	}
	e.Extensions[name] = value
	return nil
}

// check reports a required attribute that is missing.
func (e *Event) check() error {
	for _, a := range []struct{ name, value string }{{"id", e.ID}, {"source", e.Source}, {"type", e.Type}} {
		if a.value == "" {
			return fault(a.name, "is missing")
		}
	}
	return nil
}

// isJSON reports whether a content type is that of JSON; none is.
func isJSON(contentType string) bool {
	kind, _, err := mime.ParseMediaType(contentType)
	return contentType == "" ||
		err == nil && (kind == "application/json" || kind == "text/json" || strings.HasSuffix(kind, "+json"))
}

// payload keeps the payload of an event in its JSON form.
func (e *Event) payload(data, coded json.RawMessage) error {
	switch {
	case coded != nil:
		var text string
		if err := json.Unmarshal(coded, &text); err != nil {
			return fault("data_base64", "must be text")
		}
		body, err := base64.StdEncoding.DecodeString(text)
		if err != nil {
			return fault("data_base64", "is not base64: %v", err)
		}
		e.take(body, true)
	case data == nil || string(data) == "null":
	case isJSON(e.ContentType):
		e.take(data, false)
	default:
		var text string
		if json.Unmarshal(data, &text) != nil { // JSON in an event that says it is something else
			e.take(data, false)
			return nil
		}
		e.take([]byte(text), false)
	}
	return nil
}

// take keeps the bytes of a payload, and what expressions see of it.
func (e *Event) take(body []byte, binary bool) {
	e.Size, e.Bytes, e.Binary = int64(len(body)), append([]byte(nil), body...), binary
	switch {
	case len(body) == 0:
	case isJSON(e.ContentType) && json.Unmarshal(body, &e.Data) == nil:
	case utf8.Valid(body):
		e.Data = string(body)
	default:
		e.Binary = true
	}
}
