package service

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/model"
	"ironweir/store"
)

// TextPath names a scenario or variant in a path.
type TextPath struct {
	ModelPath
	Text string `path:"text" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"its name"`
}

// textRoutes are for the texts that a model has beside its own: scenarios and
// variants.
func (v *Service) textRoutes() {
	v.routesOf(store.Scenarios, "scenario", "Scenario", readScenario)
	v.routesOf(store.Variants, "variant", "Variant", readVariant)
}

func (v *Service) routesOf(
	which store.Texts,
	one, title string,
	read func(r *store.Revision, name, text string) error,
) {
	path := "/api/v1/workspaces/{workspace}/models/{name}/" + string(which)
	register(
		v,
		store.Viewer,
		huma.Operation{
			OperationID: "list-" + string(which),
			Method:      http.MethodGet,
			Path:        path,
			Summary:     "List a model's " + string(which),
		},
		func(ctx context.Context, in *ModelPath) (*page[store.Scenario], error) {
			list, err := v.store.Texts(ctx, which, spaceOf(ctx), in.Name)
			if err != nil {
				return nil, v.failure(err, "model "+in.Name)
			}
			return paged(list, len(list), func(s store.Scenario) string { return s.Name }), nil
		},
	)
	register(
		v,
		store.Viewer,
		huma.Operation{
			OperationID: "get-" + one,
			Method:      http.MethodGet,
			Path:        path + "/{text}",
			Summary:     title + " of a model",
		},
		func(ctx context.Context, in *TextPath) (*struct{ Body *store.Scenario }, error) {
			s, err := v.store.Text(ctx, which, spaceOf(ctx), in.Name, in.Text)
			if err != nil {
				return nil, v.failure(err, one+" "+in.Text+" of model "+in.Name)
			}
			return &struct{ Body *store.Scenario }{s}, nil
		},
	)
	register(
		v,
		store.Editor,
		huma.Operation{
			OperationID:   "save-" + one,
			Method:        http.MethodPut,
			Path:          path + "/{text}",
			Summary:       "Make or replace a " + one + " of a model",
			DefaultStatus: 204,
			MaxBodyBytes:  MaxBody,
		},
		func(ctx context.Context, in *struct {
			TextPath
			Body textBody
		}) (*struct{}, error) {
			r, err := v.store.Revision(ctx, spaceOf(ctx), in.Name, 0)
			if err != nil {
				return nil, v.failure(err, "model "+in.Name)
			}
			if err := read(r, in.Text, in.Body.Text); err != nil {
				return nil, badFile(err)
			}
			if err := v.store.SaveText(ctx, which, spaceOf(ctx), in.Name, in.Text, in.Body.Text); err != nil {
				return nil, v.failure(err, "model "+in.Name)
			}
			return nil, nil
		},
	)
	register(
		v,
		store.Editor,
		huma.Operation{
			OperationID:   "delete-" + one,
			Method:        http.MethodDelete,
			Path:          path + "/{text}",
			Summary:       "Remove a " + one + " of a model; runs of it stay",
			DefaultStatus: 204,
		},
		func(ctx context.Context, in *TextPath) (*struct{}, error) {
			if err := v.store.DeleteText(ctx, which, spaceOf(ctx), in.Name, in.Text); err != nil {
				return nil, v.failure(err, one+" "+in.Text+" of model "+in.Name)
			}
			return nil, nil
		},
	)
}

// readScenario checks a scenario against a revision.
func readScenario(r *store.Revision, name, text string) error {
	t, err := model.Parse("model.yaml", []byte(r.Text), model.Options{})
	if err != nil {
		return err
	}
	_, err = model.ParseScenario(name+".yaml", []byte(text), t)
	return err
}

// readVariant checks a variant, a merge patch, over a revision.
func readVariant(r *store.Revision, name, text string) error {
	patch, err := model.ReadDocument(name+".yaml", []byte(text))
	if err != nil {
		return err
	}
	_, err = model.Parse("model.yaml", []byte(r.Text), model.Options{Variant: patch})
	return err
}
