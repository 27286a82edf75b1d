package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/jobs"
	"ironweir/store"
)

// tracedJourneys are the journeys of a run that are recorded step by step: those that ended
// badly, and a sample of the others.
var tracedJourneys = sim.JourneyLimits{Bad: 200, Others: 100}

// journeyTracers record journeys by simulating the first replication of a run again, one at a time of each run; what
// was recorded is kept with the run.
type journeyTracers struct {
	mu   sync.Mutex
	busy map[int64]chan struct{} // by run; closed when the one that records has ended
}

// begin waits until no other request records the journeys of a run.
func (t *journeyTracers) begin(ctx context.Context, run int64) (end func(), err error) {
	for {
		t.mu.Lock()
		ended, busy := t.busy[run]
		if !busy {
			ended = make(chan struct{})
			if t.busy == nil {
				t.busy = map[int64]chan struct{}{}
			}
			t.busy[run] = ended
			t.mu.Unlock()
			return func() {
				t.mu.Lock()
				delete(t.busy, run)
				t.mu.Unlock()
				close(ended)
			}, nil
		}
		t.mu.Unlock()
		select {
		case <-ended:
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// JourneyLine is a journey without its steps.
type JourneyLine struct {
	ID      uint64  `json:"journey"`
	Entry   string  `json:"entry"`
	Key     string  `json:"key"`
	Began   float64 `json:"t_s" doc:"seconds since the start of the run"`
	Outcome string  `json:"outcome" enum:"complete,failed,in_flight"`
	Copies  int     `json:"copies"`
	Ends    string  `json:"ends" doc:"where it was lost, parked or returned, and why"`

	Ended *float64 `json:"ended_s" doc:"when it was, in seconds since the start of the run; null: it was not, or that is not recorded"`
	Tried *float64 `json:"tried_s" doc:"since when what ended so had been held, before it was parked; null as before"`
	Nodes []string `json:"nodes" doc:"that it came to"`
}

// AtRest is what rests in a node at an instant.
type AtRest struct {
	Node     string        `json:"node"`
	At       float64       `json:"at_s"`
	Count    int           `json:"count" doc:"in all; at most 1000 are listed"`
	Messages []sim.Resting `json:"messages"`
}

// past is a run with what it was made of.
type past struct {
	run *store.Run
	of  *runOf
}

// runOf is what a run was made of.
type runOf struct {
	Model, Kind       string
	Scenario, Traffic string // its name and text
	Study             json.RawMessage
	Text              string // of the revision
	Limits            sim.Limits
}

func newRunOf(r *store.Run, text string, limits sim.Limits) *runOf {
	return &runOf{r.Model, r.Kind, r.Scenario, r.Text, r.Study, text, limits}
}

// task makes the run ready once more.
func (of *runOf) task() (*jobs.Task, error) {
	run := &store.Run{Model: of.Model, Kind: of.Kind, Scenario: of.Scenario, Text: of.Traffic, Study: of.Study}
	task, err := jobs.NewTask(run, of.Text, of.Limits)
	if err != nil {
		return nil, badFile(err)
	}
	return task, nil
}

// base is the model under the scenario; of several variants, the model as it is.
func (of *runOf) base() (*study.Plan, error) {
	task, err := of.task()
	if err != nil {
		return nil, err
	}
	base := task.Base()
	return &base, nil
}

// plan gives the first replication; it ends early when nobody waits for it.
func (of *runOf) plan(ctx context.Context) (sim.Plan, error) {
	base, err := of.base()
	if err != nil {
		return sim.Plan{}, err
	}
	base.Stop = func() string {
		if ctx.Err() != nil {
			return "an interruption"
		}
		return ""
	}
	return base.Replication(0), nil
}

// past finds a run with what it was made of.
func (v *Service) past(ctx context.Context, id int64) (*past, error) {
	run, err := v.run(ctx, id)
	if err != nil {
		return nil, err
	}
	revision, err := v.store.RevisionOfRun(ctx, run)
	if err != nil {
		return nil, v.failure(err, fmt.Sprintf("revision %d of model %s", run.Revision, run.Model))
	}
	settings, err := v.store.Settings(ctx)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	return &past{run, newRunOf(run, revision.Text, jobs.LimitsOf(settings))}, nil
}

// The procedures simulate the first replication of a run again.
var (
	journeysProcedure = &procedure[sampleOf, []sim.Journey]{name: "journeys", long: true, do: recordJourneys}
	journeyProcedure  = &procedure[journeyOf, *sim.Journey]{name: "journey", long: true, do: recordJourney}
	restProcedure     = &procedure[restOf, AtRest]{name: "messages-at-rest", long: true, do: findRest}
)

// sampleOf says which journeys of a run are recorded.
type sampleOf struct {
	runOf
	Limits sim.JourneyLimits
}

func recordJourneys(ctx context.Context, of *sampleOf) (*[]sim.Journey, error) {
	plan, err := of.plan(ctx)
	if err != nil {
		return nil, err
	}
	recorded, err := sim.Journeys(plan, of.Limits)
	if err != nil {
		return nil, err
	}
	return &recorded, ctx.Err()
}

// journeyOf names a journey of a run.
type journeyOf struct {
	runOf
	Journey uint64
	Limits  sim.JourneyLimits
}

func recordJourney(ctx context.Context, of *journeyOf) (**sim.Journey, error) {
	plan, err := of.plan(ctx)
	if err != nil {
		return nil, err
	}
	recorded, err := sim.OneJourney(plan, of.Journey, of.Limits)
	if err != nil {
		return nil, err
	}
	return &recorded, ctx.Err()
}

// restOf names a node of a run and an instant.
type restOf struct {
	runOf
	Node string
	At   time.Duration
}

func findRest(ctx context.Context, of *restOf) (*AtRest, error) {
	plan, err := of.plan(ctx)
	if err != nil {
		return nil, err
	}
	rests, total, err := sim.Rest(plan, of.Node, of.At)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if rests == nil {
		rests = []sim.Resting{}
	}
	return &AtRest{of.Node, of.At.Seconds(), total, rests}, ctx.Err()
}

// journeys gives the sample of a run's journeys: as it was kept, or recorded now.
func (v *Service) journeys(ctx context.Context, id int64) ([]sim.Journey, error) {
	if _, err := v.run(ctx, id); err != nil { // it must lie in this workspace
		return nil, err
	}
	if recorded, err := v.keptJourneys(ctx, id); recorded != nil || err != nil {
		return recorded, err
	}
	end, err := v.tracers.begin(ctx, id)
	if err != nil {
		return nil, v.failure(err, "journeys")
	}
	defer end()
	if recorded, err := v.keptJourneys(ctx, id); recorded != nil || err != nil { // somebody has asked meanwhile
		return recorded, err
	}
	p, err := v.past(ctx, id)
	if err != nil {
		return nil, err
	}
	found, err := journeysProcedure.ask(ctx, v, &sampleOf{*p.of, tracedJourneys})
	if err != nil {
		return nil, err
	}
	recorded := *found
	if p.run.FinishedAt == nil {
		return recorded, nil
	}
	var packed bytes.Buffer
	zip := gzip.NewWriter(&packed)
	if err := json.NewEncoder(zip).Encode(recorded); err != nil {
		return nil, v.failure(err, "journeys")
	}
	if err := zip.Close(); err != nil {
		return nil, v.failure(err, "journeys")
	}
	if err := v.store.SaveJourneys(ctx, id, packed.Bytes()); err != nil {
		return nil, v.failure(err, "journeys")
	}
	return recorded, nil
}

// keptJourneys gives the journeys that were kept with a run; nil: none were.
func (v *Service) keptJourneys(ctx context.Context, id int64) ([]sim.Journey, error) {
	packed, err := v.store.Journeys(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, v.failure(err, "journeys")
	}
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, v.failure(err, "journeys")
	}
	recorded := []sim.Journey{}
	if err := json.NewDecoder(zip).Decode(&recorded); err != nil {
		return nil, v.failure(err, "journeys")
	}
	return recorded, nil
}

// badEnd says how a copy of a journey must have ended: lost, parked or returned, or lost for a cause (empty: in any of
// these ways), within a time in seconds since the start of the run (until 0: at from or later).
type badEnd struct {
	how         string
	from, until float64
}

// of gives the last step with which a copy of a journey ended so; nil: none is recorded.
func (b badEnd) of(j *sim.Journey) *sim.Step {
	for i := len(j.Steps) - 1; i >= 0; i-- {
		s := &j.Steps[i]
		so := s.Bad() && (b.how == "" || s.What == b.how || s.Fate == b.how)
		if so && s.T >= b.from && (b.until == 0 || s.T < b.until) {
			return s
		}
	}
	return nil
}

// heldBefore gives the step with which a copy came that then ended badly; of a dead letter, the message that it was
// before; the end itself where that is not recorded.
func heldBefore(j *sim.Journey, end *sim.Step) *sim.Step {
	for from := j.Step(end.Parent); from != nil; from = j.Step(from.Parent) {
		came := from.What == "held" || from.What == "enters"
		if came && !(from.Node == end.Node && deadLetter(j, from)) {
			return from
		}
	}
	return end
}

// deadLetter reports whether a copy came as a dead letter.
func deadLetter(j *sim.Journey, came *sim.Step) bool {
	by := j.Step(came.Parent)
	return by != nil && by.What == "sends" && by.Link == ""
}

// line sums a journey up, with one of its bad ends; nil: none is recorded.
func line(j *sim.Journey, end *sim.Step) JourneyLine {
	out := JourneyLine{
		ID:      j.ID,
		Entry:   j.Entry,
		Key:     j.Key,
		Began:   j.Began,
		Outcome: j.Outcome,
		Copies:  j.Copies,
		Nodes:   []string{},
	}
	for i := range j.Steps {
		if node := j.Steps[i].Node; !slices.Contains(out.Nodes, node) {
			out.Nodes = append(out.Nodes, node)
		}
	}
	switch {
	case end != nil:
		out.Ends, out.Ended, out.Tried = end.What+" at "+end.Node+": "+end.Why, &end.T, &heldBefore(j, end).T
	case j.More > 0 && j.Outcome == "failed":
		out.Ends = fmt.Sprintf("after the %d recorded steps, among %d more", len(j.Steps), j.More)
	}
	return out
}

// touches reports whether a journey came to a node.
func touches(j *sim.Journey, node string) bool {
	for i := range j.Steps {
		if j.Steps[i].Node == node {
			return true
		}
	}
	return false
}

// carries reports whether the payload of some event of a journey, as JSON, holds a
// text.
func carries(j *sim.Journey, text string) bool {
	for i := range j.Steps {
		if data, ok := j.Steps[i].Event["data"]; ok {
			if plain, err := json.Marshal(data); err == nil && strings.Contains(string(plain), text) {
				return true
			}
		}
	}
	return false
}

type journeyList struct {
	Body struct {
		Journeys []JourneyLine `json:"journeys"`
		Sampled  int           `json:"sampled" doc:"how many are recorded, before the filter: the first 200 that ended badly and 100 of the others"`
	}
}

func (v *Service) journeyRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "list-journeys",
		Metadata:    simulates,
		Errors:      []int{429},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/journeys",
		Summary:     "Journeys of a run's first replication: those that ended badly and a sample of the rest",
	}, v.listJourneys)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-journey",
		Metadata:    simulates,
		Errors:      []int{429},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/journeys/{journey}",
		Summary:     "One journey, step by step",
	}, v.getJourney)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-rest",
		Metadata:    simulates,
		Errors:      []int{429},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/rest",
		Summary:     "What rests in a node at an instant of the first replication",
	}, v.getRest)
}

