// Command ironweir models the event topology between buckets, queues, topics, streams, tables,
// schedules, endpoints, workflows, functions and outside systems; finds where messages
// loop and where they are lost; and simulates the flow. A file here is a
// command: it parses flags, calls a package and prints.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/text"
	"ironweir/service/isolation"
)

// Exit codes.
const (
	exitFine        = 0
	exitShort       = 1 // it ran, and something falls short
	exitUsage       = 2 // wrong usage, or an input that cannot be used
	exitUnreachable = 3 // the service or an outside thing could not be reached
	exitInterrupted = 130
)

// command is one command.
type command struct {
	name    string
	args    string
	short   string
	example string
	run     func(c *call) (int, error)
}

// call is one use of a command.
type call struct {
	context.Context
	*flag.FlagSet
	command *command
	raw     []string
	in      io.Reader
	out     io.Writer
	err     io.Writer
	files   files
	limits  sim.Limits  // of runs; zero: the engine's own
	sent    bool        // it is done for somebody elsewhere
	styled  *text.Style // how they print; nil: as this machine's terminal does
}

// errUsage marks errors that end with exitUsage and no further words.
var errUsage = errors.New("usage")

// unreachable is an error that ends with exitUnreachable.
type unreachable struct{ error }

// fileCommands work on files, here or at a service.
func fileCommands() []*command {
	return []*command{
		checkCommand,
		explainCommand,
		listCommand,
		followCommand,
		diffCommand,
		pathsCommand,
		guaranteesCommand,
		mendCommand,
		sensitivityCommand,
		runCommand,
		sizeCommand,
		compareCommand,
		reportCommand,
		drawCommand,
		firesCommand,
		sampleCommand,
		learnCommand,
		convertCommand,
		fmtCommand,
		editCommand,
		schemaCommand,
	}
}

