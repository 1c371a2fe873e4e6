package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"rsc.io/qr"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/match"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// Matching as far as the command line goes: reasons one by one, labels, locks,
// undoing, and boxes taken into the plan.
func TestMatchingOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := whole(t)
	redstart := r.with(t)
	redstart(0, nil, "find")
	redstart(0, []string{"by port", "HALL-CORE-01/port7", "it has the planned name already; it has the planned address",
		"the plan gives this MAC", "in part",
		"Open: tolvern-d1: 8 entries but 7 devices; scan labels", "Without a box: ", "Without an entry: "}, "match")
	redstart(2, []string{"choose what to --accept"}, "match", "--by", "mac")
	redstart(2, []string{"there is no such reason"}, "match", "--accept", "--by", "luck")
	redstart(0, []string{"14 matched"}, "match", "--accept", "--by", "mac", "--by", "port")
	redstart(0, []string{"7 matched"}, "match", "--accept", "--part", "tolvern-d1")
	redstart(0, []string{"Matches undone: 7 ("}, "match", "undo", "--by", "order")
	redstart(2, []string{"give tags, or --by"}, "match", "undo")

	entries := r.entries()
	for _, o := range r.site.Others {
		if e := entries[o.Tag]; e.MatchedBy == match.ByPort && e.Device != o.MAC {
			t.Errorf("%s by its port is %s, but truly %s", o.Tag, e.Device, o.MAC)
		}
	}
	redstart(0, []string{"locked"}, "match", "lock", "BERTH1-ACC-01")
	redstart(1, []string{"its match is locked"}, "match", "undo", "BERTH1-SW-01", "BERTH1-ACC-01")
	if r.entries()["BERTH1-SW-01"].Device.IsZero() {
		t.Error("half of what was to be undone was undone")
	}
	redstart(2, []string{"there is no such reason"}, "match", "undo", "--by", "luck")
	redstart(0, []string{"Matches undone: 9 ("}, "match", "undo", "--by", "port")
	redstart(0, []string{"unlocked"}, "match", "unlock", "BERTH1-ACC-01")
	redstart(0, []string{"Matches undone: 1 (BERTH1-ACC-01)"}, "match", "undo", "BERTH1-ACC-01")

	// A scanner types the tag, then the label of the box.
	clock, door := r.other("HALL-CLK-02"), r.other("SHOP-DOOR-01")
	r.typed = "HALL-CLK-02\nS/N: " + clock.Serial + " Model: K3\nSHOP-DOOR-01\n" +
		strings.ToUpper(strings.ReplaceAll(door.MAC.String(), ":", "")) + "\n"
	redstart(0, []string{"HALL-CLK-02 is chosen", "HALL-CLK-02 is " + clock.MAC.String(),
		"SHOP-DOOR-01 is " + door.MAC.String()}, "match", "scan")
	r.typed = "SHOP-CLK-02\nSN:CK3-999999\nwhat is this\n" + clock.Serial + "\n"
	redstart(1, []string{"the plan names it now", "Not taken: no MAC, serial or tag can be read",
		"this box is HALL-CLK-02"}, "match", "scan")
	if e := r.entries()["SHOP-CLK-02"]; e.Serial != "CK3-999999" ||
		r.entries()["HALL-CLK-02"].MatchedBy != match.ByLabel {
		t.Errorf("%+v", e)
	}
	r.typed = door.MAC.String() + "\n"
	redstart(1, []string{"matched with SHOP-DOOR-01 already"}, "match", "scan", "HALL-DOOR-01")

	// Boxes that nobody planned.
	fs5 := r.site.Others[slices.IndexFunc(r.site.Others, func(o skerry.Other) bool { return o.Model.Name == "FS5" })]
	redstart(2, []string{"give MACs, or --all"}, "match", "adopt")
	redstart(0, []string{"HALL-SWITCH-01", "Nothing was changed"}, "match", "adopt", fs5.MAC.String(), "--area", "HALL",
		"--preview")
	redstart(0, []string{"1 entry added"}, "match", "adopt", fs5.MAC.String(), "--tag", "HALL-SW-09", "--area", "HALL")
	if e := r.entries()["HALL-SW-09"]; e.Device != fs5.MAC || e.State != state.Matched || !e.Address.IsValid() {
		t.Errorf("%+v", e)
	}
	redstart(1, []string{"is HALL-SW-09 already"}, "match", "adopt", fs5.MAC.String())
	redstart(1, []string{"no profile fits this box"}, "match", "adopt",
		r.site.Others[slices.IndexFunc(r.site.Others, func(o skerry.Other) bool {
			return o.Model.Name == "printer"
		})].MAC.String())

	// What was found becomes the as-found plan of a site that had none.
	redstart(0, nil, "site", "add", "--key", "as-found", "--name", "As found", "--subnet", "10.40.8.0/22", "--gateway",
		"10.40.8.1")
	other := func(args ...string) []string { return append([]string{"--site", "as-found"}, args...) }
	redstart(0, nil, other("find")...)
	redstart(0, []string{"entries added"}, other("match", "adopt", "--all")...)
	redstart(0, []string{"FOUND-TIME-SERVER-01", "HALL-CORE-01", "10.40.9.29", "FOUND-CAMERA-10"},
		other("plan", "list", "--output", "csv")...)
}

