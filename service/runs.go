package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/sensitivity"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/jobs"
	"ironweir/store"
)

// RunPath names a run in a path.
type RunPath struct {
	WorkspacePath
	ID int64 `path:"id" minimum:"1" doc:"the run"`
}

type runAnswer struct {
	Location string `header:"Location"`
	Body     *store.Run
}

// RunRequest is what a run is asked for with.
type RunRequest struct {
	Scenario string   `json:"scenario" doc:"a scenario of the model"`
	Revision int      `json:"revision,omitempty" minimum:"0" doc:"0 or absent: the latest"`
	Variants []string `json:"variants,omitempty" maxItems:"20" doc:"variants of the model, run side by side with it as it is"`
	store.Study
}

// run finds a run of the workspace that a request is about.
func (v *Service) run(ctx context.Context, id int64) (*store.Run, error) {
	r, err := v.store.Run(ctx, id)
	if err == nil && r.Workspace != spaceOf(ctx).Name {
		err = store.ErrNotFound
	}
	if err != nil {
		return nil, v.failure(err, fmt.Sprintf("run %d in this workspace", id))
	}
	return r, nil
}

// asked makes the run that was asked for, and checks that it can be done.
func (v *Service) asked(ctx context.Context, name string, q RunRequest) (*store.Run, error) {
	r, err := v.store.Revision(ctx, spaceOf(ctx), name, q.Revision)
	if err != nil {
		return nil, v.failure(err, "such revision of model "+name)
	}
	s, err := v.store.Text(ctx, store.Scenarios, spaceOf(ctx), name, q.Scenario)
	if err != nil {
		return nil, v.failure(err, "scenario "+q.Scenario+" of model "+name)
	}
	of := q.Study
	of.Variants = nil
	for _, variant := range q.Variants {
		text, err := v.store.Text(ctx, store.Variants, spaceOf(ctx), name, variant)
		if err != nil {
			return nil, v.failure(err, "variant "+variant+" of model "+name)
		}
		of.Variants = append(of.Variants, store.Variant{Name: text.Name, Text: text.Text})
	}
	if len(of.Variants) > 0 && len(of.Sweep) > 0 && of.Sensitivity == nil {
		return nil, huma.Error422UnprocessableEntity("a run is of variants or of a sweep, not of both")
	}
	text, err := json.Marshal(of)
	if err != nil {
		return nil, v.failure(err, "run")
	}
	run := &store.Run{
		Model:     name,
		Revision:  r.Number,
		Scenario:  s.Name,
		Text:      s.Text,
		Study:     text,
		Author:    accessOf(ctx).User.Name,
		CreatedAt: time.Now(),
	}
	parts, err := partsProcedure.ask(ctx, v, newRunOf(run, r.Text, sim.Limits{}))
	if err != nil {
		return nil, err
	}
	run.Parts = *parts
	run.Priority = store.Soon
	if run.Parts > manyParts || of.Sensitivity != nil {
		run.Priority = store.Later
	}
	return run, nil
}

// partsProcedure checks that a run can be done, and gives how many parts it has.
var partsProcedure = &procedure[runOf, int]{name: "start-run", do: func(_ context.Context, of *runOf) (*int, error) {
	task, err := of.task()
	if err != nil {
		return nil, err
	}
	parts, err := task.Parts()
	if err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &parts, nil
}}

// manyParts is how many parts a run may have that goes before long studies.
const manyParts = 16

func (v *Service) runRoutes() {
	register(v, store.Editor, huma.Operation{
		OperationID:   "start-run",
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces/{workspace}/models/{name}/runs",
		Summary:       "Simulate a revision under a scenario, its variants beside it, the points of a sweep, or what its guesses decide; follow the run at its location",
		DefaultStatus: 202,
		MaxBodyBytes:  MaxBody,
		Metadata:      checks,
		Errors:        []int{409, 429},
	}, v.startRun)

	register(v, store.Viewer, huma.Operation{
		OperationID: "list-runs",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs",
		Summary:     "List runs, latest first",
	}, v.listRuns)

	register(v, store.Editor, huma.Operation{
		OperationID:   "delete-run",
		Method:        http.MethodDelete,
		Path:          "/api/v1/workspaces/{workspace}/runs/{id}",
		Summary:       "Remove a run with its result",
		DefaultStatus: 204,
	}, v.deleteRun)

	register(v, store.Viewer, huma.Operation{
		OperationID: "get-run",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}",
		Summary:     "One run, without its result",
	}, v.getRun)

	register(v, store.Editor, huma.Operation{
		OperationID:   "cancel-run",
		Method:        http.MethodPost,
		Path:          "/api/v1/workspaces/{workspace}/runs/{id}/cancel",
		Summary:       "End a run early; it keeps what it has",
		DefaultStatus: 204,
	}, v.cancelRun)

	register(v, store.Viewer, huma.Operation{
		OperationID: "follow-run",
		Metadata:    map[string]any{lasting: time.Duration(0)},
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/events",
		Summary:     "The progress of a run as Server-Sent Events, until it ends",
		Responses: map[string]*huma.Response{
			"200": {
				Description: "events of type `progress`, each an update",
				Content:     map[string]*huma.MediaType{"text/event-stream": {}},
			},
		},
	}, v.followRun)
	v.resultRoutes()
}