func commands() []*command {
	return append(
		fileCommands(),
		newCommand,
		rehearseCommand,
		loginCommand,
		modelsCommand,
		pushCommand,
		pullCommand,
		historyCommand,
		runsCommand,
		userCommand,
		tokenCommand,
		serveCommand,
		workerCommand,
		migrateCommand,
		backupCommand,
		restoreCommand,
		openapiCommand,
		versionCommand,
		completionCommand(),
	)
}

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	os.Exit(Main(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// Main runs the program and gives its exit code.
func Main(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 1 && args[0] == isolatedName && isolation.IsChild() {
		return computeIsolated(errOut)
	}
	return guarded(errOut, func() int { return perform(ctx, args, in, out, errOut) })
}

func perform(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	if len(args) == 0 {
		usage(errOut)
		return exitUsage
	}
	name := args[0]
	switch name {
	case "help", "-h", "-help", "--help":
		if len(args) > 1 && args[1] == "-man" {
			manual(out)
			return exitFine
		}
		if len(args) > 1 {
			name, args = args[1], []string{args[1], "-h"}
			break
		}
		usage(out)
		return exitFine
	}
	for _, cmd := range commands() {
		if cmd.name == name {
			return cmd.do(ctx, args[1:], in, out, errOut)
		}
	}
	var names []string
	for _, cmd := range commands() {
		names = append(names, cmd.name)
	}
	fmt.Fprintf(
		errOut,
		"ironweir: no command %q%s\nRun `ironweir help` for the list.\n",
		name,
		model.DidYouMean(name, names),
	)
	return exitUsage
}

func (cmd *command) do(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	return cmd.perform(&call{Context: ctx, raw: args, in: in, out: out, err: errOut, files: disk{in}})
}

// perform does the command here, or has a service do it.
func (cmd *command) perform(c *call) int {
	c.command, c.FlagSet = cmd, flag.NewFlagSet(cmd.name, flag.ContinueOnError)
	c.FlagSet.SetOutput(io.Discard)
	run := cmd.run
	if !c.sent && slices.Contains(fileCommands(), cmd) {
		c.String("server", "", "have the service at `ADDRESS` do the work (or IRONWEIR_SERVER)")
		if address, args := serverOf(c.raw); address != "" && !asksForHelp(args) {
			run = func(c *call) (int, error) { return c.elsewhere(address, args) }
		}
	}
	out, errOut := c.out, c.err
	code, err := run(c)
	var down unreachable
	var problems model.Problems
	switch {
	case err == nil:
		return code
	case errors.Is(err, flag.ErrHelp):
		c.help(out)
		return exitFine
	case errors.Is(err, errUsage):
		return exitUsage
	case errors.As(err, &problems):
		for _, p := range problems {
			fmt.Fprintln(errOut, p.Error())
		}
		fmt.Fprintf(errOut, "ironweir %s: %s\n", cmd.name, plural(len(problems), "problem"))
		return exitUsage
	case errors.As(err, &down):
		fmt.Fprintf(errOut, "ironweir %s: %v\n", cmd.name, err)
		return exitUnreachable
	}
	fmt.Fprintf(errOut, "ironweir %s: %v\n", cmd.name, err)
	return exitUsage
}

func asksForHelp(args []string) bool {
	return slices.ContainsFunc(args, func(a string) bool { return a == "-h" || a == "-help" || a == "--help" })
}

// guarded does something, and turns a fault of the program into a message.
func guarded(errOut io.Writer, do func() int) (code int) {
	defer func() {
		if r := recover(); r != nil {
			fmt.Fprintf(
				errOut,
				"ironweir: a fault of the program: %v\nPlease report it with the model and the command.\n",
				r,
			)
			if os.Getenv("IRONWEIR_DEBUG") != "" {
				errOut.Write(debug.Stack())
			}
			code = exitUsage
		}
	}()
	return do()
}

// parse reads flags, which may stand before or after the arguments; `--` ends
// them and `-` is an argument.
func (c *call) parse(least, most int) error {
	var flags, args []string
	for i := 0; i < len(c.raw); i++ {
		a := c.raw[i]
		if a == "--" {
			args = append(args, c.raw[i+1:]...)
			break
		}
		if a == "-" || !strings.HasPrefix(a, "-") {
			args = append(args, a)
			continue
		}
		flags = append(flags, a)
		name := strings.TrimLeft(a, "-")
		if strings.Contains(name, "=") {
			continue
		}
		f := c.Lookup(name)
		if f == nil {
			continue
		}
		if b, ok := f.Value.(interface{ IsBoolFlag() bool }); (!ok || !b.IsBoolFlag()) && i+1 < len(c.raw) {
			i++
			flags = append(flags, c.raw[i])
		}
	}
	if err := c.FlagSet.Parse(append(append(flags, "--"), args...)); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			return err
		}
		var known []string
		c.VisitAll(func(f *flag.Flag) { known = append(known, f.Name) })
		message := err.Error()
		if name, ok := strings.CutPrefix(message, "flag provided but not defined: -"); ok {
			message = fmt.Sprintf("no flag -%s%s", name, model.DidYouMean(name, known))
		}
		return fmt.Errorf("%s (`ironweir %s -h` lists the flags)", message, c.command.name)
	}
	if err := c.refuseLocalFlags(); err != nil {
		return err
	}
	if n := c.NArg(); n < least || n > most {
		return fmt.Errorf(
			"it takes %s, not %s (`ironweir %s -h` has examples)",
			c.command.args,
			plural(n, "argument"),
			c.command.name,
		)
	}
	return nil
}

func (c *call) help(w io.Writer) {
	fmt.Fprintf(w, "ironweir %s %s\n\n%s\n", c.command.name, c.command.args, c.command.short)
	any := false
	c.VisitAll(func(f *flag.Flag) {
		if !any {
			fmt.Fprintf(w, "\nFlags:\n")
			any = true
		}
		value, text := flag.UnquoteUsage(f)
		fmt.Fprintf(w, "  %-24s %s\n", strings.TrimSpace("-"+f.Name+" "+value), text)
	})
	if c.command.example != "" {
		fmt.Fprintf(w, "\nExamples:\n")
		for _, line := range strings.Split(strings.TrimSpace(c.command.example), "\n") {
			fmt.Fprintf(w, "  %s\n", strings.TrimSpace(line))
		}
	}
}

func usage(w io.Writer) {
	fmt.Fprintf(
		w,
		"Iron Weir models how events travel, finds where they loop or are lost, and simulates the flow.\n\nUsage: ironweir COMMAND [ARGUMENTS]\n\n",
	)
	for _, cmd := range commands() {
		fmt.Fprintf(w, "  %-12s %s\n", cmd.name, cmd.short)
	}
	fmt.Fprintf(
		w,
		"\n`ironweir COMMAND -h` shows a command's flags and examples; `ironweir help -man` writes the manual page.\nExit codes: 0 all holds; 1 something falls short; 2 wrong usage or input; 3 something could not be reached; 130 interrupted.\n",
	)
}

func plural(n int, word string) string { return text.Plural(n, word) }

// repeated is a flag that may be given several times.
type repeated []string

func (r *repeated) String() string     { return strings.Join(*r, " ") }
func (r *repeated) Set(s string) error { *r = append(*r, s); return nil }
