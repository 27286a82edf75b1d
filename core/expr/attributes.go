package expr

import "time"

// Attributes are what a CloudEvent from outside says of itself beside its subject, type
// and data. It keeps them on all its ways through the model [PE-01] [PE-02]; nobody
// changes them.
type Attributes struct {
	ID          string         `json:"id,omitempty"`              // empty: the number of its journey
	Source      string         `json:"source,omitempty"`          // empty: outside
	Time        time.Time      `json:"time,omitzero"`             // zero: when it arrives
	ContentType string         `json:"datacontenttype,omitempty"` // empty: JSON
	Schema      string         `json:"dataschema,omitempty"`
	Extensions  map[string]any `json:"extensions,omitempty"` // by name: text, whole numbers, truth values
	Bytes       []byte         `json:"bytes,omitempty"`      // the payload as it came
	Binary      bool           `json:"binary,omitempty"`     // it came as bytes and not as text or JSON
}
