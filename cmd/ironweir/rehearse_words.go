package main

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/formats/text"
)

// liveWord is something that can be done at the terminal of a rehearsal.
type liveWord struct {
	name, args, short string
	least             int // arguments
	do                func(t *atTerminal, ctx context.Context, args []string) error
}

// liveWords is the table of what can be done.
func liveWords() []liveWord {
	return []liveWord{
		{
			"send",
			"NODE [KEY] [JSON|@FILE]",
			"send an event: JSON is its payload, or a whole CloudEvent; without it the node's sample",
			1,
			(*atTerminal).send,
		},
		{"fail", "NODE [SHARE]", "fail its runs, or writes to it", 1, incidentWord("node", "fails", "100%")},
		{"slow", "NODE TIMES", "multiply the time that it takes", 2, incidentWord("node", "slow", "")},
		{"limit", "NODE N", "limit its concurrency", 2, incidentWord("node", "concurrency", "")},
		{
			"stop",
			"NODE",
			"stop its process: its readers read nothing, calls to it fail",
			1,
			incidentWord("node", "stopped", "true"),
		},
		{
			"crash",
			"NODE",
			"crash its process: the runs in progress end without an answer",
			1,
			incidentWord("node", "crash", "true"),
		},
		{"off", "SCHEDULE|FROM:LINK", "switch a schedule or a link off", 1, (*atTerminal).switchOff},
		{"pause", "FROM:LINK", "pause a link", 1, incidentWord("link", "paused", "true")},
		{
			"send-back",
			"FROM TO RATE",
			"send back the messages of FROM, at a rate such as 5/s, until FROM is healed",
			3,
			(*atTerminal).sendBack,
		},
		{"heal", "[NODE|FROM:LINK]", "end what was done to it, or to all", 0, (*atTerminal).heal},
		{
			"stand",
			"",
			"pause time",
			0,
			func(t *atTerminal, _ context.Context, _ []string) error { return t.r.Pause(t.who) },
		},
		{
			"go",
			"",
			"resume time",
			0,
			func(t *atTerminal, _ context.Context, _ []string) error { return t.r.Resume(t.who) },
		},
		{"step", "[N]", "process the next event, or the next N", 0, (*atTerminal).step},
		{"pace", "N", "simulated seconds per real second", 1, (*atTerminal).pace},
		{"back", "DURATION", "rewind by so much, such as 5m", 1, (*atTerminal).back},
		{"wait", "DURATION", "wait until so much simulated time has passed", 1, (*atTerminal).wait},
		{"state", "", "state of every node", 0, (*atTerminal).state},
		{"rest", "NODE", "messages stored in a node", 1, (*atTerminal).rest},
		{"read", "MESSAGE", "show a stored message", 1, (*atTerminal).readMessage},
		{"move", "MESSAGE NODE", "send a stored message to a node", 2, (*atTerminal).move},
		{"remove", "MESSAGE", "remove a message", 1, (*atTerminal).move},
		{"journey", "N", "message N step by step", 1, (*atTerminal).journey},
		{"result", "", "the result so far, as of a run", 0, (*atTerminal).result},
		{"observed", "", "observed traces beside the model", 0, (*atTerminal).observed},
		{"keep", "FILE", "write what happened as a scenario that reproduces it", 1, (*atTerminal).keep},
		{"help", "", "this list", 0, (*atTerminal).helpWords},
		{"end", "", "end the rehearsal", 0, func(*atTerminal, context.Context, []string) error { return io.EOF }},
	}
}

func (t *atTerminal) helpWords(context.Context, []string) error {
	var b strings.Builder
	for _, w := range liveWords() {
		fmt.Fprintf(&b, "  %-34s %s\n", strings.TrimSpace(w.name+" "+w.args), w.short)
	}
	t.say("%s", strings.TrimSuffix(b.String(), "\n"))
	return nil
}

