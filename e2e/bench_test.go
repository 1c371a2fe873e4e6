package e2e

import (
	"context"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/state"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
)

// factoryToVerified does the whole job for n cameras that share one factory
// address, through the API, and gives how long it took from the first probe to
// the last check.
func factoryToVerified(b *testing.B, n int) (whole, commission time.Duration) {
	b.Helper()
	r := start(b, skerry.Options{Devices: n, Only: "C20", Seed: 20, Pace: 1})
	r.plan(string(r.site.Plan()))
	began := time.Now()
	r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Find(ctx, api.FindOptions{Pace: survey.Normal})
	})
	found := time.Since(began)
	if _, err := r.c.Accept(patience(b), api.Acceptance{Reasons: match.Reasons}); err != nil {
		b.Fatal(err)
	}
	set := time.Now()
	follow(b, r.c, func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	}, nil)
	commission = time.Since(set)
	r.verify()
	whole = time.Since(began)
	b.Logf("%4d: found after %.2f s, set in %.2f s, verified in %.2f s", n, found.Seconds(), commission.Seconds(),
		(whole - found - commission).Seconds())
	for tag, e := range r.entries() {
		if e.State != state.Verified {
			b.Fatalf("%s is %s: %s", tag, e.State, e.Reason)
		}
	}
	r.stop() // the next is measured alone
	r.site.Close()
	return whole, commission
}

// BenchmarkSharedAddress compares many cameras that share one factory address
// with one camera, within one run, restarts included.
func BenchmarkSharedAddress(b *testing.B) {
	for range b.N {
		one, oneSet := factoryToVerified(b, 1)
		b.Logf("%4d camera:  %6.2f s, of which the run %6.2f s", 1, one.Seconds(), oneSet.Seconds())
		for _, n := range []int{10, 100, 500} {
			many, set := factoryToVerified(b, n)
			b.Logf("%4d cameras: %6.2f s, of which the run %6.2f s; %.2f and %.2f times one", n, many.Seconds(),
				set.Seconds(), many.Seconds()/one.Seconds(), set.Seconds()/oneSet.Seconds())
			b.ReportMetric(many.Seconds()/one.Seconds(), fmt.Sprintf("x%d/one", n))
			b.ReportMetric(set.Seconds()/oneSet.Seconds(), fmt.Sprintf("run-x%d/one", n))
		}
	}
}

// BenchmarkLargePlan compares a plan of 5,000 entries with one of 500: import,
// whole check and list over the API; scrolling, filtering and editing in the
// console's sheet.
func BenchmarkLargePlan(b *testing.B) {
	for range b.N {
		small, large := planOf(b, 500), planOf(b, 5000)
		for _, what := range []string{"import", "check", "list", "open", "scroll", "filter", "edit", "after"} {
			b.Logf("%-7s %8.1f ms with 500 entries, %8.1f ms with 5,000", what, small[what], large[what])
			b.ReportMetric(large[what], what+"-ms")
			b.ReportMetric(large[what]/small[what], what+"-x5000/500")
		}
	}
}

// planOf measures a plan of n entries; results are in milliseconds.
func planOf(b *testing.B, n int) map[string]float64 {
	b.Helper()
	r := start(b, skerry.Options{Devices: 1})
	ctx := patience(b)
	site := skerry.Data()
	site.Subnets[0].Prefix = netip.MustParsePrefix("10.40.0.0/16")
	site.Subnets[0].Ranges = nil
	if err := r.c.SetSite(ctx, site); err != nil {
		b.Fatal(err)
	}
	var csv strings.Builder
	csv.WriteString("tag,profile,place,room,rings-at,shows,after\nMON-1,tolvern-m7,Desk,1,,,\n")
	for i := range n - 1 {
		if i%2 == 0 {
			fmt.Fprintf(&csv, "CAM-%04d,ovalis-c20,Pier,,,,\n", i)
		} else {
			fmt.Fprintf(&csv, "DOOR-%04d,tolvern-d1,Pier,%d,MON-1,CAM-%04d,MON-1\n", i, i+10, i-1)
		}
	}
	took := map[string]float64{}
	measure := func(what string, do func() error) {
		began := time.Now()
		if err := do(); err != nil {
			b.Fatal(err)
		}
		took[what] = float64(time.Since(began).Microseconds()) / 1000
	}
	measure("import", func() error {
		_, err := r.c.Import(ctx, []byte(csv.String()), api.ImportOptions{})
		return err
	})
	measure("check", func() error {
		findings, err := r.c.Findings(ctx)
		for _, f := range findings {
			if f.Level == plan.Stops {
				return fmt.Errorf("%+v", f)
			}
		}
		return err
	})
	measure("list", func() error {
		list, err := r.c.Entries(ctx)
		if len(list) != n {
			return fmt.Errorf("%d entries: %v", len(list), err)
		}
		return err
	})
	r.console(b, took)
	return took
}

