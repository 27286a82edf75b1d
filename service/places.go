package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"regexp"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/store"
)

// Places are where nodes of a model were put by hand.
type Places struct {
	Places map[string]store.Place `json:"places" doc:"by node, in pixels of the board"`
}

func (v *Service) placeRoutes() {
	const path = "/api/v1/workspaces/{workspace}/models/{name}/places"
	register(v, store.Viewer, huma.Operation{
		OperationID: "get-places",
		Method:      http.MethodGet,
		Path:        path,
		Summary:     "Where nodes of a model were put by hand on its board",
	}, v.getPlaces)

	register(v, store.Editor, huma.Operation{
		OperationID:   "place-nodes",
		Method:        http.MethodPatch,
		Path:          path,
		Summary:       "Put nodes of a model on its board, for everybody; the others stay where they are",
		DefaultStatus: 204,
	}, v.placeNodes)

	register(v, store.Editor, huma.Operation{
		OperationID:   "tidy-board",
		Method:        http.MethodDelete,
		Path:          path,
		Summary:       "Give all nodes of a model the places that the layout chooses",
		DefaultStatus: 204,
	}, v.tidyBoard)
}

func (v *Service) getPlaces(ctx context.Context, in *ModelPath) (*struct{ Body Places }, error) {
	places, err := v.store.Places(ctx, spaceOf(ctx), in.Name)
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return &struct{ Body Places }{Places{places}}, nil
}

// nodeName matches the name of a node, also of one of a part.
var nodeName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}(/[a-z][a-z0-9-]{0,62}){0,7}$`)

func (v *Service) placeNodes(ctx context.Context, in *struct {
	ModelPath
	Body struct {
		Places
		Release []string `json:"release,omitempty" maxItems:"10000" doc:"nodes that go where the layout puts them"`
	}
}) (*struct{}, error) {
	for name := range in.Body.Places.Places {
		if !nodeName.MatchString(name) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%.80q is no name of a node", name))
		}
	}
	err := v.store.PutNodes(ctx, spaceOf(ctx), in.Name, in.Body.Places.Places, in.Body.Release)
	if errors.Is(err, store.ErrTooMany) {
		return nil, huma.Error422UnprocessableEntity(
			fmt.Sprintf("at most %d nodes of a model are put by hand", store.MostPlaces))
	}
	if err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return nil, nil
}

func (v *Service) tidyBoard(ctx context.Context, in *ModelPath) (*struct{}, error) {
	if err := v.store.ReleaseNodes(ctx, spaceOf(ctx), in.Name); err != nil {
		return nil, v.failure(err, "model "+in.Name)
	}
	return nil, nil
}
