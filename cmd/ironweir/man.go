package main

import (
	"flag"
	"fmt"
	"io"
	"strings"

	"ironweir/core/document"
)

// manual writes the manual page, in the language of man(7), from the help text
// of every command.
func manual(w io.Writer) {
	esc := func(s string) string {
		s = strings.NewReplacer(`\`, `\e`, "-", `\-`, "'", `\(aq`, "…", "...").Replace(s)
		if strings.HasPrefix(s, ".") {
			s = `\&` + s
		}
		return s
	}
	fmt.Fprintf(
		w,
		".TH IRONWEIR 1 \"\" \"Iron Weir %s\"\n.SH NAME\nironweir \\- model how events travel, find where they loop or are lost, and simulate the flow\n",
		document.Version,
	)
	fmt.Fprintf(w, ".SH SYNOPSIS\n.B ironweir\n.I COMMAND\n[ARGUMENTS]\n.SH COMMANDS\n")
	for _, cmd := range commands() {
		fmt.Fprintf(w, ".SS \"ironweir %s %s\"\n%s.\n", cmd.name, esc(cmd.args), esc(cmd.short))
		for _, f := range cmd.flagSet() {
			value, text := flag.UnquoteUsage(f)
			fmt.Fprintf(w, ".TP\n.B %s\n%s\n", esc(strings.TrimSpace("-"+f.Name+" "+value)), esc(text))
		}
		if cmd.example != "" {
			fmt.Fprintf(w, ".PP\nExamples:\n.RS\n.nf\n%s\n.fi\n.RE\n", escLines(cmd.example, esc))
		}
	}
	fmt.Fprintf(w, `.SH EXIT STATUS
.TP
.B 0
all holds
.TP
.B 1
it ran, and something falls short
.TP
.B 2
wrong usage, or an input that cannot be used
.TP
.B 3
the service or an outside thing could not be reached
.TP
.B 130
interrupted
.SH ENVIRONMENT
.TP
.B NO_COLOR
never colour the output
`)
}

func escLines(text string, esc func(string) string) string {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	for i := range lines {
		lines[i] = esc(strings.TrimSpace(lines[i]))
	}
	return strings.Join(lines, "\n")
}
