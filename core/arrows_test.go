package core_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// allowed says which of our packages each may import.
var allowed = map[string]string{
	"core/expr": "", "core/cadence": "", "core/document": "", "core/model": "core/expr core/cadence", "core/graph": "core/model core/expr",
	"core/sim":   "core/graph core/model core/expr core/cadence",
	"core/learn": "core/model", "core/study": "core/document core/sim core/graph core/model core/expr core/cadence", "core/check": "core/document core/graph core/model core/expr core/cadence",
	"core/sensitivity": "core/check core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"core/mend":        "core/check core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"core/verify":      "core/check core/learn core/study core/sim core/graph core/model core/expr core/cadence core/document",
	"formats/text":     "core/*", "formats/cloudevents": "core/expr", "formats/sarif": "core/*", "formats/junit": "core/*", "formats/picture": "core/*", "formats/asyncapi": "core/* formats/drafting", "formats/drafting": "core/*", "formats/inventory": "core/*", "formats/openapi": "core/* formats/drafting", "formats/mapping": "core/* formats/drafting", "formats/templates": "core/*", "formats/otlp": "core/*", "formats/incoming": "core/* formats/asyncapi formats/inventory formats/openapi formats/otlp", "formats/report": "core/* formats/picture formats/text", "demo": "", "demo/hooks": "", "gallery": "", "store/postgres": "", "store": "", "jobs": "store core/*", "rehearsal": "formats/cloudevents formats/otlp core/*", "client": "",
	"service/admission": "", "service/isolation": "",
	"service": "service/admission service/isolation jobs rehearsal store formats/* core/* demo gallery", "cmd/ironweir": "*", "bench/tally": "", "bench/looping": "core/model", "bench/fleet": "client store/postgres", "bench/soak": "bench/fleet client", "bench/scale": "bench/fleet client", "bench/live": "bench/fleet client", "bench/console": "bench/fleet client",
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
