package trace

import (
	"cmp"
	"slices"
	"time"

	"ironweir/core/expr"
	"ironweir/core/sim/internal/engine"
	"ironweir/core/sim/internal/random"
)

// JourneyLimits say how many journeys of a run are recorded step by step.
type JourneyLimits struct {
	Bad    int // of those that failed: the first so many; 0: they are sampled with the rest
	Others int // of the rest: a uniform sample of so many

	// Of those that failed, only those of which a copy was lost, parked or returned at From or later and before Until,
	// since the start of the run; Until 0: at From or later.
	From, Until time.Duration
}

// timed reports whether they ask for a part of the run.
func (l *JourneyLimits) timed() bool { return l.From > 0 || l.Until > 0 }

// include reports whether an instant is of the part that they ask for.
func (l *JourneyLimits) include(now int64) bool {
	return now >= int64(l.From) && (l.Until == 0 || now < int64(l.Until))
}

// Journey says what happened to one message and all that came of it.
type Journey struct {
	ID      uint64  `json:"journey"`
	Entry   string  `json:"entry"`
	Key     string  `json:"key,omitempty"`
	Began   float64 `json:"t_s"`     // seconds since the start of the run
	Outcome string  `json:"outcome"` // complete, failed or in_flight
	Copies  int     `json:"copies"`
	Steps   []Step  `json:"steps"`
	More    int     `json:"more,omitempty"` // steps that were left out, after the first MaxSteps
}

// Step gives a step by its number; nil: it is not recorded.
func (j *Journey) Step(id int) *Step { return stepOf(j.Steps, id) }

// Sample chooses journeys: the bad ones first come, the rest by reservoir.
type Sample struct {
	engine *engine.Engine
	limits JourneyLimits
	rng    *random.Stream
	bad    []uint64 // by number
	others []uint64
	seen   int
	within map[uint64]bool // journeys in flight that failed within the time that is asked for
}

// NewSample makes a sample of the journeys of a replication.
func NewSample(e *engine.Engine, limits JourneyLimits) *Sample {
	return &Sample{engine: e, limits: limits, rng: e.Stream("", "journeys"), within: map[uint64]bool{}}
}

// Chosen gives the journeys that have been chosen, by number.
func (s *Sample) Chosen() []uint64 { return append(s.bad, s.others...) }

// JourneyFails notes that a copy of a journey has been lost, parked or returned.
func (s *Sample) JourneyFails(j *engine.Journey) {
	if s.limits.timed() && s.limits.include(s.engine.Now) {
		s.within[j.ID()] = true
	}
}

// JourneyEnds keeps a journey that has ended, or goes on at the end of the run, if it is chosen.
func (s *Sample) JourneyEnds(j *engine.Journey) {
	id := j.ID()
	if j.Failed && s.limits.Bad > 0 {
		asked := !s.limits.timed() || s.within[id]
		delete(s.within, id)
		if asked && len(s.bad) < s.limits.Bad {
			s.bad = append(s.bad, id)
		}
		return
	}
	s.seen++
	switch {
	case len(s.others) < s.limits.Others:
		s.others = append(s.others, id)
	default:
		if k := s.rng.Uint64() % uint64(s.seen); k < uint64(len(s.others)) {
			s.others[k] = id
		}
	}
}

// Found are the journeys of a run of which at least one event meets a condition.
type Found struct {
	Count    int64     `json:"count"`
	Complete int64     `json:"complete"`
	Failed   int64     `json:"failed"`
	InFlight int64     `json:"in_flight"`
	Journeys []Journey `json:"journeys"` // the first that entered

	Events      int64  `json:"events"`           // that the condition was asked about
	Unevaluated int64  `json:"unevaluated"`      // of them, those of which it cannot be evaluated
	Reason      string `json:"reason,omitempty"` // why, for the first of those
}

// Search is a condition with the journeys that have met it so far. It traces nothing: it only looks at what arrives.
type Search struct {
	*Tracer
	where *expr.Expression
	met   map[uint64]bool // journeys in flight
	found Found
	first []uint64 // journeys that have met it, by number
	most  int
}

// NewSearch makes a search for journeys, of which it notes at most so many.
func NewSearch(e *engine.Engine, where *expr.Expression, most int) *Search {
	return &Search{Tracer: New(e, map[uint64]bool{}), where: where, met: map[uint64]bool{}, most: most}
}

// Comes holds a copy that arrives against the condition.
func (s *Search) Comes(i uint32, _ engine.Message) {
	c := s.Copies.At(i)
	id := s.Journeys.At(c.Journey).ID()
	if s.met[id] {
		return
	}
	m := s.MessageOf(c)
	ok, err := s.where.Truth(s.EventOfMessage(&m, engine.KindOfEvent(s.SenderOf(c), c.Flags)))
	s.found.Events++
	if err != nil {
		s.found.Unevaluated++
		s.found.Reason = cmp.Or(s.found.Reason, err.Error())
	}
	if ok {
		s.met[id] = true
	}
}

// JourneyEnds counts a journey that has ended, or is in flight at the end, if it has met the condition.
func (s *Search) JourneyEnds(j *engine.Journey) {
	if !s.met[j.ID()] {
		return
	}
	delete(s.met, j.ID())
	s.found.Count++
	switch {
	case j.Failed:
		s.found.Failed++
	case j.Open > 0:
		s.found.InFlight++
	default:
		s.found.Complete++
	}
	s.first = append(s.first, j.ID())
	if len(s.first) > 2*s.most {
		s.keepFirst()
	}
}

// keepFirst drops all but the journeys that entered first.
func (s *Search) keepFirst() {
	slices.Sort(s.first)
	s.first = s.first[:min(len(s.first), s.most)]
}

// Found gives what has been found, and the first of the journeys, by number.
func (s *Search) Found() (found *Found, first []uint64) {
	s.keepFirst()
	return &s.found, s.first
}
