package service_test

import (
	"context"
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Rules of axe-core, as it is asked for them.
const (
	allRules    = `{runOnly: ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa"]}`
	colourRules = `{runOnly: {type: "rule", values: ["color-contrast", "link-in-text-block"]}}` // all that a theme changes
)

// axe asks axe-core what of the page somebody with a screen reader, or without a
// mouse, or with weak eyes cannot use, in either theme.
func (b *browser) axe(page string) {
	b.Helper()
	b.axeBy(page, allRules, "html")
	turn := `(h => {
		h.setAttribute("theme", h.getAttribute("theme") === "g100" ? "white" : "g100");
		document.getAnimations().filter(a => a instanceof CSSTransition).forEach(a => a.finish()); // colours pass over slowly
	})(document.documentElement)`
	b.do(chromedp.Evaluate[chromedp.Void](turn))
	b.axeBy(page+" in the other theme", colourRules, "html")
	b.do(chromedp.Evaluate[chromedp.Void](turn))
}

// axeBy asks by some rules, of what a selector finds on the page.
func (b *browser) axeBy(page, rules, within string) {
	b.Helper()
	source, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	require.NoError(b, err)
	time.Sleep(300 * time.Millisecond)
	b.do(chromedp.Evaluate[chromedp.Void](string(source)))
	require.NotZero(b, b.count(within), "%s: nothing is %s", page, within)
	found, err := chromedp.Run(
		b.ctx,
		chromedp.Evaluate[string](
			`axe.run(`+strconv.Quote(within)+`, `+rules+`).then(r => JSON.stringify(r.violations.map(v => ({rule: v.id, help: v.help, where: v.nodes.slice(0, 4).map(n => n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "").slice(0, 160))}))))`,
			chromedp.EvalAwaitPromise,
		),
	)
	require.NoError(b, err)
	var violations []any
	require.NoError(b, json.Unmarshal([]byte(found), &violations))
	if len(violations) > 0 {
		text, _ := json.MarshalIndent(violations, "", " ")
		b.Errorf("%s: %s", page, text)
	}
	b.styled(page)
}

// carbonSelectors are the selectors of Carbon's style sheet that name a class, without states such as :hover.
var carbonSelectors = sync.OnceValues(func() (string, error) {
	css, err := os.ReadFile("../console/node_modules/carbon-components-svelte/css/all.css")
	var selectors []string
	for _, rule := range regexp.MustCompile(`[^{};]+\{`).FindAllString(string(css), -1) {
		rule = states.ReplaceAllString(strings.TrimSuffix(rule, "{"), "")
		for one := range strings.SplitSeq(rule, ",") {
			if strings.Contains(one, ".bx--") {
				selectors = append(selectors, strings.TrimSpace(one))
			}
		}
	}
	slices.Sort(selectors)
	text, _ := json.Marshal(slices.Compact(selectors))
	return string(text), err
})

var states = regexp.MustCompile(`::?[\w-]+(\((?:[^()]|\([^()]*\))*\))?`)

// styled sees that the build left out no style of what is on the page: it keeps the rules of whose classes it finds
// all in the sources.
func (b *browser) styled(page string) {
	b.Helper()
	carbon, err := carbonSelectors()
	require.NoError(b, err)
	missing := look[[]string](b, `(() => {
		const classes = (selector) => (selector.match(/\.bx--[\w-]+/g) ?? []).sort().join("");
		const of = (sheet) => { try { return sheet.cssRules ?? [] } catch { return [] } }; // one that could not be loaded
		const rules = (sheet) => [...of(sheet)].flatMap(r => [...(r.selectorText ? [r.selectorText] : []), ...rules(r)]);
		const states = new RegExp(`+strconv.Quote(states.String())+`, "g");
		const loaded = new Set([...document.styleSheets].flatMap(rules)
			.flatMap(s => [s, s.replace(states, "")]).flatMap(s => s.split(",")).map(classes));
		const known = (selector) => { try { return document.querySelector(selector) } catch { return null } };
		return `+carbon+`.filter(s => !loaded.has(classes(s)) && known(s));
	})()`)
	require.Empty(b, missing, "%s: selectors of which the rules were left out", page)
}

// TestEveryPageCanBeUsedByAll: axe-core finds nothing on any page, light or dark.
func TestEveryPageCanBeUsedByAll(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake-draft/runs",
		map[string]any{"scenario": "friday-evening"},
		202,
	)
	r.do("POST", "/api/v1/workspaces/main/models/kittiwake/runs", map[string]any{"scenario": "friday-evening"}, 202)
	r.do(
		"PUT",
		"/api/v1/workspaces/main/models/kittiwake/variants/more-clearing",
		map[string]string{"text": "nodes: {clear-consignment: {concurrency: 20}}"},
		204,
	)
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{"scenario": "quiet-tuesday", "replications": 3, "variants": []string{"more-clearing"}},
		202,
	)
	r.do(
		"POST",
		"/api/v1/workspaces/main/models/kittiwake/runs",
		map[string]any{
			"scenario": "quiet-tuesday",
			"sweep":    []any{map[string]any{"path": "nodes.consignments.lease", "values": []string{"60s", "90s"}}},
		},
		202,
	)
	r.untilState("/api/v1/workspaces/main/runs/4", "done")
	b := open(t, r)
	for _, theme := range []string{"light", "dark"} {
		rules := allRules
		if theme == "dark" {
			rules = colourRules
		}
		for _, page := range []struct{ path, shows string }{
			{"/w/main", "table a"}, {"/w/main/models/kittiwake-draft", `[data-code="IW101"]`}, {"/w/main/runs", "table a"}, {"/w/main/runs/1", `tr[data-fate="sum"]`},
			{"/w/main/runs/3", "table td"}, {"/w/main/runs/4", "table td"}, {"/w/main/compare/1,2", ".moved li"},
			{"/settings", "h1"}, {"/nowhere", "h1"},
		} {
			b.do(chromedp.Navigate(b.url+page.path), visible(page.shows))
			b.axeBy(theme+" "+page.path, rules, "html")
			if page.path == "/w/main/runs/1" {
				b.do(visible(`.replay [data-node="mail"]`))
				require.True(t, b.eval(`(r => (r.scrollIntoView(), true))(document.querySelector(".replay"))`))
				b.press("Play")
				time.Sleep(2 * time.Second)
				b.press("Pause")
			}
			b.shoot(theme + strings.NewReplacer("/", "-", ",", "-").Replace(page.path))
		}
		b.do(chromedp.Navigate(b.url+"/w/main/models/kittiwake"), visible(`[data-node="mail"]`))
		b.axeBy(theme+" workbench", rules, "html")
		for _, panel := range []struct{ words, part string }{
			{"Try a message", ".found"}, {"Guarantees", ".found"}, {"Availability", ".found"}, {"Schedules", ".found"},
			{"History", ".found"}, {"Inspector", ".text"}, {"Scenario", ".text"},
		} {
			b.press(panel.words)
			b.axeBy(theme+" workbench, "+panel.words, rules, panel.part)
		}
		b.press("Inspector")
		b.choose("mail")
		b.axeBy(theme+" workbench, a node", rules, ".text")
		b.press("Schedules")
		b.do(visible(`[data-schedule="tide-times"], [data-schedule]`))
		b.shoot(theme + "-schedules")
		if theme == "light" {
			b.do(
				click(`//button[contains(., "Dark theme") or @aria-label="Dark theme"]`),
				visible(`html[theme="g100"] body`),
			)
		}
	}
	b.do(chromedp.Navigate(b.url+"/settings"), visible("[role=tab]"))
	for _, tab := range []string{"Share links", "Workspaces", "People", "Workers", "Limits", "Audit trail", "You"} {
		b.tab(tab)
		b.axe("settings, " + tab)
	}
	b.press("Sign out everywhere")
	b.do(visible(".bx--modal.is-visible"))
	b.axe("sign out everywhere")
	b.do(chromedp.Navigate(b.url + "/s/no-such-link"))
	b.says("main", "This link opens nothing")
	b.axe("a share link that opens nothing")
	b.do(chromedp.Navigate(b.url+"/sign-in#no-such-link"), visible(".bx--inline-notification--error"))
	b.axe("not signed in")
	b.clean()
}

