package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httputil"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"ironweir/rehearsal"
	"ironweir/service/isolation"
	"ironweir/store"
)

// A rehearsal goes on in a process of its own, so that a model that takes too much
// memory or time ends its own rehearsal and nothing else. The process answers the operations on it by the same
// handlers, behind the service, which knows who asks and holds the records.

// How the service lets the process of a rehearsal answer an operation, in its metadata.
const (
	answeredThere = "answered there" // as it comes
	askedThere    = "asked there"    // the operation asks the process, and does more
)

const (
	beginPath    = "/begin"
	personHeader = "Ironweir-Person" // who asks, for the process
	endTime      = 5 * time.Second   // for a process to end by itself
)

// onRehearsal adds an operation on one rehearsal, which can be answered in its process.
func onRehearsal[I, O any](
	v *Service, way, role string, op huma.Operation, handle func(context.Context, *I) (*O, error),
) {
	op.Metadata = maps.Clone(op.Metadata)
	if op.Metadata == nil {
		op.Metadata = map[string]any{}
	}
	op.Metadata[rehearsing] = way
	register(v, role, op, handle)
}

// rehearsalProcess is the process that a rehearsal goes on in.
type rehearsalProcess struct{ *isolation.Lasting }

// processMemory gives the bytes that a process may hold whose rehearsal may fill so many with
// messages and runs: it has them twice while time is rewound or a result is made, and garbage.
func processMemory(messages int64) int64 { return 192<<20 + 3*messages }

// beginElsewhere starts a rehearsal in a process of its own; the error is an answer.
func beginElsewhere(ctx context.Context, program []string, b *beginning) (*kept, error) {
	memory := processMemory(b.Memory)
	started, err := isolation.StartLasting(program, memory)
	if err != nil {
		return nil, err
	}
	k := &kept{Rehearsal: b.Rehearsal, process: &rehearsalProcess{started}}
	ctx, cancel := context.WithTimeoutCause(ctx, computeTime, isolation.ErrTime)
	defer cancel()
	err = k.process.send(ctx, http.MethodPost, beginPath, b.Rehearsal.Author, b, &k.Rehearsal)
	if err == nil {
		return k, nil
	}
	defer started.Kill()
	var known huma.StatusError
	switch {
	case errors.As(err, &known):
		return nil, err
	case errors.Is(context.Cause(ctx), isolation.ErrTime):
		return nil, ended(isolation.ErrTime, computeTime, memory)
	case ctx.Err() != nil:
		return nil, err
	}
	if failure := started.Wait(endTime); failure != nil {
		return nil, ended(failure, computeTime, memory)
	}
	return nil, err
}

// send has a request answered by the process; the error is an answer.
func (p *rehearsalProcess) send(ctx context.Context, method, path, who string, body, out any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, (&url.URL{Path: path}).String(), bytes.NewReader(text))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set(personHeader, url.QueryEscape(who))
	answer, err := p.RoundTrip(request)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	said, err := io.ReadAll(answer.Body)
	if err == nil {
		err = refusal(answer.StatusCode, said)
	}
	if err != nil || out == nil {
		return err
	}
	return json.Unmarshal(said, out)
}

// ask has an operation on the rehearsal answered, as the person who asks the service; the
// error is an answer.
func (p *rehearsalProcess) ask(ctx context.Context, k *kept, method, below string, out any) error {
	err := p.send(ctx, method, k.path()+below, accessOf(ctx).User.Name, nil, out)
	var known huma.StatusError
	if err == nil || errors.As(err, &known) || ctx.Err() != nil {
		return err
	}
	return p.gone()
}

// gone answers that the rehearsal has ended, and why: its connections break a moment before.
func (p *rehearsalProcess) gone() error {
	failure := p.Wait(endTime)
	if errors.Is(failure, isolation.ErrMemory) {
		return huma.Error404NotFound(fmt.Sprintf(
			"the rehearsal needed more than %d MB of memory and was ended; rehearse it with the command line on your own machine, or at a lower rate",
			p.Memory>>20))
	}
	if failure != nil {
		return huma.Error404NotFound("the rehearsal ended by a fault; the service's log says more")
	}
	return rehearsed(rehearsal.ErrOver)
}

