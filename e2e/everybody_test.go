package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/service"
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
	if _, err := r.c.Accept(patience(t), service.Acceptance{All: true}); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	for _, width := range []int{1280, 390} {
		b := r.signedIn(t, width, "/")
		b.do(browser.Script("(() => {" + string(axe) + "})()"))
		for _, theme := range []string{"light", "dark"} {
			for _, page := range []string{"/", "/devices", "/match", "/walk", "/plan", "/addresses", "/findings", "/history", "/settings"} {
				b.do(browser.Script(fmt.Sprintf(`localStorage.setItem('redstart-theme', '%s')`, theme)), chromedp.Navigate(r.url+page),
					chromedp.WaitVisible(chromedp.Search(`//*[@data-test="live" and contains(., "live")]`)), chromedp.WaitVisible(chromedp.CSS("main *")), browser.Script("(() => {"+string(axe)+"})()"))
				b.seems(fmt.Sprintf("%s, %s, %d wide", page, theme, width))
			}
		}
	}
	b := r.signedIn(t, 1280, "/")
	tag := r.entryOf(r.site.Boxes[0]).Tag
	b.do(browser.Script("(() => {"+string(axe)+"})()"), browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="`+tag+`"]`)), chromedp.WaitVisible(browser.Mark("checks")))
	b.seems("an entry")
}

// seems has axe-core look at the page as it is.
func (b *tab) seems(what string) {
	b.t.Helper()
	ctx, cancel := context.WithCancel(b.ctx)
	defer cancel()
	unhook := context.AfterFunc(patience(b.t), cancel)
	defer unhook()
	doc, err := chromedp.Run(ctx, chromedp.Evaluate[string](`axe.run(document, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'] }).then(r => JSON.stringify(r.violations))`, chromedp.EvalAwaitPromise))
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
			where = append(where, fmt.Sprintf("%v %s %s", n.Target, n.HTML[:min(160, len(n.HTML))], strings.ReplaceAll(n.Summary, "\n", " ")))
		}
		b.t.Errorf("%s: %s, in %d places: %s\n  %s", what, v.ID, len(v.Nodes), v.Help, strings.Join(where, "\n  "))
	}
}
