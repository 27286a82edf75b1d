// Package document holds what every JSON document that Iron Weir prints has in
// common: its head, and times that may be never or unknown.
package document

import (
	"crypto/sha256"
	"encoding/hex"
	"math"
)

// Version is the version of the program, put into every document.
const Version = "0.1.0"

// Head starts every document.
type Head struct {
	Schema      string `json:"schema"`
	Version     string `json:"version"`
	Model       string `json:"model"`
	Environment string `json:"environment"`
	Digest      string `json:"digest"` // of the model's text and what was set in it
}

// NewHead fills the head of a document of some schema.
func NewHead(schema, model, environment, digest string) Head {
	return Head{
		Schema:      "ironweir/" + schema + "/1",
		Version:     Version,
		Model:       model,
		Environment: environment,
		Digest:      digest,
	}
}

// Digest gives the SHA-256 of texts, in hex.
func Digest(texts ...string) string {
	h := sha256.New()
	for _, t := range texts {
		h.Write([]byte(t))
		h.Write([]byte{0})
	}
	return hex.EncodeToString(h.Sum(nil))
}

// State is a time that may be never, without bound or unknown.
type State struct {
	State   string   `json:"state"` // at never unbounded unknown
	Seconds *float64 `json:"s,omitempty"`
}

// At is the state of a known time, to the nanosecond: 3 + 0.1 + 0.2 is 3.3.
func At(seconds float64) State {
	if math.Abs(seconds) < 1e6 {
		seconds = math.Round(seconds*1e9) / 1e9
	}
	return State{State: "at", Seconds: &seconds}
}

// The states without a time.
var (
	Never     = State{State: "never"}
	Unbounded = State{State: "unbounded"}
	Unknown   = State{State: "unknown"}
)