// TestTheFirstViewIsLight: who is not signed in loads the page to sign in, and nothing of what lies behind it.
func TestTheFirstViewIsLight(t *testing.T) {
	needConsole(t)
	t.Parallel()
	b := fresh(t, start(t))
	b.do(chromedp.Navigate(b.url+"/"), visible(`input[autocomplete="username"]`))
	b.eventually("the fonts are there", func() bool { return b.eval(`document.fonts.status === "loaded"`) })
	b.mu.Lock()
	received := b.received
	b.mu.Unlock()
	require.Less(t, received, int64(120_000), "bytes of pages, scripts, styles and fonts, packed as they are sent")
	t.Logf("received: %d bytes", received)
	b.axe("sign in")
}

// TestAViewerOnlyLooks: what they may not do is not offered.
func TestAViewerOnlyLooks(t *testing.T) {
	needConsole(t)
	t.Parallel()
	r := start(t).signIn()
	r.do("POST", "/api/v1/users", map[string]any{"name": "skerry"}, 201)
	r.do("PUT", "/api/v1/workspaces/main/members/skerry", map[string]string{"role": "viewer"}, 204)
	b := open(t, r)
	secret, err := r.store.SignInLink(context.Background(), "skerry", time.Hour)
	require.NoError(t, err)
	b.do(
		chromedp.Navigate(b.url+"/sign-in#"+secret),
		visible("table a"),
		chromedp.Navigate(b.url+"/w/main/models/kittiwake"),
		visible(`[data-node="mail"]`),
	)
	b.press("Inspector")
	b.choose("mail")
	b.says(`section[aria-label="Inspector"]`, "mail")
	require.Zero(t, b.count(`section[aria-label="Inspector"] input:not([disabled])`))
	require.NotContains(t, b.text(".bar"), "Save")
	require.NotContains(t, b.text(".bar"), "Run")
	b.do(chromedp.Navigate(b.url+"/settings"), visible("h1"))
	require.NotContains(t, b.text(".page"), "Audit trail")
	b.clean()
}