// incidentWord makes a word of one field of an incident.
func incidentWord(target, field, usual string) func(*atTerminal, context.Context, []string) error {
	return func(t *atTerminal, _ context.Context, args []string) error {
		value := usual
		if len(args) > 1 {
			value = args[1]
		}
		var written any = value
		if json.Unmarshal([]byte(value), &written) != nil { // a number or a truth, else a text such as 50%
			written = value
		}
		return t.r.Incident(t.who, map[string]any{target: args[0], field: written})
	}
}

func (t *atTerminal) switchOff(_ context.Context, args []string) error {
	target := "node"
	if strings.Contains(args[0], ":") {
		target = "link"
	}
	return t.r.Incident(t.who, map[string]any{target: args[0], "enabled": false})
}

func (t *atTerminal) sendBack(_ context.Context, args []string) error {
	return t.r.Incident(
		t.who,
		map[string]any{"send-back": map[string]any{"from": args[0], "to": args[1], "rate": args[2]}},
	)
}

func (t *atTerminal) heal(_ context.Context, args []string) error {
	return t.r.Heal(t.who, strings.Join(args, " "))
}

func (t *atTerminal) send(_ context.Context, args []string) error {
	id := t.g.NodeID(args[0])
	if id < 0 {
		return t.g.NoNode(args[0])
	}
	sample := t.g.Sample(id)
	ev := sim.InputEvent{Node: args[0], Data: sample["data"]}
	ev.Type, _ = sample["type"].(string)
	ev.Subject, _ = sample["subject"].(string)
	rest := args[1:]
	if len(rest) > 0 && !strings.HasPrefix(rest[0], "{") && !strings.HasPrefix(rest[0], "[") &&
		!strings.HasPrefix(rest[0], "@") {
		ev.Subject, rest = rest[0], rest[1:]
	}
	if len(rest) > 0 {
		body := []byte(strings.Join(rest, " "))
		if file, ok := strings.CutPrefix(rest[0], "@"); ok {
			var err error
			if body, err = t.call.read(file); err != nil {
				return err
			}
		}
		file, err := eventFile(body)
		if err != nil {
			return fmt.Errorf("the event: %w", err)
		}
		ev.Data, ev.Attributes = file.Data, file.Attributes
		ev.Type, ev.Subject = cmp.Or(file.Type, ev.Type), cmp.Or(file.Subject, ev.Subject)
	}
	if body, err := json.Marshal(ev.Data); err == nil && ev.Data != nil {
		ev.Size = int64(len(body))
	}
	out, err := t.r.Event(t.who, &ev)
	switch {
	case err != nil:
		return err
	case out.Rejected:
		t.say("message %d is rejected: %s", out.Journey, sim.LossWords(out.Cause))
	default:
		t.say("message %d enters %s; `journey %d` shows its steps", out.Journey, args[0], out.Journey)
	}
	return nil
}

func (t *atTerminal) step(_ context.Context, args []string) error {
	n := 1
	if len(args) > 0 {
		var err error
		if n, err = strconv.Atoi(args[0]); err != nil || n < 1 {
			return fmt.Errorf("step %s: give a number of events", args[0])
		}
	}
	for range n {
		said, err := t.r.Step(t.who)
		if err != nil {
			return err
		}
		if said == "" {
			t.say("no events are left")
			return nil
		}
		s, err := t.r.State()
		if err != nil {
			return err
		}
		t.say("%s  %s", clock(s.Now), said)
	}
	return nil
}

func (t *atTerminal) pace(_ context.Context, args []string) error {
	pace, err := strconv.ParseFloat(strings.TrimSuffix(args[0], "×"), 64)
	if err != nil {
		return fmt.Errorf("pace %s: give a number, such as 60", args[0])
	}
	return t.r.SetPace(t.who, pace)
}

func (t *atTerminal) back(_ context.Context, args []string) error {
	by, err := model.ParseDuration(args[0])
	if err != nil {
		return err
	}
	s, err := t.r.State()
	if err != nil {
		return err
	}
	if err := t.r.SetBack(t.who, time.Duration(s.Now*1e9)-by); err != nil {
		return err
	}
	if s, err = t.r.State(); err == nil {
		t.say("rewound to %s", clock(s.Now))
	}
	return err
}