// end ends the rehearsal, its streams, and its process.
func (p *rehearsalProcess) end(ctx context.Context, k *kept) {
	ctx, cancel := context.WithTimeout(ctx, endTime)
	defer cancel()
	if p.ask(ctx, k, http.MethodDelete, "", nil) == nil {
		p.Wait(endTime)
	}
	p.Kill()
}

// forward has a request answered by the process as it comes, whatever it is.
func (p *rehearsalProcess) forward(w http.ResponseWriter, r *http.Request, who string) {
	defer func() { // an answer is cut off where the process breaks it off; else it just ends
		if fault := recover(); fault != nil && (fault != http.ErrAbortHandler || r.Context().Err() == nil) {
			panic(fault)
		}
	}()
	proxy := httputil.ReverseProxy{
		Transport: p,
		Rewrite: func(q *httputil.ProxyRequest) {
			q.Out.Host = q.In.Host
			q.Out.Header.Set(personHeader, url.QueryEscape(who))
		},
		ErrorLog: slog.NewLogLogger(slog.DiscardHandler, slog.LevelError), // ErrorHandler says it
		ErrorHandler: func(w http.ResponseWriter, r *http.Request, err error) {
			var large *http.MaxBytesError
			var known huma.StatusError
			switch {
			case errors.As(err, &large):
				problem(w, http.StatusRequestEntityTooLarge, tooLarge(large))
			case r.Context().Err() != nil:
				problem(w, http.StatusServiceUnavailable, "the rehearsal did not answer in time; try again in a moment")
			case errors.As(p.gone(), &known):
				problem(w, known.GetStatus(), known.Error())
			}
		},
	}
	proxy.ServeHTTP(w, r)
}

// rehearse has an operation on a rehearsal answered by the process that it goes on in.
func (v *Service) rehearse(ctx huma.Context, next func(huma.Context)) {
	if v.only != everything || ctx.Operation().Metadata[rehearsing] != answeredThere {
		next(ctx)
		return
	}
	k := v.rehearsals.find(spaceOf(ctx.Context()), ctx.Param("id"))
	if k == nil || k.process == nil {
		next(ctx)
		return
	}
	c, inner := humagin.Unwrap(ctx), ctx.Context()
	if ctx.Operation().OperationID == watching {
		var over func()
		inner, over = v.streaming(ctx)
		defer over()
	}
	k.process.forward(c.Writer, c.Request.WithContext(inner), accessOf(inner).User.Name)
	c.Abort()
}

// asSent gives a process of its own who the service says that a request comes from.
func asSent(ctx huma.Context) huma.Context {
	who, _ := url.QueryUnescape(ctx.Header(personHeader))
	ctx = huma.WithValue(ctx, accessKey{}, &store.Access{User: store.User{Name: who}})
	return huma.WithValue(ctx, spaceKey{}, &store.Workspace{})
}

// rehearseOne lets this process begin the rehearsal that the service sends; done is closed
// when that has ended.
func (v *Service) rehearseOne() (done <-chan struct{}) {
	over := make(chan struct{})
	v.engine.POST(beginPath, func(c *gin.Context) {
		var b beginning
		k, err := (*kept)(nil), json.NewDecoder(c.Request.Body).Decode(&b)
		if err == nil {
			k, err = beginHere(&b, nil, v.log)
		}
		if err == nil {
			err = v.rehearsals.add(k)
		}
		var known huma.StatusError
		switch {
		case errors.As(err, &known):
			c.JSON(known.GetStatus(), known)
			return
		case err != nil:
			problem(c.Writer, http.StatusInternalServerError, err.Error())
			return
		}
		go func() {
			<-k.live.Done()
			close(over)
		}()
		c.JSON(http.StatusCreated, k.Rehearsal)
	})
	return over
}
