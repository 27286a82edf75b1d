package inventory_test

import (
	"bytes"
	"encoding/csv"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"ironweir/core/model"
	"ironweir/formats/inventory"
)

// TestOutAndInAgain writes every model of the project both ways and reads it
// back.
func TestOutAndInAgain(t *testing.T) {
	var files []string
	for _, pattern := range []string{"../../demo/kittiwake*.yaml", "../../gallery/*.yaml", "../../core/model/testdata/examples/*.yaml"} {
		found, err := filepath.Glob(pattern)
		require.NoError(t, err)
		files = append(files, found...)
	}
	require.Greater(t, len(files), 8)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		root, err := model.ReadDocument(file, text)
		require.NoError(t, err)
		var table, lines bytes.Buffer
		require.NoError(t, inventory.WriteCSV(&table, root))
		cells, err := csv.NewReader(bytes.NewReader(table.Bytes())).ReadAll()
		require.NoError(t, err)
		require.Greater(t, len(cells), len(root.Get("nodes").Fields))
		back, err := inventory.ReadCSV("t.csv", table.Bytes())
		require.NoError(t, err, file)
		require.True(t, root.Same(back), file)
		require.NoError(t, inventory.WriteLines(&lines, root))
		back, err = inventory.ReadLines("t.jsonl", lines.Bytes())
		require.NoError(t, err, file)
		require.True(t, root.Same(back), file)
		_, err = model.Parse(file, model.WriteDocument(back, nil), model.Options{})
		require.NoError(t, err, file)
	}
}

func TestFaultsNameTheirPlace(t *testing.T) {
	for text, says := range map[string]string{
		"a,b\n1,2\n":                                          `t.csv:1: there is no column "record"`,
		"record,name,from\nnode,q,\nlink,f,x\n":               `leaves "x", which is not a node`,
		"record,name,from,kind\nnode,q,,queue\nnode,q,,queue": "the node q stands twice",
		"record,name,from,kind\nthing,q,,queue\n":             `"thing" is none of node, link and section`,
		"record,name,from,kind\nnode,q,,{a\n":                 "t.csv:2: kind",
	} {
		_, err := inventory.ReadCSV("t.csv", []byte(text))
		require.ErrorContains(t, err, says)
	}
	_, err := inventory.ReadLines("t.jsonl", []byte("{\"record\":\"node\",\"name\":\"q\",\"fields\":{}}\n{oops\n"))
	require.ErrorContains(t, err, "t.jsonl:2")
}

func FuzzReadCSV(f *testing.F) {
	f.Add("record,name,from,kind\nnode,q,,queue\nlink,f,q,\n")
	f.Fuzz(func(t *testing.T, text string) {
		root, err := inventory.ReadCSV("f", []byte(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		require.NoError(t, inventory.WriteCSV(&out, root))
		back, err := inventory.ReadCSV("f", out.Bytes())
		require.NoError(t, err)
		require.True(t, root.Same(back))
	})
}

func FuzzReadLines(f *testing.F) {
	f.Add("{\"record\": \"node\", \"name\": \"q\", \"fields\": {\"kind\": \"queue\"}}\n")
	f.Fuzz(func(t *testing.T, text string) {
		root, err := inventory.ReadLines("f", []byte(text))
		if err != nil {
			return
		}
		var out bytes.Buffer
		require.NoError(t, inventory.WriteLines(&out, root))
		back, err := inventory.ReadLines("f", out.Bytes())
		require.NoError(t, err)
		require.True(t, root.Same(back))
	})
}
