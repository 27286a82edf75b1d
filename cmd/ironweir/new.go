package main

import (
	"flag"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"ironweir/core/model"
	"ironweir/gallery"
)

var newCommand = &command{
	name:  "new",
	args:  "[STARTER|WORDS…]",
	short: "Print a starter model from the gallery, or find starters by what they are for",
	example: `ironweir new
ironweir new queue
ironweir new "fan out" dead letters
ironweir new queue-worker > orders.yaml
ironweir new queue-worker -scenario > busy-day.yaml
ironweir new retry-ladder -out parcels`,
	run: func(c *call) (int, error) {
		format := c.String("format", "text", "`FORMAT`: text, json")
		scenario := c.Bool("scenario", false, "print the starter's scenario instead of its model")
		out := c.String("out", "", "write model.yaml and scenario.yaml into folder `DIR` instead")
		if err := c.parse(0, 20); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *format, "text|json"); err != nil {
			return 0, err
		}
		list := []gallery.Match{}
		for _, s := range gallery.Starters() {
			list = append(list, gallery.Match{Starter: s})
		}
		if c.NArg() == 1 {
			if s, ok := gallery.ByName(c.Arg(0)); ok {
				switch {
				case *out != "":
					return exitFine, c.writeStarter(s, *out)
				case *scenario:
					s.Text = s.Scenario
				}
				_, err := c.out.Write(s.Text)
				return exitFine, err
			}
		}
		if c.NArg() > 0 {
			var names []string
			for _, s := range list {
				names = append(names, s.Name)
			}
			asked := strings.Join(c.Args(), " ")
			if *out != "" || *scenario {
				return 0, fmt.Errorf(
					"no starter %q%s; there are %s",
					asked,
					model.DidYouMean(asked, names),
					strings.Join(names, ", "),
				)
			}
			if list = gallery.Search(c.Args()); len(list) == 0 {
				return 0, fmt.Errorf(
					"no starter fits %q%s; there are %s",
					asked,
					model.DidYouMean(asked, names),
					strings.Join(names, ", "),
				)
			}
		}
		if *format == "json" {
			found := []map[string]string{}
			for _, s := range list {
				found = append(found, map[string]string{"name": s.Name, "about": s.About})
			}
			return exitFine, c.printJSON(found)
		}
		for _, s := range list {
			fmt.Fprintf(c.out, "%-20s %s\n", s.Name, s.About)
		}
		if c.NArg() > 0 {
			fmt.Fprintf(c.err, "ironweir new %s > model.yaml starts with the first\n", list[0].Name)
		}
		return exitFine, nil
	},
}

// writeStarter writes a starter into a folder; it overwrites nothing.
func (c *call) writeStarter(s gallery.Starter, dir string) error {
	if err := c.makeFolder(dir); err != nil {
		return err
	}
	for name, text := range map[string][]byte{"model.yaml": s.Text, "scenario.yaml": s.Scenario} {
		if err := c.files.WriteNew(filepath.Join(dir, name), text); err != nil {
			return fmt.Errorf("-out: %w", err)
		}
	}
	fmt.Fprintf(
		c.err,
		"try: ironweir check %[1]s/model.yaml; ironweir run %[1]s/model.yaml -scenario %[1]s/scenario.yaml\n",
		dir,
	)
	return nil
}

// completionCommand is made anew each time, since it lists all commands.
func completionCommand() *command {
	return &command{
		name:  "completion",
		args:  "bash|zsh",
		short: "Print a script that completes commands and flags in a shell",
		example: `source <(ironweir completion bash)
ironweir completion zsh > "${fpath[1]}/_ironweir"`,
		run: func(c *call) (int, error) {
			if err := c.parse(1, 1); err != nil {
				return 0, err
			}
			if err := c.oneOf("shell", c.Arg(0), "bash|zsh"); err != nil {
				return 0, fmt.Errorf("%q is not a supported shell: use bash or zsh", c.Arg(0))
			}
			if c.Arg(0) == "zsh" {
				fmt.Fprint(c.out, "#compdef ironweir\nautoload -U +X bashcompinit && bashcompinit\n")
			}
			var names []string
			fmt.Fprint(
				c.out,
				"_ironweir() {\n  local cur=${COMP_WORDS[COMP_CWORD]} flags=\n  case ${COMP_WORDS[1]} in\n",
			)
			for _, cmd := range commands() {
				names = append(names, cmd.name)
				fmt.Fprintf(c.out, "    %s) flags=%q ;;\n", cmd.name, strings.Join(cmd.flags(), " "))
			}
			fmt.Fprintf(
				c.out,
				"  esac\n  if [ \"$COMP_CWORD\" = 1 ]; then\n    COMPREPLY=($(compgen -W %q -- \"$cur\"))\n  elif [[ $cur == -* ]]; then\n    COMPREPLY=($(compgen -W \"$flags\" -- \"$cur\"))\n  else\n    COMPREPLY=($(compgen -f -- \"$cur\"))\n  fi\n}\ncomplete -o filenames -F _ironweir ironweir\n",
				strings.Join(names, " "),
			)
			return exitFine, nil
		},
	}
}

// flags lists the flags of a command.
func (cmd *command) flags() []string {
	var names []string
	for _, f := range cmd.flagSet() {
		names = append(names, "-"+f.Name)
	}
	return names
}

// flagSet gives the flags that a command declares, by name.
func (cmd *command) flagSet() []*flag.Flag {
	if cmd.name == "completion" {
		return nil
	}
	inner := &call{FlagSet: flag.NewFlagSet(cmd.name, flag.ContinueOnError), command: cmd, raw: []string{"-h"}}
	inner.FlagSet.SetOutput(io.Discard)
	_, _ = cmd.run(inner) // asks for help, which ends it once the flags are declared
	var out []*flag.Flag
	inner.VisitAll(func(f *flag.Flag) { out = append(out, f) })
	return out
}
