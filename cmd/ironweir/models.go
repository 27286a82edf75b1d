package main

import (
	"encoding/json"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ironweir/client"
	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/formats/text"
)

var modelsCommand = &command{name: "models", args: "", short: "List the models of a workspace of a service",
	example: "ironweir models\nironweir models -workspace night-crossings -format json",
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		if err := c.parse(0, 0); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		list, err := api.Models(c)
		if err != nil {
			return 0, reached(err)
		}
		if *f.format == "json" {
			return exitFine, c.printJSON(list)
		}
		if len(list) == 0 {
			fmt.Fprintf(c.out, "Workspace %s holds no models; `ironweir push FILE` puts one there.\n", api.Workspace)
		}
		for _, m := range list {
			last := "never run"
			if m.LastRun != nil {
				last = fmt.Sprintf("run %d %s%s", *m.LastRun, *m.LastState, verdict(m.LastUnmet, m.LastExpected))
			}
			fmt.Fprintf(
				c.out,
				"%-24s revision %-4d %-28s %s by %s, %s\n",
				m.Name,
				m.Revision,
				plural(m.Errors, "error")+", "+plural(m.Warnings, "warning"),
				day(m.ChangedAt),
				m.Author,
				last,
			)
		}
		return exitFine, nil
	}}

// verdict says how many of the expectations of a run do not hold; nothing of one that has none, or has not ended.
func verdict(unmet, expected *int) string {
	switch {
	case unmet == nil || expected == nil:
		return ""
	case *unmet == 0:
		return ", expectations hold"
	}
	return fmt.Sprintf(", %d of %d expectations fail", *unmet, *expected)
}

func day(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

var pushCommand = &command{
	name:  "push",
	args:  "FILE [SCENARIO…]",
	short: "Save a model, and scenarios of it, at a service",
	example: `ironweir push demo/kittiwake.yaml -note "longer lease"
ironweir push demo/kittiwake.yaml demo/friday-evening.yaml demo/quiet-tuesday.yaml
ironweir push demo/kittiwake.yaml -name kittiwake -on 7`,
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		name := c.String("name", "", "`NAME` of the model at the service; by default the one that it bears")
		note := c.String("note", "", "`WORDS` that go into the history")
		on := c.Int("on", 0, "save only if revision `N` is the latest; by default, on top of whatever is")
		if err := c.parse(1, 100); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		t, source, err := c.topology(c.Arg(0))
		if err != nil {
			return 0, err
		}
		if doc, err := model.ReadDocument(c.Arg(0), source); err == nil && doc.Get("parts") != nil {
			return 0, fmt.Errorf(
				"%s has parts in other files, which a service does not hold: put their nodes into one file",
				c.Arg(0),
			)
		}
		if *name == "" {
			*name = t.Name
		}
		if *name == "" {
			*name = strings.TrimSuffix(filepath.Base(c.Arg(0)), filepath.Ext(c.Arg(0)))
		}
		r, err := c.pushModel(api, *name, string(source), *note, *on)
		if err != nil {
			return 0, reached(err)
		}
		for _, file := range c.Args()[1:] {
			text, err := c.read(file)
			if err != nil {
				return 0, err
			}
			s, err := model.ParseScenario(file, text, t)
			if err != nil {
				return 0, err
			}
			scenario := s.Name
			if scenario == model.DefaultScenario().Name {
				scenario = strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
			}
			if err := api.SaveScenario(c, *name, scenario, string(text)); err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.out, "scenario %s saved\n", scenario)
		}
		if *f.format == "json" {
			return exitFine, c.printJSON(r)
		}
		return exitFine, nil
	},
}

// pushModel saves a text, unless it is what the service has.
func (c *call) pushModel(api *client.Client, name, text, note string, on int) (*client.Revision, error) {
	latest, err := api.Model(c, name, 0)
	if client.StatusOf(err) == 404 && on == 0 {
		r, err := api.CreateModel(c, name, text, note)
		if err == nil {
			fmt.Fprintf(
				c.out,
				"%s made in workspace %s: %s, %s\n",
				name,
				api.Workspace,
				plural(r.Errors, "error"),
				plural(r.Warnings, "warning"),
			)
		}
		return r, err
	}
	if err != nil {
		return nil, err
	}
	if on != 0 && on != latest.Number {
		return nil, fmt.Errorf(
			"the latest revision is %d, by %s on %s, not %d: `ironweir pull %s` brings it",
			latest.Number,
			latest.Author,
			day(latest.CreatedAt),
			on,
			name,
		)
	}
	if latest.Text == text {
		fmt.Fprintf(c.out, "%s is at the service as it is: revision %d\n", name, latest.Number)
		return latest, nil
	}
	r, err := api.SaveRevision(c, name, latest.Number, text, note)
	if err == nil {
		fmt.Fprintf(
			c.out,
			"%s saved as revision %d: %s, %s\n",
			name,
			r.Number,
			plural(r.Errors, "error"),
			plural(r.Warnings, "warning"),
		)
	}
	return r, err
}

