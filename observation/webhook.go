package observation

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ironweir/store"
)

// EventType is the type of the CloudEvent that reports a drift.
const EventType = "ironweir.drift.found"

// Bounds of sending.
const (
	sendTime   = 10 * time.Second
	answerSize = 64 << 10
)

// sender follows no redirect, and uses no proxy: it reaches what an administrator allowed, or nothing.
var sender = &http.Client{
	Timeout:       sendTime,
	Transport:     &http.Transport{MaxIdleConns: 4, IdleConnTimeout: time.Minute, ResponseHeaderTimeout: sendTime},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// Allowed reports whether an address lies within one that an administrator allows: the same scheme, host and port, and
// a path that begins with whole parts of the allowed one.
func Allowed(address string, list []string) bool {
	a, err := readAddress(address)
	if err != nil {
		return false
	}
	for _, allowed := range list {
		b, err := readAddress(allowed)
		if err == nil && a.Scheme == b.Scheme && a.Host == b.Host &&
			(a.Path == b.Path || strings.HasPrefix(a.Path, strings.TrimSuffix(b.Path, "/")+"/")) {
			return true
		}
	}
	return false
}

// CheckAddress says what is wrong with the address of a webhook, or of where webhooks may be.
func CheckAddress(address string) error {
	_, err := readAddress(address)
	return err
}

func readAddress(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%q is no address", address)
	case u.Scheme != "http" && u.Scheme != "https":
		return nil, fmt.Errorf("%q is no address that begins with http:// or https://", address)
	case u.Hostname() == "":
		return nil, fmt.Errorf("%q names no host", address)
	case u.User != nil:
		return nil, fmt.Errorf("%q holds a user or a password: an address of a webhook may hold neither", address)
	case strings.Contains(u.EscapedPath(), "..") || strings.Contains(u.EscapedPath(), "%2"):
		return nil, fmt.Errorf("%q has a path that leads elsewhere", address)
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	u.Host = strings.ToLower(u.Hostname()) + ":" + port
	if u.Path == "" {
		u.Path = "/"
	}
	return u, nil
}

// send sends the drifts that are due.
func (k *Keeper) send(ctx context.Context) error {
	for ctx.Err() == nil {
		n, err := k.Store.TakeNotice(ctx)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		settings, err := k.Store.Settings(ctx)
		if err != nil {
			return err
		}
		trouble := ""
		if !Allowed(n.Webhook, settings.Webhooks) {
			trouble = "its address is not on the list of webhooks in the settings"
		} else if err := post(ctx, n); err != nil {
			trouble = err.Error()
		}
		if trouble != "" {
			k.Log.Warn("a webhook did not accept a drift", "model", n.Model, "drift", n.ID, "error", trouble)
		}
		if err := k.Store.Noticed(ctx, n.ID, trouble); err != nil {
			return err
		}
	}
	return nil
}

// post sends one drift as a CloudEvent in structured mode. Its id is the same each time.
func post(ctx context.Context, n *store.Notice) error {
	finding, err := find(n.Drift)
	if err != nil {
		return err
	}
	event, err := json.Marshal(map[string]any{
		"specversion":     "1.0",
		"id":              "drift-" + strconv.FormatInt(n.ID, 10),
		"source":          "/workspaces/" + n.Workspace + "/models/" + n.Model,
		"type":            EventType,
		"subject":         n.Subject,
		"time":            n.FoundAt.UTC().Format(time.RFC3339Nano),
		"datacontenttype": "application/json",
		"data":            finding,
	})
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, n.Webhook, bytes.NewReader(event))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/cloudevents+json; charset=UTF-8")
	answer, err := sender.Do(req)
	var asked *url.Error
	if errors.As(err, &asked) {
		err = asked.Err // without the address, which is not for everybody who sees the trouble
	}
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if _, err := io.Copy(io.Discard, io.LimitReader(answer.Body, answerSize)); err != nil {
		return fmt.Errorf("reading its answer: %w", err)
	}
	if answer.StatusCode < 200 || answer.StatusCode > 299 {
		return fmt.Errorf("it answered %s", answer.Status)
	}
	return nil
}