// resultRoutes give the results of runs, by what they are of.
func (v *Service) resultRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-result",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/result",
		Summary:     "The result of a run, as the command line prints it",
	}, v.getResult)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-run-scenario",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/scenario",
		Summary:     "The scenario of a run as it was when the run was asked for",
	}, v.getRunScenario)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-variants-result",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/variants",
		Summary:     "The result of a run of variants side by side, with their differences",
	}, v.getVariantsResult)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-sweep-result",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/sweep",
		Summary:     "The result of a run of a sweep, point by point",
	}, v.getSweepResult)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-sensitivity-result",
		Method:      http.MethodGet,
		Path:        "/api/v1/workspaces/{workspace}/runs/{id}/sensitivity",
		Summary:     "Which guesses of the model decide the result of a run, as the command line prints it",
	}, v.getSensitivityResult)
}

func (v *Service) startRun(ctx context.Context, in *struct {
	ModelPath
	Keyed
	Body RunRequest
}) (*runAnswer, error) {
	run, err := v.asked(ctx, in.Name, in.Body)
	if err != nil {
		return nil, err
	}
	if err := v.queue.Start(ctx, spaceOf(ctx), in.Name, run, idempotency(in.Key, in.Body)); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return &runAnswer{
		Location: fmt.Sprintf("/api/v1/workspaces/%s/runs/%d", run.Workspace, run.ID),
		Body:     run,
	}, nil
}

func (v *Service) listRuns(ctx context.Context, in *struct {
	WorkspacePath
	Model  string `query:"model"`
	Cursor int64  `query:"cursor" minimum:"0"`
	Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}) (*page[store.Run], error) {
	before := in.Cursor
	if before == 0 {
		before = math.MaxInt64
	}
	list, err := v.store.Runs(ctx, spaceOf(ctx), in.Model, before, in.Limit+1)
	if err != nil {
		return nil, v.failure(err, "run")
	}
	return paged(list, in.Limit, func(r store.Run) string { return strconv.FormatInt(r.ID, 10) }), nil
}

func (v *Service) deleteRun(ctx context.Context, in *RunPath) (*struct{}, error) {
	r, err := v.run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := v.store.DeleteRun(ctx, r); err != nil {
		return nil, v.failure(err, "run")
	}
	return nil, nil
}

func (v *Service) getRun(ctx context.Context, in *RunPath) (*runAnswer, error) {
	run, err := v.run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &runAnswer{Body: run}, nil
}

func (v *Service) getResult(ctx context.Context, in *RunPath) (*struct{ Body *study.Document }, error) {
	doc, err := result[study.Document](ctx, v, in.ID, "run")
	return &struct{ Body *study.Document }{doc}, err
}

func (v *Service) getRunScenario(ctx context.Context, in *RunPath) (*textAnswer, error) {
	run, err := v.run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return answerText([]byte(run.Text)), nil
}

func (v *Service) getVariantsResult(ctx context.Context, in *RunPath) (*struct{ Body *study.Variants }, error) {
	doc, err := result[study.Variants](ctx, v, in.ID, "variants")
	return &struct{ Body *study.Variants }{doc}, err
}

func (v *Service) getSweepResult(ctx context.Context, in *RunPath) (*struct{ Body *study.Sweep }, error) {
	doc, err := result[study.Sweep](ctx, v, in.ID, "sweep")
	return &struct{ Body *study.Sweep }{doc}, err
}

func (v *Service) getSensitivityResult(
	ctx context.Context,
	in *RunPath,
) (*struct{ Body *sensitivity.Document }, error) {
	doc, err := result[sensitivity.Document](ctx, v, in.ID, "sensitivity")
	return &struct{ Body *sensitivity.Document }{doc}, err
}

func (v *Service) cancelRun(ctx context.Context, in *RunPath) (*struct{}, error) {
	run, err := v.run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if err := v.queue.Cancel(ctx, run, accessOf(ctx).User.Name); err != nil {
		return nil, v.failure(err, "run")
	}
	return nil, nil
}

func (v *Service) followRun(ctx context.Context, in *struct {
	RunPath
	LastEventID string `header:"Last-Event-ID" doc:"an update says all; a stream that is resumed starts with how things stand"`
}) (*huma.StreamResponse, error) {
	if _, err := v.run(ctx, in.ID); err != nil {
		return nil, err
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) { v.stream(hc, in.ID) }}, nil
}

// result gives the result document of a run of some kind.
func result[T any](ctx context.Context, v *Service, id int64, kind string) (*T, error) {
	text, err := v.resultText(ctx, id, kind)
	if err != nil {
		return nil, err
	}
	doc := new(T)
	if err := json.Unmarshal(text, doc); err != nil {
		return nil, v.failure(err, "result")
	}
	return doc, nil
}

// resultText gives the result of a run of some kind as it is kept.
func (v *Service) resultText(ctx context.Context, id int64, kind string) (json.RawMessage, error) {
	run, err := v.run(ctx, id)
	if err != nil {
		return nil, err
	}
	if run.Kind != kind {
		return nil, huma.Error404NotFound(
			fmt.Sprintf("run %d is of kind %s, not %s: its result lies elsewhere", id, run.Kind, kind),
		)
	}
	text, err := v.store.Result(ctx, id)
	if err != nil {
		return nil, v.failure(err, fmt.Sprintf("result of run %d (yet)", id))
	}
	return text, nil
}

// stream writes updates until the run ends or the listener has gone.
func (v *Service) stream(ctx huma.Context, id int64) {
	updates, stop := v.queue.Listen(id) // before the first look, so that nothing falls between
	defer stop()
	out := startStream(ctx)
	send := func(u jobs.Update) bool {
		text, _ := json.Marshal(u)
		return out.send("progress", text) && !u.Ended()
	}
	run, err := v.store.Run(ctx.Context(), id)
	if err != nil || !send(jobs.UpdateOf(run)) {
		return
	}
	follow(v, ctx, out, updates, nil, send)
}