// The page for matching, with a scanner that types into a field that always has
// the focus.
func TestMatchingInTheConsole(t *testing.T) {
	t.Parallel()
	r := wholeBut(t, "fennmark-fs5")
	r.find()
	b := r.signedIn(t, 1280, "/match")
	focused := func() bool {
		in, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[bool](`document.activeElement.getAttribute('aria-label') === 'Label'`))
		if err != nil {
			t.Fatal(err)
		}
		return in
	}
	typed := func(text string) browser.Step { return chromedp.KeyEvent(text + "\r") }
	b.do(shows("Open:"), browser.Seen(browser.Mark("proposals")))
	if !focused() {
		t.Error("the scanner's field has no focus at first")
	}
	b.do(browser.Press("accept-port"), shows("Matched 10"))
	waitFor(t, focused)                                 // after a click, the next scan still goes there
	b.do(chromedp.Focus(browser.Mark("accept-serial"))) // as after walking there with the tab key
	clock := r.other("HALL-CLK-02")
	b.do(typed("HALL-CLK-02"), shows("HALL-CLK-02 is chosen"), typed("MAC:"+clock.MAC.String()),
		shows("HALL-CLK-02 is %s", clock.MAC), shows("Matched 11"))
	b.do(typed("two words"), shows("No MAC, serial or tag can be read"))
	b.do(browser.Press("accept-serial"), shows("Matched 17"), browser.Press("match-accept"))
	waitFor(t, func() bool { return r.entries()["HALL-REC-02"].MatchedBy == match.ByMAC })
	b.do(browser.Press("accept-order"))
	waitFor(t, func() bool { return !r.entries()["BERTH2-SW-01"].Device.IsZero() })
	if e := r.entries()["HALL-CLK-02"]; e.Device != clock.MAC || e.MatchedBy != match.ByLabel {
		t.Errorf("%+v", e)
	}
	b.do(browser.Click(chromedp.CSS(`[data-name="matched"]`)), browser.Seen(browser.Mark("matched")), shows("by order"))
	b.do(browser.Click(chromedp.Search(`(//*[@data-test="matched"]//tbody//button[contains(., "Lock")])[1]`)),
		shows("Unlock"))
	b.do(browser.Click(chromedp.Search(`(//*[@data-test="matched"]//tbody//tr[contains(., "BERTH2-SW-01")]//*[contains(@class, "n-checkbox")])[1]`)), browser.Press("match-undo"))
	waitFor(t, func() bool {
		return r.entries()["BERTH2-SW-01"].State == state.Planned
	})
	if !r.entries()["BERTH1-SW-01"].Locked {
		t.Error("the first match is not locked")
	}
	b.do(browser.Click(chromedp.CSS(`[data-name="missing"]`)), browser.Seen(browser.Mark("missing")))
	b.do(browser.Click(chromedp.CSS(`[data-name="spare"]`)), browser.Seen(browser.Mark("spare")), shows("fennmark-fs5"))
	b.do(browser.Click(chromedp.Search(`(//*[@data-test="spare"]//tr[contains(., "fennmark-fs5")]//*[contains(@class, "n-checkbox")])[1]`)),
		browser.Click(chromedp.Search(`//button[contains(., "Adopt 1 device")]`)), shows("FOUND-SWITCH-01"),
		browser.Answer("adopt-apply"))
	waitFor(t, func() bool { return !r.entries()["FOUND-SWITCH-01"].Device.IsZero() })
}

