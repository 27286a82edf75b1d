package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"ironweir/store"
)

type entryPath struct {
	RehearsalPath
	Node string `path:"node" maxLength:"200" doc:"the node at which the events come in"`
}

// byRehearsal passes a request to a rehearsal, which answers by itself: the body may be of any kind.
func (v *Service) byRehearsal(
	ctx context.Context, id string, serve func(k *kept, c *gin.Context, who string),
) (*huma.StreamResponse, error) {
	k, err := v.rehearsal(ctx, id)
	if err != nil {
		return nil, err
	}
	who := accessOf(ctx).User.Name
	return &huma.StreamResponse{Body: func(hc huma.Context) { serve(k, humagin.Unwrap(hc), who) }}, nil
}

func serveEvents(k *kept, c *gin.Context, who string) {
	k.live.ServeEvents(c.Writer, c.Request, c.Param("node"), who)
}

// arrived describes the answer to events that have come in.
var arrived = &huma.Response{
	Description: "they have come in",
	Content: map[string]*huma.MediaType{"application/json": {Schema: &huma.Schema{
		Type:     huma.TypeObject,
		Required: []string{"node", "journeys"},
		Properties: map[string]*huma.Schema{
			"node":     {Type: huma.TypeString},
			"rejected": {Type: huma.TypeInteger},
			"journeys": {
				Type:        huma.TypeArray,
				Items:       &huma.Schema{Type: huma.TypeInteger},
				Description: "the numbers of the messages",
			},
		},
	}}},
}

// ingressRoutes are where events, requests and traces come in. What they answer is
// settled by CloudEvents, the model and OTLP.
func (v *Service) ingressRoutes(one string) {
	described := func(kinds ...string) *huma.RequestBody {
		content := map[string]*huma.MediaType{}
		for _, k := range kinds {
			content[k] = &huma.MediaType{}
		}
		return &huma.RequestBody{Content: content}
	}
	quick := map[string]any{brief: true, lasting: time.Duration(0)}
	problems := []int{400, 403, 404, 405, 409, 410, 413, 415, 429, 503}
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "post-events",
		Method:      http.MethodPost,
		Path:        one + "/entries/{node}",
		Summary:     "Post CloudEvents 1.0 to a node: binary, structured or as a batch",
		Metadata:    quick,
		Errors:      problems,
		RequestBody: described(
			"application/cloudevents+json",
			"application/cloudevents-batch+json",
			"application/json",
			"text/plain",
			"application/octet-stream",
		),
		Responses: map[string]*huma.Response{"202": arrived},
	}, v.postEvents)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "ask-to-post",
		Method:      http.MethodOptions,
		Path:        one + "/entries/{node}",
		Summary:     "The handshake of CloudEvents' web hooks",
		Metadata:    quick,
		Responses:   map[string]*huma.Response{"200": {Description: "events may be posted"}},
	}, v.askToPost)
	onRehearsal(v, askedThere, store.Editor, telemetry("post-traces", one,
		"Traces of the real system, by OTLP over HTTP; metrics and logs are dropped"), v.postTraces)

	// The endpoints of the model have paths and methods of their own, so the
	// description of the API cannot name them.
	endpoint := &huma.Operation{
		OperationID: "request",
		Path:        one + "/http/{path}",
		Security:    []map[string][]string{{"session": {store.Editor}}, {"token": {store.Editor}}},
		Metadata:    map[string]any{brief: true, lasting: time.Duration(0), rehearsing: askedThere},
	}
	v.engine.Any("/api/v1/workspaces/:workspace/rehearsals/:id/http/*path", func(c *gin.Context) {
		v.authorise(humagin.NewContext(endpoint, c), func(ctx huma.Context) {
			k := v.rehearsals.find(spaceOf(ctx.Context()), c.Param("id"))
			if k == nil {
				problem(c.Writer, http.StatusNotFound, "there is no rehearsal "+c.Param("id"))
				return
			}
			who := accessOf(ctx.Context()).User.Name
			if k.process != nil {
				k.process.forward(c.Writer, c.Request, who)
				return
			}
			k.live.ServeEndpoint(c.Writer, c.Request, c.Param("path"), who)
		})
	})
	v.telemetryAtRoot()
}

func (v *Service) postEvents(ctx context.Context, in *entryPath) (*huma.StreamResponse, error) {
	return v.byRehearsal(ctx, in.ID, serveEvents)
}

func (v *Service) askToPost(ctx context.Context, in *entryPath) (*huma.StreamResponse, error) {
	return v.byRehearsal(ctx, in.ID, serveEvents)
}

func (v *Service) postTraces(ctx context.Context, in *rehearsalTelemetryPath) (*huma.StreamResponse, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	who := accessOf(ctx).User.Name
	return v.receive(ctx, func(c *gin.Context) { k.takeTelemetry(c, in.Signal, who) })
}

// takeTelemetry lets a rehearsal take telemetry, at whatever path it came in.
func (k *kept) takeTelemetry(c *gin.Context, signal, who string) {
	if k.process == nil {
		k.live.ServeTelemetry(c.Writer, c.Request, signal)
		return
	}
	inner := c.Request.Clone(c.Request.Context())
	inner.URL.Path, inner.URL.RawPath = k.path()+"/v1/"+signal, ""
	k.process.forward(c.Writer, inner, who)
}
