package service_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWorkGoesOnWithoutTheService: a banner says that it cannot be reached, what is typed is kept, every page
// says that it waits, and all resumes by itself.
func TestWorkGoesOnWithoutTheService(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.do(
		click(`table a[href$="/models/kittiwake"]`),
		visible("[data-node]"),
		visible(".cm-content"),
	)
	b.reaches(false)
	b.toEnd()
	b.types("\n# written while away")
	b.says(".connection.down", "The service cannot be reached.")
	b.eventually("what is typed is kept", func() bool {
		return strings.Contains(b.draft("kittiwake"), "# written while away")
	})
	b.press("Save")
	b.says(".bx--inline-notification", "cannot be reached")
	require.Contains(t, b.text(".cm-content"), "# written while away")
	b.shoot("offline-workbench")

	b.do(click(`header a[href$="/runs"]`)) // its code has not been loaded
	b.says("main", "This page could not be loaded")
	b.axe("offline")
	b.shoot("offline-runs")
	b.do(click(`header a[href$="/w/main"]`))
	b.says("main", "cannot be reached")
	b.eventually("no skeleton waits", func() bool { return b.count(".bx--skeleton") == 0 })
	b.shoot("offline-models")
	api := r.signIn()
	b.reaches(true)
	b.do(visible("table a")) // by itself
	b.reaches(false)
	b.do(click(`header a[href$="/runs"]`))
	b.says("main", "This page could not be loaded")
	b.reaches(true)
	b.says("main h1", "Runs") // by itself, too
	b.do(
		click(`header a[href$="/w/main"]`),
		click(`table a[href$="/models/kittiwake"]`),
		visible("[data-node]"),
	)
	b.says("main", "What you had not saved is back.")
	b.press("Save")
	b.eventually("it is saved", func() bool {
		latest := api.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)
		return latest["number"] == 2.0 && strings.Contains(latest["text"].(string), "# written while away")
	})
	b.clean()
}