// On a phone the Match page takes proposals and labels as well.
func TestMatchingOnAPhone(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 2})
	r.plan(string(r.site.Plan()))
	r.find()
	p := r.signedIn(t, 390, "/match")
	tag := r.tagOf(t, "ovalis-c20")
	p.do(browser.Click(chromedp.Search(`(//*[@data-test="proposals"]//tr[contains(., "`+tag+
		`")]//*[contains(@class, "n-checkbox")])[1]`)), browser.Press("match-accept-chosen"), shows("Matched 1"))
	if e := r.entries()[tag]; e.Device.IsZero() || e.State != state.Matched {
		t.Errorf("%+v", e)
	}
	p.do(browser.Click(chromedp.CSS(`[data-name="matched"]`)),
		browser.Click(chromedp.Search(`//*[@data-test="matched"]//button[contains(., "Lock")]`)), shows("Unlock"))
	p.do(browser.Click(chromedp.CSS(`[data-name="proposed"]`)), browser.Press("match-accept"), shows("by order alone"),
		browser.Press("accept-order"), shows("Nothing is proposed"))
	for at, e := range r.entries() {
		if e.State == state.Planned && !e.NotWired {
			t.Errorf("%s is not matched", at)
		}
	}
	if wide, err := chromedp.Run(p.ctx,
		chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`)); err != nil || wide {
		t.Errorf("the page is wider than the phone: %v", err)
	}
}

// On foot with a phone: choose the entry, plug its box in, be sure, next.
func TestOnFootInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 2})
	r.plan(string(r.site.Plan()))
	field := r.site.Boxes[0]
	tag := "BERTH1-SW-01" // the plan names it by MAC; on foot nobody cares
	p := r.signedIn(t, 390, "/walk")
	p.do(shows("watching"), shows("6 entries without a box"), shows("Choose the entry in front of you"))
	waitFor(t, func() bool { return field.Starts() > 0 })
	p.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label"]`), tag+"\r"),
		shows("Plug the box in, or switch it off and on."))
	// Nobody comes: after a quarter of a minute by the phone's clock it says what to look at.
	p.do(browser.Script(`(now => { Date.now = () => now() + 20000 })(Date.now.bind(Date))`),
		browser.Seen(browser.Mark("walk-help")), shows("Do its lights burn?"),
		browser.Script(`(now => { Date.now = () => now() - 20000 })(Date.now.bind(Date))`))
	r.find() // it was heard before: only who comes anew is proposed
	field.SetFaults(box.Faults{NeverReturns: true})
	field.Restart()
	gone := func() bool {
		seg, err := r.c.Devices(patience(t))
		return err == nil && slices.ContainsFunc(seg.Devices, func(d api.DeviceView) bool {
			return d.MAC == field.MAC && !d.Here
		})
	}
	waitFor(t, gone)
	r.site.Plug(field)
	p.do(browser.Seen(browser.Mark("newcomer")), shows("%s", field.MAC), browser.Press("walk-blink"),
		shows("It blinks now"), browser.Press("walk-take"), browser.Seen(browser.Mark("walk-good")))
	if e := r.entries()[tag]; e.Device != field.MAC || e.MatchedBy != match.ByArrival {
		t.Errorf("%+v", e)
	}
	p.do(shows("5 entries without a box"), browser.Seen(browser.Mark("waiting")))
	// It was not this one; and a label finds what does not arrive.
	camera := r.site.Boxes[2]
	p.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label"]`), "HALL-CAM-01\r"), shows("HALL-CAM-01"))
	camera.SetFaults(box.Faults{NeverReturns: true})
	camera.Restart()
	waitFor(t, func() bool {
		seg, err := r.c.Devices(patience(t))
		return err == nil && slices.ContainsFunc(seg.Devices, func(d api.DeviceView) bool {
			return d.MAC == camera.MAC && !d.Here
		})
	})
	// The phone sleeps in the pocket meanwhile, and hears nothing.
	p.do(browser.Script(`dispatchEvent(new PageTransitionEvent('pagehide', { persisted: true }))`),
		shows("not connected"))
	r.site.Plug(camera)
	waitFor(t, func() bool {
		seg, err := r.c.Devices(patience(t))
		return err == nil && len(seg.Arrivals) > 0 && seg.Arrivals[0].Device.MAC == camera.MAC
	})
	p.do(browser.Script(`dispatchEvent(new PageTransitionEvent('pageshow', { persisted: true }))`))
	p.do(shows("%s", camera.MAC), browser.Press("walk-not"), browser.Seen(browser.Mark("waiting")))
	p.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label"]`), r.site.Boxes[3].MAC.String()+"\r"),
		shows("HALL-CAM-01 is %s", r.site.Boxes[3].MAC))
}

