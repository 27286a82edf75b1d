package service_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// TestAColleagueIsSeen: two people look at one model and see each other's names; what one
// saves is in the other's editor at once, with who saved and what, unless there are changes
// of their own, which stay.
func TestAColleagueIsSeen(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	ines := r.member("ines", "editor")
	b := open(t, r)
	b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))

	other := visit(t, r)
	secret, err := r.store.SignInLink(context.Background(), "ines", time.Hour)
	require.NoError(t, err)
	other.do(chromedp.Navigate(r.url+"/sign-in#"+secret), visible("table a"))
	other.do(chromedp.Navigate(other.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
	other.says(".bar", "also here: admin")
	b.says(".bar", "also here: ines")
	b.shoot("colleague")

	text := ines.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["text"].(string)
	revision := 1
	save := func(node string) {
		text = strings.Replace(text, "\nnodes:\n", "\nnodes:\n  "+node+": {kind: bucket}\n", 1)
		ines.do("POST", "/api/v1/workspaces/main/models/kittiwake/revisions", map[string]any{"text": text}, 201,
			"If-Match", fmt.Sprintf(`"%d"`, revision))
		revision++
	}
	save("quay-log")
	b.says(".bench", "ines has saved revision 2.")
	b.says(".bench", "Added quay-log. It is in the editor.")
	b.do(visible(`[data-node="quay-log"]`))
	b.says(".bar", "revision 2")
	b.shoot("colleague-saved")
	b.axe("colleague-saved")

	b.addNode("queue", "tug-calls")
	b.says(".bar", "revision 2, changed")
	save("pier-log")
	b.says(".bench", "Added pier-log. Saving yours will show both.")
	require.Equal(t, 1, b.count(`[data-node="tug-calls"]`), "what was changed here stays")
	require.Zero(t, b.count(`[data-node="pier-log"]`))
	b.clean()
}
