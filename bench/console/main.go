// Command console measures the console in headless Chromium as people meet it: from
// the press to a board, from an edit to what it changes, and how smoothly a large
// board pans.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"ironweir/bench/fleet"
	"ironweir/client"
)

func main() {
	program := flag.String("program", "bin/ironweir", "the program")
	dir := flag.String("dir", "", "a folder that the database's user can enter")
	only := flag.String("only", "", "what is measured has these words in its name")
	rounds := flag.Int("rounds", 5, "how often each is measured")
	flag.Parse()
	if err := measure(*program, *dir, *only, *rounds); err != nil {
		fmt.Fprintln(os.Stderr, "console:", err)
		os.Exit(1)
	}
}

// estate writes a model of n nodes, in systems of ten.
func estate(n int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "ironweir: topology/1\nname: estate-%d\nnodes:\n", n)
	for i := range n / 10 {
		next := ""
		if i+1 < n/10 && i%5 != 0 {
			next = fmt.Sprintf(", s%d-in: {}", i+1)
		}
		b.WriteString(
			strings.NewReplacer(
				"@",
				fmt.Sprintf("s%d", i),
				"NEXT",
				next,
			).Replace(
				`  @-in: {kind: bucket, keys: ["a/{seq}.csv"], links: {@-split: {dead-letter: @-desk}}}
  @-split: {kind: function, links: {@-q: {}, @-t: {}}}
  @-q: {kind: queue, links: {@-work: {retry: {tries: 4}, dead-letter: @-desk}}}
  @-work: {kind: function, links: {@-rows: {}NEXT}}
  @-rows: {kind: table}
  @-t: {kind: topic, links: {@-a: {dead-letter: @-desk}, @-b: {dead-letter: @-desk}}}
  @-a: {kind: function}
  @-b: {kind: queue, links: {@-out: {dead-letter: @-desk, retry: {tries: 3}}}}
  @-out: {kind: outside}
  @-desk: {kind: queue}
`,
			),
		)
	}
	return b.String()
}

func measure(program, dir, only string, rounds int) error {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Minute)
	defer cancel()
	f, err := fleet.Start(ctx, program, dir, 1, 0)
	if err != nil {
		return err
	}
	defer f.Stop()
	api := f.Client(0)
	for _, n := range []int{10, 60, 100, 200, 500} {
		if _, err := api.CreateModel(ctx, fmt.Sprintf("estate-%d", n), estate(n), ""); err != nil {
			return err
		}
	}
	p, err := openPage(ctx, api)
	if err != nil {
		return err
	}
	defer p.close()
	for _, m := range []struct {
		what, unit string
		once       func() (float64, error)
	}{
		{"from the press in the list of models to 60 nodes drawn", "ms", p.pressed},
		{"opened by its address, the program loaded anew, to 60 nodes drawn", "ms", p.addressed},
		{"10 nodes: an edit of the text to the board", "ms", p.edit(10, "board", "kind")},
		{"10 nodes: an edit of the text to the findings", "ms", p.edit(10, "findings", "kind")},
		{"10 nodes: a new node in the text to the board", "ms", p.edit(10, "board", "node")},
		{"100 nodes: an edit of the text to the board", "ms", p.edit(100, "board", "kind")},
		{"100 nodes: an edit of the text to the findings", "ms", p.edit(100, "findings", "kind")},
		{"100 nodes: a new node in the text to the board", "ms", p.edit(100, "board", "node")},
		{"60 nodes: a press on a node to its mark on the board", "ms", p.chosen},
		{"200 nodes: twenty letters typed, the middle one to the frame that shows it", "ms", p.typed("middle")},
		{"200 nodes: twenty letters typed, the slowest", "ms", p.typed("slowest")},
		{"200 nodes: twenty letters typed, the longest task", "ms", p.typed("task")},
		{"panning 500 nodes", "frames/s", p.pan("frames")},
		{"panning 500 nodes, the longest task", "ms", p.pan("task")},
	} {
		if !strings.Contains(m.what, only) {
			continue
		}
		got := make([]float64, rounds)
		for i := range got {
			if got[i], err = m.once(); err != nil {
				return fmt.Errorf("%s: %w", m.what, err)
			}
		}
		slices.Sort(got)
		fmt.Printf("%-70s %.0f to %.0f, median %.0f %s\n", m.what, got[0], got[rounds-1], got[rounds/2], m.unit)
	}
	return nil
}

