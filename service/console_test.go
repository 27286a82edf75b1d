package service_test

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"
)

// patience is how long a test waits for a page: no test depends on how fast the machine is.
const patience = 5 * time.Minute

// browser is headless Chromium on a running service. It collects page errors
// and requests that leave the machine.
type browser struct {
	*testing.T
	ctx      context.Context
	url      string
	mu       sync.Mutex
	errors   []string
	outside  []string
	received int64 // bytes of answers, without headers, packed as they came
}

// open opens a browser in which the administrator is signed in, who has been here before. It shows no page yet.
func open(t *testing.T, r *running) *browser {
	t.Helper()
	return returning(t, r).signIn(r)
}

// signIn gives the browser the cookie of a session of its own.
func (b *browser) signIn(r *running) *browser {
	b.Helper()
	secret, err := r.store.FirstAdminLink(context.Background(), "admin", time.Hour)
	require.NoError(b, err)
	answer := r.as().do("POST", "/api/v1/session", map[string]string{"secret": secret}, 200)
	session, err := http.ParseSetCookie(answer[""].(http.Header).Get("Set-Cookie"))
	require.NoError(b, err)
	_, err = chromedp.Call(b.ctx, network.SetCookie, network.SetCookieParams{
		Name: session.Name, Value: session.Value, URL: r.url,
		HTTPOnly: &session.HttpOnly, SameSite: network.CookieSameSiteStrict,
	})
	require.NoError(b, err)
	return b
}

// openModels opens a browser at the list of models.
func openModels(t *testing.T, r *running) *browser {
	t.Helper()
	b := open(t, r)
	b.do(chromedp.Navigate(r.url+"/w/main"), visible("table a"))
	return b
}

// visit opens a browser without a session, which has seen the console before, at the sign-in page.
func visit(t *testing.T, r *running) *browser {
	t.Helper()
	b := returning(t, r)
	b.do(chromedp.Navigate(r.url + "/sign-in"))
	return b
}

// returning opens a browser that has seen the console before, so that nothing is explained.
func returning(t *testing.T, r *running) *browser {
	t.Helper()
	b := fresh(t, r)
	_, err := chromedp.Call(b.ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{
		Source: `(key => { try { localStorage.getItem(key) ?? localStorage.setItem(key, "5") } catch {} })` +
			`("ironweir-first-visit")`,
	})
	require.NoError(t, err)
	return b
}

// chromium is the one process for all browsers of the tests, which start in a fraction of its time.
var chromium = sync.OnceValues(func() (context.Context, error) {
	options := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox,
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("force-color-profile", "srgb"),
	)
	allocator, _ := chromedp.NewExecAllocator(whileTesting, options...)
	ctx, _ := chromedp.NewContext(allocator)
	return ctx, chromedp.Do(ctx) // starts the browser, which lives as long as ctx
})

// fresh opens a browser that has never seen the console: its storage and cookies are its own.
func fresh(t *testing.T, r *running) *browser {
	t.Helper()
	process, err := chromium()
	require.NoError(t, err)
	b := &browser{T: t, url: r.url}
	listen := chromedp.WithListener(func(event any) {
		b.mu.Lock()
		defer b.mu.Unlock()
		switch e := event.(type) {
		case *runtime.EventExceptionThrown:
			b.errors = append(b.errors, e.ExceptionDetails.Text)
		case *runtime.EventConsoleAPICalled:
			if string(e.Type) == "error" {
				b.errors = append(b.errors, string(e.Args[0].Value))
			}
		case *network.EventRequestWillBeSent:
			if u := e.Request.URL; strings.HasPrefix(u, "http") && !strings.HasPrefix(u, r.url) {
				b.outside = append(b.outside, u)
			}
		case *network.EventDataReceived:
			b.received += e.EncodedDataLength
		}
	})
	ctx, cancel := chromedp.NewContext(process, chromedp.WithNewBrowserContext(), listen)
	t.Cleanup(cancel)
	ctx, timeout := context.WithTimeout(ctx, time.Hour)
	t.Cleanup(timeout)
	b.ctx = ctx
	require.NoError(t, chromedp.Do(ctx))
	focus := emulation.SetFocusEmulationEnabledParams{Enabled: true}
	_, err = chromedp.Call(ctx, emulation.SetFocusEmulationEnabled, focus)
	require.NoError(t, err)
	b.do(chromedp.EmulateViewport(1280, 800))
	return b
}

