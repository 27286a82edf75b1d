package service

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ironweir/core/sim"
	"ironweir/jobs"
	"ironweir/store"
)

// Command is a command of the program, to be done here.
type Command struct {
	Args   []string          `json:"args" maxItems:"1000" doc:"after the command's name"`
	Files  map[string][]byte `json:"files,omitempty" doc:"the files that it reads, in base64, by the names in its arguments; - is standard input"`
	Absent map[string]string `json:"absent,omitempty" doc:"files that it wanted and that the sender cannot read, with why"`
	Colour bool              `json:"colour,omitempty"`
	Width  int               `json:"width,omitempty" minimum:"0" maximum:"120"`
}

// Outcome is what became of a command.
type Outcome struct {
	Wants []string          `json:"wants" doc:"files that were not sent: nothing has been done; send it again with them"`
	Code  int               `json:"code" doc:"the exit code"`
	Out   []byte            `json:"out" doc:"standard output"`
	Err   []byte            `json:"err" doc:"standard error"`
	Files map[string][]byte `json:"files" doc:"the files that it made"`
}

// Commands does a command within limits, with nothing but the files that were
// sent.
type Commands func(ctx context.Context, name string, c Command, limits sim.Limits) Outcome

// How many commands are done at once, and for how long at most; runs that take
// longer are asked for as runs.
const (
	commandsAtOnce = 4
	commandTime    = 10 * time.Minute
)

// commandRoutes let the command line have its work done here.
func (v *Service) commandRoutes() {
	slots := make(chan struct{}, commandsAtOnce)
	register(
		v,
		store.Viewer,
		huma.Operation{
			OperationID:  "do-command",
			Method:       http.MethodPost,
			Path:         "/api/v1/commands/{command}",
			Summary:      "Do what a command of the program does, with the files that are sent along; nothing is kept",
			MaxBodyBytes: 4 * MaxBody,
			Errors:       []int{429},
		},
		func(ctx context.Context, in *struct {
			Command string `path:"command" enum:"check,explain,list,paths,guarantees,mend,sensitivity,schema,fmt,edit,follow,run,compare,diff,report,draw,fires,sample,size,convert,learn"`
			Body    Command
		}) (*struct{ Body Outcome }, error) {
			settings, err := v.store.Settings(ctx)
			if err != nil {
				return nil, v.failure(err, "settings")
			}
			select {
			case slots <- struct{}{}:
				defer func() { <-slots }()
			case <-time.After(10 * time.Second):
				return nil, huma.ErrorWithHeaders(
					huma.Error429TooManyRequests("the service is busy with other commands; try again in a moment"),
					http.Header{"Retry-After": {"5"}},
				)
			case <-ctx.Done():
				return nil, ctx.Err()
			}
			ctx, cancel := context.WithTimeout(ctx, min(commandTime, time.Duration(settings.MaxSeconds*1e9)))
			defer cancel()
			out := v.options.Commands(ctx, in.Command, in.Body, jobs.LimitsOf(settings))
			out.Out, out.Err = append([]byte{}, out.Out...), append([]byte{}, out.Err...) // empty, not null
			return &struct{ Body Outcome }{out}, nil
		},
	)
}
