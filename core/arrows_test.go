package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which of our packages each may import.
var allowed = map[string]string{
	"core/cadence":               "",
	"core/check":                 "core/parallel core/check/* core/document core/graph core/model core/expr core/cadence",
	"core/check/flow":            "core/check/internal/dist core/check/remedy core/document core/graph core/model core/expr core/cadence",
	"core/check/guarantees":      "core/parallel core/check/internal/dist core/check/flow core/document core/graph core/model core/expr",
	"core/check/internal/dist":   "core/model",
	"core/check/remedy":          "core/graph core/model",
	"core/document":              "",
	"core/expr":                  "",
	"core/graph":                 "core/model core/expr",
	"core/learn":                 "core/model",
	"core/mend":                  "core/check core/check/* core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"core/model":                 "core/expr core/cadence",
	"core/parallel":              "",
	"core/sensitivity":           "core/parallel core/check core/check/* core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"core/sim":                   "core/sim/internal/* core/graph core/model core/expr",
	"core/sim/internal/arena":    "",
	"core/sim/internal/clock":    "core/sim/internal/arena",
	"core/sim/internal/engine":   "core/sim/internal/arena core/sim/internal/clock core/sim/internal/random core/sim/internal/stats core/graph core/model core/expr",
	"core/sim/internal/incident": "core/sim/internal/engine core/sim/internal/random core/graph core/model",
	"core/sim/internal/random":   "core/model",
	"core/sim/internal/series":   "core/sim/internal/engine core/graph core/model",
	"core/sim/internal/stats":    "core/sim/internal/arena",
	"core/sim/internal/trace":    "core/sim/internal/engine core/sim/internal/random core/graph core/model core/expr",
	"core/sim/internal/traffic":  "core/sim/internal/engine core/sim/internal/random core/model core/expr core/cadence",
	"core/sim/internal/workflow": "core/sim/internal/engine core/sim/internal/random core/graph core/model core/expr",
	"core/study":                 "core/parallel core/document core/sim core/graph core/model core/expr core/cadence",
	"core/verify":                "core/check core/check/* core/learn core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"formats/asyncapi":           "core/* formats/drafting",
	"formats/cloudevents":        "core/expr",
	"formats/drafting":           "core/*",
	"formats/incoming":           "core/* formats/asyncapi formats/inventory formats/openapi formats/otlp formats/workflow",
	"formats/inventory":          "core/*",
	"formats/junit":              "core/*",
	"formats/mapping":            "core/* formats/drafting",
	"formats/openapi":            "core/* formats/drafting",
	"formats/otlp":               "core/*",
	"formats/picture":            "core/*",
	"formats/report":             "core/* formats/picture formats/text",
	"formats/sarif":              "core/*",
	"formats/templates":          "core/*",
	"formats/text":               "core/*",
	"formats/workflow":           "core/* formats/drafting",
	"gallery":                    "",
	"demo":                       "",
	"demo/hooks":                 "",
	"store":                      "",
	"store/postgres":             "",
	"jobs":                       "store core/*",
	"rehearsal":                  "formats/cloudevents formats/otlp core/*",
	"observation":                "store formats/otlp core/*",
	"client":                     "",
	"service":                    "service/admission service/isolation jobs rehearsal observation store formats/* core/* demo gallery",
	"service/admission":          "",
	"service/isolation":          "",
	"cmd/ironweir":               "*",
	"bench/console":              "bench/fleet client",
	"bench/fleet":                "client store/postgres",
	"bench/live":                 "bench/fleet client",
	"bench/looping":              "core/model",
	"bench/scale":                "bench/fleet client",
	"bench/soak":                 "bench/fleet client",
	"bench/tally":                "",
}

// TestImportsPointDownwards fails on any import between our packages that the
// architecture does not name, and on I/O in the core.
// [CK-02] The engine imports nothing that reads a clock, a disk or a network.
func TestImportsPointDownwards(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "ironweir/...").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		from := strings.TrimPrefix(fields[0], "ironweir/")
		if from == "core" {
			continue
		}
		may, known := allowed[from]
		require.True(t, known, "say in this test what %s may import", from)
		for _, to := range fields[1:] {
			if strings.HasPrefix(from, "core/") {
				for _, impure := range []string{"os", "net", "net/http", "database/sql", "log", "log/slog", "io/fs"} {
					require.NotEqual(t, impure, to, "%s must not do I/O", from)
				}
			}
			to, ours := strings.CutPrefix(to, "ironweir/")
			if !ours {
				continue
			}
			ok := may == "*"
			for _, m := range strings.Fields(may) {
				prefix, any := strings.CutSuffix(m, "*")
				ok = ok || m == to || any && strings.HasPrefix(to, prefix)
			}
			require.True(t, ok, "%s must not import %s", from, to)
		}
	}
}
