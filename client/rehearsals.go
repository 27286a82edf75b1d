package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// Rehearsal is a live simulation that goes on at the service.
type Rehearsal struct {
	ID       string         `json:"id"`
	Model    string         `json:"model"`
	Revision int            `json:"revision"`
	Scenario string         `json:"scenario"`
	Author   string         `json:"author"`
	State    RehearsalState `json:"state"`
}

// RehearsalState is how a rehearsal stands.
type RehearsalState struct {
	Now      float64 `json:"now_s"`
	Pace     float64 `json:"pace"`
	Running  bool    `json:"running"`
	Behind   bool    `json:"behind"`
	Entered  int64   `json:"entered"`
	Underway int64   `json:"underway"`
	Lost     int64   `json:"lost"`
	Parked   int64   `json:"parked"`
}

// StartRehearsal starts a rehearsal of a model, under a scenario or, where it is
// empty, with nothing but what is sent.
func (c *Client) StartRehearsal(ctx context.Context, model, scenario string, pace float64) (*Rehearsal, error) {
	r := &Rehearsal{}
	_, err := c.Do(
		ctx,
		"POST",
		c.Path("models", model, "rehearsals"),
		map[string]any{"scenario": scenario, "pace": pace},
		r,
	)
	return r, err
}

// Rehearsal gives a rehearsal as it stands.
func (c *Client) Rehearsal(ctx context.Context, id string) (*Rehearsal, error) {
	r := &Rehearsal{}
	_, err := c.Do(ctx, "GET", c.Path("rehearsals", id), nil, r)
	return r, err
}

// EndRehearsal ends a rehearsal.
func (c *Client) EndRehearsal(ctx context.Context, id string) error {
	_, err := c.Do(ctx, "DELETE", c.Path("rehearsals", id), nil, nil)
	return err
}

// Interfere starts an incident, written as in a scenario, that lasts until it is
// healed.
func (c *Client) Interfere(ctx context.Context, id string, incident map[string]any) error {
	_, err := c.Do(ctx, "POST", c.Path("rehearsals", id, "incidents"), incident, nil)
	return err
}

// Heal ends what was done to a node or link; to all, where target is empty.
func (c *Client) Heal(ctx context.Context, id, target string) error {
	_, err := c.Do(ctx, "POST", c.Path("rehearsals", id, "heal"), map[string]string{"target": target}, nil)
	return err
}

// WatchRehearsal passes on each state of a rehearsal until it ends or ctx does.
func (c *Client) WatchRehearsal(ctx context.Context, id string, tell func(RehearsalState)) error {
	answer, err := c.send(ctx, "GET", c.Path("rehearsals", id, "events"), nil, nil)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	lines := bufio.NewScanner(answer.Body)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		if lines.Text() == "event: ended" {
			return nil
		}
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var s RehearsalState
			if err := json.Unmarshal([]byte(data), &s); err != nil {
				return fmt.Errorf("%w: a state could not be read: %v", ErrUnreachable, err)
			}
			tell(s)
		}
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: the stream broke off", ErrUnreachable)
}
