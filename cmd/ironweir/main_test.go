package main

import (
	"bytes"
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"ironweir/core/model"
)

// patience is how long a test waits for something: no test depends on how fast the machine is.
const patience = 5 * time.Minute

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"ironweir": func() { os.Exit(Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
	})
}

// TestScripts runs the sessions in testdata/script.
func TestScripts(t *testing.T) {
	demo, err := filepath.Abs("../../demo")
	require.NoError(t, err)
	testscript.Run(
		t,
		testscript.Params{Dir: "testdata/script", RequireExplicitExec: false, Setup: func(e *testscript.Env) error {
			e.Setenv("DEMO", demo)
			return nil
		}},
	)
}

// TestDemoFitsThePublishedSchemas validates the demo's files against the JSON
// Schemas that `ironweir schema` prints, by a validator that nobody here wrote.
func TestDemoFitsThePublishedSchemas(t *testing.T) {
	files, err := filepath.Glob("../../demo/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	examples, err := filepath.Glob("../../core/model/testdata/examples/*.yaml")
	require.NoError(t, err)
	for _, file := range append(files, examples...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		v, err := model.ReadDocument(file, text)
		require.NoError(t, err)
		which := "topology"
		if v.Get("ironweir").Scalar == "scenario/1" {
			which = "scenario"
		}
		var out bytes.Buffer
		require.Zero(t, Main(context.Background(), []string{"schema", which}, nil, &out, os.Stderr))
		var schema any
		require.NoError(t, json.Unmarshal(out.Bytes(), &schema))
		compiler := jsonschema.NewCompiler()
		require.NoError(t, compiler.AddResource("schema.json", schema))
		compiled, err := compiler.Compile("schema.json")
		require.NoError(t, err)
		require.NoError(t, compiled.Validate(v.Plain()), file)
	}
	// And the schema refuses what the program refuses.
	var out bytes.Buffer
	require.Zero(t, Main(context.Background(), []string{"schema", "topology"}, nil, &out, os.Stderr))
	var schema any
	require.NoError(t, json.Unmarshal(out.Bytes(), &schema))
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("schema.json", schema))
	compiled, err := compiler.Compile("schema.json")
	require.NoError(t, err)
	require.Error(
		t,
		compiled.Validate(
			map[string]any{
				"ironweir": "topology/1",
				"nodes":    map[string]any{"q": map[string]any{"kind": "queue", "leese": "5s"}},
			},
		),
	)
}

// TestInterruptedRunPrintsWhatItHas ends a run in its midst.
func TestInterruptedRunPrintsWhatItHas(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(500*time.Millisecond, cancel)
	dir := t.TempDir()
	scenario := filepath.Join(dir, "long.yaml")
	require.NoError(
		t,
		os.WriteFile(
			scenario,
			[]byte(
				"ironweir: scenario/1\nlength: 3000d\ntraffic: {u: {into: manifest-drop, rate: 20/s, key: \"inbound/{seq}.csv\"}}\n",
			),
			0o644,
		),
	)
	var out bytes.Buffer
	require.Equal(
		t,
		exitInterrupted,
		Main(
			ctx,
			[]string{"run", "../../demo/kittiwake.yaml", "-scenario", scenario, "-format", "json"},
			nil,
			&out,
			os.Stderr,
		),
	)
	var doc struct {
		Partial bool   `json:"partial"`
		Stopped string `json:"stopped"`
		Ledger  struct{ Copies int64 }
	}
	require.NoError(t, json.Unmarshal(out.Bytes(), &doc))
	require.True(t, doc.Partial)
	require.Equal(t, "an interruption", doc.Stopped)
	require.NotZero(t, doc.Ledger.Copies)
}

// TestFollowIsSentAgainAtEachSave: a model is saved twice, once broken, while a
// message is watched.
func TestFollowIsSentAgainAtEachSave(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	file := filepath.Join(t.TempDir(), "m.yaml")
	save := func(node string) {
		require.NoError(t, os.WriteFile(file, []byte("ironweir: topology/1\nname: m\nnodes: {"+node+"}\n"), 0o644))
	}
	save("q: {kind: queue}")
	var out, errOut lockedBuffer
	ended := make(chan int, 1)
	go func() { ended <- Main(ctx, []string{"follow", file, "-node", "q", "-watch"}, nil, &out, &errOut) }()
	await := func(b *lockedBuffer, want string) {
		require.Eventually(
			t,
			func() bool { return strings.Contains(b.String(), want) },
			patience,
			20*time.Millisecond,
			want,
		)
	}
	await(&out, "complete: 1 arrived")
	save("q: {kind: queu}")
	await(&errOut, "unknown kind")
	save("q: {kind: queue, links: {f: {}}}, f: {kind: function, takes: 3s}")
	await(&out, "f runs  for 3s")
	cancel()
	require.Equal(t, exitInterrupted, <-ended)
}

// lockedBuffer can be read while it is written.
type lockedBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lockedBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lockedBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// TestExamplesNameWhatIsThere: the files in the examples of help exist, and so do
// the flags.
func TestExamplesNameWhatIsThere(t *testing.T) {
	for _, cmd := range commands() {
		flags := cmd.flags()
		for _, line := range strings.Split(cmd.example, "\n") {
			for _, word := range strings.Fields(line) {
				if strings.HasPrefix(word, "demo/") && strings.HasSuffix(word, ".yaml") {
					require.FileExists(t, "../../"+word, cmd.name)
				}
				if strings.HasPrefix(word, "-") && len(word) > 1 && strings.Contains(line, "ironweir "+cmd.name) &&
					!strings.Contains(line, "|") {
					require.Contains(t, flags, word, line)
				}
			}
		}
	}
}
