package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/schollz/progressbar/v3"

	"ironweir/core/expr"
	"ironweir/core/model"
	"ironweir/core/sim"
	"ironweir/core/study"
	"ironweir/formats/text"
)

var runCommand = &command{name: "run", args: "MODEL", short: "Simulate a model under load and faults, and account for every message",
	example: `ironweir run demo/kittiwake.yaml -scenario demo/friday-evening.yaml
ironweir run demo/kittiwake.yaml -traffic manifest-drop=200/h -down goods-registry=30m@2h
ironweir run demo/kittiwake-draft.yaml -scenario demo/friday-evening.yaml -expect "run.ledger.lost.total == 0" -format json`,
	run: func(c *call) (int, error) {
		m := c.modelFlags("text|json")
		scenario := c.String("scenario", "", "run scenario `FILE`; without one, a day of the nodes' own rates")
		var traffic, down, expect, series, latency repeated
		c.Var(&traffic, "traffic", "send `NODE=RATE` instead of the scenario's traffic; may be repeated")
		c.Var(&down, "down", "let `NODE=DURATION[@AT]` fail for a while; may be repeated")
		c.Var(&expect, "expect", "judge `EXPR`, CEL over the result as run; may be repeated")
		c.Var(&series, "series", "put the series of `NODE` into the JSON, or all; may be repeated")
		c.Var(&latency, "latency", "show only the latency `FROM:TO` in the text; may be repeated")
		seed := c.Int64("seed", -1, "`N` instead of the scenario's seed")
		replications := c.Int("replications", 0, "`N` instead of the scenario's replications")
		out := c.String("out", "", "write result.json into folder `DIR` as well")
		workers := c.Int("workers", runtime.GOMAXPROCS(0), "replications at once")
		events := c.Int64("max-events", 0, "end a replication after `N` events with what it has")
		if err := c.parse(1, 1); err != nil {
			return 0, err
		}
		if err := c.oneOf("format", *m.format, "text|json"); err != nil {
			return 0, err
		}
		l, err := c.loadModel(c.Arg(0), m)
		if err != nil {
			return 0, err
		}
		s, inputs, err := c.loadScenario(*scenario, l)
		if err != nil {
			return 0, err
		}
		if err := changeScenario(s, l, traffic, down, expect); err != nil {
			return 0, err
		}
		if *seed >= 0 {
			s.Seed = uint64(*seed)
		}
		if *replications != 0 {
			if *replications < 1 || *replications > model.MaxReplications {
				return 0, fmt.Errorf("-replications %d: from 1 to %d", *replications, model.MaxReplications)
			}
			s.Replications = *replications
		}
		for _, name := range series {
			if name != "all" && l.graph.NodeID(name) < 0 {
				return 0, fmt.Errorf("-series: no node %q%s", name, model.DidYouMean(name, l.graph.Topology.NodeNames()))
			}
		}
		if *out != "" { // before the work, not after it
			if err := os.MkdirAll(*out, 0o755); err != nil {
				return 0, fmt.Errorf("-out: %w", plainError(err))
			}
			probe, err := os.CreateTemp(*out, ".ironweir-*")
			if err != nil {
				return 0, fmt.Errorf("-out: the folder cannot be written: %w", plainError(err))
			}
			probe.Close()
			os.Remove(probe.Name())
		}
		bar := c.progress(fmt.Sprintf("%s, %s", s.Name, plural(s.Replications, "replication")))
		began := time.Now()
		doc, err := study.Run(study.Plan{Graph: l.graph, Scenario: s, Inputs: inputs, Head: l.head("run"), Workers: *workers, Limits: sim.Limits{Events: *events},
			Progress: bar.show, Stop: func() bool { return c.Err() != nil }})
		bar.clear()
		if err != nil {
			return 0, err
		}
		doc.Engine.WallTime = time.Since(began).Seconds()
		doc.Engine.PerSecond = float64(doc.Engine.Events) / doc.Engine.WallTime
		keepSeries(doc, series)
		if *out != "" {
			file, err := os.Create(filepath.Join(*out, "result.json"))
			if err != nil {
				return 0, fmt.Errorf("-out: %w", plainError(err))
			}
			inner := *c
			inner.out = file
			if err := inner.printJSON(doc); err != nil {
				return 0, err
			}
			if err := file.Close(); err != nil {
				return 0, err
			}
		}
		if *m.format == "json" {
			err = c.printJSON(doc)
		} else {
			err = text.Run(c.out, doc, c.style(), latency)
		}
		if err != nil {
			return 0, err
		}
		if c.Err() != nil {
			return exitInterrupted, nil
		}
		for _, x := range doc.Expect {
			if !x.Holds {
				return exitShort, nil
			}
		}
		return exitFine, nil
	}}

