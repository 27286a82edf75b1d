package service_test

import (
	"cmp"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write docs/security.md anew")

// TestTheSecurityMatrixIsCurrent: docs/security.md lists every operation with who may do it, as
// the description of the API says and TestEveryOperationAnswersAsDescribed tries.
func TestTheSecurityMatrixIsCurrent(t *testing.T) {
	r := startWith(t, 0)
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string                `json:"operationId"`
			Summary     string                `json:"summary"`
			Security    []map[string][]string `json:"security"`
		} `json:"paths"`
	}
	require.NoError(t, json.Unmarshal([]byte(r.page("/api/openapi.json")), &doc))
	yes := map[string]string{
		"":        "yes | yes | yes | yes | yes",
		"viewer":  "– | yes | yes | yes | yes",
		"editor":  "– | – | yes | yes | yes",
		"admin":   "– | – | – | yes | yes",
		"service": "– | – | – | – | yes",
	}
	var lines []string
	for path, operations := range doc.Paths {
		for method, op := range operations {
			needed := ""
			if len(op.Security) > 0 {
				needed = op.Security[0]["session"][0]
			}
			require.Contains(t, yes, needed, op.OperationID)
			where := "the service"
			if strings.Contains(path, "{workspace}") {
				where = "the workspace"
			}
			lines = append(lines, fmt.Sprintf("| `%s %s` | %s | %s |", strings.ToUpper(method),
				strings.TrimPrefix(path, "/api/v1"), where, yes[needed]))
		}
	}
	slices.SortFunc(lines, func(a, b string) int {
		whole := [2]string{a, b}
		_, a, _ = strings.Cut(a, " /")
		_, b, _ = strings.Cut(b, " /")
		return cmp.Or(strings.Compare(a, b), strings.Compare(whole[0], whole[1]))
	})
	const file, begin, end = "../docs/security.md", "<!-- matrix -->\n", "<!-- end of matrix -->"
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), begin)
	require.True(t, found)
	_, after, found := strings.Cut(rest, end)
	require.True(t, found)
	want := before + begin + "| operation | role in | nobody | viewer | editor | admin | who administers the service |\n" +
		"|---|---|---|---|---|---|---|\n" + strings.Join(lines, "\n") + "\n" + end + after
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(want), 0o644))
	}
	require.True(t, want == string(text), "go test ./service -run SecurityMatrix -update")
}
