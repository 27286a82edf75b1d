package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"runtime"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"

	"ironweir/jobs"
	"ironweir/service/admission"
	"ironweir/service/isolation"
)

// Computations on what callers send pass through the admission controller, and are done in
// processes of their own: those handlers touch neither the records nor the memory of the
// service.

// computeTime bounds an interactive computation.
const computeTime = 30 * time.Second

// bodyTime bounds how long the body of such a request may take to come.
const bodyTime = 10 * time.Second

// limitsHeader carries the limits of runs to the process that works on a command.
const limitsHeader = "Ironweir-Limits"

// computation describes, in an operation's metadata, that it computes on what is sent.
type computation struct {
	long   bool // it may take minutes
	within time.Duration
}

// The operations that a process answers, by their metadata.
const (
	everything = ""
	computing  = "computing"  // on what is sent
	rehearsing = "rehearsing" // on one rehearsal
)

// computes marks operations that compute on what is sent, and on nothing else.
var computes = map[string]any{computing: computation{within: computeTime}}

// budgetOf gives what all computations may hold: twice as many at once as there are
// processors, and the part of the machine's memory that rehearsals may fill.
func budgetOf(memory int64) admission.Budget {
	return admission.Budget{Slots: max(4, 2*runtime.NumCPU()), Memory: memory / 2, Wait: 10 * time.Second}
}

// machineMemory is what this service may fill where nothing else is known, in bytes.
func machineMemory() int64 {
	if known := isolation.MachineMemory(); known > 0 {
		return known
	}
	return 4 << 30
}

// newPool gives the processes for computations; each may hold its share of a quarter of the
// machine's memory, between 256 MB and 2 GiB.
func newPool(program []string, memory int64, log *slog.Logger) *isolation.Pool {
	share := memory / 4 / int64(budgetOf(memory).Slots)
	return &isolation.Pool{Program: program, Memory: min(max(share, 256<<20), 2<<30), Log: log}
}

// compute lets an operation that computes begin when the budget allows it, and has it done
// by another process.
func (v *Service) compute(ctx huma.Context, next func(huma.Context)) {
	is, computed := ctx.Operation().Metadata[computing].(computation)
	if !computed || v.only != everything {
		next(ctx)
		return
	}
	if err := v.readBody(ctx); err != nil { // first, so that who sends slowly holds nothing
		v.refuse(ctx, err)
		return
	}
	leave, err := v.enter(ctx.Context(), ctx.Operation().OperationID, is)
	if err != nil {
		v.refuse(ctx, err)
		return
	}
	defer leave()
	if v.pool == nil {
		next(ctx)
		return
	}
	c := humagin.Unwrap(ctx)
	c.Request = c.Request.WithContext(ctx.Context())
	c.Request.Header.Del(limitsHeader)
	within := is.within
	if is.long {
		settings, err := v.store.Settings(ctx.Context())
		if err != nil {
			v.unavailable(ctx, err)
			return
		}
		limits := jobs.LimitsOf(settings)
		limits.Memory = min(limits.Memory, v.pool.Memory/2)
		text, _ := json.Marshal(limits)
		c.Request.Header.Set(limitsHeader, string(text))
		within = min(within, time.Duration(settings.MaxSeconds*float64(time.Second)))
	}
	if err := v.pool.Serve(c.Writer, c.Request, within); err != nil {
		v.refuse(ctx, ended(err, within, v.pool.Memory))
	}
	c.Abort()
}

// simulates marks operations that simulate what is kept here: they end with their reader.
var simulates = map[string]any{lasting: time.Duration(0)}

// checks marks operations that have a check, or what takes as long, done for them.
var checks = map[string]any{lasting: recordTime + computeTime}

// tooBusy makes an answer of a refusal.
func tooBusy(err error) error {
	var busy *admission.Refused
	if errors.As(err, &busy) {
		return huma.ErrorWithHeaders(huma.Error429TooManyRequests(busy.Error()), http.Header{"Retry-After": {"5"}})
	}
	return err
}