// The camera of a phone reads the QR code of a label.
func TestTheCameraReadsALabel(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 2})
	r.plan(string(r.site.Plan()))
	r.find()
	camera := r.site.Boxes[1]
	film := filepath.Join(t.TempDir(), "label.y4m")
	if err := os.WriteFile(film, y4m(t, "MAC:"+camera.MAC.String()+" S/N:"+camera.Serial), 0o600); err != nil {
		t.Fatal(err)
	}
	p := r.signedIn(t, 390, "/walk", chromedp.Flag("use-fake-ui-for-media-stream", true),
		chromedp.Flag("use-fake-device-for-media-stream", true), chromedp.Flag("use-file-for-fake-video-capture", film))
	p.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label"]`), r.tagOf(t, "ovalis-c20")+"\r"),
		browser.Seen(browser.Mark("waiting")), browser.Press("camera"), browser.Seen(browser.Mark("walk-good")))
	if e := r.entries()[r.tagOf(t, "ovalis-c20")]; e.Device != camera.MAC || e.MatchedBy != match.ByLabel {
		t.Errorf("%+v", e)
	}
}

// tagOf gives the first entry of a profile.
func (r *rig) tagOf(t *testing.T, profile string) string {
	list, err := r.c.Entries(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range list {
		if e.Profile == profile {
			return e.Tag
		}
	}
	t.Fatalf("no entry is a %s", profile)
	return ""
}

// y4m films a QR code: one frame of 640 by 480, over and over.
func y4m(t *testing.T, text string) []byte {
	t.Helper()
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		t.Fatal(err)
	}
	const width, height, dot = 640, 480, 8
	luma := make([]byte, width*height)
	for i := range luma {
		luma[i] = 235
	}
	left, top := (width-code.Size*dot)/2, (height-code.Size*dot)/2
	for y := range code.Size * dot {
		for x := range code.Size * dot {
			if code.Black(x/dot, y/dot) {
				luma[(top+y)*width+left+x] = 16
			}
		}
	}
	out := []byte(fmt.Sprintf("YUV4MPEG2 W%d H%d F10:1 Ip A1:1 C420jpeg\n", width, height))
	for range 5 {
		out = append(append(out, "FRAME\n"...), luma...)
		for range width * height / 2 {
			out = append(out, 128)
		}
	}
	return out
}

// What hangs behind a router is planned behind its entry, and matched with what the router
// tells once that is matched itself; no box is looked for, and no run takes it.
func TestPartsBehindABox(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Whole: true, Seed: 54})
	r.find()
	router := ""
	found, err := r.c.Devices(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range found.Devices {
		if len(d.ValuesOf("2001/11", "model")) > 0 {
			router = d.MAC.String()
		}
	}
	r.plan("tag,profile,address,mac,behind,part\nRTR,tidewell-r2,10.40.9.60," + router +
		",,\nRDR-1,brindlecap-d2,,,RTR,2001/11\nRDR-2,brindlecap-d2,,,RTR,2001/99\n")
	redstart := r.with(t)
	if e := r.entries()["RDR-1"]; e.State != state.Planned || e.Address.IsValid() {
		t.Errorf("behind a box that is not matched: %+v", e)
	}
	redstart(0, []string{"1 matched"}, "match", "--accept")
	entries := r.entries()
	if e := entries["RDR-1"]; e.State != state.Matched || e.HangsAs != "2001/11" ||
		e.MatchedWhy != "RTR tells of 2001/11" || !e.Device.IsZero() {
		t.Errorf("%+v", e)
	}
	if e := entries["RDR-2"]; e.State != state.Planned || e.HangsAs != "" {
		t.Errorf("%+v", e)
	}
	redstart(0, []string{"2001/11", "RDR-1"}, "find", "--known", "--only", "R2")
	redstart(1, []string{"it is verified through RTR"}, "commission", "RDR-1")
	redstart(0, []string{"RDR-1", "matched"}, "plan", "list")
}
