package service

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/jobs"
	"ironweir/store"
)

// retold are the journeys of a run that are recorded step by step: those that ended
// badly, and a sample of the others.
var tracedJourneys = sim.JourneyLimits{Bad: 200, Others: 100}

// journeyTracer records journeys by simulating the first replication of a run again, one
// run at a time; what was recorded is kept with the run.
type journeyTracer struct{ sync.Mutex }

// JourneyLine is a journey without its steps.
type JourneyLine struct {
	ID      uint64  `json:"journey"`
	Entry   string  `json:"entry"`
	Key     string  `json:"key"`
	Began   float64 `json:"t_s" doc:"seconds since the start of the run"`
	Outcome string  `json:"outcome" enum:"complete,failed,in_flight"`
	Copies  int     `json:"copies"`
	Ends    string  `json:"ends" doc:"where it was lost, parked or returned, and why"`
}

// AtRest is what rests in a node at an instant.
type AtRest struct {
	Node     string        `json:"node"`
	At       float64       `json:"at_s"`
	Count    int           `json:"count" doc:"in all; at most 1000 are listed"`
	Messages []sim.Resting `json:"messages"`
}

// past is a run with what it was made of: of several variants, the model as it
// is.
type past struct {
	run      *store.Run
	text     string
	graph    *graph.Graph
	scenario *model.Scenario
	limits   sim.Limits
}

// past finds a run and compiles its model again.
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
	limits := jobs.LimitsOf(settings)
	task, err := jobs.NewTask(run, revision.Text, limits)
	if err != nil {
		return nil, badFile(err)
	}
	base := task.Base()
	return &past{run, revision.Text, base.Graph, base.Scenario, limits}, nil
}

// plan gives the first replication; it ends early when nobody waits for it.
func (p *past) plan(ctx context.Context) sim.Plan {
	plan := study.Plan{Graph: p.graph, Scenario: p.scenario, Limits: p.limits, Stop: func() string {
		if ctx.Err() != nil {
			return "an interruption"
		}
		return ""
	}}
	return plan.Replication(0)
}

// journeys gives the sample of a run's journeys: as it was kept, or recorded now.
func (v *Service) journeys(ctx context.Context, id int64) ([]sim.Journey, error) {
	if _, err := v.run(ctx, id); err != nil { // it must lie in this workspace
		return nil, err
	}
	if recorded, err := v.keptJourneys(ctx, id); recorded != nil || err != nil {
		return recorded, err
	}
	leave, err := v.admit(ctx, "journeys")
	if err != nil {
		return nil, err
	}
	defer leave()
	v.teller.Lock()
	defer v.teller.Unlock()
	if recorded, err := v.keptJourneys(ctx, id); recorded != nil || err != nil { // somebody has asked meanwhile
		return recorded, err
	}
	p, err := v.past(ctx, id)
	if err != nil {
		return nil, err
	}
	recorded, err := sim.Journeys(p.plan(ctx), tracedJourneys)
	if err != nil {
		return nil, v.failure(err, "journeys")
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
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

// ends says where a journey ended badly, in the words of its last such step.
func ends(j *sim.Journey) string {
	for i := len(j.Steps) - 1; i >= 0; i-- {
		switch s := &j.Steps[i]; s.What {
		case "lost", "parked", "returned":
			return s.What + " at " + s.Node + ": " + s.Why
		}
	}
	if j.More > 0 && j.Outcome == "failed" {
		return fmt.Sprintf("after the %d recorded steps, and %d more", len(j.Steps), j.More)
	}
	return ""
}

// endsSo reports whether some copy of a journey was lost, parked or returned; or
// lost for a cause.
func endsSo(j *sim.Journey, how string) bool {
	for i := range j.Steps {
		switch s := &j.Steps[i]; s.What {
		case "lost", "parked", "returned":
			if s.What == how || s.Fate == how {
				return true
			}
		}
	}
	return false
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
	Outcome string `query:"outcome" enum:"complete,failed,in_flight"`
	Key     string `query:"key" doc:"only those whose key holds this text"`
	Node    string `query:"node" doc:"only those that came to this node"`
	Ends    string `query:"ends" maxLength:"60" doc:"only those of which some copy ended so: lost, parked, returned, or a cause of loss"`
	Data    string `query:"data" maxLength:"200" doc:"only those of which some event's payload holds this text"`
}) (*journeyList, error) {
	recorded, err := v.journeys(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out := &journeyList{}
	out.Body.Journeys, out.Body.Sampled = []JourneyLine{}, len(recorded)
	for i := range recorded {
		j := &recorded[i]
		if in.Outcome != "" && j.Outcome != in.Outcome || !strings.Contains(j.Key, in.Key) ||
			in.Node != "" && !touches(j, in.Node) ||
			in.Data != "" && !carries(j, in.Data) ||
			in.Ends != "" && !endsSo(j, in.Ends) {
			continue
		}
		out.Body.Journeys = append(
			out.Body.Journeys,
			JourneyLine{j.ID, j.Entry, j.Key, j.Began, j.Outcome, j.Copies, ends(j)},
		)
	}
	return out, nil
}

func (v *Service) getJourney(ctx context.Context, in *struct {
	RunPath
	Journey uint64 `path:"journey" minimum:"1"`
}) (*struct{ Body sim.Journey }, error) {
	recorded, err := v.journeys(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	for i := range recorded {
		if recorded[i].ID == in.Journey {
			return &struct{ Body sim.Journey }{recorded[i]}, nil
		}
	}
	p, err := v.past(ctx, in.ID) // not in the sample: it is recorded by itself
	if err != nil {
		return nil, err
	}
	j, err := sim.OneJourney(p.plan(ctx), in.Journey)
	if err != nil {
		return nil, v.failure(err, "journey")
	}
	if j == nil {
		return nil, huma.Error404NotFound(
			fmt.Sprintf("the first replication of run %d has no journey %d", in.ID, in.Journey),
		)
	}
	return &struct{ Body sim.Journey }{*j}, nil
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
	leave, err := v.admit(ctx, "messages at rest")
	if err != nil {
		return nil, err
	}
	defer leave()
	rests, total, err := sim.Rest(p.plan(ctx), in.Node, at)
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	if rests == nil {
		rests = []sim.Resting{}
	}
	return &struct{ Body AtRest }{AtRest{in.Node, at.Seconds(), total, rests}}, nil
}
