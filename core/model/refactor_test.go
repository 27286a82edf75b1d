package model

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryNodeOfTheDemoIsRenamedAndRemoved: what comes out can be read, and has
// as many nodes and links as it should.
func TestEveryNodeOfTheDemoIsRenamedAndRemoved(t *testing.T) {
	for _, file := range []string{"../../demo/kittiwake.yaml", "../../demo/kittiwake-draft.yaml"} {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		before, err := Parse(file, text, Options{})
		require.NoError(t, err)
		root, err := ReadDocument(file, text)
		require.NoError(t, err)
		for _, n := range before.Nodes {
			renamed, err := Rename(text, n.Name, "another-name")
			require.NoError(t, err, n.Name)
			after, err := Parse(file, renamed, Options{})
			require.NoError(t, err, "%s renamed", n.Name)
			require.Len(t, after.Nodes, len(before.Nodes))
			require.NotContains(t, after.NodeNames(), n.Name)
			back, err := Rename(renamed, "another-name", n.Name)
			require.NoError(t, err)
			require.Equal(t, string(text), string(back), "renamed there and back, nothing has changed")
			require.Equal(t, strings.Count(string(text), "#"), strings.Count(string(renamed), "#"), "comments stay")

			patch, err := Removal(root, n.Name)
			require.NoError(t, err)
			left, err := Edit(text, patch)
			require.NoError(t, err, n.Name)
			smaller, err := Parse(file, left, Options{})
			if n.Name == "tide-pages" || err != nil {
				// What a workflow calls cannot be taken out of its tasks by itself.
				require.ErrorContains(t, err, "call", n.Name)
				continue
			}
			require.Len(t, smaller.Nodes, len(before.Nodes)-1)
		}
	}
}

// TestRenameKnowsEveryPlace where a node is named, and no other.
func TestRenameKnowsEveryPlace(t *testing.T) {
	text := `ironweir: topology/1
name: lamp # a lamp
fails-together: {power: [lamp, "quay"], all: lamp}
accepted:
  - {code: IW203, node: lamp, because: the lamp}
  - {code: IW202, link: "quay:lamp", because: x}
  - {code: IW202, link: "quay:other", because: x}
alarms: {late: {watch: oldest, of: lamp, above: 5m}, later: {watch: oldest, of: "quay:lamp", above: 5m}}
nodes:
  lamp: {kind: queue, about: lamp, links: {wick: {}}} # the lamp
  wick: {kind: function, callers: [lamp], dead-letter: lamp}
  quay:
    kind: topic
    links:
      'lamp': {match: {prefix: lamp}}
      other: {to: lamp, dead-letter: lamp}
`
	got, err := Rename([]byte(text), "lamp", "beacon")
	require.NoError(t, err)
	require.Equal(t, `ironweir: topology/1
name: lamp # a lamp
fails-together: {power: [beacon, "quay"], all: beacon}
accepted:
  - {code: IW203, node: beacon, because: the lamp}
  - {code: IW202, link: "quay:beacon", because: x}
  - {code: IW202, link: "quay:other", because: x}
alarms: {late: {watch: oldest, of: beacon, above: 5m}, later: {watch: oldest, of: "quay:beacon", above: 5m}}
nodes:
  beacon: {kind: queue, about: lamp, links: {wick: {}}} # the lamp
  wick: {kind: function, callers: [beacon], dead-letter: beacon}
  quay:
    kind: topic
    links:
      'beacon': {match: {prefix: lamp}}
      other: {to: beacon, dead-letter: beacon}
`, string(got))
	for to, says := range map[string]string{"quay": "already", "No Name": "not a valid name of a node"} {
		_, err := Rename([]byte(text), "lamp", to)
		require.ErrorContains(t, err, says)
	}
	_, err = Rename([]byte(text), "lmap", "x")
	require.ErrorContains(t, err, `did you mean "lamp"?`)

	root, err := ReadDocument("m", []byte(text))
	require.NoError(t, err)
	patch, err := Removal(root, "lamp")
	require.NoError(t, err)
	left, err := Edit([]byte(text), patch)
	require.NoError(t, err)
	require.NotContains(
		t,
		strings.ReplaceAll(strings.ReplaceAll(string(left), "name: lamp # a lamp", ""), "prefix: lamp", ""),
		"lamp",
	)
}
