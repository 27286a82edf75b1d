package sim

import (
	"cmp"
	"sort"
	"time"

	"ironweir/core/sim/internal/random"

	"ironweir/core/expr"
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

// journeySample chooses journeys: the bad ones first come, the rest by reservoir.
type journeySample struct {
	limits JourneyLimits
	rng    *random.Stream
	bad    []journeyNote
	others []journeyNote
	seen   int
	within map[uint64]bool        // journeys in flight that failed within the time that is asked for
	search *search                // in the search by a condition
	wanted map[uint64]bool        // in the telling
	ends   map[uint64]journeyNote // how those that are recorded ended
}

type journeyNote struct {
	id      uint64
	entry   int32
	born    int64
	copies  int32
	outcome string
}

// noteOf sums a journey up as it stands.
func noteOf(j *journey) journeyNote {
	n := journeyNote{j.id(), j.entry(), j.born, j.copies, "complete"}
	switch {
	case j.failed:
		n.outcome = "failed"
	case j.open > 0:
		n.outcome = "in_flight"
	}
	return n
}

// journeyOf makes a journey of what was recorded of it.
func (e *engine) journeyOf(id uint64, r *trail, n journeyNote) Journey {
	j := Journey{
		ID:      id,
		Entry:   e.g.Nodes[n.entry].Name,
		Began:   time.Duration(n.born).Seconds(),
		Outcome: n.outcome,
		Copies:  int(n.copies),
		Steps:   r.written(),
	}
	j.More = r.count - len(j.Steps)
	if len(r.steps) > 0 {
		j.Key, _ = r.steps[0].Event["subject"].(string)
	}
	return j
}

// endsBadly notes that a copy of a journey has been lost, parked or returned.
func (e *engine) endsBadly(j *journey) {
	j.failed = true
	s := e.sampled
	if s == nil || s.within == nil {
		return
	}
	if e.Now >= int64(s.limits.From) && (s.limits.Until == 0 || e.Now < int64(s.limits.Until)) {
		s.within[j.id()] = true
	}
}

// note keeps a journey that has ended, or goes on at the end, if it is chosen.
func (s *journeySample) note(j *journey) {
	if s.search != nil {
		s.search.note(j)
		return
	}
	n := noteOf(j)
	if s.ends != nil {
		if s.wanted[j.id()] {
			s.ends[j.id()] = n
		}
		return
	}
	if n.outcome == "failed" && s.limits.Bad > 0 {
		asked := !s.limits.timed() || s.within[n.id]
		delete(s.within, n.id)
		if asked && len(s.bad) < s.limits.Bad {
			s.bad = append(s.bad, n)
		}
		return
	}
	s.seen++
	switch {
	case len(s.others) < s.limits.Others:
		s.others = append(s.others, n)
	default:
		if k := s.rng.Uint64() % uint64(s.seen); k < uint64(len(s.others)) {
			s.others[k] = n
		}
	}
}

// Journeys simulates a plan and records a sample of its journeys step by step.
// The run is simulated twice: once to see how each journey ends, and once more,
// being the same to the last draw, to write down those that were chosen. What
// is written down costs nothing where nobody asks.
func Journeys(plan Plan, limits JourneyLimits) ([]Journey, error) {
	first, err := newEngine(&plan)
	if err != nil {
		return nil, err
	}
	defer first.close()
	first.sampled = &journeySample{limits: limits, rng: first.stream("", "journeys")}
	if limits.timed() {
		first.sampled.within = map[uint64]bool{}
	}
	if err := first.loop(); err != nil {
		return nil, err
	}
	if _, err := first.result(); err != nil {
		return nil, err
	}
	return traceJourneys(plan, append(first.sampled.bad, first.sampled.others...), limits)
}

// OneJourney records one journey of a plan by its number; nil: the run has none of that number. Of a journey with more
// steps than are recorded, bad ends within the time of the limits are.
func OneJourney(plan Plan, id uint64, limits JourneyLimits) (*Journey, error) {
	recorded, err := traceJourneys(plan, []journeyNote{{id: id}}, limits)
	if err != nil || len(recorded) == 0 {
		return nil, err
	}
	return &recorded[0], nil
}

func traceJourneys(plan Plan, notes []journeyNote, limits JourneyLimits) ([]Journey, error) {
	wanted := map[uint64]bool{}
	for _, n := range notes {
		wanted[n.id] = true
	}
	e, err := newEngine(&plan)
	if err != nil {
		return nil, err
	}
	defer e.close()
	e.observe(newTracer(nil, wanted))
	e.trace.from, e.trace.until = int64(limits.From), int64(limits.Until)
	ends := map[uint64]journeyNote{}
	e.sampled = &journeySample{wanted: wanted, ends: ends}
	if err := e.loop(); err != nil {
		return nil, err
	}
	if _, err := e.result(); err != nil {
		return nil, err
	}
	var out []Journey
	for _, id := range e.trace.order {
		out = append(out, e.journeyOf(id, e.trace.trails[id], ends[id]))
	}
	sort.Slice(out, func(a, b int) bool { return out[a].ID < out[b].ID })
	return out, nil
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

// search is a condition with the journeys that have met it so far.
type search struct {
	where *expr.Expression
	met   map[uint64]bool // journeys in flight
	found Found
	notes []journeyNote
	most  int
}

// consider holds a copy that arrives against the condition.
func (s *search) consider(e *engine, i uint32) {
	c := e.copies.At(i)
	id := e.journeys.At(c.journey).id()
	if s.met[id] {
		return
	}
	m := e.messageOf(c)
	ok, err := s.where.Truth(e.eventOfMessage(&m, kindOfEvent(e.senderOf(c), c.flags)))
	s.found.Events++
	if err != nil {
		s.found.Unevaluated++
		s.found.Reason = cmp.Or(s.found.Reason, err.Error())
	}
	if ok {
		s.met[id] = true
	}
}

// note counts a journey that has ended, or is in flight at the end, if it has met the condition.
func (s *search) note(j *journey) {
	if !s.met[j.id()] {
		return
	}
	delete(s.met, j.id())
	n := noteOf(j)
	s.found.Count++
	switch n.outcome {
	case "failed":
		s.found.Failed++
	case "in_flight":
		s.found.InFlight++
	default:
		s.found.Complete++
	}
	s.notes = append(s.notes, n)
	if len(s.notes) > 2*s.most {
		s.keepFirst()
	}
}

// keepFirst drops all notes but those of the journeys that entered first.
func (s *search) keepFirst() {
	sort.Slice(s.notes, func(a, b int) bool { return s.notes[a].id < s.notes[b].id })
	s.notes = s.notes[:min(len(s.notes), s.most)]
}

// Find simulates a plan and returns the journeys of which an event, at any node, meets a
// condition: how many there are, how they ended, and the first of them, at most `most`,
// step by step. An event of which the condition cannot be evaluated does not meet it.
func Find(plan Plan, where *expr.Expression, most int) (*Found, error) {
	e, err := newEngine(&plan)
	if err != nil {
		return nil, err
	}
	defer e.close()
	s := &search{where: where, met: map[uint64]bool{}, most: most}
	t := newTracer(nil, map[uint64]bool{})
	t.found = s
	e.observe(t)
	e.sampled = &journeySample{search: s}
	if err := e.loop(); err != nil {
		return nil, err
	}
	if _, err := e.result(); err != nil {
		return nil, err
	}
	s.keepFirst()
	s.found.Journeys, err = traceJourneys(plan, s.notes, JourneyLimits{})
	return &s.found, err
}
