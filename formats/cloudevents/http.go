package cloudevents

import (
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// ErrForm reports that the form of events in a request is not one that is read.
var ErrForm = errors.New("unknown form of CloudEvents")

// FromHTTP reads the events of a request or an answer by the HTTP binding of
// CloudEvents 1.0: binary mode (attributes as headers), structured mode or a batch. found
// is false where it holds no event at all. A form that is not known is ErrForm.
func FromHTTP(header http.Header, body []byte) (events []Event, found bool, err error) {
	contentType := header.Get("Content-Type")
	kind, _, mediaErr := mime.ParseMediaType(contentType)
	switch {
	case mediaErr == nil && kind == OneType:
		one, err := readOne(body)
		return []Event{one}, true, withLine(body, err)
	case mediaErr == nil && kind == BatchType:
		events, err = readBatch(body)
		return events, true, withLine(body, err)
	case mediaErr == nil && strings.HasPrefix(kind, "application/cloudevents"):
		return nil, true, fmt.Errorf("%w: %s; send %s, %s, or binary mode", ErrForm, kind, OneType, BatchType)
	case header.Get("ce-specversion") == "":
		return nil, false, nil
	}
	var e Event
	version := ""
	for name, values := range header {
		attribute, is := strings.CutPrefix(strings.ToLower(name), "ce-")
		if !is {
			continue
		}
		if len(values) > 1 {
			return nil, true, fault(attribute, "is given by two headers")
		}
		if !attributeName.MatchString(attribute) {
			return nil, true, fault(attribute, "is not an attribute name: use lower-case letters and digits")
		}
		if attribute == "data" || attribute == "datacontenttype" {
			return nil, true, fault(
				attribute,
				"is not a header: the payload is the body, and its type the header Content-Type",
			)
		}
		value, err := headerValue(values[0])
		if err != nil {
			return nil, true, fault(attribute, "%v", err)
		}
		if attribute == "specversion" {
			version = value
			continue
		}
		if err := e.set(attribute, value); err != nil {
			return nil, true, err
		}
	}
	if version != "1.0" {
		return nil, true, fault("specversion", "must be 1.0")
	}
	if contentType != "" {
		if err := e.set("datacontenttype", contentType); err != nil {
			return nil, true, err
		}
	}
	if len(body) > 0 {
		e.take(body, !utf8.Valid(body))
	}
	return []Event{e}, true, e.check()
}

// headerValue decodes an attribute's value as the HTTP binding says: double quotes are
// undone first, then one round of percent encoding.
func headerValue(text string) (string, error) {
	text = strings.Trim(text, " \t")
	if strings.HasPrefix(text, `"`) {
		inner, closed := strings.CutSuffix(text[1:], `"`)
		if !closed || len(text) < 2 {
			return "", errors.New("has a double quote that is not closed")
		}
		var b strings.Builder
		for i := 0; i < len(inner); i++ {
			if inner[i] == '\\' && i+1 < len(inner) {
				i++
			}
			b.WriteByte(inner[i])
		}
		text = b.String()
	}
	if !strings.Contains(text, "%") {
		return text, nil
	}
	plain := percentCoded.ReplaceAllStringFunc(
		text,
		func(code string) string { // a % by itself stays: not every client encodes it
			b, _ := strconv.ParseUint(code[1:], 16, 8)
			return string([]byte{byte(b)})
		},
	)
	if !utf8.ValidString(plain) {
		return "", errors.New("is not UTF-8 when its percent encoding is undone")
	}
	return plain, nil
}

var percentCoded = regexp.MustCompile(`%[0-9a-fA-F]{2}`)

// Payload makes what an event without attributes says: a body and its content type. JSON
// is read as such whatever the type says, since clients often leave a default there.
func Payload(contentType string, body []byte) Event {
	var e Event
	if _, _, err := mime.ParseMediaType(contentType); err == nil {
		e.ContentType = contentType
	}
	if len(body) > 0 {
		e.take(body, !utf8.Valid(body))
		if text, is := e.Data.(string); is && json.Valid(body) && json.Unmarshal([]byte(text), &e.Data) != nil {
			e.Data = text
		}
	}
	return e
}
