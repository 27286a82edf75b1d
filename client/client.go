// Package client calls the service's API. It knows no more of the service than
// its description says.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ErrUnreachable says that the service did not answer, or cannot for now.
var ErrUnreachable = errors.New("the service could not be reached")

// Client calls one service.
type Client struct {
	URL       string // such as http://127.0.0.1:8420
	Token     string
	Workspace string
	HTTP      *http.Client
}

// New makes a client of a service.
func New(address, token, workspace string) *Client {
	return &Client{URL: strings.TrimRight(address, "/"), Token: token, Workspace: workspace, HTTP: &http.Client{}}
}

// Problem is an error that the service answered (RFC 9457).
type Problem struct {
	Status int    `json:"status"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Errors []struct {
		Message  string `json:"message"`
		Location string `json:"location"`
		Value    any    `json:"value"`
	} `json:"errors"`
}

// Error gives the detail and every place that it names, one a line.
func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "\n  "
		if at, ok := e.Value.(map[string]any); ok && at["line"] != nil {
			text += fmt.Sprintf("%v:%v:%v: ", at["file"], at["line"], at["column"])
		}
		if e.Location != "" {
			text += e.Location + ": "
		}
		text += e.Message
	}
	return text
}

// Path gives a path within the workspace.
func (c *Client) Path(parts ...string) string {
	path := "/api/v1/workspaces/" + url.PathEscape(c.Workspace)
	for _, p := range parts {
		path += "/" + url.PathEscape(p)
	}
	return path
}

// Do calls an operation: in is sent as JSON where it is not nil, and the answer
// is read into out where that is not nil. It gives the answer's header. Headers
// are pairs of name and value.
func (c *Client) Do(ctx context.Context, method, path string, in, out any, headers ...string) (http.Header, error) {
	answer, err := c.send(ctx, method, path, in, headers)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if out != nil {
		if raw, ok := out.(*json.RawMessage); ok {
			if *raw, err = io.ReadAll(answer.Body); err != nil {
				return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
			}
		} else if err := json.NewDecoder(answer.Body).Decode(out); err != nil {
			return nil, fmt.Errorf("%w: its answer could not be read: %v", ErrUnreachable, err)
		}
	}
	return answer.Header, nil
}

func (c *Client) send(ctx context.Context, method, path string, in any, headers []string) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		text, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(text)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.URL+path, body)
	if err != nil {
		return nil, fmt.Errorf("%s is not the address of a service: %w", c.URL, err)
	}
	if in != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	answer, err := c.HTTP.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, fmt.Errorf("%w at %s: %v", ErrUnreachable, c.URL, err)
	}
	if answer.StatusCode < 300 {
		return answer, nil
	}
	defer answer.Body.Close()
	problem := &Problem{Status: answer.StatusCode}
	if json.NewDecoder(io.LimitReader(answer.Body, 1<<20)).Decode(problem) != nil {
		problem.Title = http.StatusText(answer.StatusCode)
	}
	if answer.StatusCode >= 500 {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, problem)
	}
	return nil, problem
}

// list reads all pages of a list.
func list[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	out := []T{}
	for cursor := ""; ; {
		var page struct {
			Items []T    `json:"items"`
			Next  string `json:"next"`
		}
		at := path
		if cursor != "" {
			joint := "?"
			if strings.Contains(path, "?") {
				joint = "&"
			}
			at += joint + "cursor=" + url.QueryEscape(cursor)
		}
		if _, err := c.Do(ctx, "GET", at, nil, &page); err != nil {
			return nil, err
		}
		out = append(out, page.Items...)
		if cursor = page.Next; cursor == "" {
			return out, nil
		}
	}
}

// Follow reports how far a run is until it ends, and gives its last update. A
// stream that breaks is taken up again.
func (c *Client) Follow(ctx context.Context, run int64, tell func(Update)) (Update, error) {
	var last Update
	for tries := 0; ; {
		answer, err := c.send(ctx, "GET", c.Path("runs", fmt.Sprint(run), "events"), nil, nil)
		if err == nil {
			lines := bufio.NewScanner(answer.Body)
			for lines.Scan() {
				data, ok := strings.CutPrefix(lines.Text(), "data: ")
				if !ok {
					continue
				}
				if err := json.Unmarshal([]byte(data), &last); err != nil {
					continue
				}
				tries = 0
				tell(last)
				if last.Ended() {
					answer.Body.Close()
					return last, nil
				}
			}
			answer.Body.Close()
		} else if !errors.Is(err, ErrUnreachable) {
			return last, err
		}
		if ctx.Err() != nil {
			return last, ctx.Err()
		}
		if tries++; tries > 20 {
			return last, fmt.Errorf("%w: the run's progress cannot be followed", ErrUnreachable)
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(tries) * 100 * time.Millisecond):
		}
	}
}