var pullCommand = &command{
	name:    "pull",
	args:    "NAME",
	short:   "Print a model of a service, or write it and its scenarios into a folder",
	example: "ironweir pull kittiwake > kittiwake.yaml\nironweir pull kittiwake -revision 3\nironweir pull kittiwake -out harbour",
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		revision := c.Int("revision", 0, "revision `N`; by default the latest")
		out := c.String("out", "", "write NAME.yaml and the scenarios into folder `DIR`")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		r, err := api.Model(c, c.Arg(0), *revision)
		if err != nil {
			return 0, reached(err)
		}
		if *out == "" {
			fmt.Fprint(c.out, r.Text)
			return exitFine, nil
		}
		scenarios, err := api.Scenarios(c, c.Arg(0))
		if err != nil {
			return 0, reached(err)
		}
		if err := c.makeFolder(*out); err != nil {
			return 0, err
		}
		for _, t := range append([]client.Text{{Name: c.Arg(0), Text: r.Text}}, scenarios...) {
			file := filepath.Join(*out, t.Name+".yaml")
			if err := c.files.Write(file, []byte(t.Text)); err != nil {
				return 0, fmt.Errorf("-out: %w", err)
			}
			fmt.Fprintln(c.out, file)
		}
		return exitFine, nil
	},
}

var historyCommand = &command{name: "history", args: "NAME", short: "List the revisions of a model of a service",
	example: "ironweir history kittiwake",
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		list, err := api.Revisions(c, c.Arg(0))
		if err != nil {
			return 0, reached(err)
		}
		if *f.format == "json" {
			return exitFine, c.printJSON(list)
		}
		for _, r := range list {
			fmt.Fprintf(
				c.out,
				"%4d  %s  %-16s %-24s %s\n",
				r.Number,
				day(r.CreatedAt),
				r.Author,
				plural(r.Errors, "error")+", "+plural(r.Warnings, "warning"),
				r.Note,
			)
		}
		return exitFine, nil
	}}

var runsCommand = &command{
	name:  "runs",
	args:  "[start MODEL SCENARIO|show ID|cancel ID]",
	short: "List the runs of a service, start one and wait for it, show or cancel one",
	example: `ironweir runs
ironweir runs start kittiwake friday-evening
ironweir runs show 12
ironweir runs cancel 12`,
	run: func(c *call) (int, error) {
		f := c.serviceFlags()
		of := c.String("model", "", "only runs of the model `NAME`")
		key := c.String("key", "", "started again with the same `KEY` within a day, it is the same run")
		if err := c.parse(0, 3); err != nil {
			return 0, err
		}
		api, err := f.open(c)
		if err != nil {
			return 0, err
		}
		switch c.Arg(0) {
		case "":
			list, err := api.Runs(c, *of)
			if err != nil {
				return 0, reached(err)
			}
			if *f.format == "json" {
				return exitFine, c.printJSON(list)
			}
			for _, r := range list {
				fmt.Fprintf(
					c.out,
					"%5d  %-10s %s, revision %d, %s%s  (%s by %s)\n",
					r.ID,
					r.State,
					r.Model,
					r.Revision,
					r.Scenario,
					verdict(r.Unmet, r.Expected),
					day(r.CreatedAt),
					r.Author,
				)
			}
			return exitFine, nil
		case "start":
			if c.NArg() != 3 {
				return 0, fmt.Errorf("`runs start` needs a model and a scenario")
			}
			r, err := api.StartRun(c, c.Arg(1), c.Arg(2), *key)
			if err != nil {
				return 0, reached(err)
			}
			fmt.Fprintf(c.err, "run %d\n", r.ID)
			bar := c.progress(fmt.Sprintf("run %d", r.ID))
			_, err = api.Follow(c, r.ID, func(u client.Update) { bar.show(u.Progress) })
			bar.clear()
			if err != nil {
				return 0, reached(err)
			}
			return c.showRun(api, r.ID, *f.format)
		case "show", "cancel":
			id, err := strconv.ParseInt(c.Arg(1), 10, 64)
			if err != nil {
				return 0, fmt.Errorf("`runs %s` needs the number of a run", c.Arg(0))
			}
			if c.Arg(0) == "cancel" {
				return exitFine, reached(api.CancelRun(c, id))
			}
			return c.showRun(api, id, *f.format)
		}
		return 0, fmt.Errorf("`runs %s`: it is one of start, show, cancel", c.Arg(0))
	},
}

// showRun prints the result of a run as `run` prints its own.
func (c *call) showRun(api *client.Client, id int64, format string) (int, error) {
	r, err := api.Run(c, id)
	if err != nil {
		return 0, reached(err)
	}
	if r.State == "failed" {
		return 0, fmt.Errorf("run %d failed: %s", id, r.Error)
	}
	result, err := api.Result(c, r)
	if err != nil {
		return 0, reached(err)
	}
	if format == "json" || r.Kind != "run" {
		var doc any
		if err := json.Unmarshal(result, &doc); err != nil {
			return 0, err
		}
		return exitFine, c.printJSON(doc)
	}
	doc := &study.Document{}
	if err := json.Unmarshal(result, doc); err != nil {
		return 0, err
	}
	if err := text.Run(c.out, doc, c.style(), nil); err != nil {
		return 0, err
	}
	for _, x := range doc.Expect {
		if !x.Holds {
			return exitShort, nil
		}
	}
	return exitFine, nil
}