type page struct {
	ctx   context.Context
	url   string
	close func()
}

func openPage(ctx context.Context, api *client.Client) (*page, error) {
	link, err := api.SignInLink(ctx, "admin")
	if err != nil {
		return nil, err
	}
	allocator, stop := chromedp.NewExecAllocator(
		ctx,
		append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.WindowSize(1280, 800))...)
	browser, end := chromedp.NewContext(allocator)
	p := &page{ctx: browser, url: api.URL, close: func() { end(); stop() }}
	if err := chromedp.Do(browser, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(link),
		chromedp.WaitVisible(chromedp.CSS("table a"))); err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}

// until is a promise of the time, in milliseconds, from an act until a condition of
// the page holds at the start of a frame; it fails after half a minute.
const until = `((act, holds) => new Promise((done, fail) => {
  const began = performance.now();
  act();
  const look = () => holds() ? done(performance.now() - began) : performance.now() - began > 30000 ? fail("it did not come to hold") : requestAnimationFrame(look);
  requestAnimationFrame(look);
}))`

// aFinding is a finding, or a group of them.
const aFinding = `section[aria-label="Findings"] .head, section[aria-label="Findings"] [data-code]`

const drawn = `(n => [...document.querySelectorAll(".svelte-flow__node-node")].filter(e => e.style.visibility !== "hidden").length === n)`

func (p *page) promise(script string) (float64, error) {
	return chromedp.Run(p.ctx, chromedp.Evaluate[float64](script, chromedp.EvalAwaitPromise))
}

// pressed is measured two seconds after the list has come, as after a look at it.
func (p *page) pressed() (float64, error) {
	if err := chromedp.Do(p.ctx, chromedp.Navigate(p.url+"/w/main"), chromedp.WaitVisible(chromedp.CSS("table a")), chromedp.Sleep(2*time.Second)); err != nil {
		return 0, err
	}
	return p.promise(
		until + `(() => [...document.querySelectorAll("table a")].find(a => a.textContent.trim() === "estate-60").click(), () => ` + drawn + `(60))`,
	)
}

func (p *page) addressed() (float64, error) {
	began := time.Now()
	if err := chromedp.Do(p.ctx, chromedp.Navigate(p.url+"/w/main/models/estate-60")); err != nil {
		return 0, err
	}
	_, err := p.promise(until + `(() => {}, () => ` + drawn + `(60))`)
	return float64(time.Since(began).Milliseconds()), err
}

// openBoard opens a model of n nodes and waits until it is drawn, and some time more.
func (p *page) openBoard(n int, more time.Duration) error {
	return chromedp.Do(
		p.ctx,
		chromedp.Navigate(fmt.Sprintf("%s/w/main/models/estate-%d", p.url, n)),
		chromedp.WaitVisible(chromedp.CSS(".svelte-flow__node-node")),
		chromedp.Sleep(more),
	)
}

// openText opens a model of n nodes, puts the cursor behind its text, and waits some
// time more.
func (p *page) openText(n int, more time.Duration) error {
	if err := p.openBoard(n, 0); err != nil {
		return err
	}
	return chromedp.Do(
		p.ctx,
		chromedp.WaitVisible(chromedp.CSS(".cm-content")),
		chromedp.WaitVisible(chromedp.CSS(aFinding)),
		chromedp.Focus(chromedp.CSS(".cm-content")),
		chromedp.KeyEvent(kb.End, chromedp.KeyModifiers(chromedp.ModifierCtrl)),
		chromedp.Sleep(more),
	)
}

