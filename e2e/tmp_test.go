package e2e

import (
	"os"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/sim/skerry"
)

func TestTmpPictures(t *testing.T) {
	r := start(t, skerry.Options{Seed: 1, Pace: 0.1, Whole: true})
	r.plan(string(r.site.WholePlan()))
	shot := func(b *tab, name string) {
		img, err := chromedp.Run(b.ctx, chromedp.CaptureScreenshot())
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile("/tmp/pic-"+name+".png", img, 0o600)
	}
	b := r.signedIn(t, 1280, "/devices")
	b.do(browser.Press("find-options"), chromedp.WaitVisible(browser.Mark("interfaces")))
	shot(b, "find-dialog")
	b.do(browser.Answer("find-begin"), browser.Ended("Finding"))
	shot(b, "found")
	b.do(chromedp.Click(chromedp.Search(`//button[contains(@class,"mono") and starts-with(text(), "02:54:52:a4")]`)), chromedp.WaitVisible(browser.Mark("facts")))
	shot(b, "device")
	b.do(chromedp.Navigate(r.url+"/match"), shows("Proposed"), chromedp.WaitVisible(browser.Mark("proposals")))
	shot(b, "match")
	p := r.signedIn(t, 390, "/walk")
	p.do(shows("Choose the entry in front"))
	shot(p, "walk")
}