func (v *Service) listJourneys(ctx context.Context, in *struct {
	RunPath
	Outcome string  `query:"outcome" enum:"complete,failed,in_flight"`
	Key     string  `query:"key" doc:"only those whose key holds this text"`
	Node    string  `query:"node" doc:"only those that came to this node"`
	Ends    string  `query:"ends" maxLength:"60" doc:"only those of which some copy ended so: lost, parked, returned, or a cause of loss"`
	From    float64 `query:"from" minimum:"0" doc:"with ends: at this time or later, in seconds since the start of the run"`
	Until   float64 `query:"until" minimum:"0" doc:"with ends: before this time; 0: at any time after from"`
	Data    string  `query:"data" maxLength:"200" doc:"only those of which some event's payload holds this text"`
}) (*journeyList, error) {
	recorded, err := v.journeys(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	// Those of that time may be among those that were not kept, or have more steps than are recorded.
	cut := in.Ends != "" && (in.From > 0 || in.Until > 0) && incomplete(recorded)
	if cut {
		if recorded, err = v.journeysWithin(ctx, in.ID, in.From, in.Until); err != nil {
			return nil, err
		}
	}
	out := &journeyList{}
	out.Body.Journeys, out.Body.Sampled = []JourneyLine{}, len(recorded)
	wanted := badEnd{in.Ends, in.From, in.Until}
	for i := range recorded {
		j := &recorded[i]
		end := wanted.of(j)
		if in.Outcome != "" && j.Outcome != in.Outcome || !strings.Contains(j.Key, in.Key) ||
			in.Node != "" && !touches(j, in.Node) ||
			in.Data != "" && !carries(j, in.Data) ||
			in.Ends != "" && end == nil && !(cut && j.More > 0) {
			continue
		}
		out.Body.Journeys = append(out.Body.Journeys, line(j, end))
	}
	return out, nil
}

// incomplete reports whether journeys that failed, or steps with which they did, may be missing.
func incomplete(recorded []sim.Journey) bool {
	failed := 0
	for i := range recorded {
		if recorded[i].Outcome == "failed" {
			failed++
			if recorded[i].More > 0 {
				return true
			}
		}
	}
	return failed == tracedJourneys.Bad
}

// journeysWithin records the journeys of which a copy ended badly within a time, in seconds since the start of the run.
func (v *Service) journeysWithin(ctx context.Context, id int64, from, until float64) ([]sim.Journey, error) {
	p, err := v.past(ctx, id)
	if err != nil {
		return nil, err
	}
	found, err := journeysProcedure.ask(ctx, v, &sampleOf{*p.of, within(from, until)})
	if err != nil {
		return nil, err
	}
	return *found, nil
}

// within gives the limits of journeys that end badly within a time, in seconds since the start of the run.
func within(from, until float64) sim.JourneyLimits {
	at := func(s float64) time.Duration {
		return time.Duration(min(s, model.MaxDuration.Seconds()) * float64(time.Second))
	}
	return sim.JourneyLimits{Bad: tracedJourneys.Bad, From: at(from), Until: at(until)}
}

func (v *Service) getJourney(ctx context.Context, in *struct {
	RunPath
	Journey uint64  `path:"journey" minimum:"1"`
	From    float64 `query:"from" minimum:"0" doc:"of more steps than are recorded, bad ends at this time or later, in seconds since the start of the run"`
	Until   float64 `query:"until" minimum:"0" doc:"and before this time; 0: at any time after from"`
}) (*struct{ Body sim.Journey }, error) {
	recorded, err := v.journeys(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	for i := range recorded {
		if recorded[i].ID == in.Journey && (recorded[i].More == 0 || in.From == 0 && in.Until == 0) {
			return &struct{ Body sim.Journey }{recorded[i]}, nil
		}
	}
	p, err := v.past(ctx, in.ID) // not in the sample, or not all of it: it is recorded by itself
	if err != nil {
		return nil, err
	}
	j, err := journeyProcedure.ask(ctx, v, &journeyOf{*p.of, in.Journey, within(in.From, in.Until)})
	if err != nil {
		return nil, err
	}
	if *j == nil {
		return nil, huma.Error404NotFound(
			fmt.Sprintf("the first replication of run %d has no journey %d", in.ID, in.Journey),
		)
	}
	return &struct{ Body sim.Journey }{**j}, nil
}

func (v *Service) getRest(ctx context.Context, in *struct {
	RunPath
	Node string  `query:"node" required:"true"`
	At   float64 `query:"at" required:"true" minimum:"0" doc:"seconds since the start of the run"`
}) (*struct{ Body AtRest }, error) {
	p, err := v.past(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	at := time.Duration(min(in.At, model.MaxDuration.Seconds()) * 1e9)
	found, err := restProcedure.ask(ctx, v, &restOf{*p.of, in.Node, at})
	if err != nil {
		return nil, err
	}
	return &struct{ Body AtRest }{*found}, nil
}
