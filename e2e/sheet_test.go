package e2e

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/profile"
	"redstart/internal/core/right"
	"redstart/internal/sim/skerry"
)

// signedIn opens the console of a rig on a page.
func (r *rig) signedIn(t *testing.T, width int, page string, more ...chromedp.ExecAllocatorOption) *tab {
	t.Helper()
	token, err := r.s.Accounts.OnceToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, width, 800, more...)
	b.do(chromedp.Navigate(r.url+page+"#once="+token),
		browser.Seen(chromedp.Search(`//*[@data-test="live" and contains(., "live")]`)))
	return b
}

// cell waits until a cell of the sheet holds a text.
func cell(tag, field, text string) browser.Step {
	return browser.Seen(chromedp.Search(fmt.Sprintf(`//*[@data-cell="%s/%s" and normalize-space(.)="%s" and not(contains(@class, "waiting"))]`, tag, field, text)))
}

func key(keys ...string) browser.Step { return chromedp.KeyEvent(strings.Join(keys, "")) }

// press presses a key together with Ctrl.
func control(k string) browser.Step {
	return chromedp.KeyEvent(k, chromedp.KeyModifiers(chromedp.ModifierCtrl))
}

// paste hands a text to the sheet as a clipboard does.
func paste(text string) browser.Step {
	return browser.Script(fmt.Sprintf(`(() => { const d = new DataTransfer(); d.setData('text/plain', %q); document.querySelector('[data-test="sheet"]').dispatchEvent(new ClipboardEvent('paste', { clipboardData: d, bubbles: true, cancelable: true })) })()`, text))
}

// The plan is written with the keyboard alone: a new entry, a profile that
// brings address and name, a block from a spreadsheet, filling down, undoing.
func TestThePlanIsWrittenWithTheKeyboard(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	b := r.signedIn(t, 1280, "/plan")
	sheet := browser.Mark("sheet")
	b.do(browser.Seen(sheet), chromedp.Focus(sheet))
	// Typing in the last row makes an entry; Tab goes to the next column.
	b.do(key("HALL-CAM-01", kb.Tab), cell("HALL-CAM-01", "tag", "HALL-CAM-01"))
	b.do(key("ovalis-c20", kb.Enter), cell("HALL-CAM-01", "profile", "ovalis-c20"),
		cell("HALL-CAM-01", "address", "10.40.8.20"), cell("HALL-CAM-01", "name", "hall-cam-01"))
	// While somebody types, the checks look on; what cannot be understood is refused and nothing changes.
	b.do(control(kb.Home), key(kb.ArrowRight, kb.ArrowRight, kb.ArrowRight, kb.ArrowRight, kb.ArrowRight),
		key("10.40.8.1"), shows("10.40.8.1 is the gateway's"), shows("1022 usable"),
		key("99.9", kb.Enter), shows("is not an IPv4 address"), cell("HALL-CAM-01", "address", "10.40.8.20"))
	// A block from a spreadsheet: two more entries.
	b.do(control(kb.Home), key(kb.ArrowDown), paste("HALL-CAM-02\tovalis-c20\tHALL\nHALL-CAM-03\tovalis-c20\tHALL\n"),
		cell("HALL-CAM-02", "area", "HALL"), cell("HALL-CAM-03", "name", "hall-cam-03"))
	// One value goes down a column, an address counts on.
	b.do(control(kb.Home), key(kb.ArrowRight, kb.ArrowRight), key("BERTH1", kb.Enter),
		cell("HALL-CAM-01", "area", "BERTH1"), key(kb.ArrowUp),
		chromedp.KeyEvent(kb.ArrowDown+kb.ArrowDown, chromedp.KeyModifiers(chromedp.ModifierShift)), control("d"),
		cell("HALL-CAM-03", "area", "BERTH1"))
	b.do(control(kb.Home), key(kb.ArrowRight, kb.ArrowRight, kb.ArrowRight, kb.ArrowRight, kb.ArrowRight),
		key("10.40.8.50", kb.Enter), cell("HALL-CAM-01", "address", "10.40.8.50"), key(kb.ArrowUp),
		chromedp.KeyEvent(kb.ArrowDown+kb.ArrowDown, chromedp.KeyModifiers(chromedp.ModifierShift)), control("d"),
		cell("HALL-CAM-03", "address", "10.40.8.52"))
	// Undone step by step.
	b.do(control("z"), cell("HALL-CAM-03", "address", "10.40.8.22"), control("z"),
		cell("HALL-CAM-01", "address", "10.40.8.20"), control("z"), cell("HALL-CAM-03", "area", "HALL"))
	e := r.entries()
	if len(e) != 3 || e["HALL-CAM-02"].Address.String() != "10.40.8.21" || e["HALL-CAM-01"].Area != "BERTH1" {
		t.Errorf("%+v", e)
	}
	// Space opens the entry as a form; a finding is shown in it.
	b.do(control(kb.Home), key(" "), browser.Seen(browser.Mark("entry-form")),
		chromedp.SendKeys(chromedp.CSS(`[data-test="field-name"] input`), kb.End+"?"),
		shows("the device does not take '?' in a name"),
		key(kb.Escape), browser.Gone(chromedp.CSS(".n-drawer-mask")))
	// Copying gives what a spreadsheet takes.
	b.do(chromedp.Focus(sheet), control("a"))
	copied, err := chromedp.Run(b.ctx,
		chromedp.Evaluate[string](`(() => { const d = new DataTransfer(); document.querySelector('[data-test="sheet"]').dispatchEvent(new ClipboardEvent('copy', { clipboardData: d, bubbles: true })); return d.getData('text/plain') })()`))
	if err != nil || !strings.HasPrefix(copied, "HALL-CAM-01\tovalis-c20\tBERTH1") ||
		len(strings.Split(copied, "\n")) != 3 {
		t.Errorf("copied %q, %v", copied, err)
	}
	// Clearing a whole selection, and taking entries out.
	b.do(browser.Press("plan-undo"), cell("HALL-CAM-01", "area", ""))
}

func TestARevisionIsImportedInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 1})
	r.plan(string(r.site.Plan()))
	file := r.write("rev-c.csv",
		"Ref;Model;Location;Colour\nHALL-CAM-01;ovalis-c20;Ticket hall;red\nNEW-CAM-01;ovalis-c20;Pier;blue\n")
	b := r.signedIn(t, 1280, "/plan")
	b.do(browser.Press("plan-import"), chromedp.SetUploadFiles(browser.Mark("plan-file"), []string{file}),
		browser.Seen(browser.Mark("mapping")))
	// Nothing is called “Ref” in this trade's lists that it knows: a person says what it is.
	choose := func(column, field string) browser.Step {
		return chromedp.Steps(browser.Click(chromedp.CSS(fmt.Sprintf(`[data-column="%s"] .n-base-selection`, column))),
			key(field), key(kb.Enter))
	}
	b.do(choose("Ref", "Tag"),
		browser.Seen(chromedp.Search(`//*[@data-test="import-counts" and contains(., "1 added")]`)))
	has(t, "the preview", b.text(), "NEW-CAM-01", "Pier", "left out")
	b.do(browser.Answer("import-apply"), cell("NEW-CAM-01", "place", "Pier"))
	if e := r.entries(); len(e) < 4 || e["NEW-CAM-01"].Address.String() == "" {
		t.Errorf("%+v", e)
	}
	// The history tells of it; the moment before is restored.
	b.do(browser.Press("nav-history"), shows("imported from a CSV file: 1 added"),
		browser.Click(chromedp.Search(`(//*[@data-test="restore" and not(@disabled)])[1]`)),
		shows("The plan becomes what it was"), browser.Answer("restore-apply"), shows("restored as of revision"))
	if e := r.entries(); e["NEW-CAM-01"].Tag != "" {
		t.Error("the restored plan has the new entry")
	}
}

func TestFindingsAndAddressesInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile,name,address\nCAM-1,ovalis-c20,Not A Name,10.40.8.30\nCAM-2,ovalis-c20,cam-2,10.40.8.7\nCAM-3,ovalis-c20,cam-3,10.40.8.30\n")
	b := r.signedIn(t, 1280, "/findings")
	b.do(shows("the device does not take 'N' in a name"), shows("is kept free: for the terminal's servers"),
		browser.Press("mend-all"), shows("cam-1"), browser.Answer("mend-apply"),
		browser.Gone(chromedp.Search(`//*[contains(text(), "does not take")]`)))
	if got := r.entries()["CAM-1"].Name; got != "cam-1" {
		t.Errorf("the name is %q", got)
	}
	// One that a person decides.
	b.do(browser.Click(chromedp.Search(`//button[contains(., "address = 10.40.8.20")]`)),
		browser.Gone(chromedp.Search(`//*[contains(text(), "is kept free")]`)))
	b.do(browser.Press("nav-addresses"), browser.Seen(browser.Mark("block")),
		browser.Seen(chromedp.CSS(`.block [title^="10.40.8.30: CAM-1 and CAM-3"].conflict`)),
		browser.Click(browser.Mark("view-list")), shows("CAM-1 and CAM-3"),
		shows("kept free for the terminal's servers"))
}

func TestThePlanOnAPhone(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile,place\nCAM-1,ovalis-c20,Hall\n")
	b := r.signedIn(t, 390, "/plan")
	b.do(browser.Seen(browser.Mark("cards")), browser.Click(chromedp.Search(`//strong[text()="CAM-1"]`)),
		browser.Seen(browser.Mark("entry-form")),
		chromedp.Focus(chromedp.CSS(`[data-test="field-place"] input`)), control("a"), key("Pier head"),
		browser.Press("entry-save"), shows("Pier head"))
	wide, err := chromedp.Run(b.ctx, chromedp.Evaluate[bool](`document.documentElement.scrollWidth > innerWidth`))
	if err != nil || wide {
		t.Errorf("the page is wider than the phone: %t, %v", wide, err)
	}
	if got := r.entries()["CAM-1"].Place; got != "Pier head" {
		t.Errorf("the place is %q", got)
	}
}

// A new service has no site: the settings make one, and its subnets.
func TestASiteIsMadeInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	if err := r.c.RemoveSite(patience(t)); err != nil {
		t.Fatal(err)
	}
	b := r.signedIn(t, 1280, "/settings")
	name := chromedp.CSS("#site-name")
	b.do(browser.Seen(name), chromedp.SendKeys(name, "Harbour Office"), browser.Press("site-save"),
		shows("harbour-office"))
	b.do(browser.Click(chromedp.CSS(`[data-name="subnets"]`)), browser.Press("subnet-add"),
		chromedp.SendKeys(chromedp.CSS(`[data-test="subnet-0"] input[aria-label="Prefix"]`), "10.60.0.0/24"),
		shows("254 usable"), browser.Press("subnet-save"), shows("Saved"))
	b.do(browser.Click(chromedp.CSS(`[data-name="vault"]`)), shows("the key file vault.key"),
		browser.Press("vault-lock"), browser.Seen(browser.Mark("locked")),
		browser.Click(chromedp.Search(`//button[contains(., "Unlock")]`)), browser.Gone(browser.Mark("locked")))
	b.do(browser.Click(chromedp.CSS(`[data-name="people"]`)), chromedp.SendKeys(chromedp.CSS("#user-name"), "ada"),
		chromedp.SendKeys(chromedp.CSS("#user-password"), "four words nobody says"), browser.Press("user-add"),
		shows("ada"))
	b.do(chromedp.SendKeys(chromedp.CSS("#token-name"), "laptop"),
		browser.Click(chromedp.Search(`//button[contains(., "Make a token")]`)), browser.Seen(browser.Mark("token")))
	sites, err := r.c.Sites(patience(t))
	if err != nil || len(sites) != 1 || sites[0].Subnets[0].Prefix.String() != "10.60.0.0/24" {
		t.Errorf("%+v, %v", sites, err)
	}
}

