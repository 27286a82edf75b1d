package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
)

// procedure is a computation on what is kept here: the service reads the records, and a process of its own computes.
type procedure[I, O any] struct {
	name string
	long bool // it simulates, as long as a run may take
	do   func(context.Context, *I) (*O, error)
}

const procedurePath = "/procedures/"

// procedures are answered by a process for computations.
func (v *Service) procedures() {
	checkProcedure.answer(v)
	scenarioProcedure.answer(v)
	variantProcedure.answer(v)
	partsProcedure.answer(v)
	reportProcedure.answer(v)
	journeysProcedure.answer(v)
	journeyProcedure.answer(v)
	restProcedure.answer(v)
	compareProcedure.answer(v)
	observationProcedure.answer(v)
	sumProcedure.answer(v)
	driftProcedure.answer(v)
}

// ask has a procedure done for a caller when the budget allows it; the error is an answer.
func (p *procedure[I, O]) ask(ctx context.Context, v *Service, in *I) (*O, error) {
	leave, err := v.enter(ctx, p.name, computation{long: p.long})
	if err != nil {
		return nil, tooBusy(err)
	}
	defer leave()
	return p.call(ctx, v, in)
}

// call has a procedure done; the error is an answer.
func (p *procedure[I, O]) call(ctx context.Context, v *Service, in *I) (out *O, err error) {
	if v.pool == nil {
		out, err = p.do(ctx, in)
	} else {
		out, err = p.callProcess(ctx, v, in)
	}
	var known huma.StatusError
	switch {
	case err == nil:
		return out, nil
	case errors.As(err, &known) && known.GetStatus() < 500:
		return nil, err
	}
	return nil, v.failure(fmt.Errorf("%s: %w", p.name, err), p.name)
}

// callProcess has a procedure done by a process of its own.
func (p *procedure[I, O]) callProcess(ctx context.Context, v *Service, in *I) (*O, error) {
	within := computeTime
	if p.long {
		settings, err := v.store.Settings(ctx)
		if err != nil {
			return nil, err
		}
		within = time.Duration(settings.MaxSeconds * float64(time.Second))
	}
	text, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, procedurePath+p.name, bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	answer := httptest.NewRecorder()
	if err := v.pool.Serve(answer, request, within); err != nil {
		return nil, ended(err, within, v.pool.Memory)
	}
	if err := refusal(answer.Code, answer.Body.Bytes()); err != nil {
		return nil, err
	}
	out := new(O)
	if err := json.Unmarshal(answer.Body.Bytes(), out); err != nil {
		return nil, fmt.Errorf("the answer of a process: %w", err)
	}
	return out, nil
}

// answer lets this process do a procedure.
func (p *procedure[I, O]) answer(v *Service) {
	v.engine.POST(procedurePath+p.name, func(c *gin.Context) {
		in := new(I)
		if err := json.NewDecoder(c.Request.Body).Decode(in); err != nil {
			problem(c.Writer, http.StatusInternalServerError, "what it is of: "+err.Error())
			return
		}
		out, err := p.do(c.Request.Context(), in)
		var known huma.StatusError
		switch {
		case errors.As(err, &known):
			c.JSON(known.GetStatus(), known)
		case err != nil:
			problem(c.Writer, http.StatusInternalServerError, err.Error())
		default:
			c.JSON(http.StatusOK, out)
		}
	})
}

// refusal gives the error that a process has answered; nil: it has answered none.
func refusal(status int, said []byte) error {
	if status < 400 {
		return nil
	}
	problem := &huma.ErrorModel{}
	if err := json.Unmarshal(said, problem); err != nil {
		return fmt.Errorf("a process answered %d: %w", status, err)
	}
	return problem
}
