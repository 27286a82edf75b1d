package model_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

func parse(text string, opt model.Options) (*model.Topology, error) {
	return model.Parse("m.yaml", []byte(text), opt)
}

// TestProblems reads testdata/problems/*.yaml. In them a comment `# want: TEXT`
// behind a line says what must be reported for that line; every problem must be
// wanted, and every wanted one reported.
func TestProblems(t *testing.T) {
	files, err := filepath.Glob("testdata/problems/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	want := regexp.MustCompile(`# want: (.*)$`)
	for _, file := range files {
		t.Run(filepath.Base(file), func(t *testing.T) {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			wanted := map[int][]string{}
			for i, line := range strings.Split(string(text), "\n") {
				if m := want.FindStringSubmatch(line); m != nil {
					wanted[i+1] = strings.Split(m[1], " | ")
				}
			}
			_, err = model.Parse(file, text, model.Options{})
			var problems model.Problems
			require.ErrorAs(t, err, &problems)
			for _, p := range problems {
				require.Equal(t, file, p.File)
				found := -1
				for k, w := range wanted[p.Line] {
					if strings.Contains(p.Error(), strings.TrimSpace(w)) {
						found = k
						break
					}
				}
				require.GreaterOrEqual(t, found, 0, "not wanted: %s", p.Error())
				wanted[p.Line] = append(wanted[p.Line][:found], wanted[p.Line][found+1:]...)
			}
			for line, left := range wanted {
				require.Empty(t, left, "line %d", line)
			}
		})
	}
}

func TestUnusableFiles(t *testing.T) {
	deep := strings.Repeat("[", 5000)
	bomb := "a: &a [x, x, x, x, x, x, x, x, x, x]\n"
	for c := 'b'; c < 'k'; c++ {
		bomb += string(c) + ": &" + string(c) + " [" + strings.Repeat(
			"*"+string(c-1)+", ",
			9,
		) + "*" + string(c-1) + "]\n"
	}
	for name, c := range map[string]struct{ text, says string }{
		"empty":       {"", "the file is empty"},
		"blank":       {"  \n\n", "the file is empty"},
		"binary":      {"\x00\x01\x02", "not a text file"},
		"not UTF-8":   {"a: \xff\xfe", "not a text file"},
		"huge":        {strings.Repeat("a: 1\n", model.MaxFileBytes/5+1), "at most"},
		"repeated":    {strings.Repeat("a: 1\n", 1000), "more is wrong from here on"},
		"deep":        {deep, "nested deeper"},
		"alias bomb":  {bomb, "aliases stand for more than"},
		"a list":      {"- 1\n- 2\n", "this must be a map"},
		"no header":   {"nodes: {}\n", "does not say what it is"},
		"a scenario":  {"ironweir: scenario/1\n", "are the topology and the scenario swapped?"},
		"two":         {"ironweir: topology/1\nnodes: {}\n---\na: 1\n", "a second document"},
		"template":    {"ironweir: topology/1\nnodes:\n  b: {kind: bucket, links: {f: {key: a/{stem}.pdf}}}\n", "must be quoted"},
		"conditional": {"ironweir: topology/1\nnodes:\n  b: {kind: function, links: {f: {if: a ? b : c}}}\n", "must be quoted"},
		"cron":        {"ironweir: topology/1\nnodes:\n  s: {kind: schedule, cron: */15 * * * *}\n", "must be quoted"},
		"tab":         {"ironweir: topology/1\nnodes:\n\tb: {kind: bucket}\n", "spaces, not tabs"},
	} {
		_, err := parse(c.text, model.Options{})
		require.ErrorContains(t, err, c.says, name)
	}
}

const small = `ironweir: topology/1
name: small
variables: {lease: 30s, who: f}
environments: {slow: {lease: 5m}}
defaults: {function: {timeout: 10s}}
nodes:
  q: {kind: queue, lease: $lease, links: {$(who)-reader: {to: $who}}}
  f: {kind: function, takes: {guess: 2s}}
`

func TestVariablesEnvironmentsDefaultsAndSets(t *testing.T) {
	text := strings.Replace(small, "$(who)-reader", "reader", 1)
	m, err := parse(text, model.Options{})
	require.NoError(t, err)
	require.Equal(t, 30*time.Second, m.Node("q").Lease)
	require.Equal(t, "f", m.Node("q").Links[0].To)
	require.Equal(t, 10*time.Second, m.Node("f").Timeout)
	require.Equal(t, []string{"nodes.f.takes"}, m.Guesses)

	m, err = parse(
		text,
		model.Options{
			Environment: "slow",
			Sets:        []string{"nodes.f.timeout=20s", "nodes.q.links.reader.retry={tries: 3}"},
		},
	)
	require.NoError(t, err)
	require.Equal(t, 5*time.Minute, m.Node("q").Lease)
	require.Equal(t, 20*time.Second, m.Node("f").Timeout)
	require.Equal(t, 3, *m.Node("q").Links[0].Retry.Tries)

	_, err = parse(text, model.Options{Environment: "slwo"})
	require.ErrorContains(t, err, `did you mean "slow"?`)
	_, err = parse(text, model.Options{Sets: []string{"nodes.q.lease.x=1"}})
	require.ErrorContains(t, err, "nothing can be set in it")
}

func TestExamplesOfTheReferenceParse(t *testing.T) {
	files, err := filepath.Glob("testdata/examples/*.yaml")
	require.NoError(t, err)
	require.Len(t, files, 3)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		_, err = model.Parse(file, text, model.Options{})
		require.NoError(t, err)
	}
}