func (b *browser) do(steps ...chromedp.Action[chromedp.Void]) {
	b.Helper()
	for i, step := range steps {
		ctx, cancel := context.WithTimeout(b.ctx, patience)
		err := chromedp.Do(ctx, step)
		cancel()
		if err != nil {
			b.shoot("failed")
			b.mu.Lock()
			defer b.mu.Unlock()
		}
		require.NoError(b, err, "step %d; page errors: %v", i+1, b.errors)
	}
}

// delay lets each answer to the page take so many milliseconds longer.
func (b *browser) delay(ms float64) {
	b.Helper()
	b.network(network.Conditions{Latency: ms})
}

// reaches cuts the browser off from the service, or joins them again.
func (b *browser) reaches(yes bool) {
	b.Helper()
	b.network(network.Conditions{Offline: !yes})
}

// network has the network behave as said, at any speed.
func (b *browser) network(as network.Conditions) {
	b.Helper()
	as.DownloadThroughput, as.UploadThroughput = -1, -1
	_, err := chromedp.Call(
		b.ctx,
		network.EmulateNetworkConditionsByRule,
		network.EmulateNetworkConditionsByRuleParams{MatchedNetworkConditions: []*network.Conditions{&as}},
	)
	require.NoError(b, err)
}

// Steps on what a CSS selector finds first, or an XPath. (A CSS selector that is
// given as a mere string is looked for in all texts and attributes too, and all
// that is found is waited for.)

func visible(selector string) chromedp.Action[chromedp.Void] {
	if isPath(selector) {
		return chromedp.WaitVisible(selector)
	}
	return chromedp.WaitVisible(chromedp.CSS(selector))
}

// click presses the middle of what a selector finds first, once it stands still and nothing lies over it: what
// glides in, and a board that is laid out anew, would be gone from under the mouse.
func click(selector string) chromedp.Action[chromedp.Void] {
	found := "document.querySelector(" + strconv.Quote(selector) + ")"
	if isPath(selector) {
		found = "document.evaluate(" + strconv.Quote(selector) +
			", document, null, XPathResult.FIRST_ORDERED_NODE_TYPE).singleNodeValue"
	}
	return chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for {
			at, err := chromedp.Evaluate[[]float64](placeToPress+"(() => "+found+")", chromedp.EvalAwaitPromise)(ctx, t)
			if len(at) == 2 {
				_, err = chromedp.MouseClickXY(at[0], at[1])(ctx, t)
				return err
			}
			if err != nil && !movedOn(err) {
				return err
			}
			select {
			case <-time.After(50 * time.Millisecond):
			case <-ctx.Done():
				return fmt.Errorf("%s cannot be pressed: %w", selector, ctx.Err())
			}
		}
	})
}

// placeToPress gives where a thing can be pressed, [x, y] in pixels of the page, or nothing.
const placeToPress = `(async find => {
	const thing = find();
	if (!thing) return [];
	thing.scrollIntoViewIfNeeded();
	const box = () => (r => [r.x + r.width / 2, r.y + r.height / 2, r.width * r.height])(thing.getBoundingClientRect());
	const frame = () => new Promise(done => requestAnimationFrame(done));
	const before = box();
	await frame();
	await frame();
	const [x, y, area] = box();
	const moves = document.getAnimations().some(a => a.playState === "running" && a.effect?.target?.contains(thing));
	if (moves || area === 0 || [x, y, area].some((v, i) => v !== before[i])) return [];
	const top = document.elementFromPoint(x, y);
	const node = thing.closest("[data-node]");
	return thing.contains(top) || (node && node.contains(top)) ? [x, y] : [];
})`

func gone(selector string) chromedp.Action[chromedp.Void] {
	return chromedp.WaitNotPresent(chromedp.CSS(selector))
}

func isPath(selector string) bool { return strings.HasPrefix(selector, "/") }

