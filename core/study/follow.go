package study

import (
	"ironweir/core/document"
	"ironweir/core/sim"
)

// FollowDocument is what `follow -format json` prints.
type FollowDocument struct {
	document.Head
	Journey int              `json:"journey"`
	Outcome string           `json:"outcome"` // complete, failed or in_flight
	Fates   map[string]int64 `json:"fates"`
	Stopped string           `json:"stopped,omitempty"`
	Steps   []sim.Step       `json:"steps"`
}

// Follow makes the document of a followed message.
func Follow(head document.Head, t *sim.Trace) FollowDocument {
	return FollowDocument{Head: head, Journey: 1, Outcome: t.Outcome(), Fates: t.Fates, Stopped: t.Stopped, Steps: t.Steps}
}
