package cloudevents

import "encoding/json"

// Content types of events in their JSON forms.
const (
	OneType   = "application/cloudevents+json"
	BatchType = "application/cloudevents-batch+json"
)

// Write writes events in their JSON form, with the content type: one event by
// itself, more as a batch.
func Write(events []map[string]any) (body []byte, contentType string, err error) {
	if len(events) == 1 {
		body, err = json.Marshal(events[0])
		return body, OneType, err
	}
	body, err = json.Marshal(events)
	return body, BatchType, err
}