// readBody reads the body of a request to its end.
func (v *Service) readBody(ctx huma.Context) error {
	c := humagin.Unwrap(ctx)
	if err := ctx.SetReadDeadline(time.Now().Add(bodyTime)); err != nil {
		return err
	}
	body, err := io.ReadAll(c.Request.Body)
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return huma.NewError(http.StatusRequestEntityTooLarge, tooLarge(large))
	case err != nil:
		return huma.NewError(http.StatusRequestTimeout, fmt.Sprintf("the request did not come within %s", bodyTime))
	}
	c.Request.Body, c.Request.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	return ctx.SetReadDeadline(time.Now().Add(readTime(c.Request.URL.Path)))
}

func tooLarge(by *http.MaxBytesError) string {
	return fmt.Sprintf("the request is larger than %d MB", by.Limit>>20)
}

// enter waits for a computation's turn.
func (v *Service) enter(ctx context.Context, what string, is computation) (leave func(), err error) {
	return v.budget.Enter(ctx, admission.Computation{
		Person: accessOf(ctx).User.Name,
		What:   what,
		Slots:  1,
		Long:   is.long,
	})
}

// refuse answers that something is not done, and why.
func (v *Service) refuse(ctx huma.Context, err error) {
	err = tooBusy(err)
	var headers huma.HeadersError
	if errors.As(err, &headers) {
		for name, values := range headers.GetHeaders() {
			ctx.SetHeader(name, values[0])
		}
	}
	var known huma.StatusError
	switch {
	case errors.As(err, &known):
		huma.WriteErr(v.api, ctx, known.GetStatus(), known.Error())
	case ctx.Context().Err() != nil: // the client has gone
		huma.WriteErr(v.api, ctx, http.StatusRequestTimeout, "the request was given up")
	default:
		v.log.Error("a computation could not be done", "error", err)
		huma.WriteErr(v.api, ctx, http.StatusInternalServerError, "a fault of the service; its log says more")
	}
}

// ended says what became of a computation whose process was ended.
func ended(err error, within time.Duration, memory int64) error {
	switch {
	case errors.Is(err, isolation.ErrTime):
		return huma.Error422UnprocessableEntity(fmt.Sprintf(
			"it took longer than %s and was ended; do it with the command line on your own machine, or make the input smaller",
			within,
		))
	case errors.Is(err, isolation.ErrMemory):
		return huma.Error422UnprocessableEntity(fmt.Sprintf(
			"it needed more than %d MB of memory and was ended; do it with the command line on your own machine, or make the input smaller",
			memory>>20,
		))
	case errors.Is(err, isolation.ErrEnded):
		return huma.Error422UnprocessableEntity("this input ended the process that worked on it; the service's log says more")
	}
	return err
}

// checked is what is kept of a check.
type checked struct {
	Check struct {
		Summary struct {
			Errors   int `json:"errors"`
			Warnings int `json:"warnings"`
			Notes    int `json:"notes"`
		} `json:"summary"`
		Findings json.RawMessage `json:"findings"`
	} `json:"check"`
	Board Board `json:"board"`
}

// checkProcedure checks a text that is to be saved, as the operation `check` does.
var checkProcedure = &procedure[textNamed, checked]{name: "check", do: checkHere}

// textNamed is a topology with the name of its file.
type textNamed struct{ Name, Text string }

// checkHere checks a text in this process.
func checkHere(_ context.Context, in *textNamed) (*checked, error) {
	found, err := checkText(in.Name, in.Text)
	if err != nil {
		return nil, badFile(err)
	}
	text, err := json.Marshal(found)
	if err != nil {
		return nil, err
	}
	out := &checked{}
	if err := json.Unmarshal(text, out); err != nil {
		return nil, fmt.Errorf("what was found: %w", err)
	}
	return out, nil
}
