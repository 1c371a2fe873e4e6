package e2e

import (
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/plan"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// holdBack keeps every answer about a site's entries back until the page calls
// letGo, which gives their count once the page has read and drawn them.
const holdBack = `(() => {
  const real = window.fetch, held = []
  window.heldBack = held
  window.fetch = async (request, ...more) => {
    const answer = await real(request, ...more)
    if (!request.url?.endsWith('/skerry-point/entries')) return answer
    return new Promise((go) => held.push(() => {
      const read = Promise.race(['json', 'text'].map((how) => new Promise((done) => {
        const whole = answer[how].bind(answer)
        answer[how] = async () => { const doc = await whole(); queueMicrotask(done); return doc }
      })))
      go(answer)
      return read
    }))
  }
  const frame = () => new Promise(requestAnimationFrame)
  window.letGo = async () => { for (const go of held) await go(); await frame(); await frame(); return held.length }
})()`

// An answer about the site that was open before is for nobody: tags may be the same
// in both.
func TestALateAnswerOfAnotherSite(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile,place\nCAM-01,ovalis-c20,Pier\n")
	ctx := patience(t)
	second, err := r.c.AddSite(ctx, plan.Site{Name: "Harbour Office", Subnets: skerry.Data().Subnets})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.At(second.Key).Import(ctx, []byte("tag,profile,place\nCAM-01,ovalis-c20,Quay\n"),
		api.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	b := r.signedIn(t, 1280, "/plan")
	b.do(cell("CAM-01", "place", "Pier"), browser.Script(holdBack))
	if _, err := r.c.Edit(ctx, api.Edits{Patches: []plan.Patch{{Tag: "CAM-01",
		Set: map[string]string{"place": "Pier, north end"}}}}, false); err != nil {
		t.Fatal(err)
	}
	choose := func(name string) {
		t.Helper()
		b.do(browser.Press("site"),
			browser.Click(chromedp.Search(`//*[contains(@class, "n-base-select-option") and contains(., "`+name+`")]`)))
	}
	choose("Harbour Office")
	b.do(cell("CAM-01", "place", "Quay"))
	choose("Skerry Point")
	if _, err := chromedp.Run(b.ctx, chromedp.Poll[bool]("window.heldBack.length > 0")); err != nil {
		t.Fatal(err)
	}
	choose("Harbour Office")
	b.do(cell("CAM-01", "place", "Quay"))
	late, err := chromedp.Run(b.ctx, chromedp.Evaluate[int]("window.letGo()", chromedp.EvalAwaitPromise))
	if err != nil || late == 0 {
		t.Fatalf("%d answers came late, %v", late, err)
	}
	if page := b.text(); strings.Contains(page, "north end") || !strings.Contains(page, "Quay") {
		t.Errorf("the answer about the other site landed in the one that is open:\n%s", page)
	}
}

// HEAD is answered as GET is, without a body; whoever asks too often is told when to
// ask again.
func TestHeadAndTooManyTries(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	for path, want := range map[string]int{"/": http.StatusOK, "/api/openapi.json": http.StatusOK,
		"/api/sites": http.StatusUnauthorized, "/api/nothing": http.StatusNotFound} {
		got, _, _ := send(t, http.DefaultClient, "GET", r.url+path, "")
		status, header, body := send(t, http.DefaultClient, "HEAD", r.url+path, "")
		if status != want || got != want || body != "" || header.Get("Content-Type") == "" {
			t.Errorf("%s: GET %d, HEAD %d %v %q", path, got, status, header, body)
		}
	}
	for range 60 {
		status, header, answer := send(t, http.DefaultClient, "POST", r.url+"/api/session", `{"link":"X"}`)
		if status != http.StatusTooManyRequests {
			continue
		}
		if wait, err := strconv.Atoi(header.Get("Retry-After")); err != nil || wait < 1 ||
			header.Get("Content-Type") != "application/problem+json" {
			t.Errorf("%v %s", header, answer)
		}
		return
	}
	t.Error("sixty tries in a row were all answered")
}

// A box that speaks IPv6 alone is there, and is not said to be missing.
func TestABoxWithoutIPv4IsSaidToBeThere(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "R16", Seed: 71}, impatient(t, "ovalis-r16"))
	b, starts := r.site.Boxes[0], r.site.Boxes[0].Starts()
	off := func(s *box.Settings) { s.Address, s.Gateway = netip.MustParsePrefix("fe80::4f52:71/64"), netip.Addr{} }
	b.Change(off)
	b.Store(off)
	b.Restart()
	waitFor(t, func() bool { return b.Starts() > starts })
	r.plan("tag,profile,address,mac\nREC,ovalis-r16,10.40.9.50," + b.MAC.String() + "\n")
	r.find()
	redstart := r.with(t)
	redstart(0, []string{"1 matched"}, "match", "--accept")
	redstart(1, []string{"heard over IPv6: fe80::4f52:71", "its IPv4 is switched off"}, "commission")
}