// look gives what a script reads from the page. A page that moves on by itself while it is read is read again:
// the script must change nothing.
func look[T any](b *browser, script string) T {
	b.Helper()
	for limit := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
		out, err := chromedp.Run(b.ctx, chromedp.Evaluate[T](script))
		if err != nil && movedOn(err) && time.Now().Before(limit) {
			continue
		}
		require.NoError(b, err)
		return out
	}
}

// movedOn reports whether a page could not be read because it was left for the next.
func movedOn(err error) bool {
	return slices.ContainsFunc([]string{
		"Inspected target navigated or closed",
		"Execution context was destroyed",
		"Cannot find context with specified id",
		"Cannot find default execution context",
	}, func(why string) bool { return strings.Contains(err.Error(), why) })
}

// text gives the text of the page's first element that a selector finds.
func (b *browser) text(selector string) string {
	b.Helper()
	return look[string](b, `document.querySelector(`+"`"+selector+"`"+`)?.innerText ?? ""`)
}

// types types text where the cursor of the editor is.
func (b *browser) types(text string) {
	b.Helper()
	ok, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[bool](
			`(document.querySelector(".cm-content").focus(), document.execCommand("insertText", false, `+strconv.Quote(
				text,
			)+`))`,
		),
	)
	require.NoError(b, err)
	require.True(b, ok)
}

// toEnd puts the cursor of the editor behind its text.
func (b *browser) toEnd() {
	b.Helper()
	b.do(
		chromedp.Focus(chromedp.CSS(".cm-content")),
		chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)),
	)
}

func (b *browser) count(selector string) int {
	b.Helper()
	return look[int](b, `document.querySelectorAll(`+"`"+selector+"`"+`).length`)
}

// value gives the value of a field.
func (b *browser) value(selector string) string {
	b.Helper()
	return look[string](b, `document.querySelector(`+"`"+selector+"`"+`)?.value ?? ""`)
}

// fill replaces the value of a field, as typing does.
func (b *browser) fill(selector, text string) {
	b.Helper()
	_, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[bool](
			`(f => (f.value = `+strconv.Quote(
				text,
			)+`, f.dispatchEvent(new Event("input", {bubbles: true})), true))(document.querySelector(`+"`"+selector+"`"+`))`,
		),
	)
	require.NoError(b, err)
}

// scroll moves the page so that its content from y on is seen.
func (b *browser) scroll(y int) {
	b.Helper()
	_, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[bool](`(document.querySelector(".page").scrollTo(0, `+strconv.Itoa(y)+`), true)`),
	)
	require.NoError(b, err)
}