// A licence is stored in the settings and chosen in an entry's form.
func TestALicenceInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile\nVOX-1,tolvern-v2\n")
	b := r.signedIn(t, 1280, "/settings")
	b.do(chromedp.WaitReady(browser.Mark("file-add")), chromedp.SetUploadFiles(browser.Mark("file-add"),
		[]string{r.write("vox.lic", "licence")}), shows("not used"))
	b.do(browser.Press("nav-plan"), browser.Seen(browser.Mark("sheet")), chromedp.Focus(browser.Mark("sheet")),
		key(" "), browser.Seen(browser.Mark("entry-form")),
		browser.Click(chromedp.CSS(`[data-test="field-licence"]`)), key("vox", kb.Enter), browser.Press("entry-save"),
		browser.Gone(chromedp.CSS(".n-drawer-mask")), cell("VOX-1", "licence", "vox.lic"))
	b.do(browser.Press("settings"), browser.Seen(chromedp.Search(`//*[@data-test="files"]//td[contains(., "VOX-1")]`)))
	if got := r.entries()["VOX-1"].Get("licence"); got != "vox.lic" {
		t.Errorf("the licence is %q", got)
	}
}

// Who may only look sees the plan and no way to change it.
func TestTheConsoleOfSomebodyWhoMayOnlyLook(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile\nCAM-1,ovalis-c20\n")
	if err := r.s.Accounts.Add(patience(t), api.Account{Name: "lou", Password: "a long password",
		Rights: right.Look}); err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 1280, 800)
	name, password := chromedp.CSS(`input[autocomplete="username"]`), chromedp.CSS("#password")
	b.do(chromedp.Navigate(r.url+"/plan"), browser.Seen(name), chromedp.Focus(name), control("a"), key("lou"),
		chromedp.SendKeys(password, "a long password\r"), cell("CAM-1", "tag", "CAM-1"))
	b.do(browser.Gone(browser.Mark("plan-add")), browser.Gone(browser.Mark("plan-import")),
		chromedp.Focus(browser.Mark("sheet")), key(kb.ArrowRight, kb.ArrowRight, "HALL", kb.Enter, kb.Delete),
		control("d"))
	b.do(chromedp.Navigate(r.url), browser.Seen(browser.Mark("tag")))
	for _, stage := range []string{"plan", "find", "match", "commission"} {
		disabled, err := chromedp.Run(b.ctx,
			chromedp.Evaluate[bool](fmt.Sprintf(`document.querySelector('[data-test="stage-%s"]').disabled`, stage)))
		if err != nil || !disabled {
			t.Errorf("%s can be pressed (%v)", stage, err)
		}
	}
	if e := r.entries()["CAM-1"]; e.Area != "" {
		t.Errorf("somebody who may only look changed %+v", e)
	}
}

// Entries from quantities and addresses for a selection, each previewed first.
func TestQuantitiesAndAddressesInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	b := r.signedIn(t, 1280, "/plan")
	b.do(browser.Press("plan-generate"), browser.Click(chromedp.CSS(`[data-test="quantity-profile"]`)),
		key("C20", kb.Enter), shows("CAM-01"))
	has(t, "the preview", b.text(), "10.40.8.20", "10.40.8.23", "Add 4 entries")
	if len(r.entries()) != 0 {
		t.Error("a preview added entries")
	}
	b.do(browser.Answer("quantity-add"), cell("CAM-04", "address", "10.40.8.23"))
	b.do(chromedp.Focus(browser.Mark("sheet")), control("a"),
		browser.Click(chromedp.Search(`//button[normalize-space(.)="Addresses"]`)), shows("Addresses for 4 entries"),
		browser.Click(chromedp.Search(`//label[contains(., "spread out")]`)), shows("10.40.8.50"),
		browser.Click(chromedp.Search(`//button[normalize-space(.)="Give out"]`)),
		browser.Gone(chromedp.CSS(".n-modal-mask")), cell("CAM-04", "address", "10.40.8.50"))
	// Several together.
	b.do(chromedp.Focus(browser.Mark("sheet")), control("a"), browser.Press("plan-edit"),
		browser.Seen(browser.Mark("entry-form")), chromedp.SendKeys(chromedp.CSS(`[data-test="field-place"] input`),
			"Pier"), browser.Press("entry-save"), cell("CAM-04", "place", "Pier"))
	for tag, e := range r.entries() {
		if e.Place != "Pier" {
			t.Errorf("%s is at %q", tag, e.Place)
		}
	}
}

