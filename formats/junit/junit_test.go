package junit_test

import (
	"bytes"
	"os"
	"testing"
	"time"

	reader "github.com/joshdk/go-junit"
	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/core/study"
	"ironweir/formats/junit"
)

// TestReadByAnother reads what is written with a parser that pipelines use.
func TestReadByAnother(t *testing.T) {
	text, err := os.ReadFile("../../demo/kittiwake-draft.yaml")
	require.NoError(t, err)
	m, err := model.Parse("draft.yaml", text, model.Options{})
	require.NoError(t, err)
	g, err := graph.Compile(m)
	require.NoError(t, err)
	doc := check.Run(g, nil, document.NewHead("check", m.Name, "", ""), time.Now())
	var out bytes.Buffer
	require.NoError(t, junit.Check(&out, doc, check.Warning))
	suites, err := reader.Ingest(out.Bytes())
	require.NoError(t, err)
	failed, all := 0, 0
	for _, s := range suites {
		failed += s.Totals.Failed
		all += s.Totals.Tests
	}
	require.Equal(t, doc.Summary.Errors+doc.Summary.Warnings, failed)
	require.GreaterOrEqual(t, all, failed)

	result := &study.Document{
		Head:     doc.Head,
		Scenario: "s",
		Expect: map[string]study.Expectation{
			"good": {Expression: "1 < 2", Holds: true},
			"bad":  {Expression: "run.ledger.lost.total == 0", Holds: false},
		},
	}
	out.Reset()
	require.NoError(t, junit.Run(&out, result))
	suites, err = reader.Ingest(out.Bytes())
	require.NoError(t, err)
	require.Equal(t, 1, suites[0].Totals.Failed)
	require.Equal(t, 1, suites[0].Totals.Passed)
}
