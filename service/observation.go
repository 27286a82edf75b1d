package service

import (
	"context"
	"errors"
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
	view, err := observation.Look(ctx, v.store, m, func(e *observation.Evidence) (*observation.Seen, error) {
		return observationProcedure.ask(ctx, v, &observed{textNamed{in.Name + ".yaml", revision.Text}, *e})
	})
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	if !store.Covers(roleIn(ctx), store.Editor) { // an address may hold a secret
		view.Webhook = ""
	}
	return &struct{ Body *observation.View }{view}, nil
}

// observed is a model's text with what was observed of its system.
type observed struct {
	textNamed
	observation.Evidence
}

// Work for observations is done by processes of their own, as other computations are.
var (
	observationProcedure = &procedure[observed, observation.Seen]{
		name: "observation",
		do: func(_ context.Context, of *observed) (*observation.Seen, error) {
			g, err := compile(of.Name, of.Text)
			if err != nil {
				return nil, badFile(err)
			}
			return observation.Compare(g, &of.Evidence)
		},
	}
	sumProcedure = &procedure[observation.Unsummed, observation.Summed]{
		name: "sum-up",
		do: func(_ context.Context, of *observation.Unsummed) (*observation.Summed, error) {
			return observation.SumUp(of)
		},
	}
	driftProcedure = &procedure[observation.Past, []observation.Difference]{
		name: "drift",
		do: func(_ context.Context, of *observation.Past) (*[]observation.Difference, error) {
			found, err := observation.Drifts(of)
			if errors.Is(err, observation.ErrUnread) {
				found = nil // which is null, where no drift is an empty list
			} else if err != nil {
				return nil, err
			}
			return &found, nil
		},
	}
)

// Work is how a keeper of observations computes beside this service.
func (v *Service) Work() observation.Work { return keeperWork{v} }

type keeperWork struct{ v *Service }

func (w keeperWork) SumUp(ctx context.Context, of *observation.Unsummed) (*observation.Summed, error) {
	return sumProcedure.call(ctx, w.v, of)
}

func (w keeperWork) Drifts(ctx context.Context, of *observation.Past) ([]observation.Difference, error) {
	found, err := driftProcedure.call(ctx, w.v, of)
	if err != nil {
		return nil, err
	}
	if *found == nil {
		return nil, observation.ErrUnread
	}
	return *found, nil
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