// shoot keeps a picture where IRONWEIR_SHOTS names a folder.
func (b *browser) shoot(name string) {
	b.Helper()
	dir := os.Getenv("IRONWEIR_SHOTS")
	if dir == "" {
		return
	}
	time.Sleep(700 * time.Millisecond) // let what moves come to rest
	png, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
	require.NoError(b, err)
	require.NoError(b, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
}

// clean fails the test for a page error or an outside request.
func (b *browser) clean() {
	b.Helper()
	b.styled("at the end")
	b.mu.Lock()
	defer b.mu.Unlock()
	require.Empty(b, b.errors, "page errors")
	require.Empty(b, b.outside, "requests that leave the machine")
}

func needConsole(t *testing.T) {
	t.Helper()
	if _, err := os.Stat("site/dist/index.html"); err != nil {
		t.Skip("the console has not been built: make console")
	}
}

// TestNewcomerSeesLoopAndLosses goes from the sign-in link to a simulated
// Friday evening of the draft, and of the mended model.
func TestNewcomerSeesLoopAndLosses(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.shoot("models")
	require.Equal(t, 2, b.count("tbody tr"))

	b.do(
		click(`a[href="/w/main/models/kittiwake-draft"]`),
		visible(`[data-state="loops"]`),
		visible(`[data-code="IW101"]`),
	)
	require.Equal(t, 5, b.count(`[data-state="loops"]`), "the loop's five nodes are marked")
	require.Contains(t, b.text(`[data-code="IW101"]`), "circulates indefinitely")
	require.Contains(t, b.text(".cm-content"), "kittiwake-draft")
	b.shoot("workbench-draft")

	b.do(click(`//button[contains(., "Run")]`), visible(`tr[data-fate="sum"]`))
	require.Contains(t, b.text(`tr[data-fate="sum"]`), "adds up")
	require.Contains(t, b.text(`tr[data-fate="lost-exhausted"]`), "exhausted")
	require.Contains(t, b.text("main"), "A loop:")
	require.Contains(t, b.text(`[data-expect="nothing-lost"]`), "fails")
	require.Equal(t, 4, b.count(".chart canvas"), "what nodes hold, how old that is, what comes and what is lost")
	b.shoot("result-draft")
	b.scroll(620)
	b.shoot("result-draft-chart")

	b.do(
		chromedp.Navigate(b.url+"/w/main/models/kittiwake"),
		visible(`[data-node="manifest-drop"]`),
		visible(`[data-code="IW203"]`),
	)
	require.Equal(t, 0, b.count(`[data-state="loops"], [data-state="loses"]`))
	b.do(click(`//button[contains(., "Run")]`), visible(`tr[data-fate="sum"]`))
	require.Equal(t, 0, b.count(`tr[data-fate^="lost"]`))
	require.NotContains(t, b.text("main"), "A loop:")
	b.shoot("result-mended")

	b.do(chromedp.Navigate(b.url+"/w/main/runs"), visible(`a[href="/w/main/runs/2"]`))
	require.Equal(t, 2, b.count("tbody tr"))
	b.shoot("runs")
	b.clean()
	b.do(chromedp.Navigate(b.url+"/sign-in#a-link-that-was-used"), visible(`.bx--inline-notification--error`))
	require.Contains(t, b.text(".page"), "this link has been used")
	b.shoot("sign-in")
}

// TestTextIsCheckedAsItIsTyped breaks a model, sees the place, and saves one
// that is whole.
func TestTextIsCheckedAsItIsTyped(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	b.do(
		chromedp.Navigate(b.url+"/w/main/models/kittiwake"),
		visible(`[data-node="mail"]`),
		visible(".text .inner:not([hidden]) .cm-editor"),
	)
	b.types("broken: yes\n")
	b.do(visible(".broken"))
	require.Eventually(
		t,
		func() bool { return b.count(".cm-lint-marker") > 0 },
		patience,
		50*time.Millisecond,
		"the place is marked beside the text",
	)
	require.Contains(t, b.text(`section[aria-label="Findings"]`), "broken")
	require.NotZero(t, b.count(`[data-node]`), "the board stays as it was last whole")
	b.shoot("workbench-broken")
	b.clean()
}

// TestARemedyIsOnePress applies the remedy of the loop: its finding is gone, the
// text keeps its comments, and the change can be saved or taken back.
func TestARemedyIsOnePress(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	b.do(
		chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"),
		visible(`[data-code="IW101"] .remedy button`),
		visible(".text .inner:not([hidden]) .cm-editor"),
	)
	before := b.count(`li[data-code]`)
	b.still(`[data-code="IW101"] .remedy button`)
	b.do(click(`[data-code="IW101"] .remedy button`))
	require.Eventually(
		t,
		func() bool { return b.count(`[data-code="IW101"]`) == 0 },
		patience,
		50*time.Millisecond,
	)
	require.Equal(t, 0, b.count(`[data-state="loops"]`), "nothing circulates any more")
	require.Contains(t, b.text(".bar"), "changed")
	require.Contains(t, b.text(".cm-content"), "# Manifests: hauliers upload them")
	require.Contains(t, b.text(".bench"), "Applied: Let stamp-manifest write under derived/")
	b.shoot("workbench-remedy")
	undo := `(document.querySelector(".cm-content").dispatchEvent(new KeyboardEvent("keydown", {key: "z", code: "KeyZ", keyCode: 90, ctrlKey: true, bubbles: true})), true)`
	_, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](undo))
	require.NoError(t, err)
	require.Eventually(
		t,
		func() bool { return b.count(`[data-code="IW101"]`) == 1 && b.count(`li[data-code]`) == before },
		patience,
		50*time.Millisecond,
		"undo takes it back",
	)
	require.NotContains(t, b.text(".bar"), "changed")
	b.clean()
}

