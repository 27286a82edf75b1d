package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/document"
	"ironweir/core/mend"
	"ironweir/store"
)

// mendTime bounds the search for a plan; it ends with what it has.
const mendTime = 20 * time.Second

// mendRoutes find the changes that a text needs, which need not be saved.
func (v *Service) mendRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID:  "mend",
		Metadata:     computes,
		Method:       http.MethodPost,
		Path:         "/api/v1/mend",
		Summary:      "The smallest set of changes after which a topology has no error",
		MaxBodyBytes: MaxBody,
	}, v.mend)
}

func (v *Service) mend(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"The topology, as YAML"`
	}
}) (*struct{ Body mend.Document }, error) {
	g, err := compile("model.yaml", in.Body.Text)
	if err != nil {
		return nil, badFile(err)
	}
	ctx, cancel := context.WithTimeout(ctx, mendTime)
	defer cancel()
	doc, err := mend.Find(mend.Options{Graph: g, Stop: func() bool { return ctx.Err() != nil }})
	if err != nil {
		return nil, badFile(err)
	}
	doc.Head = document.NewHead("mend", g.Topology.Name, "", document.Digest(in.Body.Text))
	return &struct{ Body mend.Document }{*doc}, nil
}
