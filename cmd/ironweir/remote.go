package main

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironweir/client"
	"ironweir/core/sim"
	"ironweir/formats/text"
	"ironweir/service"
)

// localFlags are the flags that reach beyond the files of a command, to other machines or
// to time without end: a service refuses them, whoever asks. TestEveryFlagIsReviewed walks
// the flags of all commands that a service does.
var localFlags = map[string]string{
	"watch":  "a file that is watched lies on this machine",
	"export": "the service sends nothing to other machines",
}

// refuseLocalFlags reports a flag that a command may not have where it runs for somebody
// elsewhere.
func (c *call) refuseLocalFlags() (err error) {
	if !c.sent {
		return nil
	}
	c.Visit(func(f *flag.Flag) {
		if why, is := localFlags[f.Name]; is {
			err = fmt.Errorf("-%s does not go with -server: %s", f.Name, why)
		}
	})
	return err
}

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
	trusted := trust(args)
	style := c.style()
	ask := client.Command{
		Args:   args,
		Files:  map[string][]byte{},
		Absent: map[string]string{},
		Colour: style.Colour,
		Width:  style.Width,
	}
	for {
		got, err := api.Command(c, c.command.name, ask)
		if err != nil {
			return 0, reached(err)
		}
		if len(got.Wants) == 0 {
			c.out.Write(got.Out)
			c.err.Write(got.Err)
			for name := range got.Files {
				if !trusted.mayWrite(name) {
					return 0, fmt.Errorf(
						"the service at %s made a file %s, which no argument names; nothing is written",
						address,
						name,
					)
				}
			}
			return got.Code, keep(got.Files)
		}
		for _, name := range got.Wants {
			if !trusted.mayRead(name) {
				return 0, fmt.Errorf(
					"the service at %s asks for the file %s, which no argument names and none lies beside; it is not sent",
					address,
					name,
				)
			}
			data, err := c.files.Read(name, maxTraces)
			if err != nil {
				ask.Absent[name] = err.Error()
				continue
			}
			ask.Files[name] = data
		}
	}
}

// trusted are the files that a command's arguments speak of: a service is sent no other,
// and writes no other.
type trusted struct {
	named map[string]bool // as they stand in the arguments, cleaned
	roots []string        // folders of the files that are named: what a model names lies there or below
	out   []string        // what -out names
}

// trust reads what a command's arguments speak of. A service does not have to be believed:
// what it asks for, and what it returns, is held against them.
func trust(args []string) *trusted {
	t := &trusted{named: map[string]bool{"-": true}}
	add := func(text string) {
		text = strings.TrimPrefix(text, "@")
		if text == "" || text == "-" {
			return
		}
		name := filepath.Clean(text)
		t.named[name] = true
		if info, err := os.Stat(name); err == nil && !info.IsDir() {
			t.roots = append(t.roots, filepath.Dir(name))
		}
	}
	for i, a := range args {
		flag, value, given := strings.Cut(strings.TrimLeft(a, "-"), "=")
		switch {
		case !strings.HasPrefix(a, "-") || a == "-":
			add(a)
			if i > 0 && strings.TrimLeft(args[i-1], "-") == "out" && strings.HasPrefix(args[i-1], "-") {
				t.out = append(t.out, filepath.Clean(a))
			}
		case given:
			add(value)
			if flag == "out" {
				t.out = append(t.out, filepath.Clean(value))
			}
		}
	}
	return t
}

func below(name, folder string) bool {
	rel, err := filepath.Rel(folder, name)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, "../") && !filepath.IsAbs(rel)
}

// mayRead reports whether a file is named, or lies beside one that is or below, where
// models and scenarios keep their parts and events. A link does not lead out of there.
func (t *trusted) mayRead(name string) bool {
	clean := filepath.Clean(name)
	if name == "-" || t.named[clean] {
		return true
	}
	real, err := filepath.EvalSymlinks(clean)
	if err != nil {
		real = clean // it is not there: saying so gives nothing away
	}
	for _, root := range t.roots {
		home, err := filepath.EvalSymlinks(root)
		if err == nil && below(clean, root) && (below(real, home) || real == clean) &&
			!strings.HasPrefix(filepath.Base(clean), ".") {
			return true
		}
	}
	return false
}

// mayWrite reports whether a file is one that the arguments name, or lies below -out.
func (t *trusted) mayWrite(name string) bool {
	clean := filepath.Clean(name)
	if t.named[clean] {
		return true
	}
	for _, out := range t.out {
		if below(clean, out) {
			return true
		}
	}
	return false
}

// reached separates errors of reaching the service from what it answered.
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
		return fileCommands()[i].perform(
			&call{
				Context: ctx,
				raw:     in.Args,
				out:     &out,
				err:     &errOut,
				files:   given,
				limits:  limits,
				sent:    true,
				styled:  &text.Style{Width: in.Width, Colour: in.Colour},
			},
		)
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