// edit types at the end of the text: a new node, or a kind of it that makes another
// finding, and waits until the board or the findings show it.
func (p *page) edit(n int, where, what string) func() (float64, error) {
	return func() (float64, error) {
		// What an earlier round typed is not kept.
		if _, err := chromedp.Run(p.ctx, chromedp.Evaluate[bool](`(localStorage.clear(), true)`)); err != nil {
			return 0, err
		}
		if err := p.openText(n, time.Second); err != nil {
			return 0, err
		}
		add := `document.execCommand("insertText", false, "\n  extra: {kind: queue}");`
		onBoard := `() => document.querySelector('[data-node="extra"]')?.getAttribute("aria-label").startsWith("extra, KIND")`
		if what == "node" {
			return p.promise(until + `(() => {` + add + `}, ` + strings.Replace(onBoard, "KIND", "queue", 1) + `)`)
		}
		if _, err := p.promise(until + `(() => {` + add + `}, ` + strings.Replace(onBoard, "KIND", "queue", 1) + `)`); err != nil {
			return 0, err
		}
		if err := chromedp.Do(p.ctx, chromedp.Sleep(time.Second)); err != nil {
			return 0, err
		}
		change := `for (let i = 0; i < 6; i++) document.execCommand("delete"); document.execCommand("insertText", false, "function}");`
		shown := strings.Replace(onBoard, "KIND", "function", 1)
		if where == "findings" { // messages come that nobody reads
			change = `document.execCommand("delete"); document.execCommand("insertText", false, ", rate: 1/s}");`
			shown = `(() => { const had = TEXT; return () => TEXT !== had })()`
			shown = strings.ReplaceAll(
				shown,
				"TEXT",
				`document.querySelector('section[aria-label="Findings"]').textContent`,
			)
		}
		return p.promise(until + `(() => {` + change + `}, ` + shown + `)`)
	}
}

// tasks is a watch over the tasks that hold the page up: longest() gives how long the
// longest took, in milliseconds, 0 where none took 50.
const tasks = `(() => {
  let most = 0;
  const take = entries => { for (const e of entries) most = Math.max(most, e.duration) };
  const watch = new PerformanceObserver(l => take(l.getEntries()));
  watch.observe({type: "longtask"});
  return {longest: () => { take(watch.takeRecords()); watch.disconnect(); return most }};
})()`

// chosen presses a node and waits until it is marked.
func (p *page) chosen() (float64, error) {
	if err := p.openBoard(60, 2*time.Second); err != nil {
		return 0, err
	}
	return p.promise(until + `(() => document.querySelectorAll(".svelte-flow__node-node")[7].click(),
  () => document.querySelectorAll(".svelte-flow__node-node")[7].querySelector(".chosen") !== null)`)
}

// typed types twenty letters into a comment of a model of 200 nodes, ten a second.
func (p *page) typed(what string) func() (float64, error) {
	return func() (float64, error) {
		if err := p.openText(200, 2*time.Second); err != nil {
			return 0, err
		}
		return p.promise(`(async () => {
  document.execCommand("insertText", false, "\n# ");
  await new Promise(r => setTimeout(r, 1000));
  const watch = ` + tasks + `;
  const took = [];
  for (let i = 0; i < 20; i++) {
    const began = performance.now();
    document.execCommand("insertText", false, "abcdefghij"[i % 10]);
    await new Promise(r => requestAnimationFrame(() => setTimeout(r))); // the frame has been drawn
    took.push(performance.now() - began);
    await new Promise(r => setTimeout(r, 100));
  }
  const task = watch.longest();
  took.sort((a, b) => a - b);
  return {middle: took[10], slowest: took[19], task}.` + what + `;
})()`)
	}
}

// pan drags a board of 500 nodes, all in view, to and fro for three seconds, and counts the
// frames or finds the longest task.
func (p *page) pan(what string) func() (float64, error) {
	return func() (float64, error) {
		if err := p.openBoard(500, 3*time.Second); err != nil {
			return 0, err
		}
		return p.promise(strings.NewReplacer("TASKS", tasks, "WHAT", what).Replace(panned))
	}
}

const panned = `new Promise(done => {
  const watch = TASKS;
  const pane = document.querySelector(".svelte-flow__pane"), box = pane.getBoundingClientRect();
  const at = (type, x, y) => (type === "mousedown" ? pane : window).dispatchEvent(new MouseEvent(type, {clientX: box.x + box.width / 2 + x, clientY: box.y + box.height / 2 + y, button: 0, buttons: 1, bubbles: true, cancelable: true, view: window}));
  at("mousedown", 0, 0);
  const began = performance.now();
  let frames = 0;
  const step = now => {
    const t = now - began;
    if (t > 3000) { at("mouseup", 0, 0); done({frames: frames / t * 1000, task: watch.longest()}.WHAT); return }
    frames++;
    at("mousemove", 120 * Math.sin(t / 300), 60 * Math.sin(t / 200));
    requestAnimationFrame(step);
  };
  requestAnimationFrame(step);
})`
