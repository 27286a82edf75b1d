package cloudevents

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
)

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
		return nil, fmt.Errorf(
			"line 1: there is no column `time`; the columns known are %s",
			strings.Join(csvColumns, ", "),
		)
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
		var e Event
		for i, v := range row {
			if err := e.column(header[i], strings.TrimSpace(v)); err != nil {
				return nil, fmt.Errorf("line %d: %w", line, err)
			}
		}
		events = append(events, e)
	}
}

// column keeps the value of one column.
func (e *Event) column(name, v string) (err error) {
	switch name {
	case "id", "source", "type", "time":
		if v == "" {
			return nil
		}
		return e.set(name, v)
	case "subject", "key":
		e.Subject = v
	case "size":
		if v != "" {
			if e.Size, err = strconv.ParseInt(v, 10, 64); err != nil || e.Size < 0 {
				return fmt.Errorf("size %q is not a number of bytes", v)
			}
		}
	case "data":
		if v != "" {
			if err := json.Unmarshal([]byte(v), &e.Data); err != nil {
				return fmt.Errorf("data is not JSON: %w", err)
			}
		}
	default:
		return fmt.Errorf("unknown column %q; known are %s", name, strings.Join(csvColumns, ", "))
	}
	return nil
}
