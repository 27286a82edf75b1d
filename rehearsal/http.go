package rehearsal

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"ironweir/core/graph"
	"ironweir/core/learn"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/cloudevents"
	"ironweir/formats/otlp"
)

// Bounds of what is posted.
const (
	MaxEvents  = 4 << 20     // bytes of one request
	answerTime = time.Minute // by the clock, until a request's answer must have come
)

// ServeEvents takes CloudEvents 1.0 at a node, as their HTTP binding says: binary,
// structured and batch mode by POST, and the handshake of their web hooks by
// OPTIONS.
func (r *Rehearsal) ServeEvents(w http.ResponseWriter, req *http.Request, node, who string) {
	switch req.Method {
	case http.MethodOptions:
		w.Header().Set("Allow", "POST, OPTIONS")
		if origin := req.Header.Get("WebHook-Request-Origin"); origin != "" {
			w.Header().Set("WebHook-Allowed-Origin", origin)
			w.Header().Set("WebHook-Allowed-Rate", "*")
		}
		w.WriteHeader(http.StatusOK)
		return
	case http.MethodPost:
	default:
		w.Header().Set("Allow", "POST, OPTIONS")
		problem(w, http.StatusMethodNotAllowed, "events are posted")
		return
	}
	if err := r.knows(node); err != nil {
		problem(w, http.StatusNotFound, err.Error())
		return
	}
	list, status, err := eventsOf(w, req)
	if err != nil {
		problem(w, status, err.Error())
		return
	}
	taken := struct {
		Node     string   `json:"node"`
		Journeys []uint64 `json:"journeys"` // the numbers of the messages
		Rejected int      `json:"rejected,omitempty"`
	}{Node: node, Journeys: []uint64{}}
	cause := sim.Handled
	for i := range list {
		ev := &list[i]
		out, err := r.Event(
			who,
			&sim.InputEvent{
				Node:       node,
				Type:       ev.Type,
				Subject:    ev.Subject,
				Data:       ev.Data,
				Size:       ev.Size,
				Attributes: &ev.Attributes,
			},
		)
		if err != nil {
			failed(w, err)
			return
		}
		taken.Journeys = append(taken.Journeys, out.Journey)
		if out.Rejected {
			taken.Rejected++
			cause = out.Cause
		}
	}
	if len(list) > 0 && taken.Rejected == len(list) {
		status := rejections[cause]
		if status == 0 {
			status = http.StatusServiceUnavailable
		}
		if status == http.StatusTooManyRequests || status == http.StatusServiceUnavailable {
			w.Header().Set("Retry-After", "1")
		}
		problem(w, status, fmt.Sprintf("%s rejects it: %s", node, sim.LossWords(cause)))
		return
	}
	writeJSON(w, http.StatusAccepted, taken)
}

// rejections are the answers to events that the model rejects at once.
var rejections = map[sim.Fate]int{
	sim.TooLarge:  http.StatusRequestEntityTooLarge,
	sim.Overflow:  http.StatusTooManyRequests,
	sim.Throttled: http.StatusTooManyRequests,
	sim.Refused:   http.StatusForbidden,
	sim.Rejected:  http.StatusServiceUnavailable,
}

// eventsOf reads the events of a request, or gives the status that says what is
// wrong with it.
func eventsOf(w http.ResponseWriter, req *http.Request) ([]cloudevents.Event, int, error) {
	body, err := io.ReadAll(http.MaxBytesReader(w, req.Body, MaxEvents))
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return nil, http.StatusRequestEntityTooLarge, fmt.Errorf(
			"a request holds at most %s",
			model.FormatSize(MaxEvents),
		)
	case err != nil:
		return nil, http.StatusBadRequest, fmt.Errorf("the body cannot be read: %w", err)
	}
	list, found, err := cloudevents.FromHTTP(req.Header, body)
	switch {
	case errors.Is(err, cloudevents.ErrForm):
		return nil, http.StatusUnsupportedMediaType, err
	case err != nil:
		return nil, http.StatusBadRequest, err
	case !found:
		return nil, http.StatusBadRequest, errors.New(
			"this is not a CloudEvent 1.0: send its attributes as headers (ce-specversion: 1.0, ce-id, ce-source, ce-type, and ce-subject for a key) with the payload as the body, or the whole event as " + cloudevents.OneType,
		)
	}
	return list, 0, nil
}

