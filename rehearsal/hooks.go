package rehearsal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/cloudevents"
)

// Bounds of a hook.
const (
	hookBytes = 1 << 20          // of an answer
	hookTime  = 30 * time.Second // by the clock, where the function's own time is longer
	hookCalls = 64               // at once
)

// hooks ask handlers on this machine for the outcome of runs.
type hooks struct {
	of      *Rehearsal
	ctx     context.Context
	client  *http.Client
	asked   map[uint64]*asking // by the number of the ask
	address map[string]string  // by function
	times   map[string]*HookTimes
}

// HookTimes are the real times that the handler of a function took to answer, failures
// included. Rewinding does not undo them.
type HookTimes struct {
	Answers int64   `json:"answers"`
	Failed  int64   `json:"failed"`
	Last    float64 `json:"last_s"`
	Mean    float64 `json:"mean_s"`
	Max     float64 `json:"max_s"`
}

func (h *HookTimes) add(took time.Duration, failed bool) {
	h.Answers++
	if failed {
		h.Failed++
	}
	h.Last = took.Seconds()
	h.Mean += (h.Last - h.Mean) / float64(h.Answers)
	h.Max = max(h.Max, h.Last)
}

// asking is one question that is under way. Set back, time may come to the same
// question again: an answer counts for its own asking only.
type asking struct{ cancel context.CancelFunc }

func newHooks(ctx context.Context, r *Rehearsal) *hooks {
	h := &hooks{
		of:      r,
		ctx:     ctx,
		client:  loopbackClient(),
		asked:   map[uint64]*asking{},
		address: map[string]string{},
		times:   map[string]*HookTimes{},
	}
	for name := range r.hooked() {
		h.address[name], h.times[name] = r.plan.Graph.Topology.Node(name).Hook, &HookTimes{}
	}
	return h
}

// loopbackClient reaches this machine only, whatever a name resolves to, and
// follows no redirect.
func loopbackClient() *http.Client {
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	return &http.Client{
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("a hook may not send elsewhere") },
		Transport: &http.Transport{MaxIdleConnsPerHost: hookCalls, IdleConnTimeout: time.Minute,
			DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
				host, port, err := net.SplitHostPort(address)
				if err != nil {
					return nil, err
				}
				if host == "localhost" {
					host = "127.0.0.1"
				}
				ip, err := netip.ParseAddr(host)
				if err != nil || !ip.IsLoopback() {
					return nil, fmt.Errorf(
						"%s is not on this machine: a hook has an address such as http://127.0.0.1:9000/",
						host,
					)
				}
				return dialer.DialContext(ctx, network, net.JoinHostPort(ip.String(), port))
			}},
	}
}

// CheckHook reports what is wrong with the address of a hook; nil: nothing is.
func CheckHook(address string) error {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return fmt.Errorf("hook %q is not an address; use one such as http://127.0.0.1:9000/", address)
	}
	if ip, err := netip.ParseAddr(u.Hostname()); u.Hostname() != "localhost" && (err != nil || !ip.IsLoopback()) {
		return fmt.Errorf(
			"hook %s is not on this machine; only loopback addresses are asked, such as http://127.0.0.1:9000/",
			address,
		)
	}
	return nil
}

// Hooked are the functions of a model that name a hook; the error is what is
// wrong with an address.
func Hooked(t *model.Topology) ([]string, error) {
	var names []string
	for _, n := range t.Nodes {
		if n.Hook == "" {
			continue
		}
		if err := CheckHook(n.Hook); err != nil {
			return nil, fmt.Errorf("%s: %w", n.Name, err)
		}
		names = append(names, n.Name)
	}
	return names, nil
}

// dispatch asks for what waits for an answer, and gives up what no longer does.
// What was answered before time was set back is answered by what was written down.
func (h *hooks) dispatch() {
	if h.of.replay != nil || len(h.address) == 0 {
		return
	}
	pending := h.of.live.Pending()
	for id, a := range h.asked {
		if !slices.ContainsFunc(pending, func(a sim.Ask) bool { return a.ID == id }) {
			a.cancel() // the run's time is over
			delete(h.asked, id)
		}
	}
	for _, ask := range pending {
		if h.asked[ask.ID] != nil {
			continue
		}
		if len(h.asked) >= hookCalls {
			return // the rest when there is room
		}
		ctx, cancel := context.WithTimeout(h.ctx, hookTime)
		a := &asking{cancel}
		h.asked[ask.ID] = a
		go h.ask(ctx, a, ask)
	}
}

