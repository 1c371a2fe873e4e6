package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/sim/skerry"
)

// violation is what axe-core finds wrong with a page.
type violation struct {
	ID    string `json:"id"`
	Help  string `json:"help"`
	Nodes []struct {
		Target  []any  `json:"target"`
		HTML    string `json:"html"`
		Summary string `json:"failureSummary"`
	} `json:"nodes"`
}

// Every page, light and dark, at a desk and on a phone, holds to WCAG 2.1, levels A
// and AA, as far as a program can tell.
func TestThePagesAreForEverybody(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../web/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatal(err) // make test installs it
	}
	r := start(t, skerry.Options{Devices: 8, Whole: true, Seed: 41})
	r.plan(string(r.site.WholePlan()))
	r.find()
	if _, err := r.c.Accept(patience(t), api.Acceptance{All: true}); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	for _, width := range []int{1280, 390} {
		b := r.signedIn(t, width, "/")
		b.do(browser.Script("(() => {" + string(axe) + "})()"))
		for _, page := range []string{"/", "/devices", "/match", "/walk", "/plan", "/addresses", "/findings",
			"/history", "/settings"} {
			b.do(turnedTo(page), browser.Seen(chromedp.CSS("main *")))
			b.seems(fmt.Sprintf("%s, %d wide", page, width), `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']`)
			if width < 1280 {
				continue
			}
			// In the dark only the colours are others, and those at any width.
			b.do(dark("dark"), browser.Seen(chromedp.CSS("html.dark")))
			b.seems(fmt.Sprintf("%s, dark, %d wide", page, width),
				`{ type: 'rule', values: ['color-contrast', 'link-in-text-block'] }`)
			b.do(dark("light"), browser.Gone(chromedp.CSS("html.dark")))
		}
	}
	b := r.signedIn(t, 1280, "/")
	tag := r.entryOf(r.site.Boxes[0]).Tag
	b.do(browser.Script("(() => {"+string(axe)+"})()"),
		browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="`+tag+`"]`)),
		browser.Seen(browser.Mark("checks")))
	b.seems("an entry", `['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']`)
}

// turnedTo has the console turn to one of its pages, and waits until it has.
func turnedTo(page string) browser.Step {
	script := fmt.Sprintf(`document.querySelector('#app').__vue_app__.config.globalProperties.$router.push(%q)
		.then(() => new Promise(requestAnimationFrame)).then(() => true)`, page)
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := chromedp.Evaluate[bool](script, chromedp.EvalAwaitPromise)(ctx, t)
		return chromedp.Void{}, err
	}
}

// dark changes what the computer prefers; the console follows.
func dark(scheme string) browser.Step {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, t, emulation.SetEmulatedMedia,
			emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme",
				Value: scheme}}})
		return chromedp.Void{}, err
	}
}

// alike leaves two rows of each kind of every list: a hundred of one kind tell
// nothing more, and take long to look at.
const alike = `(() => {
	const seen = {}
	for (const row of document.querySelectorAll('tbody tr, [role=rowgroup] [role=row]')) {
		const kind = [...row.querySelectorAll('*')].map(e => e.tagName + e.className).join()
		seen[kind] = (seen[kind] ?? 0) + 1
		if (seen[kind] > 2) row.style.display = 'none'
	}
})()`

// seems has axe-core look at the page as it is, by the rules asked for.
func (b *tab) seems(what, rules string) {
	b.t.Helper()
	ctx, cancel := context.WithCancel(b.ctx)
	defer cancel()
	unhook := context.AfterFunc(patience(b.t), cancel)
	defer unhook()
	b.do(browser.Script(alike))
	doc, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(document, { runOnly: `+rules+
		` }).then(r => JSON.stringify(r.violations))`, chromedp.EvalAwaitPromise))
	if err != nil {
		b.t.Fatalf("%s: %v", what, err)
	}
	var found []violation
	if err := json.Unmarshal([]byte(doc), &found); err != nil {
		b.t.Fatal(err)
	}
	for _, v := range found {
		var where []string
		for _, n := range v.Nodes[:min(3, len(v.Nodes))] {
			where = append(where, fmt.Sprintf("%v %s %s", n.Target, n.HTML[:min(160, len(n.HTML))],
				strings.ReplaceAll(n.Summary, "\n", " ")))
		}
		b.t.Errorf("%s: %s, in %d places: %s\n  %s", what, v.ID, len(v.Nodes), v.Help, strings.Join(where, "\n  "))
	}
}

// Tabs are turned with the arrows, and what has the keyboard says what it is.
func TestTabsAndChoicesGoByKeyboard(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2})
	r.plan(string(r.site.Plan()))
	b := r.signedIn(t, 1280, "/settings")
	tab := func(name string) chromedp.Search {
		return chromedp.Search(fmt.Sprintf(`//*[@role="tablist"]//*[@role="tab" and @aria-selected="true" and contains(., %q)]`, name))
	}
	b.do(browser.Seen(tab("Site")), chromedp.SendKeys(tab("Site"), kb.ArrowRight), browser.Seen(tab("Subnets")),
		browser.Seen(chromedp.CSS(`[data-test="subnet-0"]`)), chromedp.SendKeys(tab("Subnets"), kb.ArrowLeft),
		browser.Seen(tab("Site")))
	entries, err := r.c.Entries(patience(t))
	if err != nil || len(entries) == 0 {
		t.Fatal(len(entries), err)
	}
	tag := entries[0].Tag
	choice := func(open bool) chromedp.CSS {
		return chromedp.CSS(fmt.Sprintf(`[role="combobox"][aria-label="Any state"][aria-expanded="%v"]`, open))
	}
	b.do(turnedTo("/"), browser.Seen(chromedp.CSS(`[role="checkbox"][aria-label="Select `+tag+`"]`)),
		browser.Seen(choice(false)), chromedp.SendKeys(choice(false), kb.Enter), browser.Seen(choice(true)))
}
