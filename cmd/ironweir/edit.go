package main

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"ironweir/core/check"
	"ironweir/core/check/flow"
	"ironweir/core/check/guarantees"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/formats/text"
)

// edited is what `edit -format json` prints.
type edited struct {
	text.DiffDocument
	Diff    string `json:"text"` // of the file, as a unified difference
	Written bool   `json:"written"`
}

var editCommand = &command{
	name:  "edit",
	args:  "MODEL",
	short: "Change a model by command, and see what the change does to its findings",
	example: `ironweir edit demo/kittiwake.yaml -add gate-log:queue -link announcements:gate-log
ironweir edit demo/kittiwake.yaml -link "announcements:gate-log={match: {type: departed}}" -write
ironweir edit demo/kittiwake.yaml -set nodes.consignments.lease=2m -set nodes.clear-consignment.timeout=90s
ironweir edit demo/kittiwake.yaml -rename clerk-desk=front-desk -remove customs-archive`,
	run: func(c *call) (int, error) {
		var steps []func(source []byte) ([]byte, error)
		var renames [][2]string
		step := func(name, usage string, do func(value string, source []byte) ([]byte, error)) {
			c.Func(name, usage, func(value string) error {
				steps = append(steps, func(source []byte) ([]byte, error) {
					out, err := do(value, source)
					if err != nil {
						return nil, fmt.Errorf("-%s %s: %w", name, value, err)
					}
					return out, nil
				})
				return nil
			})
		}
		step(
			"add",
			"add a node, `NAME:KIND`; may be repeated, as all that follow",
			func(value string, source []byte) ([]byte, error) {
				name, kind, ok := strings.Cut(value, ":")
				if !ok {
					return nil, errors.New("write it as NAME:KIND, such as gate-log:queue")
				}
				return model.AddNode(source, name, kind)
			},
		)
		step("link", "add a link, `FROM:TO[={…}]` with its fields", func(value string, source []byte) ([]byte, error) {
			link, written, has := strings.Cut(value, "=")
			if !has {
				return model.AddLink(source, link, nil)
			}
			fields, err := model.ReadDocument("-link", []byte(written))
			if err != nil {
				return nil, err
			}
			return model.AddLink(source, link, fields)
		})
		step(
			"set",
			"set `PATH=VALUE`, as nodes.consignments.lease=90s; null removes the field",
			func(value string, source []byte) ([]byte, error) {
				path, written, ok := strings.Cut(value, "=")
				if !ok {
					return nil, errors.New("write it as PATH=VALUE, such as nodes.consignments.lease=90s")
				}
				return model.SetField(source, path, written)
			},
		)
		step("rename", "give a node another name everywhere, `A=B`", func(value string, source []byte) ([]byte, error) {
			from, to, ok := strings.Cut(value, "=")
			if !ok {
				return nil, errors.New("write it as A=B, the name now and the new one")
			}
			renames = append(renames, [2]string{from, to})
			return model.Rename(source, from, to)
		})
		step(
			"remove",
			"remove the node `NAME` with all that names it, or the link FROM:NAME",
			func(value string, source []byte) ([]byte, error) { return model.Remove(source, value) },
		)
		write := c.Bool("write", false, "write the file; without it the change is only shown")
		format := c.String("format", "text", "`FORMAT`: text, json")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *format, "text|json"); err != nil {
			return 0, err
		}
		file := c.Arg(0)
		switch {
		case len(steps) == 0:
			return 0, errors.New("nothing to change: give -add, -link, -set, -rename or -remove")
		case *write && file == "-":
			return 0, errors.New("-write cannot write to standard input; leave it out")
		}
		before, err := c.read(file)
		if err != nil {
			return 0, err
		}
		now := before
		for _, do := range steps { // in the order given
			if now, err = do(now); err != nil {
				return 0, err
			}
		}
		out, err := c.editing(file, before, now, renames)
		if err != nil {
			return 0, err
		}
		if *write && string(before) != string(now) {
			if err := c.files.Write(file, now); err != nil {
				return 0, err
			}
			out.Written = true
		}
		if *format == "json" {
			return exitFine, c.printJSON(out)
		}
		if err := text.Diff(c.out, &out.DiffDocument, c.style()); err != nil {
			return 0, err
		}
		fmt.Fprintf(c.out, "\n%s", out.Diff)
		switch {
		case out.Written:
			fmt.Fprintf(c.err, "%s written\n", file)
		case string(before) != string(now):
			fmt.Fprintln(c.err, "nothing is written; -write does")
		}
		return exitFine, nil
	},
}

// editing compares a model before and after: in its own terms and in its findings, by the
// new names of nodes, and in its text. A model that could not be used before has no
// findings to compare with.
func (c *call) editing(file string, before, now []byte, renames [][2]string) (*edited, error) {
	base := before
	for _, r := range renames {
		if named, err := model.Rename(base, r[0], r[1]); err == nil { // else the change adds the node itself
			base = named
		}
	}
	after, held, err := c.checkText(file, now)
	if err != nil {
		return nil, err // with its places in the text as it would be
	}
	since := *after
	was, holding, err := c.checkText(file, base)
	if err == nil {
		since.Since(was)
	}
	var values [2]*model.Value
	for i, source := range [][]byte{base, now} {
		if values[i], err = model.ReadDocument(file, source); err != nil {
			return nil, err
		}
	}
	out := &edited{
		DiffDocument: text.DiffDocument{
			Head:    document.NewHead("edit", after.Model, "", after.Digest),
			Before:  file,
			After:   file,
			Renamed: map[string]string{},
			Changes: model.Compare(values[0], values[1]),
			Came:    since.Findings,
			Went:    since.Gone,
		},
	}
	out.Lost, out.Won = guarantees.Compare(holding, held)
	for _, r := range renames {
		out.Renamed[r[0]] = r[1]
	}
	out.Diff, err = difflib.GetUnifiedDiffString(
		difflib.UnifiedDiff{
			A:        difflib.SplitLines(string(before)),
			B:        difflib.SplitLines(string(now)),
			FromFile: file,
			ToFile:   file + " (changed)",
			Context:  2,
		},
	)
	return out, err
}

// checkText checks a model that is at hand as text, and lists its guarantees.
func (c *call) checkText(file string, source []byte) (*check.Document, []guarantees.Guarantee, error) {
	t, err := model.Parse(file, source, model.Options{Load: c.partsBeside(file)})
	if err != nil {
		return nil, nil, err
	}
	g, err := graph.Compile(t)
	if err != nil {
		return nil, nil, err
	}
	head := (&loaded{graph: g, digest: document.Digest(string(source))}).head("check")
	return check.Run(g, nil, head, time.Now()), guarantees.Of(flow.Analyse(g, nil), "", ""), nil
}
