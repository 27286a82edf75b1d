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
	check      *procedure[besideModel, struct{}]
}

// textRoutes are for the texts that a model has beside its own: scenarios and
// variants.
func (v *Service) textRoutes() {
	(&textKind{v, store.Scenarios, "scenario", "Scenario", scenarioProcedure}).routes()
	(&textKind{v, store.Variants, "variant", "Variant", variantProcedure}).routes()
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
		Metadata:      checks,
		Errors:        []int{429},
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
	sent := &besideModel{r.Text, textNamed{in.Text + ".yaml", in.Body.Text}}
	if _, err := k.check.ask(ctx, k.Service, sent); err != nil {
		return nil, err
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

// besideModel is a text that goes with a model's.
type besideModel struct {
	Model string
	textNamed
}

// The procedures check texts that are to be saved against the latest revision.
var (
	scenarioProcedure = &procedure[besideModel, struct{}]{name: "scenario", do: readScenario}
	variantProcedure  = &procedure[besideModel, struct{}]{name: "variant", do: readVariant}
)

func readScenario(_ context.Context, of *besideModel) (*struct{}, error) {
	t, err := model.Parse("model.yaml", []byte(of.Model), model.Options{})
	if err == nil {
		_, err = model.ParseScenario(of.Name, []byte(of.Text), t)
	}
	if err != nil {
		return nil, badFile(err)
	}
	return &struct{}{}, nil
}

// readVariant reads a merge patch.
func readVariant(_ context.Context, of *besideModel) (*struct{}, error) {
	patch, err := model.ReadDocument(of.Name, []byte(of.Text))
	if err == nil {
		_, err = model.Parse("model.yaml", []byte(of.Model), model.Options{Variant: patch})
	}
	if err != nil {
		return nil, badFile(err)
	}
	return &struct{}{}, nil
}
