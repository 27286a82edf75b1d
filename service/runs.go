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

	"ironweir/core/study"
	"ironweir/jobs"
	"ironweir/store"
)

// RunPath names a run in a path.
type RunPath struct {
	ID int64 `path:"id" minimum:"1" doc:"the run"`
}

type runAnswer struct {
	Location string `header:"Location"`
	Body     *store.Run
}

func (v *Service) runRoutes() {
	huma.Register(v.api, huma.Operation{OperationID: "start-run", Method: http.MethodPost, Path: "/api/v1/models/{name}/runs", Summary: "Simulate a revision under a scenario; follow the run at its location", Security: signedIn, DefaultStatus: 202, Errors: []int{401, 404, 422, 503}},
		func(ctx context.Context, in *struct {
			ModelPath
			Body struct {
				Scenario string `json:"scenario" doc:"a scenario of the model"`
				Revision int    `json:"revision,omitempty" minimum:"0" doc:"0 or absent: the latest"`
			}
		}) (*runAnswer, error) {
			r, err := v.store.Revision(ctx, in.Name, in.Body.Revision)
			if err != nil {
				return nil, v.failure(err, "such revision of model "+in.Name)
			}
			s, err := v.store.Scenario(ctx, in.Name, in.Body.Scenario)
			if err != nil {
				return nil, v.failure(err, "scenario "+in.Body.Scenario+" of model "+in.Name)
			}
			if err := readScenario(r, s.Name, s.Text); err != nil {
				return nil, badFile(err)
			}
			run := &store.Run{Revision: r.Number, Scenario: s.Name, Text: s.Text, Author: userOf(ctx).Name, CreatedAt: time.Now()}
			if err := v.store.CreateRun(ctx, in.Name, run); err != nil {
				return nil, v.failure(err, "model "+in.Name)
			}
			v.runner.Wake()
			return &runAnswer{Location: fmt.Sprintf("/api/v1/runs/%d", run.ID), Body: run}, nil
		})

	type runList struct {
		Body struct {
			Runs []store.Run `json:"runs"`
			Next string      `json:"next,omitempty"`
		}
	}
	huma.Register(v.api, huma.Operation{OperationID: "list-runs", Method: http.MethodGet, Path: "/api/v1/runs", Summary: "List runs, latest first", Security: signedIn, Errors: []int{401, 503}},
		func(ctx context.Context, in *struct {
			Model  string `query:"model"`
			Cursor int64  `query:"cursor" minimum:"0"`
			Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
		}) (*runList, error) {
			before := in.Cursor
			if before == 0 {
				before = math.MaxInt64
			}
			list, err := v.store.Runs(ctx, in.Model, before, in.Limit+1)
			if err != nil {
				return nil, v.failure(err, "run")
			}
			out := &runList{}
			if len(list) > in.Limit {
				list = list[:in.Limit]
				out.Body.Next = strconv.FormatInt(list[in.Limit-1].ID, 10)
			}
			out.Body.Runs = list
			return out, nil
		})

	huma.Register(v.api, huma.Operation{OperationID: "get-run", Method: http.MethodGet, Path: "/api/v1/runs/{id}", Summary: "One run, without its result", Security: signedIn, Errors: []int{401, 404, 503}},
		func(ctx context.Context, in *RunPath) (*runAnswer, error) {
			run, err := v.store.Run(ctx, in.ID)
			if err != nil {
				return nil, v.failure(err, fmt.Sprintf("run %d", in.ID))
			}
			return &runAnswer{Body: run}, nil
		})

	huma.Register(v.api, huma.Operation{OperationID: "get-result", Method: http.MethodGet, Path: "/api/v1/runs/{id}/result", Summary: "The result of a run, as the command line prints it", Security: signedIn, Errors: []int{401, 404, 503}},
		func(ctx context.Context, in *RunPath) (*struct{ Body *study.Document }, error) {
			doc, err := v.result(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return &struct{ Body *study.Document }{doc}, nil
		})

	huma.Register(v.api, huma.Operation{OperationID: "cancel-run", Method: http.MethodPost, Path: "/api/v1/runs/{id}/cancel", Summary: "End a run early; it keeps what it has", Security: signedIn, DefaultStatus: 204, Errors: []int{401, 404, 503}},
		func(ctx context.Context, in *RunPath) (*struct{}, error) {
			if _, err := v.store.Run(ctx, in.ID); err != nil {
				return nil, v.failure(err, fmt.Sprintf("run %d", in.ID))
			}
			if err := v.runner.Cancel(ctx, in.ID); err != nil {
				return nil, v.failure(err, "run")
			}
			return nil, nil
		})

	huma.Register(v.api, huma.Operation{OperationID: "follow-run", Method: http.MethodGet, Path: "/api/v1/runs/{id}/events", Summary: "The progress of a run as Server-Sent Events, until it ends", Security: signedIn, Errors: []int{401, 404, 503},
		Responses: map[string]*huma.Response{"200": {Description: "events of type `progress`, each an update", Content: map[string]*huma.MediaType{"text/event-stream": {}}}}},
		func(ctx context.Context, in *struct {
			RunPath
			LastEventID string `header:"Last-Event-ID" doc:"an update says all; a stream that is resumed starts with how things stand"`
		}) (*huma.StreamResponse, error) {
			if _, err := v.store.Run(ctx, in.ID); err != nil {
				return nil, v.failure(err, fmt.Sprintf("run %d", in.ID))
			}
			return &huma.StreamResponse{Body: func(hc huma.Context) { v.stream(hc, in.ID) }}, nil
		})
}

// stream writes updates until the run ends or the listener has gone.
func (v *Service) stream(ctx huma.Context, id int64) {
	updates, stop := v.runner.Listen(id) // before the first look, so that nothing falls between
	defer stop()
	ctx.SetHeader("Content-Type", "text/event-stream")
	ctx.SetHeader("X-Accel-Buffering", "no")
	w := ctx.BodyWriter()
	flusher, _ := w.(http.Flusher)
	sequence := 0
	send := func(u jobs.Update) bool {
		sequence++
		text, _ := json.Marshal(u)
		_, err := fmt.Fprintf(w, "id: %d\nevent: progress\ndata: %s\n\n", sequence, text)
		if flusher != nil {
			flusher.Flush()
		}
		return err == nil && !u.Ended()
	}
	run, err := v.store.Run(ctx.Context(), id)
	if err != nil || !send(jobs.Update{Run: id, State: run.State, Progress: run.Progress, Error: run.Error}) {
		return
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-ctx.Context().Done():
			return
		case u := <-updates:
			if !send(u) {
				return
			}
		case <-beat.C:
			if _, err := fmt.Fprint(w, ": still here\n\n"); err != nil {
				return
			}
			if flusher != nil {
				flusher.Flush()
			}
		}
	}
}
