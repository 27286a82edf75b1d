package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"ironweir/observation"
	"ironweir/store"
)

// observationRoutes are for what was observed of the systems that models are of.
func (v *Service) observationRoutes() {
	const one = "/api/v1/workspaces/{workspace}/models/{name}"
	register(v, store.Editor, telemetry("post-model-traces", one,
		"Traces of the system that the model is of, by OTLP over HTTP; metrics and logs are dropped"), v.postModelTraces)
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-observation",
		Method:      http.MethodGet,
		Path:        one + "/observation",
		Summary:     "The latest day of the model's system beside the model, and how both have drifted apart",
		Metadata:    checks,
		Errors:      []int{429},
	}, v.getObservation)
	register(v, store.Editor, huma.Operation{
		OperationID:   "delete-observation",
		Method:        http.MethodDelete,
		Path:          one + "/observation",
		Summary:       "Remove all that was observed of the model's system",
		DefaultStatus: 204,
	}, v.deleteObservation)
	register(v, store.Editor, huma.Operation{
		OperationID:   "set-webhook",
		Method:        http.MethodPut,
		Path:          one + "/webhook",
		Summary:       "Choose where new drift is sent as a CloudEvent; an administrator lists where that may be",
		DefaultStatus: 204,
	}, v.setWebhook)
}

func (v *Service) postModelTraces(ctx context.Context, in *modelTelemetryPath) (*huma.StreamResponse, error) {
	m, err := v.store.Model(ctx, spaceOf(ctx), in.Name)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return v.receive(ctx, func(c *gin.Context) { v.receiveFor(c, m, in.Signal) })
}

func (v *Service) getObservation(ctx context.Context, in *ModelPath) (*struct{ Body *observation.View }, error) {
	m, err := v.store.Model(ctx, spaceOf(ctx), in.Name)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	revision, err := v.store.RevisionOf(ctx, m.ID, 0)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	leave, err := v.enter(ctx, "observation", computation{})
	if err != nil {
		return nil, tooBusy(err)
	}
	defer leave()
	g, err := compile(in.Name+".yaml", revision.Text)
	if err != nil {
		return nil, badFile(err)
	}
	view, err := observation.Look(ctx, v.store, m, g)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	if !store.Covers(roleIn(ctx), store.Editor) { // an address may hold a secret
		view.Webhook = ""
	}
	return &struct{ Body *observation.View }{view}, nil
}

func (v *Service) deleteObservation(ctx context.Context, in *ModelPath) (*struct{}, error) {
	if err := v.store.Forget(ctx, spaceOf(ctx), in.Name); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return nil, nil
}

func (v *Service) setWebhook(ctx context.Context, in *struct {
	ModelPath
	Body struct {
		Address string `json:"address" maxLength:"2000" doc:"begins with http:// or https://; empty: nothing is sent"`
	}
}) (*struct{}, error) {
	if address := in.Body.Address; address != "" {
		if err := observation.CheckAddress(address); err != nil {
			return nil, huma.Error422UnprocessableEntity(err.Error())
		}
		settings, err := v.store.Settings(ctx)
		if err != nil {
			return nil, v.failure(err, "settings")
		}
		if !observation.Allowed(address, settings.Webhooks) {
			return nil, huma.Error422UnprocessableEntity(
				address + " lies at none of the addresses that the settings allow for webhooks; an administrator adds one")
		}
	}
	if err := v.store.SetWebhook(ctx, spaceOf(ctx), in.Name, in.Body.Address); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return nil, nil
}
