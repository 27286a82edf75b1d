// Package cloudevents reads CloudEvents 1.0 in their JSON forms (one event, a
// batch, JSON Lines) and arrivals from CSV. It does no I/O.
package cloudevents

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	sdk "github.com/cloudevents/sdk-go/v2/event"
)

// Event is one event as the simulation takes it.
type Event struct {
	ID, Source, Type, Subject string
	Time                      time.Time // zero: not stated
	Data                      any       // JSON values; text where the payload is not JSON
	Size                      int64     // of the payload, in bytes
}

// Read reads one event, a batch (a JSON array) or JSON Lines. Payloads that come
// as base64 are decoded. An error names the line, or the place in the batch.
func Read(text []byte) ([]Event, error) {
	trimmed := bytes.TrimSpace(text)
	if len(trimmed) == 0 {
		return nil, errors.New("no event: the text is empty")
	}
	if trimmed[0] == '[' {
		return readBatch(trimmed)
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

// isLines tells whether a text looks like one JSON object a line.
func isLines(text []byte) bool {
	first, rest, more := bytes.Cut(text, []byte("\n"))
	first, rest = bytes.TrimSpace(first), bytes.TrimSpace(rest)
	return more && bytes.HasSuffix(first, []byte("}")) && bytes.HasPrefix(rest, []byte("{"))
}

func readBatch(text []byte) ([]Event, error) {
	var raw []json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		return nil, withLine(text, err)
	}
	if len(raw) == 0 {
		return nil, errors.New("the batch holds no event")
	}
	var events []Event
	for i, r := range raw {
		e, err := readOne(r)
		if err != nil {
			return nil, fmt.Errorf("event %d of the batch: %w", i+1, err)
		}
		events = append(events, e)
	}
	return events, nil
}

func withLine(text []byte, err error) error {
	var syntax *json.SyntaxError
	if !errors.As(err, &syntax) {
		return err
	}
	upTo := text[:min(max(int(syntax.Offset)-1, 0), len(text))]
	return fmt.Errorf("line %d: not JSON: %w", 1+bytes.Count(upTo, []byte("\n")), err)
}

func readOne(text []byte) (Event, error) {
	if !json.Valid(text) {
		var any json.RawMessage
		return Event{}, json.Unmarshal(text, &any)
	}
	var e sdk.Event
	if err := json.Unmarshal(text, &e); err != nil {
		return Event{}, fmt.Errorf("not a CloudEvent: %w", err)
	}
	if e.SpecVersion() != "1.0" {
		return Event{}, fmt.Errorf("not a CloudEvent: `specversion` must be \"1.0\"; `ironweir sample` makes one")
	}
	if err := e.Validate(); err != nil {
		return Event{}, fmt.Errorf("not a CloudEvent: %s", strings.Join(strings.Fields(err.Error()), " "))
	}
	return Of(&e), nil
}

// Of takes over an event of the SDK that is valid.
func Of(e *sdk.Event) Event {
	out := Event{ID: e.ID(), Source: e.Source(), Type: e.Type(), Subject: e.Subject(), Time: e.Time(), Size: int64(len(e.Data()))}
	if body := e.Data(); len(body) > 0 && json.Unmarshal(body, &out.Data) != nil {
		out.Data = string(body)
	}
	return out
}

// csvColumns are those that ReadCSV knows.
var csvColumns = []string{"time", "id", "source", "type", "subject", "key", "size", "data"}

// ReadCSV reads arrivals from CSV with a header line: `time` (RFC 3339) and, as
// wanted, id, source, type, subject (or key), size (bytes) and data (JSON). An
// error names the line.
func ReadCSV(text []byte) ([]Event, error) {
	r := csv.NewReader(bytes.NewReader(text))
	header, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("line 1: the header cannot be read: %w", err)
	}
	hasTime := false
	for i, h := range header {
		header[i] = strings.ToLower(strings.TrimSpace(h))
		hasTime = hasTime || header[i] == "time"
	}
	if !hasTime {
		return nil, fmt.Errorf("line 1: there is no column `time`; the columns known are %s", strings.Join(csvColumns, ", "))
	}
	var events []Event
	for {
		row, err := r.Read()
		if err == io.EOF {
			return events, nil
		}
		if err != nil {
			return nil, err // it names its line
		}
		line, _ := r.FieldPos(0)
		e := Event{Source: "outside"}
		for i, v := range row {
			if err := e.set(header[i], strings.TrimSpace(v)); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
		}
		events = append(events, e)
	}
}

func (e *Event) set(column, v string) (err error) {
	switch column {
	case "time":
		if e.Time, err = time.Parse(time.RFC3339Nano, v); err != nil {
			return fmt.Errorf("time %q is not RFC 3339, such as 2026-03-27T18:00:00Z", v)
		}
	case "id":
		e.ID = v
	case "source":
		e.Source = v
	case "type":
		e.Type = v
	case "subject", "key":
		e.Subject = v
	case "size":
		if v != "" {
			if e.Size, err = strconv.ParseInt(v, 10, 64); err != nil || e.Size < 0 {
				return fmt.Errorf("size %q is no number of bytes", v)
			}
		}
	case "data":
		if v != "" {
			if err := json.Unmarshal([]byte(v), &e.Data); err != nil {
				return fmt.Errorf("data is not JSON: %w", err)
			}
		}
	default:
		return fmt.Errorf("unknown column %q; known are %s", column, strings.Join(csvColumns, ", "))
	}
	return nil
}
