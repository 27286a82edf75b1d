package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// User is a person.
type User struct {
	Name        string `json:"name"`
	Admin       bool   `json:"admin"`
	HasPassword bool   `json:"has_password"`
}

// Workspace holds models.
type Workspace struct {
	Name   string `json:"name"`
	Role   string `json:"role"`
	Models int64  `json:"models"`
}

// Model is a model in a list.
type Model struct {
	Name      string    `json:"name"`
	Revision  int       `json:"revision"`
	Author    string    `json:"author"`
	Errors    int       `json:"errors"`
	Warnings  int       `json:"warnings"`
	Notes     int       `json:"notes"`
	ChangedAt time.Time `json:"changed_at"`
	LastRun   *int64    `json:"last_run"`
	LastState *string   `json:"last_run_state"`
	LastUnmet *int      `json:"last_run_unmet"`

	LastExpected *int `json:"last_run_expected"`
}

// Revision is a model as somebody saved it.
type Revision struct {
	Number    int       `json:"number"`
	Text      string    `json:"text,omitempty"`
	Note      string    `json:"note"`
	Author    string    `json:"author"`
	Errors    int       `json:"errors"`
	Warnings  int       `json:"warnings"`
	CreatedAt time.Time `json:"created_at"`
}

// Text is a scenario or variant of a model.
type Text struct {
	Name string `json:"name"`
	Text string `json:"text"`
}

// Run is a simulation that the service was asked for.
type Run struct {
	ID        int64     `json:"id"`
	Model     string    `json:"model"`
	Revision  int       `json:"revision"`
	Scenario  string    `json:"scenario"`
	Kind      string    `json:"kind"`
	State     string    `json:"state"`
	Error     string    `json:"error"`
	Unmet     *int      `json:"unmet"`
	Expected  *int      `json:"expected"`
	Progress  float64   `json:"progress"`
	Author    string    `json:"author"`
	CreatedAt time.Time `json:"created_at"`
}

// Update is how far a run is.
type Update struct {
	State    string  `json:"state"`
	Progress float64 `json:"progress"`
	Left     float64 `json:"left_s"`
	Error    string  `json:"error"`
}

// Ended reports whether nothing follows.
func (u Update) Ended() bool {
	return u.State == "done" || u.State == "failed" || u.State == "cancelled"
}

// Token lets a program in.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Role      string     `json:"role"`
	Workspace *string    `json:"workspace"`
	ExpiresAt time.Time  `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at"`
	Secret    string     `json:"secret,omitempty"`
}

// Login opens a session with a one-time secret, or a name and password, makes a
// token in it, which is used from then on, and ends the session.
func (c *Client) Login(ctx context.Context, secret, name, password, tokenName string) (*Token, error) {
	c.Token = "" // that of an earlier login is of no use here
	body := map[string]string{"secret": secret}
	if secret == "" {
		body = map[string]string{"name": name, "password": password}
	}
	header, err := c.Do(ctx, "POST", "/api/v1/session", body, nil)
	if err != nil {
		return nil, err
	}
	cookie, _, _ := strings.Cut(header.Get("Set-Cookie"), ";")
	token := &Token{}
	if _, err := c.Do(ctx, "POST", "/api/v1/tokens", map[string]any{"name": tokenName, "role": "admin"}, token,
		"Cookie", cookie); err != nil {
		return nil, err
	}
	c.Token = token.Secret
	_, err = c.Do(ctx, "DELETE", "/api/v1/session", nil, nil, "Cookie", cookie)
	return token, err
}

// WhoAmI gives whom the token stands for.
func (c *Client) WhoAmI(ctx context.Context) (*User, error) {
	u := &User{}
	_, err := c.Do(ctx, "GET", "/api/v1/session", nil, u)
	return u, err
}

// Workspaces lists the workspaces that can be seen.
func (c *Client) Workspaces(ctx context.Context) ([]Workspace, error) {
	return list[Workspace](ctx, c, "/api/v1/workspaces")
}

// Models lists the models of the workspace.
func (c *Client) Models(ctx context.Context) ([]Model, error) {
	return list[Model](ctx, c, c.Path("models"))
}

// Model gives a revision of a model; 0 is the latest.
func (c *Client) Model(ctx context.Context, name string, revision int) (*Revision, error) {
	r := &Revision{}
	path := c.Path("models", name)
	if revision > 0 {
		path = c.Path("models", name, "revisions", strconv.Itoa(revision))
	}
	_, err := c.Do(ctx, "GET", path, nil, r)
	return r, err
}

// CreateModel makes a model.
func (c *Client) CreateModel(ctx context.Context, name, text, note string) (*Revision, error) {
	r := &Revision{}
	_, err := c.Do(ctx, "POST", c.Path("models"), map[string]string{"name": name, "text": text, "note": note}, r)
	return r, err
}

// SaveRevision saves a text on top of a revision.
func (c *Client) SaveRevision(ctx context.Context, name string, onTop int, text, note string) (*Revision, error) {
	r := &Revision{}
	_, err := c.Do(
		ctx,
		"POST",
		c.Path("models", name, "revisions"),
		map[string]string{"text": text, "note": note},
		r,
		"If-Match",
		fmt.Sprintf("%q", strconv.Itoa(onTop)),
	)
	return r, err
}

