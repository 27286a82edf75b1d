package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/rehearsal"
	"ironweir/store"
)

// KeptScenario is what happened in a rehearsal as a scenario.
type KeptScenario struct {
	Text    string   `json:"text" doc:"the scenario, as YAML"`
	Events  int      `json:"events" doc:"that entered"`
	Length  float64  `json:"length_s"`
	LeftOut []string `json:"left_out" doc:"what a scenario has no words for"`
}

type resting struct {
	Body struct {
		Node     string        `json:"node"`
		Count    int           `json:"count" doc:"in all; the first are listed"`
		Messages []sim.Resting `json:"messages"`
		BackTo   []string      `json:"back_to" doc:"the nodes whose dead letters go to this one"`
	}
}

// watching is the operation whose answer is a stream of states.
const watching = "watch-rehearsal"

// rehearsalViews are what is looked at in a rehearsal.
func (v *Service) rehearsalViews(one string) {
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: watching,
		Metadata:    map[string]any{lasting: time.Duration(0)},
		Method:      http.MethodGet,
		Path:        one + "/events",
		Summary:     "A rehearsal's states as Server-Sent Events, until it ends",
		Responses: map[string]*huma.Response{
			"200": {
				Description: "events of type `state`, at most five a second, each of which says all; `ended` is the last",
				Content:     map[string]*huma.MediaType{"text/event-stream": {}},
			},
		},
	}, v.streamRehearsal)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "list-messages",
		Method:      http.MethodGet,
		Path:        one + "/nodes/{node}/messages",
		Summary:     "What lies in a node now, or is worked on there, the oldest first",
	}, v.listMessages)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-message",
		Method:      http.MethodGet,
		Path:        one + "/messages/{message}",
		Summary:     "A message that lies somewhere, as a CloudEvent",
	}, v.getMessage)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-rehearsed-journey",
		Metadata:    simulates,
		Method:      http.MethodGet,
		Path:        one + "/journeys/{journey}",
		Summary:     "What has happened to a message so far, step by step",
	}, v.getRehearsedJourney)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-rehearsed-result",
		Metadata:    simulates,
		Method:      http.MethodGet,
		Path:        one + "/result",
		Summary:     "What has happened until now, counted as a run counts",
	}, v.getRehearsedResult)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-observed",
		Method:      http.MethodGet,
		Path:        one + "/observed",
		Summary:     "What traces of the real system show, beside what is modelled",
	}, v.getObserved)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID: "get-rehearsed-scenario",
		Metadata:    simulates,
		Method:      http.MethodGet,
		Path:        one + "/scenario",
		Summary:     "What has happened until now as a scenario, which gives the same at full speed",
	}, v.getRehearsedScenario)
	onRehearsal(v, askedThere, store.Editor, huma.Operation{
		OperationID: "keep-rehearsal",
		Metadata:    simulates,
		Method:      http.MethodPut,
		Path:        one + "/scenario/{text}",
		Summary:     "Keep what has happened until now as a scenario of the model",
	}, v.keepRehearsal)
}

func (v *Service) streamRehearsal(ctx context.Context, in *struct {
	RehearsalPath
	LastEventID string `header:"Last-Event-ID" doc:"a state says all; a stream that is resumed starts with how things stand"`
}) (*huma.StreamResponse, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	who := accessOf(ctx).User.Name
	return &huma.StreamResponse{Body: func(hc huma.Context) { v.watchRehearsal(hc, k.live, who) }}, nil
}

func (v *Service) listMessages(ctx context.Context, in *struct {
	RehearsalPath
	Node string `path:"node" maxLength:"200"`
}) (*resting, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out := &resting{}
	out.Body.Node = in.Node
	if out.Body.Messages, out.Body.Count, out.Body.BackTo, err = k.live.Resting(in.Node); err != nil {
		return nil, rehearsed(err)
	}
	if out.Body.Messages == nil {
		out.Body.Messages = []sim.Resting{}
	}
	if out.Body.BackTo == nil {
		out.Body.BackTo = []string{}
	}
	return out, nil
}

func (v *Service) getMessage(ctx context.Context, in *MessagePath) (*struct{ Body map[string]any }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	event, err := k.live.Message(in.Message)
	return &struct{ Body map[string]any }{event}, rehearsed(err)
}

func (v *Service) getRehearsedJourney(ctx context.Context, in *struct {
	RehearsalPath
	Journey uint64 `path:"journey" minimum:"1"`
}) (*struct{ Body *sim.Journey }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	j, err := k.live.Journey(in.Journey)
	return &struct{ Body *sim.Journey }{j}, rehearsed(err)
}

func (v *Service) getRehearsedResult(ctx context.Context, in *RehearsalPath) (*struct{ Body *study.Document }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	doc, err := k.live.Result()
	return &struct{ Body *study.Document }{doc}, rehearsed(err)
}

func (v *Service) getObserved(ctx context.Context, in *RehearsalPath) (*struct{ Body rehearsal.Beside }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return &struct{ Body rehearsal.Beside }{k.live.Observed.Beside()}, nil
}

func (v *Service) getRehearsedScenario(ctx context.Context, in *RehearsalPath) (*struct{ Body KeptScenario }, error) {
	out, err := v.keep(ctx, in.ID, "rehearsed")
	return &struct{ Body KeptScenario }{out}, err
}

func (v *Service) keepRehearsal(ctx context.Context, in *struct {
	RehearsalPath
	Text string `path:"text" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"the scenario's name"`
}) (*struct{ Body KeptScenario }, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	var out KeptScenario
	if k.process != nil {
		err = k.process.ask(ctx, k, http.MethodPut, "/scenario/"+in.Text, &out)
	} else {
		out, err = v.keep(ctx, in.ID, in.Text)
	}
	if err != nil || v.only != everything {
		return &struct{ Body KeptScenario }{out}, err
	}
	if err := v.store.SaveText(ctx, store.Scenarios, spaceOf(ctx), k.Model, in.Text, out.Text); err != nil {
		return nil, v.failure(err, "model "+k.Model)
	}
	return &struct{ Body KeptScenario }{out}, nil
}

func (v *Service) keep(ctx context.Context, id, name string) (KeptScenario, error) {
	k, err := v.rehearsal(ctx, id)
	if err != nil {
		return KeptScenario{}, err
	}
	it, err := k.live.Keep(name, false)
	if err != nil {
		return KeptScenario{}, rehearsed(err)
	}
	out := KeptScenario{Text: string(it.Scenario), Events: it.Events, Length: it.Length.Seconds(), LeftOut: it.LeftOut}
	if out.LeftOut == nil {
		out.LeftOut = []string{}
	}
	return out, nil
}

// watchRehearsal writes states until the rehearsal ends or the watcher has gone.
func (v *Service) watchRehearsal(ctx huma.Context, r *rehearsal.Rehearsal, who string) {
	states, stop, err := r.Watch(who)
	if err != nil {
		return
	}
	defer stop()
	out := startStream(ctx)
	follow(v, ctx, out, states, r.Done(), func(state []byte) bool { return out.send("state", state) })
}
