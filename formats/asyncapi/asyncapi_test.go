package asyncapi_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/asyncapi"
)

var update = flag.Bool("update", false, "write the golden documents anew")

// TestOutAndInAgain takes every model of the project out and in. What the demo
// gives is kept in testdata, where the console's tests read it with the public
// AsyncAPI parser.
func TestOutAndInAgain(t *testing.T) {
	for _, pattern := range []string{"../../demo/kittiwake*.yaml", "../../gallery/*.yaml", "../../core/model/testdata/examples/*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			source, err := os.ReadFile(file)
			require.NoError(t, err)
			root, err := model.ReadDocument(file, source)
			require.NoError(t, err)
			out := model.WriteDocument(asyncapi.Write(root), nil)
			back, _, _, err := asyncapi.Read("out.yaml", out)
			require.NoError(t, err, file)
			require.True(t, root.Same(back), file)
			if !strings.Contains("kittiwake.yaml bell-foundry.yaml plate-archive.yaml", filepath.Base(file)) {
				continue
			}
			golden := filepath.Join("testdata", strings.TrimSuffix(filepath.Base(file), ".yaml")+".asyncapi.yaml")
			if *update {
				require.NoError(t, os.WriteFile(golden, out, 0o644))
			}
			want, err := os.ReadFile(golden)
			require.NoError(t, err, "run go test ./formats/asyncapi -update")
			require.Equal(t, string(want), string(out), golden)
		}
	}
}

// TestForeignDocuments drafts a model of a document that was not written here.
func TestForeignDocuments(t *testing.T) {
	source, err := os.ReadFile("../../demo/import/harbour-lamps.asyncapi.yaml")
	require.NoError(t, err)
	root, comments, missing, err := asyncapi.Read("harbour-lamps.asyncapi.yaml", source)
	require.NoError(t, err)
	out := model.WriteDocument(root, comments)
	m, err := model.Parse("drafted.yaml", out, model.Options{})
	require.NoError(t, err, string(out))
	require.Equal(t, "harbour-lamps", m.Name)
	require.Equal(t, model.Topic, m.Node("lamps-measured").Kind)
	require.Equal(t, model.Endpoint, m.Node("switch").Kind)
	require.Equal(t, []string{"lamps/{lamp}/measured"}, m.Node("lamps-measured").ObservedAs)
	require.Equal(t, []string{"LampMeasured"}, m.Node("lamps-measured").Links[0].Match[0].Type)
	require.Equal(t, "dimmed", m.Node("harbour-lamps").Link("dimming").Type)
	require.Equal(t, model.Outside, m.Node("takers-of-dimming").Kind)
	require.Contains(t, strings.Join(missing, "\n"), "who takes what is sent to dimming")
	require.Contains(t, string(out), "# Guessed: a topic")
}

func TestFaults(t *testing.T) {
	for source, says := range map[string]string{
		"a: 1\n":                              "no `asyncapi` field",
		"asyncapi: 2.6.0":                     "version 3 is read",
		"asyncapi: 3.0.0\ninfo: {title: x}\n": "no channels",
		"asyncapi: 3.0.0\nx-ironweir: {node-order: [q]}\n": "the node q is named",
		"asyncapi: [": "f.yaml",
	} {
		_, _, _, err := asyncapi.Read("f.yaml", []byte(source))
		require.ErrorContains(t, err, says)
	}
}

func FuzzRead(f *testing.F) {
	for _, file := range []string{"../../demo/import/harbour-lamps.asyncapi.yaml", "testdata/bell-foundry.asyncapi.yaml"} {
		source, err := os.ReadFile(file)
		require.NoError(f, err)
		f.Add(source)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		root, comments, _, err := asyncapi.Read("f", source)
		if err != nil {
			return
		}
		model.WriteDocument(root, comments)
	})
}
