package engine

// Fate is what becomes of a copy.
type Fate uint8

const (
	Handled Fate = iota
	Stored
	Arrived
	Passed
	Ignored
	Unmatched
	Returned
	Parked
	Expired // the first cause of loss
	Exhausted
	GivenUp
	Refused
	Throttled
	Overflow
	TooLarge
	Rejected
	Unsubscribed
	HopLimit
	FateCount
	noFate = FateCount
)

var fateNames = [FateCount]string{
	"handled", "stored", "arrived", "passed", "ignored", "unmatched", "returned", "parked",
	"expired", "exhausted", "given_up", "refused", "throttled", "overflow", "too_large", "rejected", "unsubscribed",
	"hop_limit",
}

func (f Fate) String() string { return fateNames[f] }

// Loss reports whether the fate is a cause of loss.
func (f Fate) Loss() bool { return f >= Expired && f < FateCount }

// Fates lists all fates; the causes of loss come last.
func Fates() []Fate {
	out := make([]Fate, FateCount)
	for i := range out {
		out[i] = Fate(i)
	}
	return out
}

var wordsOfLoss = map[Fate]string{
	Expired:      "its retention ended before it was consumed",
	Exhausted:    "the tries are exhausted and there is no dead-letter node",
	GivenUp:      "it is older than `give-up` and there is no dead-letter node",
	Refused:      "the target's `callers` do not name the sender",
	Throttled:    "rejected: no concurrency or rate is left",
	Overflow:     "the queue is full",
	TooLarge:     "it is over the payload limit",
	Rejected:     "the write failed",
	Unsubscribed: "the topic has no links",
	HopLimit:     "it has passed through more functions than the hop limit allows",
}

// LossWords says in a few words what a cause of loss means.
func LossWords(f Fate) string { return wordsOfLoss[f] }
