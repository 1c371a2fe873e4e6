package e2e

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// visible counts the rows of a table.
func (b *tab) rows(mark string) int {
	b.t.Helper()
	n, err := chromedp.Run(b.ctx,
		chromedp.Evaluate[int](fmt.Sprintf(`document.querySelectorAll('[data-test="%s"] tbody tr').length`, mark)))
	if err != nil {
		b.t.Fatal(err)
	}
	return n
}

// device opens the details of a box in the list.
func openDevice(mac string) browser.Step {
	return chromedp.Steps(browser.Click(chromedp.Search(fmt.Sprintf(`//button[contains(@class,"mono") and text()="%s"]`,
		mac))), browser.Seen(browser.Mark("facts")))
}

// The list of what was found: live, searched, grouped, its columns chosen, with
// details, a box's own page, the surveys, files, and addresses over DHCP.
func TestFoundInTheConsole(t *testing.T) {
	t.Parallel()
	r := whole(t)
	b := r.signedIn(t, 1280, "/devices")
	search := chromedp.CSS(`input[aria-label="Search devices"]`)
	b.do(shows("Nothing was found yet"), browser.Press("find-options"), browser.Seen(browser.Mark("interfaces")),
		shows("Own addresses"))
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Ranges"]`), "172.23.7.0/28"),
		browser.Click(browser.Mark("find-capture")), browser.Answer("find-begin"), browser.Ended("Finding"),
		shows("%d devices", len(r.site.All())), shows("passes agree that these are all"))
	b.do(chromedp.SendKeys(search, "tidewell-r2"), shows("2 of %d shown", len(r.site.All())), shows("reader-5"))
	if n := b.rows("found"); n != 7 {
		t.Errorf("%d rows, want two routers and the five behind one", n)
	}
	router := r.other("HALL-RTR-01")
	b.do(openDevice(router.MAC.String()), shows("As from the factory: its title says so."), shows("Behind it: 2001/11"),
		shows("BDR-000411"))

	// The box's own page, in this very browser, at an address that another has too.
	opened, err := r.c.OpenPage(patience(t), router.MAC)
	if err != nil {
		t.Fatal(err)
	}
	page := openTab(t, 1280, 800)
	page.do(chromedp.Navigate(opened.URL),
		browser.Seen(chromedp.Search(`//h1[contains(., "Tidewell R2: registration")]`)))
	again := openTab(t, 1280, 800)
	again.do(chromedp.Navigate(opened.URL),
		browser.Seen(chromedp.Search(`//p[contains(., "This link was used already")]`)))
	// Where no new tab may be opened, the page comes in this one.
	b.do(browser.Script(`window.open = () => null`), browser.Press("device-page"),
		browser.Seen(chromedp.Search(`//h1[contains(., "Tidewell R2: registration")]`)))
	b.do(chromedp.Navigate(r.url + "/devices"))
	b.do(browser.Press("surveys"), shows("Since the one before"), browser.Seen(browser.Mark("packets")),
		browser.Click(chromedp.CSS(".n-modal .n-base-close")), browser.Gone(chromedp.CSS(".n-modal-mask")))

	// A person decides what no sign does.
	laptop := r.site.Others[slices.IndexFunc(r.site.Others, func(o skerry.Other) bool {
		return o.Model.Name == "laptop"
	})]
	b.do(chromedp.Navigate(r.url+"/devices"), chromedp.SendKeys(search, "marta"), openDevice(laptop.MAC.String()),
		shows("unknown"), browser.Click(browser.Mark("device-profile")),
		chromedp.KeyEvent("clepsydra-t1\r"), shows("by a person"))
	b.do(chromedp.Navigate(r.url+"/devices"), browser.Press("found-group"),
		browser.Click(chromedp.Search(`//div[contains(@class,"n-base-select-option") and contains(., "By kind")]`)),
		shows("access point (4)"))
	b.do(browser.Press("found-columns"),
		browser.Click(chromedp.Search(`//div[contains(@class,"n-dropdown-option") and contains(., "Firmware")]`)),
		browser.Seen(chromedp.Search(`//*[@data-test="found"]//th[contains(., "Firmware")]`)))

	// The watch switch, and somebody who leaves and comes back.
	b.do(browser.Press("watch"))
	waitFor(t, func() bool {
		seg, err := r.c.Devices(patience(t))
		return err == nil && seg.Watched
	})

	// Addresses over DHCP: only for who has an entry, and not beside a stranger.
	b.do(browser.Press("hand-out"), shows("none: match it first"),
		browser.Click(chromedp.Search(`//button[contains(., "Cancel")]`)), browser.Gone(chromedp.CSS(".n-modal-mask")))
	if _, err := r.c.Accept(patience(t), api.Acceptance{Reasons: []string{"port"}}); err != nil {
		t.Fatal(err)
	}
	b.do(browser.Press("hand-out"), shows("10.40.9.200"), browser.Answer("hand-out-begin"),
		shows("another DHCP server answers"))
	b.do(browser.Seen(browser.Mark("hand-out")),
		browser.Script(`document.querySelector('[data-test="hand-out"]').click()`),
		chromedp.SendKeys(chromedp.CSS(`[data-test="beside"] input`), "192.168.88.1"), browser.Answer("hand-out-begin"),
		shows("8 of 8 have their address"))
	if got := r.other("HALL-ACC-01").Running().Address.Addr(); got != r.entries()["HALL-ACC-01"].Address {
		t.Errorf("HALL-ACC-01 got %s", got)
	}

	// What a person should know of the segment is among the findings.
	b.do(chromedp.Navigate(r.url+"/findings"), browser.Seen(browser.Mark("findings")), shows("dhcp server factory"))
}