// ServeEndpoint answers a request at an endpoint of the model, by its method and
// path, with the simulated answer: its status, when its time has come.
func (r *Rehearsal) ServeEndpoint(w http.ResponseWriter, req *http.Request, path, who string) {
	node, allowed := r.endpoint(req.Method, path)
	switch {
	case node == "" && len(allowed) > 0:
		w.Header().Set("Allow", strings.Join(allowed, ", "))
		problem(
			w,
			http.StatusMethodNotAllowed,
			fmt.Sprintf("the endpoint at %s accepts %s", path, strings.Join(allowed, ", ")),
		)
		return
	case node == "":
		problem(w, http.StatusNotFound, "the model has no endpoint at "+path+r.endpointsInWords())
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, req.Body, MaxEvents))
	if err != nil {
		problem(
			w,
			http.StatusRequestEntityTooLarge,
			fmt.Sprintf("a request holds at most %s", model.FormatSize(MaxEvents)),
		)
		return
	}
	ev, err := requestOf(node, req.Header, body)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	ctx, cancel := context.WithTimeout(req.Context(), answerTime)
	defer cancel()
	a, err := r.Request(ctx, who, &ev)
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		problem(
			w,
			http.StatusGatewayTimeout,
			"no answer within a minute of the clock: time stands in the rehearsal, or passes slowly",
		)
		return
	case err != nil:
		failed(w, err)
		return
	}
	w.Header().Set("Ironweir-Journey", strconv.FormatUint(a.Journey, 10))
	w.Header().Set("Ironweir-Seconds", strconv.FormatFloat(a.After.Seconds(), 'f', -1, 64))
	writeJSON(w, a.Status, struct {
		Node    string  `json:"node"`
		Status  int     `json:"status"`
		Journey uint64  `json:"journey"`
		After   float64 `json:"after_s"`
	}{node, a.Status, a.Journey, a.After.Seconds()})
}

// requestOf makes the event that a request at an endpoint is: the CloudEvent that it
// carries, or its body with the content type that it states.
func requestOf(node string, header http.Header, body []byte) (sim.InputEvent, error) {
	list, found, err := cloudevents.FromHTTP(header, body)
	switch {
	case err != nil:
		return sim.InputEvent{}, err
	case found && len(list) != 1:
		return sim.InputEvent{}, fmt.Errorf(
			"an endpoint accepts one event per request, and this is a batch of %d",
			len(list),
		)
	case found:
		ev := &list[0]
		return sim.InputEvent{
			Node:       node,
			Type:       ev.Type,
			Subject:    ev.Subject,
			Data:       ev.Data,
			Size:       ev.Size,
			Attributes: &ev.Attributes,
		}, nil
	}
	ev := cloudevents.Payload(header.Get("Content-Type"), body)
	return sim.InputEvent{
		Node:       node,
		Subject:    header.Get("ce-subject"),
		Type:       header.Get("ce-type"),
		Data:       ev.Data,
		Size:       ev.Size,
		Attributes: &ev.Attributes,
	}, nil
}

// Entries are the nodes at which events can be posted: those that outsiders feed,
// as the model has it, and the others.
func Entries(g *graph.Graph) (fed, others []*model.Node) {
	aside := map[string]bool{} // what is given up comes here, from no link of its own
	for _, n := range g.Topology.Nodes {
		aside[n.DeadLetter] = true
		for _, l := range n.Links {
			aside[l.DeadLetter] = true
		}
	}
	for i := range g.Nodes {
		n := &g.Nodes[i]
		switch {
		case n.Rate > 0 || len(n.Node.Keys) > 0 || n.Kind.Answers() || len(n.In) == 0 &&
			!n.Kind.Fires() && !aside[n.Name]:
			fed = append(fed, n.Node)
		default:
			others = append(others, n.Node)
		}
	}
	return fed, others
}

