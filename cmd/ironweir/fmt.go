package main

import (
	"fmt"

	"github.com/pmezard/go-difflib/difflib"

	"ironweir/core/model"
)

var fmtCommand = &command{
	name:  "fmt",
	args:  "FILE…",
	short: "Print a model or scenario in its usual form, comments kept",
	example: `ironweir fmt demo/kittiwake.yaml
ironweir fmt -write models/*.yaml
ironweir fmt -check models/*.yaml`,
	run: func(c *call) (int, error) {
		write := c.Bool("write", false, "write the files anew instead of printing them")
		check := c.Bool("check", false, "show what differs from the usual form, and end with 1 if anything does")
		if err := c.parse(1, 10_000); err != nil {
			return 0, err
		}
		if *write && *check {
			return 0, fmt.Errorf("-write and -check are two different things; give one of them")
		}
		code := exitFine
		for _, file := range c.Args() {
			before, err := c.read(file)
			if err != nil {
				return 0, err
			}
			now, err := model.Format(file, before)
			if err != nil {
				return 0, err
			}
			switch same := string(now) == string(before); {
			case *check && !same:
				code = exitShort
				diff, err := difflib.GetUnifiedDiffString(
					difflib.UnifiedDiff{
						A:        difflib.SplitLines(string(before)),
						B:        difflib.SplitLines(string(now)),
						FromFile: file,
						ToFile:   file + " (usual form)",
						Context:  2,
					},
				)
				if err != nil {
					return 0, err
				}
				fmt.Fprint(c.out, diff)
			case *check:
			case *write && file == "-":
				return 0, fmt.Errorf("-write cannot write to standard input; leave it out")
			case *write && !same:
				if err := c.files.Write(file, now); err != nil {
					return 0, err
				}
				fmt.Fprintf(c.err, "%s written\n", file)
			case !*write:
				if _, err := c.out.Write(now); err != nil {
					return 0, err
				}
			}
		}
		return code, nil
	},
}