// console measures the sheet in a browser: the longest frame while scrolling
// through it, and from a key to the page that shows what it did.
func (r *rig) console(b *testing.B, took map[string]float64) {
	b.Helper()
	token, err := r.s.Accounts.OnceToken(patience(b))
	if err != nil {
		b.Fatal(err)
	}
	page, stop, err := browser.Open(patience(b), 1280, 800)
	if err != nil {
		b.Fatal(err)
	}
	defer stop()
	began := time.Now()
	if err := chromedp.Do(page, chromedp.Navigate(r.url+"/plan#once="+token),
		browser.Seen(chromedp.CSS(`[data-cell="MON-1/tag"]`))); err != nil {
		b.Fatal(err)
	}
	took["open"] = float64(time.Since(began).Milliseconds())
	for what, script := range map[string]string{
		"scroll": `new Promise(done => { const s = document.querySelector('[data-test="sheet"]'); let last = performance.now(), worst = 0, n = 0
			const step = () => { const now = performance.now(); worst = Math.max(worst, now - last); last = now; s.scrollTop += 700; if (++n < 60) requestAnimationFrame(step); else done(worst) }
			requestAnimationFrame(step) })`,
		"filter": `new Promise(done => { const i = document.querySelector('input[aria-label="Search the plan"]'); const t = performance.now(); i.value = 'CAM-0004'; i.dispatchEvent(new Event('input', { bubbles: true }))
			const look = () => document.querySelectorAll('[data-cell$="/tag"]').length < 6 && document.querySelector('[data-cell="CAM-0004/tag"]') ? done(performance.now() - t) : requestAnimationFrame(look); look() })`,
	} {
		ms, err := chromedp.Run(page, chromedp.Evaluate[float64](script, chromedp.EvalAwaitPromise))
		if err != nil {
			b.Fatal(what, err)
		}
		took[what] = ms
		if what == "filter" {
			if err := chromedp.Do(page,
				browser.Script(`(() => { const i = document.querySelector('input[aria-label="Search the plan"]'); i.value = ''; i.dispatchEvent(new Event('input', { bubbles: true })) })()`)); err != nil {
				b.Fatal(err)
			}
		}
	}
	sheet := browser.Mark("sheet")
	if err := chromedp.Do(page, chromedp.Focus(sheet), chromedp.KeyEvent(kb.Home,
		chromedp.KeyModifiers(chromedp.ModifierCtrl)), chromedp.KeyEvent(kb.ArrowRight+kb.ArrowRight)); err != nil {
		b.Fatal(err)
	}
	if err := chromedp.Do(page,
		browser.Script(`window.edited = new Promise(done => { const t = performance.now(); addEventListener('keydown', e => { if (e.key === 'Enter') window.began = performance.now() }, true)
		const look = () => document.querySelector('[data-cell="MON-1/area"]')?.textContent.trim() === 'PIER' ? done(performance.now() - window.began) : requestAnimationFrame(look); look() })`),
		chromedp.KeyEvent("PIER"+kb.Enter)); err != nil {
		b.Fatal(err)
	}
	if took["edit"], err = chromedp.Run(page, chromedp.Evaluate[float64](`window.edited`,
		chromedp.EvalAwaitPromise)); err != nil {
		b.Fatal(err)
	}
	// The page takes in what the service made of the edit: the longest frame until then.
	took["after"], err = chromedp.Run(page,
		chromedp.Evaluate[float64](`new Promise(done => { let last = performance.now(), worst = 0; const end = last + 2500
		const step = () => { const now = performance.now(); worst = Math.max(worst, now - last); last = now; now < end ? requestAnimationFrame(step) : done(worst) }
		requestAnimationFrame(step) })`, chromedp.EvalAwaitPromise))
	if err != nil {
		b.Fatal(err)
	}
}