func TestPartsAreNodesOfTheWhole(t *testing.T) {
	load := func(name string) ([]byte, error) {
		require.Equal(t, "scales.yaml", name)
		return []byte(
			"ironweir: topology/1\nname: scales\nnodes:\n  in: {kind: queue, public: true, links: {work: {}}}\n  work: {kind: function}\n",
		), nil
	}
	m, err := parse(
		"ironweir: topology/1\nname: whole\nparts: {scales: scales.yaml}\nnodes:\n  f: {kind: function, links: {out: {to: scales/in}}}\n",
		model.Options{Load: load},
	)
	require.NoError(t, err)
	require.NotNil(t, m.Node("scales/work"))
	_, err = parse(
		"ironweir: topology/1\nname: whole\nparts: {scales: scales.yaml}\nnodes:\n  f: {kind: function, links: {out: {to: scales/work}}}\n",
		model.Options{Load: load},
	)
	require.ErrorContains(t, err, "not `public`")
}

func TestScenarioProblems(t *testing.T) {
	m, err := parse(
		"ironweir: topology/1\nname: m\nnodes:\n  q: {kind: queue, links: {f: {}}}\n  f: {kind: function}\n  s: {kind: schedule, every: 1h, links: {f: {}}}\n",
		model.Options{},
	)
	require.NoError(t, err)
	for text, says := range map[string]string{
		"traffic: {a: {into: qq, rate: 1/s}}":                              `has no node "qq"; did you mean "q"?`,
		"traffic: {a: {into: s, rate: 1/s}}":                               "nothing can be sent to a schedule",
		"traffic: {a: {into: q}}":                                          "traffic needs a `rate`",
		"traffic: {a: {into: q, rate: -1/s}}":                              "is negative",
		"length: 5000d":                                                    "can be simulated",
		"length: 1h\nwarm-up: 2h":                                          "the warm-up must be shorter",
		"replications: 0":                                                  "whole number from 1",
		"incidents: {x: {at: 1h, node: f}}":                                "does nothing",
		"incidents: {x: {at: 1h, link: \"q:g\", paused: true}}":            `no link "q:g"; did you mean "q:f"?`,
		"incidents: {x: {at: 1h, node: q, concurrency: 2}}":                "a queue has no concurrency",
		"expect: {x: \"run.ledger.lost ==\"}":                              "does not compile",
		"incidents: {x: {at: 1h, send-back: {from: f, to: q, rate: 1/s}}}": "only a queue's messages can be sent back",
		"trafic: {}": `did you mean "traffic"?`,
	} {
		_, err := model.ParseScenario("s.yaml", []byte("ironweir: scenario/1\n"+text+"\n"), m)
		require.ErrorContains(t, err, says, text)
		require.Contains(t, err.Error(), "s.yaml:", text)
	}
}

