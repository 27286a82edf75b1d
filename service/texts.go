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

// textKind is one kind of texts that a model has beside its own.
type textKind struct {
	*Service
	of         store.Texts
	one, title string
	read       func(r *store.Revision, name, text string) error
}

// textRoutes are for the texts that a model has beside its own: scenarios and
// variants.
func (v *Service) textRoutes() {
	(&textKind{v, store.Scenarios, "scenario", "Scenario", readScenario}).routes()
	(&textKind{v, store.Variants, "variant", "Variant", readVariant}).routes()
}

func (k *textKind) routes() {
	path := "/api/v1/workspaces/{workspace}/models/{name}/" + string(k.of)
	register(k.Service, store.Viewer, huma.Operation{
		OperationID: "list-" + string(k.of),
		Method:      http.MethodGet,
		Path:        path,
		Summary:     "List a model's " + string(k.of),
	}, k.list)
	register(k.Service, store.Viewer, huma.Operation{
		OperationID: "get-" + k.one,
		Method:      http.MethodGet,
		Path:        path + "/{text}",
		Summary:     k.title + " of a model",
	}, k.get)
	register(k.Service, store.Editor, huma.Operation{
		OperationID:   "save-" + k.one,
		Method:        http.MethodPut,
		Path:          path + "/{text}",
		Summary:       "Make or replace a " + k.one + " of a model",
		DefaultStatus: 204,
		MaxBodyBytes:  MaxBody,
	}, k.save)
	register(k.Service, store.Editor, huma.Operation{
		OperationID:   "delete-" + k.one,
		Method:        http.MethodDelete,
		Path:          path + "/{text}",
		Summary:       "Remove a " + k.one + " of a model; runs of it stay",
		DefaultStatus: 204,
	}, k.delete)
}

// notFound says which text is missing, where it is.
func (k *textKind) notFound(err error, in *TextPath) error {
	return k.failure(err, k.one+" "+in.Text+" of model "+in.Name)
}

func (k *textKind) list(ctx context.Context, in *ModelPath) (*page[store.Scenario], error) {
	list, err := k.store.Texts(ctx, k.of, spaceOf(ctx), in.Name)
	if err != nil {
		return nil, k.failure(err, "model "+in.Name)
	}
	return paged(list, len(list), func(s store.Scenario) string { return s.Name }), nil
}

func (k *textKind) get(ctx context.Context, in *TextPath) (*struct{ Body *store.Scenario }, error) {
	s, err := k.store.Text(ctx, k.of, spaceOf(ctx), in.Name, in.Text)
	if err != nil {
		return nil, k.notFound(err, in)
	}
	return &struct{ Body *store.Scenario }{s}, nil
}

func (k *textKind) save(ctx context.Context, in *struct {
	TextPath
	Body textBody
}) (*struct{}, error) {
	r, err := k.store.Revision(ctx, spaceOf(ctx), in.Name, 0)
	if err != nil {
		return nil, k.failure(err, "model "+in.Name)
	}
	if err := k.read(r, in.Text, in.Body.Text); err != nil {
		return nil, badFile(err)
	}
	if err := k.store.SaveText(ctx, k.of, spaceOf(ctx), in.Name, in.Text, in.Body.Text); err != nil {
		return nil, k.failure(err, "model "+in.Name)
	}
	return nil, nil
}

func (k *textKind) delete(ctx context.Context, in *TextPath) (*struct{}, error) {
	if err := k.store.DeleteText(ctx, k.of, spaceOf(ctx), in.Name, in.Text); err != nil {
		return nil, k.notFound(err, in)
	}
	return nil, nil
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