// forget gives up all that is being asked: time was set back.
func (h *hooks) forget() {
	for id, a := range h.asked {
		a.cancel()
		delete(h.asked, id)
	}
}

// ask asks one handler and puts its answer in.
func (h *hooks) ask(ctx context.Context, a *asking, ask sim.Ask) {
	defer a.cancel()
	reply := sim.HookReply{Ask: ask.ID}
	var err error
	began := time.Now()
	if reply.Events, err = h.post(ctx, ask); err != nil {
		reply.Error = hookError(ctx, err)
	}
	took := time.Since(began)
	r := h.of
	for {
		if readyErr := r.ready(); errors.Is(readyErr, ErrBusy) {
			select {
			case <-ctx.Done():
				return
			case <-time.After(20 * time.Millisecond):
				continue
			}
		} else if readyErr != nil {
			return
		}
		break
	}
	defer r.mu.Unlock()
	if h.asked[ask.ID] != a {
		return // time was set back meanwhile, or the run's time is over
	}
	delete(h.asked, ask.ID)
	h.times[ask.Node].add(took, err != nil)
	if err != nil {
		r.acts.say("hook of "+ask.Node, "failed: "+err.Error(), r.live.Now())
	}
	if _, err := r.put(&sim.Input{Reply: &reply}); err != nil {
		r.plan.Log.Warn("a hook's answer", "error", err)
	}
	r.nudge()
}

// hookError names the error of a run whose hook failed.
func hookError(ctx context.Context, err error) string {
	var answered *answeredError
	switch {
	case errors.As(err, &answered):
		return fmt.Sprintf("hook-answered-%d", answered.status)
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "hook-timeout"
	}
	return "hook-unreachable"
}

type answeredError struct {
	status int
	said   string
}

func (e *answeredError) Error() string {
	if e.said == "" {
		return fmt.Sprintf("it answered %d", e.status)
	}
	return fmt.Sprintf("it answered %d: %s", e.status, e.said)
}

// post hands the events of a run to its handler: one as a structured event, more
// as a batch. An answer without an event lets the links send as the model says.
func (h *hooks) post(ctx context.Context, ask sim.Ask) ([]sim.InputEvent, error) {
	if err := CheckHook(h.address[ask.Node]); err != nil {
		return nil, err
	}
	body, kind, err := cloudevents.Write(ask.Events)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, h.address[ask.Node], bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("Ironweir-Node", ask.Node)
	answer, err := h.client.Do(req)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	text, err := io.ReadAll(io.LimitReader(answer.Body, hookBytes+1))
	switch {
	case err != nil:
		return nil, err
	case len(text) > hookBytes:
		return nil, fmt.Errorf("its answer is over %d bytes", hookBytes)
	case answer.StatusCode/100 != 2:
		return nil, &answeredError{answer.StatusCode, firstLine(text)}
	}
	return eventsIn(answer.Header, text)
}

func firstLine(text []byte) string {
	line, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
	return line[:min(len(line), 200)]
}

// eventsIn reads the events of an answer: none, one, or a batch. The extension `link`
// names the link that an event is sent by.
func eventsIn(header http.Header, body []byte) ([]sim.InputEvent, error) {
	list, found, err := cloudevents.FromHTTP(header, body)
	if err != nil {
		return nil, fmt.Errorf("its answer: %w", err)
	}
	if !found {
		return nil, nil
	}
	var out []sim.InputEvent
	for i := range list {
		ev := &list[i]
		link, _ := ev.Extensions["link"].(string)
		delete(ev.Extensions, "link")
		out = append(
			out,
			sim.InputEvent{
				Link:       link,
				Type:       ev.Type,
				Subject:    ev.Subject,
				Data:       ev.Data,
				Size:       ev.Size,
				Attributes: &ev.Attributes,
			},
		)
	}
	return out, nil
}