// What is selected in the list is taken into the plan, exported and forgotten, and
// nothing is deleted before it was said what.
func TestSelectedBoxesInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 1})
	r.find()
	b := r.signedIn(t, 1280, "/devices")
	camera, other := r.site.Boxes[1], r.site.Boxes[3]
	check := func(mac fmt.Stringer) browser.Step {
		return browser.Click(chromedp.Search(fmt.Sprintf(`//tr[.//button[text()="%s"]]//*[contains(@class, "n-checkbox")]`, mac)))
	}
	b.do(check(camera.MAC), shows("1 device selected"), browser.Press("adopt"), shows("FOUND-CAMERA-01"),
		browser.Answer("adopt-apply"), shows("6 devices"))
	if e := r.entries()["FOUND-CAMERA-01"]; e.Device != camera.MAC || e.Profile != "ovalis-c20" {
		t.Errorf("%+v", e)
	}
	// It is an entry now, and cannot be forgotten with the rest.
	b.do(check(camera.MAC), check(other.MAC), shows("2 devices selected"),
		browser.Seen(chromedp.Search(`//button[@data-test="forget" and contains(., "Forget 1")]`)),
		browser.Press("forget"),
		shows("Forget 1 device?"), browser.Click(chromedp.Search(`//button[contains(., "Keep")]`)),
		browser.Gone(chromedp.CSS(".n-modal-mask")))
	if d, err := r.c.Device(patience(t), other.MAC); err != nil || d.MAC != other.MAC {
		t.Errorf("kept, and yet %v", err)
	}
	b.do(browser.Press("forget"), browser.Seen(chromedp.Search(`//*[contains(@class, "n-dialog") and contains(., "`+
		other.MAC.String()+`")]`)), browser.Answer("forget-sure"), shows("5 devices"))
	if _, err := r.c.Device(patience(t), other.MAC); err == nil {
		t.Error("it was not forgotten")
	}
	// A browser that may not save a file shows its address.
	for _, format := range []string{"CSV", "XLSX", "JSON"} {
		b.do(browser.Script(`window.fetched = new Promise(done => navigation.addEventListener('navigate', e => { e.preventDefault(); done(e.destination.url) }, { once: true }))`),
			browser.Press("found-export"),
			browser.Click(chromedp.Search(`//*[contains(@class, "n-dropdown-option") and contains(., "As `+format+
				`")]`)))
		url, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](`window.fetched`, chromedp.EvalAwaitPromise))
		if want := "/found?format=" + strings.ToLower(format); err != nil || !strings.HasSuffix(url, want) {
			t.Errorf("%s: %q %v", format, url, err)
		}
		if n, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[int](fmt.Sprintf(`fetch(%q).then(r => r.blob()).then(b => b.size)`, url),
				chromedp.EvalAwaitPromise)); err != nil || n < 500 {
			t.Errorf("%s: %d bytes, %v", format, n, err)
		}
	}
	b.do(browser.Press("found-group"),
		browser.Click(chromedp.Search(`//div[contains(@class,"n-base-select-option") and contains(., "By profile")]`)),
		shows("ovalis-c20 (3)"))
}

// Browsers open few connections to one host; pages that were left keep none of
// them, so that the next still gets what it asks for.
func TestPageAfterPageInOneBrowser(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Seed: 1})
	b := r.signedIn(t, 1280, "/")
	for range 3 {
		for page, text := range map[string]string{"/devices": "Nothing was found yet", "/history": "site made",
			"/match": "Find first"} {
			b.do(chromedp.Navigate(r.url+page), shows("%s", text))
		}
	}
}

