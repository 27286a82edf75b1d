package asyncapi_test

import (
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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

// TestVersion2: what others publish is received, and what they subscribe to is sent.
func TestVersion2(t *testing.T) {
	root, comments, missing, err := asyncapi.Read("lamps.yaml", []byte(`
asyncapi: 2.6.0
info: {title: Harbour lamps, version: "1"}
channels:
  lamps/measured:
    description: What each lamp measures.
    publish:
      operationId: measured
      message: {oneOf: [{$ref: "#/components/messages/Measured"}, {name: LampBroken}]}
  lamps/dim: {subscribe: {message: {name: Dim}}}
components: {messages: {Measured: {name: LampMeasured}}}
`))
	require.NoError(t, err)
	out := model.WriteDocument(root, comments)
	m, err := model.Parse("drafted.yaml", out, model.Options{})
	require.NoError(t, err, string(out))
	measured := m.Node("lamps-measured")
	require.Equal(t, "What each lamp measures.", measured.About)
	require.Equal(t, []string{"lamps/measured"}, measured.ObservedAs)
	require.Equal(t, []string{"LampMeasured", "LampBroken"}, measured.Link("harbour-lamps").Match[0].Type)
	require.Equal(t, "Dim", m.Node("harbour-lamps").Link("lamps-dim").Type)
	require.Contains(t, strings.Join(missing, "\n"), "who takes what is sent to lamps-dim")
}

// TestBindingsTellTheKind of a channel; what they do not tell is asked, not claimed.
func TestBindingsTellTheKind(t *testing.T) {
	root, comments, missing, err := asyncapi.Read("yard.yaml", []byte(`
asyncapi: 3.1.0
info: {title: Yard, version: "1"}
channels:
  weights: {address: weights, bindings: {kafka: {partitions: 12, topicConfiguration: {retention.ms: 604800000}}}}
  jobs: {address: jobs, bindings: {amqp: {is: queue, queue: {name: jobs}}}}
  news: {address: news, bindings: {amqp: {is: routingKey, exchange: {name: news, type: fanout}}}}
  lamps: {address: lamps/+, bindings: {$ref: "#/components/channelBindings/lamps"}}
  calls: {address: /calls, bindings: {http: {}}}
  replies: {address: null}
  plain: {address: plain}
operations:
  work: {action: receive, channel: {$ref: "#/channels/jobs"}}
  again: {action: send, channel: {$ref: "#/channels/jobs"}}
components: {channelBindings: {lamps: {mqtt: {qos: 1}}}}
`))
	require.NoError(t, err)
	out := model.WriteDocument(root, comments)
	m, err := model.Parse("drafted.yaml", out, model.Options{})
	require.NoError(t, err, string(out))
	kinds := map[string]model.Kind{}
	for _, n := range m.Nodes {
		kinds[n.Name] = n.Kind
	}
	require.Equal(t, map[string]model.Kind{
		"weights": model.Stream, "jobs": model.Queue, "news": model.Topic, "lamps": model.Topic,
		"calls": model.Endpoint, "replies": model.Topic, "plain": model.Topic, "yard": model.Function,
	}, kinds)
	require.Equal(t, 12, m.Node("weights").Partitions)
	require.Equal(t, 7*24*time.Hour, m.Node("weights").Retention)
	require.Contains(t, comments["nodes.jobs"], "Read: a queue")
	require.Contains(t, comments["nodes.plain"], "Guessed: a topic")
	require.Contains(t, strings.Join(missing, "\n"), "where replies is reached")
	require.Empty(t, m.Node("replies").ObservedAs)
	require.NotContains(t, string(out), "takers-of-jobs", "the application takes what it sends")
}

func TestFaults(t *testing.T) {
	for source, says := range map[string]string{
		"a: 1\n":                              "no `asyncapi` field",
		"asyncapi: 1.2.0":                     "versions 2 and 3 are read",
		"asyncapi: 2.6.0":                     "no channels",
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

// TestWhatIsSentIsNoEndpoint: an endpoint is where an application receives; what it sends over HTTP goes to somebody
// outside, also where it both receives and sends.
func TestWhatIsSentIsNoEndpoint(t *testing.T) {
	root, comments, missing, err := asyncapi.Read("lamps.yaml", []byte(`
asyncapi: 3.0.0
info: {title: Yard, version: "1"}
channels:
  dimmed: {address: /dimmed, bindings: {http: {}}}
  news: {address: /news}
  socket: {address: /socket, bindings: {http: {}}}
operations:
  tell: {action: send, channel: {$ref: "#/channels/dimmed"}}
  say: {action: send, channel: {$ref: "#/channels/news"}}
  ask: {action: receive, channel: {$ref: "#/channels/socket"}}
  answer: {action: send, channel: {$ref: "#/channels/socket"}}
`))
	require.NoError(t, err)
	m, err := model.Parse("drafted.yaml", model.WriteDocument(root, comments), model.Options{})
	require.NoError(t, err)
	kinds := map[string]model.Kind{}
	for _, n := range m.Nodes {
		kinds[n.Name] = n.Kind
	}
	require.Equal(t, map[string]model.Kind{
		"dimmed": model.Outside, "news": model.Topic, "takers-of-news": model.Outside,
		"socket": model.Endpoint, "takers-of-socket": model.Outside, "yard": model.Function,
	}, kinds)
	require.Equal(t, "yard", m.Node("socket").Links[0].To)
	require.NotNil(t, m.Node("yard").Link("takers-of-socket"))
	require.Contains(t, missing, "how long dimmed takes and how often it fails")
}
