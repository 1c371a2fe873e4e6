package e2e

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/browser"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// tab is a page of the console in headless Chromium.
type tab struct {
	t   *testing.T
	ctx context.Context
}

// chromium is the browser that the tests share; each page has its own cookies.
var chromium = sync.OnceValues(func() (context.Context, error) {
	ctx, stop, err := browser.Start(context.Background())
	endChromium = stop
	return ctx, err
})

var endChromium context.CancelFunc

// openTab opens a page; with options, in a browser of its own.
func openTab(t *testing.T, width, height int, more ...chromedp.ExecAllocatorOption) *tab {
	t.Helper()
	var ctx context.Context
	var stop context.CancelFunc
	shared, err := chromium()
	switch {
	case err != nil:
	case len(more) > 0:
		ctx, stop, err = browser.Open(context.Background(), width, height, more...)
	default:
		ctx, stop, err = browser.Page(shared, width, height)
	}
	if errors.Is(err, browser.ErrMissing) {
		t.Fatal(err) // make test installs it; a missing browser must not pass for a tested console
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(stop)
	return &tab{t, ctx}
}

// do does steps in the page, each within the test's patience.
func (b *tab) do(steps ...browser.Step) {
	b.t.Helper()
	ctx, cancel := context.WithCancel(b.ctx)
	defer cancel()
	unhook := context.AfterFunc(patience(b.t), cancel)
	defer unhook()
	for i, s := range steps {
		if err := chromedp.Do(ctx, s); err != nil {
			page, _ := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
			b.t.Fatalf("step %d: %v; the page says:\n%s", i+1, err, page)
		}
	}
}

// text reads what the page shows.
func (b *tab) text() string {
	b.t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		b.t.Fatal(err)
	}
	return text
}

func shows(format string, args ...any) browser.Step {
	return browser.Seen(chromedp.Search(fmt.Sprintf(`//*[text()[contains(normalize-space(.), "%s")]]`,
		fmt.Sprintf(format, args...))))
}

func count(stage, text string) browser.Step {
	return browser.Seen(chromedp.Search(fmt.Sprintf(`//*[@data-test="count-%s" and contains(., "%s")]`, stage, text)))
}

// From an empty plan to verified, in the console alone, with the page changing
// by itself as the work goes on.
func TestTheWholeJobInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 8, Seed: 1})
	ctx := patience(t)
	planFile := r.write("plan.csv", string(r.site.Plan()))
	wrongFile := r.write("wrong.csv", strings.Replace(string(r.site.Plan()), "next", "10.40.8.300", 1))
	token, err := r.s.Accounts.OnceToken(ctx)
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 1280, 800)
	b.do(chromedp.Navigate(r.url+"/#once="+token), count("plan", "empty"),
		browser.Seen(chromedp.Search(`//*[@data-test="live" and contains(., "live")]`)))
	if at, err := chromedp.Run(b.ctx, chromedp.Location()); err != nil || strings.Contains(at, "once") {
		t.Errorf("the link's token stays in the address bar: %v", err)
	}

	file := browser.Mark("plan-file")
	b.do(browser.Press("stage-plan"), chromedp.SetUploadFiles(file, []string{wrongFile}),
		browser.Seen(browser.Mark("import-error")), shows("10.40.8.300"))
	has(t, "refused import", b.text(), "The plan was refused whole because of one mistake", "is not an IPv4 address")
	if n := len(r.entries()); n != 0 {
		t.Fatalf("%d entries came from a refused file", n)
	}
	b.do(chromedp.SetUploadFiles(file, []string{planFile}), browser.Answer("import-apply"), count("plan", "8 entries"))

	b.do(browser.Press("stage-find"), browser.Ended("Finding"), count("find", "8 devices"))
	b.do(browser.Press("nav-findings"), shows("5 devices share the address 192.168.77.20"), browser.Press("nav-work"))
	b.do(browser.Press("stage-match"), browser.Press("match-accept"), shows("Matched 3"), browser.Press("accept-order"),
		shows("Matched 8"), browser.Press("nav-work"), count("match", "8 of 8"))
	b.do(browser.Press("stage-commission"), shows("set a new password for keeper"), browser.Answer("run-begin"),
		browser.Ended("Commissioning"), count("commission", "8 of 8"))
	b.do(browser.Press("stage-verify"), browser.Ended("Verifying"), count("verify", "8 of 8"))
	for _, device := range r.site.Boxes {
		e := r.entryOf(device)
		expectPlanned(t, device, e)
		if e.State != state.Verified {
			t.Errorf("%s is %s", e.Tag, e.State)
		}
	}

	// A live update arrives: somebody else's command changes what the page shows.
	camera := r.site.Boxes[2]
	camera.Change(func(s *box.Settings) { s.Name = "changed-by-hand" })
	tag := r.entryOf(camera).Tag
	r.verify(tag)
	b.do(count("verify", "7 of 8"), shows("observed changed-by-hand"))

	// The drawer shows the checks and, only on purpose, the password.
	b.do(browser.Click(chromedp.CSS(`[data-name="entries"]`)),
		browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="HALL-CAM-01"]`)),
		browser.Seen(browser.Mark("checks")), shows("kept over a restart"))
	password := ""
	for _, device := range r.site.Boxes {
		if r.entryOf(device).Tag == "HALL-CAM-01" {
			password = device.Running().Password
		}
	}
	if strings.Contains(b.text(), password) {
		t.Error("the password is shown unasked")
	}
	b.do(browser.Click(chromedp.Search(`//button[contains(., "Show (recorded)")]`)), shows("%s", password))
	d, err := r.c.Entry(patience(t), "HALL-CAM-01")
	if err != nil || !strings.HasSuffix(d.History[len(d.History)-1].What, "shown") {
		t.Errorf("showing it was not recorded: %v", err)
	}
}

func TestWrongSignInIsRefusedInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	password, err := r.s.Accounts.FirstStart(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 390, 800)
	field := chromedp.CSS("#password")
	button := chromedp.CSS(`button[type="submit"]`)
	b.do(chromedp.Navigate(r.url), browser.Seen(field), chromedp.SendKeys(field, "guess"), browser.Click(button),
		shows("User or password is wrong"))
	if strings.Contains(b.text(), "Verify") {
		t.Error("the console is shown to a stranger")
	}
	b.do(chromedp.SendKeys(field, password+"\r"), count("plan", "empty"))
}
