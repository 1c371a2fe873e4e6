package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/sim/skerry"
)

// mostElements is a goal of DESIGN.md 16; that of first rows, a second, is measured only.
const mostElements = 3000

// BenchmarkTenThousand opens every page of a site with 10,000 entries and 10,000 boxes: when the
// first rows are there, how many elements the page has, and the longest frame while its list is
// scrolled through.
func BenchmarkTenThousand(b *testing.B) {
	for range b.N {
		r := start(b, skerry.Options{Devices: 1})
		r.crowd(b, 10_000, func(do func() error) {
			if err := do(); err != nil {
				b.Fatal(err)
			}
		})
		token, err := r.s.Accounts.OnceToken(patience(b))
		if err != nil {
			b.Fatal(err)
		}
		page, stop, err := browser.Open(patience(b), 1280, 800)
		if err != nil {
			b.Fatal(err)
		}
		list := chromedp.CSS(".n-data-table-tbody tr")
		if err := chromedp.Do(page, chromedp.Navigate(r.url+"/#once="+token), browser.Seen(list)); err != nil {
			b.Fatal(err)
		}
		for _, p := range []struct {
			at   string
			rows chromedp.CSS
		}{{"/", list}, {"/devices", list}, {"/match", list}, {"/plan", `[role="gridcell"]`}, {"/addresses", "[data-test=overview] .mini, [data-test=block]"},
			{"/findings", list}, {"/history", list}, {"/hands", "[data-test=hands-count]"}, {"/handover", "[data-test=missing] tr"},
			{"/settings", "[data-test=site-save]"}} {
			// What the page before is still at is not this one's.
			if _, err := chromedp.Run(page, chromedp.Evaluate[bool](`new Promise(done => {
				let n = 0
				const idle = d => d.timeRemaining() > 40 && ++n > 10 ? done(true) : requestIdleCallback(idle)
				requestIdleCallback(idle) })`, chromedp.EvalAwaitPromise)); err != nil {
				b.Fatal(err)
			}
			began := time.Now()
			if err := chromedp.Do(page, chromedp.Navigate(r.url+p.at), browser.Seen(p.rows)); err != nil {
				b.Fatal(p.at, err)
			}
			first := time.Since(began)
			worst, err := chromedp.Run(page, chromedp.Evaluate[float64](`new Promise(done => {
				const all = [...document.querySelectorAll('main *')].filter(e => e.scrollHeight > e.clientHeight + 2000)
				const s = all.at(-1)
				let last = performance.now(), worst = 0, n = 0
				const step = () => {
					const now = performance.now()
					if (n > 5) worst = Math.max(worst, now - last)
					last = now
					if (s) s.scrollTop += 700
					if (++n < 60) requestAnimationFrame(step); else done(worst)
				}
				requestAnimationFrame(step) })`, chromedp.EvalAwaitPromise))
			if err != nil {
				b.Fatal(p.at, err)
			}
			elements, err := chromedp.Run(page, chromedp.Evaluate[int](`document.querySelectorAll('*').length`))
			if err != nil {
				b.Fatal(p.at, err)
			}
			b.Logf("%-11s first rows %5d ms, longest frame %4.0f ms, %5d elements", p.at, first.Milliseconds(), worst, elements)
			if elements > mostElements {
				b.Errorf("%s has %d elements", p.at, elements)
			}
			b.ReportMetric(float64(first.Milliseconds()), strings.TrimPrefix(p.at, "/")+"-first-ms")
		}
		stop()
		r.stop()
	}
}
