package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/user"
	"strings"
	"sync"
	"time"

	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/rehearsal"
)

var rehearseCommand = &command{
	name:  "rehearse",
	args:  "MODEL",
	short: "Rehearse a model live: post events, break things, watch; without a service or a database",
	example: `ironweir rehearse demo/kittiwake.yaml
ironweir rehearse demo/kittiwake.yaml -scenario demo/friday-evening.yaml -pace 60
ironweir rehearse demo/kittiwake.yaml -listen 127.0.0.1:8421 -hooks
printf 'fail goods-registry\nsend manifest-drop\nwait 10m\nstate\n' | ironweir rehearse demo/kittiwake.yaml -pace 1000`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		scenario := c.String(
			"scenario",
			"",
			"rehearse the traffic and incidents of `FILE`; without it the only traffic is what you send and what schedules send",
		)
		pace := c.Float64("pace", 1, "`N` simulated seconds per real second, 0.001 to 100000")
		paused := c.Bool("paused", false, "let time stand at the start")
		listen := c.String(
			"listen",
			"127.0.0.1:8421",
			"take events, requests and traces at `ADDRESS`, on loopback; :0 chooses a port",
		)
		hooks := c.Bool(
			"hooks",
			false,
			"let functions be answered by the handlers that their hook names, on this machine only",
		)
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		if *pace < rehearsal.MinPace || *pace > rehearsal.MaxPace {
			return 0, fmt.Errorf(
				"-pace %g: give %g to %g simulated seconds per real second; -paused starts with time paused",
				*pace,
				rehearsal.MinPace,
				rehearsal.MaxPace,
			)
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		plan := rehearsal.Plan{Graph: l.graph, Pace: *pace, Paused: *paused, Hooks: *hooks, Head: l.head("run")}
		if *scenario != "" {
			if plan.Scenario, plan.Inputs, err = c.loadScenario(*scenario, l); err != nil {
				return 0, err
			}
			if plan.Text, err = c.read(*scenario); err != nil {
				return 0, err
			}
		}
		if *hooks {
			if _, err := rehearsal.Hooked(l.graph.Topology); err != nil {
				return 0, err
			}
		}
		if strings.HasPrefix(*listen, ":") {
			*listen = "127.0.0.1" + *listen
		}
		if !onLoopback(*listen) {
			return 0, fmt.Errorf(
				"-listen %s: a rehearsal from the terminal has no users, so it listens on this machine only; `ironweir serve` has rehearsals for several",
				*listen,
			)
		}
		listener, err := net.Listen("tcp", *listen)
		if err != nil {
			return 0, unreachable{
				fmt.Errorf(
					"cannot listen on %s: %w; choose another with -listen 127.0.0.1:0",
					*listen,
					plainError(err),
				),
			}
		}
		r, err := rehearsal.Start(plan)
		if err != nil {
			listener.Close()
			return 0, err
		}
		defer r.End()
		at := &atTerminal{call: c, r: r, g: l.graph, json: *m.format == "json", who: userName(), nobodyTypes: true}
		return at.run(listener, *scenario)
	},
}

func userName() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "you"
}

// atTerminal is a rehearsal at a terminal: words come in, what happens goes out.
type atTerminal struct {
	*call
	r    *rehearsal.Rehearsal
	g    *graph.Graph
	json bool
	who  string
	mu   sync.Mutex // of what is printed

	nobodyTypes bool // standard input held nothing from the start, as for a program in the background
}

func (t *atTerminal) run(listener net.Listener, scenario string) (int, error) {
	server := &http.Server{Handler: t.r.Handler("by http"), ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(listener)
	defer server.Close()
	if !t.json {
		t.greet("http://"+listener.Addr().String(), scenario)
	}
	ctx, cancel := context.WithCancel(t.Context)
	defer cancel()
	states, stop, err := t.r.Watch(t.who)
	if err != nil {
		return 0, err
	}
	defer stop()
	go t.tell(ctx, states)
	words := make(chan string)
	go func() {
		defer close(words)
		for lines := bufio.NewScanner(t.in); lines.Scan(); {
			select {
			case words <- lines.Text():
			case <-ctx.Done():
				return
			}
		}
	}()
	for {
		select {
		case <-t.Done():
			return exitInterrupted, nil
		case line, more := <-words:
			if !more {
				if !t.nobodyTypes {
					return exitFine, nil
				}
				words = nil // it goes on until it is interrupted
				continue
			}
			t.nobodyTypes = false
			ended, err := t.do(ctx, line)
			if err != nil {
				t.say("%s", err)
			}
			if ended {
				return exitFine, nil
			}
		}
	}
}

// greet says where it is and how it is fed.
func (t *atTerminal) greet(address, scenario string) {
	comes := "the only traffic is what you send and what schedules send"
	if scenario != "" {
		comes = "traffic and incidents of " + scenario
	}
	s, err := t.r.State()
	if err != nil {
		return
	}
	t.say("%s is being rehearsed at %s, at %g× real time; %s.", t.g.Topology.Name, address, s.Pace, comes)
	fed, others := rehearsal.Entries(t.g)
	if len(fed) == 0 {
		fed, others = others, nil
	}
	for _, n := range fed {
		if n.Kind.Answers() {
			method, path := rehearsal.EndpointAt(n)
			body, _ := json.Marshal(t.g.Sample(t.g.NodeID(n.Name))["data"])
			t.say(
				"curl -X %s %s%s -H 'content-type: application/json' -d %s",
				method,
				address,
				path,
				quoted(string(body)),
			)
			continue
		}
		body, _ := json.Marshal(t.g.Sample(t.g.NodeID(n.Name)))
		t.say(
			"curl %s/entries/%s -H 'content-type: application/cloudevents+json' -d %s",
			address,
			n.Name,
			quoted(string(body)),
		)
	}
	if len(others) > 0 {
		t.say("Every other node takes events too, at %s/entries/NODE.", address)
	}
	t.say("Traces of the real system go to %s/v1/traces. `help` says what you can do; Ctrl-C ends it.", address)
}

func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }

func (t *atTerminal) say(format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	fmt.Fprintf(t.out, format+"\n", args...)
}

// tell prints what changes, at most once a second; with -format json every state.
func (t *atTerminal) tell(ctx context.Context, states <-chan []byte) {
	last := rehearsal.State{}
	beat := time.NewTicker(time.Second)
	defer beat.Stop()
	for {
		var line []byte
		select {
		case <-ctx.Done():
			return
		case line = <-states:
		}
		if t.json {
			t.say("%s", line)
			continue
		}
		var now rehearsal.State
		if json.Unmarshal(line, &now) == nil {
			if what := happened(t.g, &last, &now); what != "" {
				t.say("%s", what)
			}
			last = now
		}
		select {
		case <-ctx.Done():
			return
		case <-beat.C:
		}
	}
}

// do does what a line says; true: that is the end.
func (t *atTerminal) do(ctx context.Context, line string) (bool, error) {
	name, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	if name == "" || strings.HasPrefix(name, "#") {
		return false, nil
	}
	var names []string
	if name == "quit" || name == "exit" {
		name = "end"
	}
	for _, w := range liveWords() {
		names = append(names, w.name)
		if w.name == name {
			args := strings.Fields(rest)
			if len(args) < w.least {
				return false, fmt.Errorf("%s %s: %s", w.name, w.args, w.short)
			}
			err := w.do(t, ctx, args)
			if errors.Is(err, io.EOF) {
				return true, nil
			}
			return false, err
		}
	}
	return false, fmt.Errorf("no word %q%s; `help` lists them", name, model.DidYouMean(name, names))
}
