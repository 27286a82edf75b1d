package service

import (
	"context"
	"encoding/json"
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

// commandTime bounds a command; runs that take longer are asked for as runs.
const commandTime = 10 * time.Minute

// commandRoutes let the command line have its work done here.
func (v *Service) commandRoutes() {
	register(v, store.Viewer, huma.Operation{
		OperationID:  "do-command",
		Method:       http.MethodPost,
		Path:         "/api/v1/commands/{command}",
		Summary:      "Do what a command of the program does, with the files that are sent along; nothing is kept",
		MaxBodyBytes: 4 * MaxBody,
		Metadata:     map[string]any{computing: computation{long: true, within: commandTime}},
	}, v.doCommand)
}

func (v *Service) doCommand(ctx context.Context, in *struct {
	Command string `path:"command" enum:"check,explain,list,paths,guarantees,mend,sensitivity,schema,fmt,edit,follow,run,compare,diff,report,draw,fires,sample,size,convert,learn"`
	Limits  string `header:"Ironweir-Limits" hidden:"true"`
	Body    Command
}) (*struct{ Body Outcome }, error) {
	limits, err := v.commandLimits(ctx, in.Limits)
	if err != nil {
		return nil, v.failure(err, "settings")
	}
	ctx, cancel := context.WithTimeout(ctx, commandTime)
	defer cancel()
	out := v.options.Commands(ctx, in.Command, in.Body, limits)
	out.Out, out.Err = append([]byte{}, out.Out...), append([]byte{}, out.Err...) // empty, not null
	return &struct{ Body Outcome }{out}, nil
}

// commandLimits gives the limits of runs within a command: by the settings, or, in a process
// that only computes, as it was sent.
func (v *Service) commandLimits(ctx context.Context, sent string) (limits sim.Limits, err error) {
	if v.only != everything {
		err = json.Unmarshal([]byte(sent), &limits)
		return limits, err
	}
	settings, err := v.store.Settings(ctx)
	return jobs.LimitsOf(settings), err
}
