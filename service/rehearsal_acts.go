package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/rehearsal"
	"ironweir/store"
)

// stateAnswer is how a rehearsal stands after something was done.
type stateAnswer struct{ Body *rehearsal.State }

// act does something to a rehearsal as who asks for it, and answers how it stands then.
func (v *Service) act(
	ctx context.Context,
	id string,
	do func(r *rehearsal.Rehearsal, who string) error,
) (*stateAnswer, error) {
	k, err := v.rehearsal(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := do(k.live, accessOf(ctx).User.Name); err != nil {
		return nil, rehearsed(err)
	}
	state, err := k.live.State()
	return &stateAnswer{state}, rehearsed(err)
}

type stepAnswer struct {
	Body struct {
		Said string `json:"said" doc:"what happened; empty: nothing is left to happen"`
	}
}

// rehearsalActs are what people do to a rehearsal.
func (v *Service) rehearsalActs(one string) {
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "step-rehearsal",
		Method:      http.MethodPost,
		Path:        one + "/step",
		Summary:     "Let the next event happen; time stands before and after it",
	}, v.stepRehearsal)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "set-time",
		Metadata:    simulates,
		Method:      http.MethodPost,
		Path:        one + "/time",
		Summary:     "Let time stand or pass, at another pace, or set it back to an earlier instant",
	}, v.setTime)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "interfere",
		Method:      http.MethodPost,
		Path:        one + "/incidents",
		Summary:     "Start an incident, written as in a scenario: fail, slow, throttle or switch off a node, pause a link, send back what is parked",
	}, v.interfere)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "heal",
		Method:      http.MethodPost,
		Path:        one + "/heal",
		Summary:     "End what was done to a node or link, by hand or by the scenario; of all, where none is named",
	}, v.heal)
	onRehearsal(v, answeredThere, store.Viewer, huma.Operation{
		OperationID:   "point",
		Method:        http.MethodPost,
		Path:          one + "/pointer",
		Summary:       "Show the other viewers where you point on the board, for 10 seconds",
		DefaultStatus: 204,
	}, v.point)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "move-message",
		Method:      http.MethodPost,
		Path:        one + "/messages/{message}",
		Summary:     "Move a stored message to another node",
	}, v.moveMessage)
	onRehearsal(v, answeredThere, store.Editor, huma.Operation{
		OperationID: "remove-message",
		Method:      http.MethodDelete,
		Path:        one + "/messages/{message}",
		Summary:     "Remove a stored message",
	}, v.removeMessage)
}

func (v *Service) stepRehearsal(ctx context.Context, in *RehearsalPath) (*stepAnswer, error) {
	out := &stepAnswer{}
	_, err := v.act(ctx, in.ID, func(r *rehearsal.Rehearsal, who string) (err error) {
		out.Body.Said, err = r.Step(who)
		return err
	})
	return out, err
}

func (v *Service) setTime(ctx context.Context, in *struct {
	RehearsalPath
	Body struct {
		Running *bool    `json:"running,omitempty" doc:"let time pass, or stand"`
		Pace    *float64 `json:"pace,omitempty" doc:"simulated seconds for each of the clock"`
		To      *float64 `json:"to_s,omitempty" minimum:"0" doc:"set it back to so many seconds since the start of the scenario"`
	}
}) (*stateAnswer, error) {
	b := in.Body
	if b.Running == nil && b.Pace == nil && b.To == nil {
		return nil, huma.Error422UnprocessableEntity("say what is to be done: `running`, `pace` or `to_s`")
	}
	change := rehearsal.Time{Running: b.Running, Pace: b.Pace}
	if b.To != nil {
		change.To = new(time.Duration(*b.To * float64(time.Second)))
	}
	return v.act(ctx, in.ID, func(r *rehearsal.Rehearsal, who string) error { return r.SetTime(who, change) })
}

func (v *Service) interfere(ctx context.Context, in *struct {
	RehearsalPath
	Body map[string]any `doc:"such as {\"node\": \"clear-consignment\", \"fails\": \"100%\"}; it lasts until it is healed"`
}) (*stateAnswer, error) {
	return v.act(ctx, in.ID, func(r *rehearsal.Rehearsal, who string) error { return r.Incident(who, in.Body) })
}

func (v *Service) heal(ctx context.Context, in *struct {
	RehearsalPath
	Body struct {
		Target string `json:"target,omitempty" maxLength:"200" doc:"a node, or a link as FROM:NAME"`
	}
}) (*stateAnswer, error) {
	return v.act(
		ctx,
		in.ID,
		func(r *rehearsal.Rehearsal, who string) error { return r.Heal(who, in.Body.Target) },
	)
}

func (v *Service) point(ctx context.Context, in *struct {
	RehearsalPath
	Body struct {
		Node string  `json:"node" maxLength:"600" doc:"the nearest node; empty: nowhere"`
		X    float64 `json:"x" minimum:"-100000" maximum:"100000" doc:"from its left upper corner, in pixels of the board"`
		Y    float64 `json:"y" minimum:"-100000" maximum:"100000"`
	}
}) (*struct{}, error) {
	k, err := v.rehearsal(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	p := rehearsal.Pointer{Node: in.Body.Node, X: in.Body.X, Y: in.Body.Y}
	return nil, rehearsed(k.live.Point(accessOf(ctx).User.Name, p))
}

func (v *Service) moveMessage(ctx context.Context, in *struct {
	MessagePath
	Body struct {
		To string `json:"to" minLength:"1" maxLength:"200" doc:"a node"`
	}
}) (*stateAnswer, error) {
	return v.act(
		ctx,
		in.ID,
		func(r *rehearsal.Rehearsal, who string) error { return r.Move(who, in.Message, in.Body.To) },
	)
}

func (v *Service) removeMessage(ctx context.Context, in *MessagePath) (*stateAnswer, error) {
	return v.act(
		ctx,
		in.ID,
		func(r *rehearsal.Rehearsal, who string) error { return r.Move(who, in.Message, "") },
	)
}

// MessagePath names a message of a rehearsal in a path.
type MessagePath struct {
	RehearsalPath
	Message uint64 `path:"message" doc:"its name within the rehearsal"`
}
