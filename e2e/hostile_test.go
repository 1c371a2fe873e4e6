package e2e

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/right"
	"redstart/internal/sim/skerry"
)

// nasty is text that would run in a page, and move or colour what stands around it.
const nasty = "\"'><img src=x onerror=\"window.taken=1\"><script>window.taken=1</script>{{window.taken=1}}\x1b]0;owned\x07\u202e\u0085end"

// Every page of the console, and every drawer, is opened while box, plan and people are called
// what would run there; the pages are those that the router has.
func TestNoPageRunsWhatSomebodyIsCalled(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 3, Seed: 4})
	ctx := patience(t)
	r.upToMatch()
	entries := r.entries()
	var tag string
	for tag = range entries {
		break
	}
	box := entries[tag].Device
	loose := address.MAC{0x02, 0x66, 0x66, 0, 0, 1}
	site, err := r.s.At(ctx, "skerry-point")
	if err != nil {
		t.Fatal(err)
	}
	for _, mac := range []address.MAC{box, loose} {
		f := &device.Found{MAC: mac}
		for part, protocol := range map[string]string{"": "lldp", nasty: "bacnet"} {
			f.Add(device.Sighting{MAC: mac, Part: part, Protocol: protocol, At: time.Now(), Facts: map[string]string{
				fact.Serial: nasty, fact.Name: nasty, fact.Title: nasty, fact.Description: nasty, fact.Vendor: nasty,
				fact.Model: nasty, fact.Firmware: nasty, fact.Banner: nasty, fact.Address: "10.40.8.200"}})
		}
		if err := site.Records.SaveDevices(ctx, nil, f); err != nil {
			t.Fatal(err)
		}
	}
	shown := strings.NewReplacer("\x1b", "", "\x07", "", "\u202e", "", "\u0085", "").Replace(nasty) // what the plan may hold
	edit := func(what string, set map[string]string) error {
		_, err := r.c.Edit(ctx, api.Edits{What: what, Patches: []plan.Patch{{Tag: tag, Set: set}}}, false)
		return err
	}
	if err := edit(shown, map[string]string{"place": shown, "floor": shown, "description": shown, "note": shown,
		"label": shown}); err != nil {
		t.Fatal(err)
	}
	_ = edit(nasty, map[string]string{"place": nasty}) // it may be refused
	if _, err := r.s.Accounts.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{nasty, strings.ReplaceAll(shown, "/", "")[:60]} {
		_ = r.s.Accounts.Add(ctx, api.Account{Name: name, Password: "berth-and-ramp-7", Rights: right.Look}) // so may these
		_, _ = r.s.Accounts.AddToken(ctx, api.Person{Name: account.Owner}, api.ForToken{Name: name})
	}
	router, err := os.ReadFile("../web/src/router.ts")
	if err != nil {
		t.Fatal(err)
	}
	b := r.signedIn(t, 1280, "/")
	look := func(what string) {
		t.Helper()
		const script = `JSON.stringify({taken: !!window.taken, images: document.querySelectorAll('img[src="x"]').length,
			signs: /[\u0000-\u0008\u000b-\u001f\u007f-\u009f\u202a-\u202e\u2066-\u2069]/.test(document.body.innerText + document.title)})`
		doc, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](script))
		if err != nil {
			t.Fatal(err)
		}
		var found struct {
			Taken, Signs bool
			Images       int
		}
		if err := json.Unmarshal([]byte(doc), &found); err != nil || found.Taken || found.Signs || found.Images > 0 {
			t.Errorf("%s: %s %v", what, doc, err)
		}
	}
	paths := regexp.MustCompile(`path: '(/[a-z]*)'`).FindAllStringSubmatch(string(router), -1)
	if len(paths) < 8 {
		t.Fatalf("only %d pages: %v", len(paths), paths)
	}
	// What each shows once it is loaded.
	loaded := map[string]string{"/": tag, "/devices": loose.String(), "/match": "Nothing is proposed", "/walk": "Every entry has its box",
		"/hands": "Nothing waits for a hand", "/plan": tag, "/addresses": "addresses are free", "/findings": "devices share the address",
		"/history": "onerror", "/handover": tag, "/settings": "Site"}
	for _, p := range paths {
		if loaded[p[1]] == "" {
			t.Errorf("say what the page %s shows once it is loaded", p[1])
		}
		b.do(chromedp.Navigate(r.url+p[1]), shows("%s", loaded[p[1]]))
		look(p[1])
	}
	b.do(chromedp.Navigate(r.url+"/devices"), openDevice(loose.String()), browser.Seen(browser.Mark("facts")))
	look("the drawer of a device")
	b.do(chromedp.Navigate(r.url+"/settings"), browser.Click(chromedp.Search(`//*[text()="People and tokens"]`)),
		shows("onerror"))
	look("people and tokens")
	b.do(chromedp.Navigate(r.url+"/"), shows("%s", tag), browser.Click(chromedp.Search(`//*[text()="`+tag+`"]`)),
		browser.Seen(chromedp.Search(`//*[contains(@class, "n-drawer")]//*[contains(., "onerror")]`)))
	look("the drawer of an entry")
}