// TestAMessageIsTriedOnTheBoard sends one message: its path lights up, each
// decision is told; then the same with a node that fails.
func TestAMessageIsTriedOnTheBoard(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := open(t, r)
	b.do(
		chromedp.Navigate(b.url+"/w/main/models/kittiwake"),
		visible(`[data-node="axle-scale"]`),
		click(`//button[contains(., "Try a message")]`),
		visible(`section[aria-label="Try a message"]`),
	)
	b.choose("axle-scale")
	try := `section[aria-label="Try a message"]`
	require.Eventually(t, func() bool {
		return strings.Contains(b.text(try+" select"), "axle-scale") && b.value(try+" select") == "axle-scale"
	}, patience, 50*time.Millisecond)
	b.fill(try+" textarea", `{"lane": 2}`)
	b.do(click(try+` button[type="submit"]`), visible(`[data-outcome="failed"]`))
	require.Contains(t, b.text(try), "failed: unreadable")
	require.Contains(t, b.text(try), "parked in unread-weighings")
	require.Equal(t, 1, b.count(`[data-node="unread-weighings"][data-highlight="bad"]`))
	require.Equal(t, 1, b.count(`[data-node="mail"][data-highlight="dim"]`))
	b.shoot("workbench-try")
	b.fill(try+" textarea", `{"lane": 2, "kg": 18200}`)
	b.do(click(try+` button[type="submit"]`), visible(`[data-outcome="complete"]`))
	require.Equal(t, 0, b.count(`[data-highlight="bad"]`))
	b.fill(try+" textarea", `{"lane": `)
	b.do(click(try+` button[type="submit"]`), visible(try+" .wrong"))
	require.Contains(t, b.text(try+" .wrong"), "not JSON")
	b.clean()
}

// TestSavingKeepsBothEditors saves a revision, then meets one that somebody else
// has saved meanwhile: nothing is overwritten.
func TestSavingKeepsBothEditors(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	b := open(t, r)
	b.do(
		chromedp.Navigate(b.url+"/w/main/models/kittiwake"),
		visible(`[data-node="mail"]`),
		visible(".text .inner:not([hidden]) .cm-editor"),
	)
	b.types("# mine\n")
	b.press("Save")
	says := func(words string) func() bool {
		return func() bool { return strings.Contains(b.text("main"), words) }
	}
	require.Eventually(t, says("Saved as revision 2."), patience, 50*time.Millisecond)
	saved := r.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["text"].(string)
	require.True(t, strings.HasPrefix(saved, "# mine\nironweir: topology/1"), "the text is kept as it was written")

	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/revisions",
		map[string]string{"text": "# theirs\n" + saved},
		201,
		"If-Match",
		`"2"`,
	)
	b.types("# mine again\n")
	b.press("Save")
	b.says(".bx--modal.is-visible", "admin has saved revision 3 meanwhile")
	b.do(click(`.bx--modal.is-visible .bx--modal-close`)) // and goes on editing
	require.Contains(t, b.text(".cm-content"), "# mine again", "and what was typed is still there")
	require.True(
		t,
		strings.HasPrefix(
			r.do("GET", "/api/v1/workspaces/main/models/kittiwake", nil, 200)["text"].(string),
			"# theirs",
		),
	)
	b.mu.Lock()
	defer b.mu.Unlock()
	require.Empty(t, b.outside)
}

// TestDarkThemeIsKept switches the theme and finds it again after a reload.
func TestDarkThemeIsKept(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t)
	b := openModels(t, r)
	b.do(
		click(`//button[contains(., "Dark theme") or @aria-label="Dark theme"]`),
		visible(`html[theme="g100"] body`),
		chromedp.Navigate(b.url+"/w/main/models/kittiwake-draft"),
		visible(`[data-state="loops"]`),
	)
	require.Equal(t, 1, b.count(`html[theme="g100"]`))
	b.shoot("workbench-dark")
	b.clean()
}