// What else the settings offer, pressed once each.
func TestLoginsInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile,mac\nCAM-1,ovalis-c20,0a:4f:56:00:00:01\n")
	b := r.signedIn(t, 1280, "/settings")
	b.do(browser.Click(chromedp.CSS(`[data-name="vault"]`)))
	pick := func(mark, word string) browser.Step {
		return chromedp.Steps(browser.Click(chromedp.CSS(`[data-test="`+mark+`"]`)), key(word, kb.Enter))
	}
	// A given password that the camera refuses is said at once.
	b.do(browser.Seen(browser.Mark("policies")), pick("policy-for", "kind camera"),
		browser.Click(chromedp.CSS(`[data-test="policy-mode"]`)),
		browser.Click(chromedp.Search(`//*[contains(@class, "n-base-select-option") and contains(., "a given password")]`)), chromedp.SendKeys(chromedp.CSS("#policy-password"), "short"), browser.Press("policy-save"), shows("the C20 refuses the given password"))
	b.do(chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Known logins as CSV"]`),
		[]string{r.write("known.csv", "tag,user,password\nCAM-1,operator,known-before-1\n")}), shows("1 logins stored"))
	b.do(chromedp.SendKeys(chromedp.CSS(`input[aria-label="New passphrase"]`), "four words nobody says"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="New passphrase again"]`), "four words nobody says"),
		browser.Click(chromedp.Search(`//button[contains(., "New key with passphrase")]`)), shows("a passphrase"),
		browser.Press("vault-lock"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Passphrase"]`), "four words nobody says\r"),
		browser.Gone(browser.Mark("locked")))
	if v, err := r.c.Vault(patience(t)); err != nil || v.Locked || v.Opener != "passphrase" {
		t.Errorf("%+v, %v", v, err)
	}
	if site, err := r.c.Site(patience(t)); err != nil ||
		site.PolicyFor(&profile.Profile{Kind: "camera"}).For != "kind:camera" {
		t.Errorf("the policy is for another: %+v, %v", site.Policies, err)
	}
	// A range is kept free from the map.
	b.do(browser.Press("nav-addresses"), chromedp.SendKeys(chromedp.CSS(`input[aria-label^="Range to keep free"]`),
		"10.40.10.1-10.40.10.9 for the pier"),
		browser.Click(chromedp.Search(`//button[normalize-space(.)="Keep free"]`)),
		browser.Seen(chromedp.CSS(`.block [title="10.40.10.5: kept free for the pier"].kept`)))
}

func TestRevisionsAreNamedAndComparedInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile\nCAM-1,ovalis-c20\n")
	b := r.signedIn(t, 1280, "/history")
	b.do(shows("imported from"), browser.Click(chromedp.Search(`(//*[@data-test="name-revision"])[1]`)),
		browser.Seen(chromedp.CSS("#revision-name")), chromedp.SendKeys(chromedp.CSS("#revision-name"), "rev C"),
		browser.Click(chromedp.Search(`//button[normalize-space(.)="Save"]`)),
		browser.Gone(chromedp.CSS(".n-modal-mask")), shows("rev C"))
	b.do(browser.Click(chromedp.Search(`(//tbody//*[contains(@class, "n-checkbox")])[last()]`)),
		browser.Press("compare"), shows("What differs"), shows("+ added"))
}