// wait waits until simulated time has passed, or can pass no more.
func (t *atTerminal) wait(ctx context.Context, args []string) error {
	d, err := model.ParseDuration(args[0])
	if err != nil {
		return err
	}
	s, err := t.r.State()
	if err != nil {
		return err
	}
	for until := s.Now + d.Seconds(); s.Now < until; {
		if !s.Running {
			return fmt.Errorf("time is paused at %s; `go` resumes it", clock(s.Now))
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(5 * time.Millisecond):
		}
		if s, err = t.r.State(); err != nil {
			return err
		}
	}
	return nil
}

// print prints what something writes, in one piece.
func (t *atTerminal) print(write func(w io.Writer) error) error {
	var b strings.Builder
	if err := write(&b); err != nil {
		return err
	}
	t.say("%s", strings.TrimSuffix(b.String(), "\n"))
	return nil
}

func (t *atTerminal) state(context.Context, []string) error {
	s, err := t.r.State()
	if err != nil {
		return err
	}
	return t.print(func(w io.Writer) error { return writeState(w, t.g, s, t.style()) })
}

func (t *atTerminal) rest(_ context.Context, args []string) error {
	list, all, back, err := t.r.Resting(args[0])
	if err != nil {
		return err
	}
	if err := t.print(func(w io.Writer) error { return writeResting(w, args[0], list, all, t.style()) }); err != nil {
		return err
	}
	if len(list) > 0 && len(back) > 0 {
		t.say("`move %d %s` sends the first back to where it failed", list[0].Message, back[0])
	}
	return nil
}

func messageNumber(arg string) (uint64, error) {
	n, err := strconv.ParseUint(arg, 10, 64)
	if err != nil {
		return 0, fmt.Errorf("%q is not the number of a message; `rest NODE` shows them", arg)
	}
	return n, nil
}

func (t *atTerminal) readMessage(_ context.Context, args []string) error {
	n, err := messageNumber(args[0])
	if err != nil {
		return err
	}
	event, err := t.r.Message(n)
	if err != nil {
		return err
	}
	body, err := json.MarshalIndent(event, "", "  ")
	t.say("%s", body)
	return err
}

func (t *atTerminal) move(_ context.Context, args []string) error {
	n, err := messageNumber(args[0])
	if err != nil {
		return err
	}
	return t.r.Move(t.who, n, strings.Join(args[1:], " "))
}

func (t *atTerminal) journey(_ context.Context, args []string) error {
	n, err := messageNumber(args[0])
	if err != nil {
		return err
	}
	j, err := t.r.Journey(n)
	if err != nil {
		return err
	}
	return t.print(func(w io.Writer) error { return text.Journey(w, j, true, t.style()) })
}

func (t *atTerminal) result(context.Context, []string) error {
	doc, err := t.r.Result()
	if err != nil {
		return err
	}
	return t.print(func(w io.Writer) error { return text.Run(w, doc, t.style(), nil) })
}

func (t *atTerminal) observed(context.Context, []string) error {
	b := t.r.Observed.Beside()
	if b.All == 0 {
		t.say("no traces have come; send them by OTLP over HTTP to /v1/traces")
		return nil
	}
	return t.print(func(w io.Writer) error { return text.Drift(w, t.g.Topology.Name, &b.Drift, t.style()) })
}

func (t *atTerminal) keep(_ context.Context, args []string) error {
	file := args[0]
	it, err := t.r.Keep(strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)), true)
	if err != nil {
		return err
	}
	if err := t.files.Write(file, it.Scenario); err != nil {
		return err
	}
	for name, content := range it.Files {
		if err := t.files.Write(filepath.Join(filepath.Dir(file), name), content); err != nil {
			return err
		}
	}
	t.say(
		"%s of %s written to %s",
		plural(it.Events, "event"),
		model.FormatDuration(it.Length.Round(time.Millisecond)),
		file,
	)
	for _, what := range it.LeftOut {
		t.say("left out: %s", what)
	}
	return nil
}
