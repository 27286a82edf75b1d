package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"ironweir/client"
	"ironweir/core/sim"
	"ironweir/formats/text"
	"ironweir/service"
)

// localFlags are the flags that only make sense on the machine that they are given on.
var localFlags = map[string]string{"watch": "a file that is watched lies on this machine", "export": "the service sends nothing to other machines"}

// serverOf gives the service that is to do a command's work, and the arguments
// without the flag that names it; an empty address: it is done here.
func serverOf(args []string) (address string, rest []string) {
	address = os.Getenv("IRONWEIR_SERVER")
	for i := 0; i < len(args); i++ {
		name, value, given := strings.Cut(strings.TrimLeft(args[i], "-"), "=")
		switch {
		case args[i] == "--":
			return address, append(rest, args[i:]...)
		case name != "server" || !strings.HasPrefix(args[i], "-"):
			rest = append(rest, args[i])
		case given:
			address = value
		case i+1 < len(args):
			i++
			address = args[i]
		default:
			rest = append(rest, args[i]) // without a value: parsing says so
		}
	}
	return address, rest
}

// elsewhere has a service do a command, with the files that it turns out to
// read, and prints what it would have printed here.
func (c *call) elsewhere(address string, args []string) (int, error) {
	api, err := connect(address)
	if err != nil {
		return 0, err
	}
	for _, a := range args {
		name, _, _ := strings.Cut(strings.TrimLeft(a, "-"), "=")
		if why, ok := localFlags[name]; ok && strings.HasPrefix(a, "-") {
			return 0, fmt.Errorf("-%s does not go with -server: %s", name, why)
		}
	}
	style := c.style()
	ask := client.Command{Args: args, Files: map[string][]byte{}, Absent: map[string]string{}, Colour: style.Colour, Width: style.Width}
	for {
		got, err := api.Command(c, c.command.name, ask)
		if err != nil {
			return 0, reached(err)
		}
		if len(got.Wants) == 0 {
			c.out.Write(got.Out)
			c.err.Write(got.Err)
			return got.Code, keep(got.Files)
		}
		for _, name := range got.Wants {
			data, err := c.files.Read(name, maxTraces)
			if err != nil {
				ask.Absent[name] = err.Error()
				continue
			}
			ask.Files[name] = data
		}
	}
}

// reached tells errors of reaching the service from what it answered.
func reached(err error) error {
	if errors.Is(err, client.ErrUnreachable) {
		return unreachable{err}
	}
	if client.StatusOf(err) == 401 {
		return fmt.Errorf("%w\n`ironweir login -server ADDRESS` makes a token", err)
	}
	return err
}

// doSent does a command for somebody elsewhere, with the files that were sent.
func doSent(ctx context.Context, name string, in service.Command, limits sim.Limits) service.Outcome {
	given := &sent{given: in.Files, absent: in.Absent}
	var out, errOut bytes.Buffer
	got := service.Outcome{Wants: []string{}, Files: map[string][]byte{}, Code: exitUsage}
	i := slices.IndexFunc(fileCommands(), func(c *command) bool { return c.name == name })
	if i < 0 {
		got.Err = []byte("ironweir: no command " + name + " for a service to do\n")
		return got
	}
	got.Code = guarded(&errOut, func() int {
		return fileCommands()[i].perform(&call{Context: ctx, raw: in.Args, out: &out, err: &errOut, files: given, limits: limits, sent: true, styled: &text.Style{Width: in.Width, Colour: in.Colour}})
	})
	got.Wants = append(got.Wants, given.wants...)
	if len(got.Wants) == 0 {
		got.Out, got.Err = out.Bytes(), errOut.Bytes()
		if given.written != nil {
			got.Files = given.written
		}
	}
	return got
}
