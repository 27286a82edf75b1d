package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"ironweir/core/learn"
	"ironweir/formats/otlp"
	"ironweir/observation"
	"ironweir/store"
)

// Telemetry of real systems comes by OTLP over HTTP, for a rehearsal or for a model. What is answered is settled by
// that protocol.

// TelemetryPath is the last part of the path to which exporters send by themselves.
type TelemetryPath struct {
	Signal string `path:"signal" enum:"traces,metrics,logs"`
}

type rehearsalTelemetryPath struct {
	RehearsalPath
	TelemetryPath
}

type modelTelemetryPath struct {
	ModelPath
	TelemetryPath
}

// telemetry describes an operation that takes telemetry below a path.
func telemetry(id, below, summary string) huma.Operation {
	answer := map[string]*huma.MediaType{
		"application/json":       {Schema: &huma.Schema{Type: huma.TypeObject}},
		"application/x-protobuf": {},
	}
	op := huma.Operation{
		OperationID: id,
		Method:      http.MethodPost,
		Path:        below + "/v1/{signal}",
		Summary:     summary,
		Metadata:    map[string]any{brief: true, lasting: time.Duration(0)},
		Errors:      []int{429},
		RequestBody: &huma.RequestBody{Content: map[string]*huma.MediaType{
			"application/x-protobuf": {}, "application/json": {},
		}},
		Responses: map[string]*huma.Response{"200": {Description: "they have come in", Content: answer}},
	}
	for _, status := range []string{"400", "405", "413", "415", "500"} {
		op.Responses[status] = &huma.Response{Description: "a Status, in the encoding of the request", Content: answer}
	}
	return op
}

// receive lets something read telemetry when the budget allows it: read, it takes much more memory than sent.
func (v *Service) receive(ctx context.Context, serve func(c *gin.Context)) (*huma.StreamResponse, error) {
	leave, err := v.enter(ctx, "telemetry", computation{})
	if err != nil {
		return nil, tooBusy(err)
	}
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		defer leave()
		serve(humagin.Unwrap(hc))
	}}, nil
}

// receiveFor takes telemetry of the system that a model is of.
func (v *Service) receiveFor(c *gin.Context, m *store.Model, signal string) {
	otlp.Receive(c.Writer, c.Request, signal, func(spans []learn.Span) (int64, string, error) {
		refused, why, err := observation.Keep(c.Request.Context(), v.store, m, spans)
		if errors.Is(err, store.ErrUnavailable) {
			v.log.Warn("the database cannot be reached", "error", err)
			err = &otlp.Busy{Seconds: 2, Why: "the database cannot be reached; try again in a moment"}
		}
		return refused, why, err
	})
}

// telemetryAtRoot takes telemetry at the path that exporters use by themselves: for the model that a header names, or
// the rehearsal that one names, or the only rehearsal that there is.
func (v *Service) telemetryAtRoot() {
	op := &huma.Operation{
		OperationID: "telemetry",
		Path:        "/v1/{signal}",
		Security:    []map[string][]string{{"session": {store.Editor}}, {"token": {store.Editor}}},
		Metadata:    map[string]any{brief: true, lasting: time.Duration(0)},
	}
	v.engine.POST("/v1/:signal", func(c *gin.Context) {
		v.authorise(humagin.NewContext(op, c), func(ctx huma.Context) {
			signal := c.Param("signal")
			if signal != "traces" && signal != "metrics" && signal != "logs" {
				problem(c.Writer, http.StatusNotFound, "there is no POST "+c.Request.URL.Path)
				return
			}
			leave, err := v.enter(ctx.Context(), "telemetry", computation{})
			if err != nil {
				v.refuse(ctx, err)
				return
			}
			defer leave()
			if name := c.GetHeader("Ironweir-Model"); name != "" {
				m, err := v.namedModel(ctx.Context(), name)
				if err != nil {
					problem(c.Writer, http.StatusNotFound, err.Error())
					return
				}
				v.receiveFor(c, m, signal)
				return
			}
			k, err := v.onlyRehearsal(ctx.Context(), c.GetHeader("Ironweir-Rehearsal"))
			if err != nil {
				problem(c.Writer, http.StatusNotFound, err.Error())
				return
			}
			k.takeTelemetry(c, signal, accessOf(ctx.Context()).User.Name)
		})
	})
}

// namedModel finds the model WORKSPACE/MODEL, where who asks may change it.
func (v *Service) namedModel(ctx context.Context, name string) (*store.Model, error) {
	missing := fmt.Errorf("there is no model %s: Ironweir-Model names it as WORKSPACE/MODEL", name)
	space, model, ok := strings.Cut(name, "/")
	if !ok {
		return nil, missing
	}
	w, err := v.store.Workspace(ctx, space)
	if err != nil {
		return nil, missing
	}
	role, err := v.store.Role(ctx, accessOf(ctx), w)
	if err != nil || !store.Covers(role, store.Editor) {
		return nil, missing
	}
	m, err := v.store.Model(ctx, w, model)
	if err != nil {
		return nil, missing
	}
	return m, nil
}

// onlyRehearsal finds the rehearsal of an id, or the only one that somebody may
// send to.
func (v *Service) onlyRehearsal(ctx context.Context, id string) (*kept, error) {
	var may []*kept
	for _, k := range v.rehearsals.all() {
		w, err := v.store.Workspace(ctx, k.Workspace)
		if err != nil || w.ID != k.space {
			continue
		}
		if role, err := v.store.Role(ctx, accessOf(ctx), w); err == nil && store.Covers(role, store.Editor) &&
			(id == "" || id == k.ID) {
			may = append(may, k)
		}
	}
	switch {
	case len(may) == 1:
		return may[0], nil
	case id != "":
		return nil, fmt.Errorf("there is no rehearsal %s", id)
	case len(may) == 0:
		return nil, errors.New(
			"no rehearsal goes on that could take traces; start one, or name a model in the header Ironweir-Model")
	}
	return nil, fmt.Errorf(
		"%d rehearsals go on; name one in the header Ironweir-Rehearsal, or send to its own /v1/traces",
		len(may),
	)
}
