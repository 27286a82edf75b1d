package check

import (
	"flag"
	"os"
	"testing"
)

// TestMain gives the random models a seed, so that a build does not depend on
// luck; -rapid.seed=N looks at others.
func TestMain(m *testing.M) {
	flag.Parse()
	if flag.Lookup("rapid.seed").Value.String() == "0" {
		flag.Set("rapid.seed", "1")
	}
	os.Exit(m.Run())
}
