package sarif_test

import (
	"os"
	"strings"
	"testing"
	"time"

	"github.com/pmezard/go-difflib/difflib"
	"github.com/stretchr/testify/require"

	"ironweir/core/check"
	"ironweir/core/document"
	"ironweir/core/graph"
	"ironweir/core/model"
	"ironweir/formats/sarif"
)

// TestTheReportIsSARIF checks the report of the draft against the schema of
// SARIF 2.1.0, and applies each fix: its finding is gone.
func TestTheReportIsSARIF(t *testing.T) {
	const file = "../../demo/kittiwake-draft.yaml"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	checked := func(text []byte) *check.Document {
		m, err := model.Parse(file, text, model.Options{})
		require.NoError(t, err)
		g, err := graph.Compile(m)
		require.NoError(t, err)
		return check.Run(g, nil, document.Head{}, time.Now())
	}
	doc := checked(text)
	report, err := sarif.Report(doc, map[string][]byte{file: text})
	require.NoError(t, err)
	require.NoError(t, report.Validate())
	require.Len(t, report.Runs[0].Results, len(doc.Findings))
	fixes := 0
	for i, r := range report.Runs[0].Results {
		require.Equal(t, doc.Findings[i].Code, *r.RuleID)
		require.Equal(t, doc.Findings[i].Position.Line, *r.Locations[0].PhysicalLocation.Region.StartLine)
		for _, fix := range r.Fixes {
			lines := difflib.SplitLines(string(text))
			changes := fix.ArtifactChanges[0].Replacements
			for k := len(changes) - 1; k >= 0; k-- { // from behind, so that lines keep their numbers
				from, to := *changes[k].DeletedRegion.StartLine-1, *changes[k].DeletedRegion.EndLine-1
				lines = append(lines[:from:from], append([]string{*changes[k].InsertedContent.Text}, lines[to:]...)...)
			}
			for _, left := range checked([]byte(strings.Join(lines, ""))).Findings {
				require.NotEqual(t, doc.Findings[i].ID, left.ID, "%s: %s", left.Code, *fix.Description.Text)
			}
			fixes++
		}
	}
	require.Greater(t, fixes, 15)
}
