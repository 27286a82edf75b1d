package incoming_test

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/incoming"
)

const libraries = "../../console/node_modules"

// libraryFiles gives the files of the console's libraries that match a pattern.
func libraryFiles(t *testing.T, below, extensions string) []string {
	t.Helper()
	if _, err := os.Stat(libraries); err != nil {
		t.Skip("the console's libraries are not installed: make console")
	}
	var files []string
	read := func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && regexp.MustCompile(extensions).MatchString(path) {
			files = append(files, path)
		}
		return err
	}
	require.NoError(t, filepath.WalkDir(filepath.Join(libraries, below), read))
	return files
}

// TestDocumentsOfOthersAreRead: the console's libraries come with documents that people elsewhere have written, some of
// a megabyte; each becomes a model that can be read, or is refused for a reason that is known.
func TestDocumentsOfOthersAreRead(t *testing.T) {
	known := regexp.MustCompile(`has no operations|versions 3\.0 and 3\.1 are read|not a valid|nothing to draw|YAML`)
	begins := regexp.MustCompile(`(?m)^["']?(openapi|asyncapi|swagger)["']?: *["']?[23]`)
	read, refused, largest := 0, 0, 0
	for _, path := range libraryFiles(t, "", `\.ya?ml$`) {
		source, err := os.ReadFile(path)
		require.NoError(t, err)
		if !begins.Match(source) {
			continue
		}
		d, err := incoming.Read("", path, source)
		if err != nil {
			require.Regexp(t, known, err.Error(), path)
			refused++
			continue
		}
		_, err = model.Parse(path, d.Text(), model.Options{})
		require.NoError(t, err, path)
		require.NotEmpty(t, d.Missing, path)
		read++
		largest = max(largest, len(source))
	}
	t.Logf("%d read, the largest of %d bytes; %d refused", read, largest, refused)
	require.Greater(t, read, 5)
	require.Greater(t, largest, 1_000_000)
}

// TestTextsOfOthersAreRead: AsyncAPI and workflow documents stand in the sources and the manual of two libraries, as
// texts between backquotes.
func TestTextsOfOthersAreRead(t *testing.T) {
	known := regexp.MustCompile(`has no channels|AsyncAPI 1\.0\.4`)
	texts := regexp.MustCompile("(?s)`\\s*\n( *(?:asyncapi: |document:\\s+dsl: )[^`]*)`")
	files := append(
		libraryFiles(t, "@redocly/openapi-core/src", `\.test\.ts$`),
		libraryFiles(t, "@serverlessworkflow/sdk", `README\.md$`)...,
	)
	read, refused := map[string]int{}, 0
	for _, path := range files {
		source, err := os.ReadFile(path)
		require.NoError(t, err)
		for _, text := range texts.FindAllSubmatch(source, -1) {
			d, err := incoming.Read("", "document.yaml", text[1])
			if err != nil {
				require.Regexp(t, known, err.Error(), "%s\n%s", path, text[1])
				refused++
				continue
			}
			m, err := model.Parse(path, d.Text(), model.Options{})
			require.NoError(t, err, "%s\n%s", text[1], d.Text())
			require.NotEmpty(t, m.Nodes)
			require.NotEmpty(t, d.Missing, path)
			read[d.Format]++
		}
	}
	t.Logf("read %v, refused %d", read, refused)
	require.Greater(t, read["asyncapi"], 10)
	require.Positive(t, read["workflow"])
}

// TestTheSpecificationsExamplesAreRead: the examples that the AsyncAPI specification gives for each of its objects,
// put together to one document of each version.
func TestTheSpecificationsExamplesAreRead(t *testing.T) {
	for _, version := range []string{"2.6.0", "3.0.0", "3.1.0"} {
		example := func(name string) any {
			var all []any
			source, err := os.ReadFile(filepath.Join(libraries, "@asyncapi/specs/examples", version, name+".json"))
			require.NoError(t, err)
			require.NoError(t, json.Unmarshal(source, &all))
			return all[0]
		}
		if _, err := os.Stat(libraries); err != nil {
			t.Skip("the console's libraries are not installed: make console")
		}
		document := map[string]any{"asyncapi": version, "info": example("info"), "servers": example("servers")}
		if version == "2.6.0" {
			document["channels"] = map[string]any{"user/signedup": example("channelItem")}
			document["components"] = example("components")
		} else {
			document["channels"] = map[string]any{
				"userSignup":      example("channel"),
				"userSignupReply": map[string]any{"address": nil},
			}
			document["operations"] = map[string]any{"onUserSignUp": example("operation")}
			document["components"] = map[string]any{"messages": map[string]any{"userSignedUp": example("messageObject")}}
		}
		source, err := json.MarshalIndent(document, "", "  ")
		require.NoError(t, err)
		d, err := incoming.Read("", "examples.json", source)
		require.NoError(t, err, string(source))
		m, err := model.Parse("examples.yaml", d.Text(), model.Options{})
		require.NoError(t, err, string(d.Text()))
		app, queue := m.Node("asyncapi-sample-app"), m.Nodes[0]
		require.Equal(t, model.Queue, queue.Kind, "the example is bound to a queue")
		require.Equal(t, queue.Name, app.Links[0].To)
		require.Contains(t, strings.Join(d.Missing, "\n"), "who takes what is sent to "+queue.Name)
		if version != "2.6.0" {
			require.Contains(t, strings.Join(d.Missing, "\n"), "the operation onUserSignUp has a reply")
			require.Contains(t, strings.Join(d.Missing, "\n"), "where usersignupreply is reached")
		}
	}
}