// On a phone the list is short, the details fill the screen, and a box blinks.
func TestFoundOnAPhone(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 1})
	r.find()
	p := r.signedIn(t, 390, "/devices")
	field := r.site.Boxes[0]
	p.do(openDevice(field.MAC.String()), shows("no address"),
		browser.Click(chromedp.Search(`//div[contains(@class,"n-drawer")]//button[contains(., "Blink")]`)))
	if wide, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`)); err != nil || wide {
		t.Errorf("the page is wider than the phone: %v", err)
	}
}

// Records of found devices: put together from several tellers, surveys kept with
// what changed, and old records brought up to date.
func TestFoundIsKeptOverARestart(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 1})
	if seg, err := r.c.Devices(patience(t)); err != nil || seg.Surveyed || len(seg.Devices) != 0 {
		t.Errorf("before: %+v, %v", seg, err)
	}
	r.find()
	before, err := r.c.Devices(patience(t))
	if err != nil || !before.Surveyed {
		t.Fatal(before.Surveyed, err)
	}
	if err := r.c.Choose(patience(t), r.site.Boxes[1].MAC, "ovalis-r16"); err != nil {
		t.Fatal(err)
	}
	r.find()
	after, err := r.c.Devices(patience(t))
	if err != nil || len(after.Devices) != len(before.Devices) {
		t.Fatalf("%d devices, then %d, %v", len(before.Devices), len(after.Devices), err)
	}
	for i, d := range after.Devices {
		if want := before.Devices[i]; d.First != want.First || !d.Last.After(want.Last) ||
			len(d.Facts) < len(want.Facts) || !d.Here {
			t.Errorf("%+v, before %+v", d.Found, want.Found)
		}
		if chosen := d.MAC == r.site.Boxes[1].MAC; chosen != d.Chosen || chosen && d.Profile != "ovalis-r16" {
			t.Errorf("%s is a %s, chosen: %v", d.MAC, d.Profile, d.Chosen)
		}
	}
	list, err := r.c.Surveys(patience(t))
	if err != nil || len(list) != 2 || list[0].State != state.Done || list[0].Found != 4 || len(list[0].Changes) != 0 ||
		list[0].Who == "" || list[0].Believed != 4 {
		t.Errorf("%+v, %v", list, err)
	}
	if _, err := r.c.Capture(patience(t), list[0].ID); err == nil || !strings.Contains(err.Error(), "kept no packets") {
		t.Errorf("%v", err)
	}
	if entries, err := os.ReadDir(filepath.Join(r.dir, "captures")); err == nil && len(entries) > 0 {
		t.Errorf("packets nobody asked for: %v", entries)
	}

	// A box is moved, and reset: what is true again is what counts.
	camera := r.site.Boxes[3]
	present := func() netip.Addr {
		d, err := r.c.Device(patience(t), camera.MAC)
		if err != nil {
			t.Fatal(err)
		}
		return d.Now
	}
	factory := present()
	for i, at := range []netip.Addr{netip.MustParseAddr("10.40.8.99"), factory} {
		camera.Store(func(s *box.Settings) { s.Address = netip.PrefixFrom(at, 22) })
		camera.Restart()
		waitFor(t, func() bool { return camera.Starts() == i+2 })
		r.find()
		if got := present(); got != at {
			t.Errorf("it is at %s, but %s is said", at, got)
		}
	}
	if err := r.c.Watch(patience(t), true); err != nil {
		t.Fatal(err)
	}
	was, err := r.c.Devices(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	r.stop()
	r.serve(r.site.Attach())
	is, err := r.c.Devices(patience(t))
	if err != nil || !is.Watched || len(is.Devices) != len(was.Devices) {
		t.Fatalf("%d devices, watched: %v, %v", len(is.Devices), is.Watched, err)
	}
	for i, d := range is.Devices {
		if want := was.Devices[i]; d.MAC != want.MAC || d.Profile != want.Profile || d.Chosen != want.Chosen ||
			d.First != want.First || len(d.Facts) < len(want.Facts) {
			t.Errorf("%+v, before %+v", d.Found, want.Found)
		}
	}
	// A watch that was ended stays ended.
	if err := r.c.Watch(patience(t), false); err != nil {
		t.Fatal(err)
	}
	r.stop()
	r.serve(r.site.Attach())
	if is, err = r.c.Devices(patience(t)); err != nil || is.Watched {
		t.Errorf("watched: %v, %v", is.Watched, err)
	}
}