// Revisions lists the revisions of a model, latest first.
func (c *Client) Revisions(ctx context.Context, name string) ([]Revision, error) {
	return list[Revision](ctx, c, c.Path("models", name, "revisions"))
}

// Scenarios lists the scenarios of a model.
func (c *Client) Scenarios(ctx context.Context, name string) ([]Text, error) {
	return list[Text](ctx, c, c.Path("models", name, "scenarios"))
}

// SaveScenario makes or replaces a scenario of a model.
func (c *Client) SaveScenario(ctx context.Context, model, name, text string) error {
	_, err := c.Do(ctx, "PUT", c.Path("models", model, "scenarios", name), map[string]string{"text": text}, nil)
	return err
}

// Runs lists runs of the workspace, latest first; an empty model stands for all.
func (c *Client) Runs(ctx context.Context, model string) ([]Run, error) {
	path := c.Path("runs")
	if model != "" {
		path += "?model=" + model
	}
	return list[Run](ctx, c, path)
}

// StartRun asks for a run; the same key asked for again gives the same run.
func (c *Client) StartRun(ctx context.Context, model, scenario, key string) (*Run, error) {
	r := &Run{}
	headers := []string{}
	if key != "" {
		headers = []string{"Idempotency-Key", key}
	}
	_, err := c.Do(ctx, "POST", c.Path("models", model, "runs"), map[string]string{"scenario": scenario}, r, headers...)
	return r, err
}

// Run gives how a run stands.
func (c *Client) Run(ctx context.Context, id int64) (*Run, error) {
	r := &Run{}
	_, err := c.Do(ctx, "GET", c.Path("runs", fmt.Sprint(id)), nil, r)
	return r, err
}

// CancelRun ends a run early.
func (c *Client) CancelRun(ctx context.Context, id int64) error {
	_, err := c.Do(ctx, "POST", c.Path("runs", fmt.Sprint(id), "cancel"), nil, nil)
	return err
}

// Result gives the result document of a run, of whatever kind it is.
func (c *Client) Result(ctx context.Context, r *Run) (json.RawMessage, error) {
	where := r.Kind
	if where == "run" {
		where = "result"
	}
	var out json.RawMessage
	_, err := c.Do(ctx, "GET", c.Path("runs", fmt.Sprint(r.ID), where), nil, &out)
	return out, err
}

// Users lists people.
func (c *Client) Users(ctx context.Context) ([]User, error) {
	return list[User](ctx, c, "/api/v1/users")
}

// CreateUser makes a person.
func (c *Client) CreateUser(ctx context.Context, name string, admin bool) error {
	_, err := c.Do(ctx, "POST", "/api/v1/users", map[string]any{"name": name, "admin": admin}, nil)
	return err
}

// SignInLink makes a link that signs a person in once.
func (c *Client) SignInLink(ctx context.Context, name string) (string, error) {
	var link struct {
		Path string `json:"path"`
	}
	_, err := c.Do(ctx, "POST", "/api/v1/users/"+name+"/sign-in-link", nil, &link)
	return c.URL + link.Path, err
}

// DeleteUser removes a person.
func (c *Client) DeleteUser(ctx context.Context, name string) error {
	_, err := c.Do(ctx, "DELETE", "/api/v1/users/"+name, nil, nil)
	return err
}

// SetMember gives a person a role in the workspace; an empty one takes it away.
func (c *Client) SetMember(ctx context.Context, user, role string) error {
	if role == "" {
		_, err := c.Do(ctx, "DELETE", c.Path("members", user), nil, nil)
		return err
	}
	_, err := c.Do(ctx, "PUT", c.Path("members", user), map[string]string{"role": role}, nil)
	return err
}

// Tokens lists one's own tokens.
func (c *Client) Tokens(ctx context.Context) ([]Token, error) {
	return list[Token](ctx, c, "/api/v1/tokens")
}

// RevokeToken revokes a token.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	_, err := c.Do(ctx, "DELETE", fmt.Sprintf("/api/v1/tokens/%d", id), nil, nil)
	return err
}

// Command is a command of the program for the service to do.
type Command struct {
	Args   []string          `json:"args"`
	Files  map[string][]byte `json:"files,omitempty"`
	Absent map[string]string `json:"absent,omitempty"`
	Colour bool              `json:"colour,omitempty"`
	Width  int               `json:"width,omitempty"`
}

// Outcome is what became of a command.
type Outcome struct {
	Wants []string          `json:"wants"`
	Code  int               `json:"code"`
	Out   []byte            `json:"out"`
	Err   []byte            `json:"err"`
	Files map[string][]byte `json:"files"`
}

// Command has the service do a command. Where it wants files that were not sent,
// nothing has been done, and the outcome names them.
func (c *Client) Command(ctx context.Context, name string, command Command) (*Outcome, error) {
	out := &Outcome{}
	_, err := c.Do(ctx, "POST", "/api/v1/commands/"+name, command, out)
	return out, err
}

// StatusOf gives the status of a problem that the service answered, or 0.
func StatusOf(err error) int {
	if p := (&Problem{}); errors.As(err, &p) {
		return p.Status
	}
	return 0
}
