package flow

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/graph"
	"ironweir/core/model"
)

var update = flag.Bool("update", false, "write down what is said anew")

// TestWhatIsSaid holds what the analysis says of the models on which an earlier one was wrong, and of the demo, against
// what is written in testdata/said.txt, number by number: core/verify holds the same against runs. What changes on
// purpose is written anew with -update, and read in the difference.
func TestWhatIsSaid(t *testing.T) {
	files, err := filepath.Glob("../../verify/testdata/*.yaml")
	require.NoError(t, err)
	demo, err := filepath.Glob("../../../demo/kittiwake*.yaml")
	require.NoError(t, err)
	var out bytes.Buffer
	for _, file := range append(files, demo...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		m, err := model.Parse(file, text, model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		fmt.Fprintf(&out, "== %s\n", strings.TrimSuffix(filepath.Base(file), ".yaml"))
		say(&out, Analyse(g, nil))
	}
	const written = "testdata/said.txt"
	if *update {
		require.NoError(t, os.WriteFile(written, out.Bytes(), 0o644))
	}
	want, err := os.ReadFile(written)
	require.NoError(t, err)
	model := ""
	is, was := strings.Split(out.String(), "\n"), strings.Split(string(want), "\n")
	for k := range is {
		if name, begins := strings.CutPrefix(is[k], "== "); begins {
			model = name
		}
		if k >= len(was) || is[k] != was[k] {
			require.Equal(t, strings.Join(was[min(k, len(was)):min(k+3, len(was))], "\n"),
				strings.Join(is[k:min(k+3, len(is))], "\n"), "%s, line %d of %s", model, k+1, written)
		}
	}
	require.Len(t, was, len(is))
}

// say writes each thing that is said of a model on a line: only what is not empty.
func say(out *bytes.Buffer, a *Analysis) {
	line := func(what, name string, said any) {
		if text := compact(said); text != "{}" {
			fmt.Fprintf(out, "%s %s %s\n", what, name, text)
		}
	}
	for k := range a.Loops {
		line("loop", strconv.Itoa(k+1), &a.Loops[k])
	}
	for _, name := range SortedKeys(a.Entries) {
		e := a.Entries[name]
		sets := e.LossSets
		e.LossSets, e.Considered = nil, nil
		line("entry", name, &e)
		for k := range sets {
			line("  loses", strconv.Itoa(k+1), &sets[k])
		}
	}
	for _, name := range SortedKeys(a.Outages) {
		line("outage", name, a.Outages[name])
	}
	for _, name := range SortedKeys(a.Capacity) {
		line("capacity", name, a.Capacity[name])
	}
	for _, l := range a.Graph.Links {
		line("link", l.Link.ID(), map[string]any{
			"reach": a.Reach[l.ID].String(), "rate": rateOf(a, l.ID), "reading": a.Readings[l.ID],
		})
	}
}

func rateOf(a *Analysis, link int) any {
	rate := a.LinkRate(a.Graph.Links[link].Link.ID())
	if rate != rate || rate > 1e300 {
		return fmt.Sprint(rate)
	}
	return rate
}

var (
	long  = regexp.MustCompile(`-?\d+(\.\d+)?(e[-+]?\d+)?`)
	empty = regexp.MustCompile(`"\w+":(null|""|\[\]|\{\}|false|0|\{"state":"(never|unknown)"\})([,}])`)
)

// compact writes something as JSON, numbers with nine digits, without what is empty.
func compact(said any) string {
	text, err := json.Marshal(said)
	if err != nil {
		return err.Error()
	}
	text = long.ReplaceAllFunc(text, func(number []byte) []byte {
		x, err := strconv.ParseFloat(string(number), 64)
		if err != nil || !slices.Contains(number, '.') && !slices.Contains(number, 'e') {
			return number
		}
		return strconv.AppendFloat(nil, x, 'g', 9, 64)
	})
	for range 2 { // what is empty without what is empty in it
		text = empty.ReplaceAllFunc(text, func(field []byte) []byte {
			return bytes.TrimLeft(field[len(field)-1:], ",")
		})
	}
	return strings.ReplaceAll(string(text), ",}", "}")
}