// EndpointAt gives the method and path at which an endpoint is reached: those
// that it states, else POST at its name.
func EndpointAt(n *model.Node) (method, path string) {
	method, path = n.Method, n.Path
	if method == "" {
		method = http.MethodPost
	}
	if path == "" {
		path = "/" + n.Name
	}
	return strings.ToUpper(method), path
}

// endpoint finds the endpoint of a method and path; where only the path fits,
// the methods that do.
func (r *Rehearsal) endpoint(method, path string) (name string, allowed []string) {
	for _, n := range r.plan.Graph.Topology.Nodes {
		if !n.Kind.Answers() {
			continue
		}
		m, p := EndpointAt(n)
		switch {
		case !pathFits(p, path):
		case m == method:
			return n.Name, nil
		default:
			allowed = append(allowed, m)
		}
	}
	return "", allowed
}

// pathFits reports whether a path fits a pattern, of which {parts} stand for any one.
func pathFits(pattern, path string) bool {
	want, have := strings.Split(strings.Trim(pattern, "/"), "/"), strings.Split(strings.Trim(path, "/"), "/")
	if len(want) != len(have) {
		return false
	}
	for i := range want {
		if want[i] != have[i] &&
			!(strings.HasPrefix(want[i], "{") && strings.HasSuffix(want[i], "}") && have[i] != "") {
			return false
		}
	}
	return true
}

func (r *Rehearsal) endpointsInWords() string {
	var list []string
	for _, n := range r.plan.Graph.Topology.Nodes {
		if n.Kind.Answers() {
			m, p := EndpointAt(n)
			list = append(list, m+" "+p)
		}
	}
	if len(list) == 0 {
		return "; it has no endpoints"
	}
	return "; it has " + strings.Join(list, ", ")
}

// ServeTelemetry takes traces of the real system, by OTLP over HTTP; metrics and logs are dropped.
func (r *Rehearsal) ServeTelemetry(w http.ResponseWriter, req *http.Request, signal string) {
	otlp.Receive(w, req, signal, func(spans []learn.Span) (int64, string, error) {
		r.Observed.Add(spans)
		return 0, "", nil
	})
}

// Handler is a rehearsal by itself, for whoever runs one on their own machine:
// events at /entries/NODE, traces at /v1/traces, and the endpoints of the model at
// their own paths.
func (r *Rehearsal) Handler(who string) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc(
		"/entries/{node}",
		func(w http.ResponseWriter, req *http.Request) { r.ServeEvents(w, req, req.PathValue("node"), who) },
	)
	for _, signal := range []string{"traces", "metrics", "logs"} {
		mux.HandleFunc("/v1/"+signal, func(w http.ResponseWriter, req *http.Request) {
			r.ServeTelemetry(w, req, signal)
		})
	}
	mux.HandleFunc("/", func(w http.ResponseWriter, req *http.Request) { r.ServeEndpoint(w, req, req.URL.Path, who) })
	return hostChecked(http.NewCrossOriginProtection().Handler(mux))
}

// failed answers what went wrong in the rehearsal itself.
func failed(w http.ResponseWriter, err error) {
	switch {
	case errors.Is(err, ErrOver):
		problem(w, http.StatusGone, err.Error())
	case errors.Is(err, ErrBusy):
		w.Header().Set("Retry-After", "1")
		problem(w, http.StatusServiceUnavailable, err.Error())
	default:
		problem(w, http.StatusConflict, err.Error())
	}
}

func problem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(map[string]any{"title": http.StatusText(status), "status": status, "detail": detail})
}

func writeJSON(w http.ResponseWriter, status int, doc any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(doc)
}