// changeScenario applies the flags that stand for parts of a scenario.
func changeScenario(s *model.Scenario, l *loaded, traffic, down, expect repeated) error {
	names := l.graph.Topology.NodeNames()
	if len(traffic) > 0 {
		s.Traffic, s.TrafficGiven = nil, true
	}
	for _, t := range traffic {
		node, rate, ok := strings.Cut(t, "=")
		perSecond, err := model.ParseRate(rate)
		if !ok || err != nil {
			return fmt.Errorf("-traffic %s: write it as NODE=RATE, such as manifest-drop=40/h", t)
		}
		if l.graph.NodeID(node) < 0 {
			return fmt.Errorf("-traffic: no node %q%s", node, model.DidYouMean(node, names))
		}
		s.Traffic = append(s.Traffic, &model.Traffic{Name: node, Into: node, Rate: perSecond, Arrivals: "poisson"})
	}
	for i, d := range down {
		node, span, ok := strings.Cut(d, "=")
		length, at, _ := strings.Cut(span, "@")
		if at == "" {
			at = "0s"
		}
		duration, err := model.ParseDuration(length)
		start, err2 := model.ParseDuration(at)
		if !ok || err != nil || err2 != nil {
			return fmt.Errorf("-down %s: write it as NODE=DURATION or NODE=DURATION@AT, such as goods-registry=30m@2h", d)
		}
		if l.graph.NodeID(node) < 0 {
			return fmt.Errorf("-down: no node %q%s", node, model.DidYouMean(node, names))
		}
		whole := 1.0
		s.Incidents = append(s.Incidents, &model.Incident{Name: "down-" + strconv.Itoa(i+1), At: start, For: duration, Node: node, Fails: &whole})
	}
	for i, x := range expect {
		if _, err := expr.CompileJudgement(x); err != nil {
			return fmt.Errorf("-expect: %w", err)
		}
		s.Expect = append(s.Expect, model.Expectation{Name: "expect-" + strconv.Itoa(i+1), Expression: x})
	}
	return nil
}

func keepSeries(doc *study.Document, names repeated) {
	if len(names) == 0 {
		doc.Series = nil
		return
	}
	keep := map[string]bool{}
	for _, n := range names {
		keep[n] = true
	}
	for n := range doc.Series.Nodes {
		if !keep[n] && !keep["all"] {
			delete(doc.Series.Nodes, n)
		}
	}
}

// bar shows progress on a terminal, and nothing elsewhere.
type bar struct {
	inner *progressbar.ProgressBar
	last  atomic.Int64
}

func (c *call) progress(what string) *bar {
	b := &bar{}
	if isTerminal(c.err) {
		b.inner = progressbar.NewOptions(1000, progressbar.OptionSetWriter(c.err), progressbar.OptionSetDescription(what), progressbar.OptionSetPredictTime(true),
			progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish(), progressbar.OptionSetElapsedTime(true))
	}
	return b
}

func (b *bar) show(share float64) {
	if b.inner == nil {
		return
	}
	if n := int64(share * 1000); b.last.Swap(n) != n {
		b.inner.Set64(n)
	}
}

func (b *bar) clear() {
	if b.inner != nil {
		b.inner.Clear()
	}
}