func TestUnits(t *testing.T) {
	for text, want := range map[string]time.Duration{"250ms": 250 * time.Millisecond, "30s": 30 * time.Second, "1h30m": 90 * time.Minute, "4d": 96 * time.Hour, "0": 0, "1.5s": 1500 * time.Millisecond} {
		got, err := model.ParseDuration(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
		back, err := model.ParseDuration(model.FormatDuration(got))
		require.NoError(t, err)
		require.Equal(t, got, back)
	}
	for text, want := range map[string]float64{"20/s": 20, "600/m": 10, "5400/h": 1.5, "0/d": 0} {
		got, err := model.ParseRate(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for text, want := range map[string]int64{"256B": 256, "64KB": 64000, "64KiB": 65536, "1.5MB": 1500000} {
		got, err := model.ParseSize(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, bad := range []string{"30", "-5s", "5 minutes", "", "1y", "9999999d"} {
		_, err := model.ParseDuration(bad)
		require.Error(t, err, bad)
	}
}

func FuzzParse(f *testing.F) {
	files, _ := filepath.Glob("testdata/*/*.yaml")
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		m, err := model.Parse("fuzz.yaml", text, model.Options{})
		if err == nil {
			_, _ = model.ParseScenario("fuzz.yaml", text, m)
		}
	})
}

// BenchmarkParse reads a model of 5,000 nodes.
func BenchmarkParse(b *testing.B) {
	var text strings.Builder
	text.WriteString("ironweir: topology/1\nname: large\nnodes:\n")
	for i := range 2500 {
		fmt.Fprintf(
			&text,
			"  q-%d: {kind: queue, lease: 5m, links: {f-%d: {match: {suffix: [.csv, .txt]}, retry: {tries: 3}, dead-letter: q-0x}}}\n  f-%d: {kind: function, takes: {dist: lognormal, p50: 1s, p95: 3s}, fails: 1%%}\n",
			i,
			i,
			i,
		)
	}
	text.WriteString("  q-0x: {kind: queue}\n")
	for b.Loop() {
		_, err := model.Parse("large.yaml", []byte(text.String()), model.Options{})
		require.NoError(b, err)
	}
}

func FuzzScenario(f *testing.F) {
	m, err := model.Parse(
		"m.yaml",
		[]byte("ironweir: topology/1\nname: m\nnodes: {q: {kind: queue}}\n"),
		model.Options{},
	)
	require.NoError(f, err)
	for _, name := range []string{"friday-evening", "registry-down"} {
		text, err := os.ReadFile("../../demo/" + name + ".yaml")
		require.NoError(f, err)
		f.Add(string(text))
	}
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := model.ParseScenario("f", []byte(text), m); err == nil && s.Length <= 0 {
			t.Fatal("a scenario without a length")
		}
	})
}

// TestGuesses keep the range within which the true value may lie; one that does not hold
// the guess is refused.
func TestGuesses(t *testing.T) {
	read := func(takes string) (*model.Topology, error) {
		text := "ironweir: topology/1\nname: m\nnodes:\n  f: {kind: function, takes: " + takes + "}\n"
		return model.Parse("m.yaml", []byte(text), model.Options{})
	}
	m, err := read("{guess: 5s, range: [2s, 20s]}")
	require.NoError(t, err)
	require.Equal(t, []model.Guess{{"nodes.f.takes", "5s", "2s", "20s"}}, m.Ranges)
	require.Equal(t, 5.0, m.Nodes[0].Takes.Expected())
	m, err = read("{dist: exponential, mean: {guess: 5s}}")
	require.NoError(t, err)
	require.Equal(t, []model.Guess{{Path: "nodes.f.takes.mean", Value: "5s"}}, m.Ranges)
	for takes, says := range map[string]string{
		"{guess: 5s, range: [6s, 20s]}":  "the guess 5s does not lie between 6s and 20s",
		"{guess: 5s, range: [2s]}":       "a range has two values",
		"{guess: 5s, range: [2s, lots]}": `"lots" is not a valid duration`,
		"{guess: 5s, rage: [2s, 6s]}":    "range",
	} {
		_, err := read(takes)
		require.ErrorContains(t, err, says)
	}
}

// TestProblemsNameTheirPlace: each stands at the field that it is about, and they come in
// the order of the text, however often it is read.
func TestProblemsNameTheirPlace(t *testing.T) {
	text := `ironweir: topology/1
nodes:
  q:
    kind: queue
    order: grouped
    group: event.+
    links:
      f:
        to: f
        key: a
        type: b
        chance: 50%
        for-each: event.data
  f:
    kind: function
    callers: [x]
    pool: big
    dead-letter: nowhere
    cases:
      odd:
        if: nonsense(
    links:
      back:
        to: q
        mode: wait
`
	var first []string
	for range 20 {
		_, err := model.Parse("m.yaml", []byte(text), model.Options{})
		var problems model.Problems
		require.ErrorAs(t, err, &problems)
		var places []string
		for _, p := range problems {
			places = append(places, fmt.Sprintf("%d:%d %s", p.Line, p.Column, p.Path))
		}
		if first == nil {
			first = places
		}
		require.Equal(t, first, places)
	}
	require.Equal(t, []string{
		"6:12 nodes.q.group",
		"10:14 nodes.q.links.f.key",
		"11:15 nodes.q.links.f.type",
		"12:17 nodes.q.links.f.chance",
		"13:19 nodes.q.links.f.for-each",
		"16:14 nodes.f.callers",
		"17:11 nodes.f.pool",
		"18:18 nodes.f.dead-letter",
		"21:13 nodes.f.cases.odd.if",
		"25:15 nodes.f.links.back",
	}, first)
}
