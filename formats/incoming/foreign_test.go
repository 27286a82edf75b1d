package incoming_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/incoming"
)

// TestDocumentsOfOthersAreRead: the console's libraries come with documents that people elsewhere have written, some of
// a megabyte; each becomes a model that can be read, or is refused for a reason that is known.
func TestDocumentsOfOthersAreRead(t *testing.T) {
	known := regexp.MustCompile(`has no operations|versions 3\.0 and 3\.1 are read|not a valid|nothing to draw|YAML`)
	begins := regexp.MustCompile(`(?m)^["']?(openapi|asyncapi|swagger)["']?: *["']?[23]`)
	read, refused, largest := 0, 0, 0
	root := "../../console/node_modules"
	if _, err := os.Stat(root); err != nil {
		t.Skip("the console's libraries are not installed: make console")
	}
	require.NoError(t, filepath.WalkDir(root, func(path string, entry os.DirEntry, err error) error {
		ext := filepath.Ext(path)
		if err != nil || entry.IsDir() || ext != ".yaml" && ext != ".yml" {
			return err
		}
		source, err := os.ReadFile(path)
		if err != nil || !begins.Match(source) {
			return err
		}
		d, err := incoming.Read("", path, source)
		if err != nil {
			require.Regexp(t, known, err.Error(), path)
			refused++
			return nil
		}
		_, err = model.Parse(path, d.Text(), model.Options{})
		require.NoError(t, err, path)
		require.NotEmpty(t, d.Missing, path)
		read++
		largest = max(largest, len(source))
		return nil
	}))
	t.Logf("%d read, the largest of %d bytes; %d refused", read, largest, refused)
	require.Greater(t, read, 5, strings.TrimSpace(root))
	require.Greater(t, largest, 1_000_000)
}
