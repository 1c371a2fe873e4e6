package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/core/right"
	"redstart/internal/sim/skerry"
)

// Documents are made in the background: how far each is can be watched, what it holds can be
// looked at before anybody gets it, and nothing of them is left behind.
func TestDocumentsAreMadeInTheBackground(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 91})
	r.plan("tag,profile\nCAM-1,ovalis-c20\nCAM-2,ovalis-c20\n")
	ctx := patience(t)
	token, err := r.s.Accounts.LocalToken(ctx)
	if err != nil {
		t.Fatal(err)
	}
	const at = "/api/sites/skerry-point/"
	ask := func(status int, method, path, body string) string {
		t.Helper()
		got, _, answer := send(t, http.DefaultClient, method, r.url+at+path, body, "Authorization", "Bearer "+token)
		if got != status {
			t.Fatalf("%s %s: %d %s", method, path, got, answer)
		}
		return answer
	}
	look := func(work api.Work, member string) (p api.Preview) {
		t.Helper()
		if err := json.Unmarshal([]byte(ask(200, "GET", fmt.Sprintf("makings/%d/preview?member=%s", work.ID, member), "")), &p); err != nil {
			t.Fatal(err)
		}
		return p
	}
	pack := r.do(func(ctx context.Context) (api.Work, error) { return r.c.Make(ctx, api.ToMake{Document: "package"}) })
	if pack.State != "done" || pack.Done != pack.Total || pack.Total < 10 || !strings.HasSuffix(pack.File, "handover.zip") {
		t.Errorf("%+v", pack)
	}
	whole := look(pack, "")
	for _, name := range []string{"report.pdf", "register.xlsx", "index.html", "record.jsonl"} {
		if whole.Kind != "files" || !slices.ContainsFunc(whole.Files, func(f api.PreviewFile) bool { return f.Name == name && f.Size > 0 }) {
			t.Errorf("%s is not among %+v", name, whole.Files)
		}
	}
	sheets := look(pack, "register.xlsx")
	if sheets.Kind != "sheets" || len(sheets.Sheets) < 3 || len(sheets.Sheets[0].Rows) != 3 {
		t.Fatalf("%+v", sheets)
	}
	heading, first := sheets.Sheets[0].Rows[0], sheets.Sheets[0].Rows[1]
	i := slices.IndexFunc(heading, func(c api.PreviewCell) bool { return c.Text == "Address" })
	if !heading[i].Heading || first[i].Text != "10.40.8.20" || !first[i].Slanted || first[0].Slanted {
		t.Errorf("%+v\n%+v", heading, first)
	}
	for member, kind := range map[string]string{"report.pdf": "pages", "index.html": "page", "zones.zip": "files", "hosts": "lines"} {
		if p := look(pack, member); p.Kind != kind {
			t.Errorf("%s is shown as %s", member, p.Kind)
		}
	}
	ask(404, "GET", fmt.Sprintf("makings/%d?member=../redstart.db", pack.ID), "")
	ask(404, "GET", "makings/7777", "")
	ask(404, "POST", "makings", `{"document":"nothing"}`)
	ask(422, "POST", "makings", `{"document":"labels","labels":{"size":"wide"}}`)
	var wrong api.Work
	if err := json.Unmarshal([]byte(ask(202, "POST", "makings", `{"document":"labels","labels":{"size":"9x9"}}`)), &wrong); err != nil {
		t.Fatal(err)
	}
	if said := ask(422, "GET", fmt.Sprintf("makings/%d", wrong.ID), ""); !strings.Contains(said, "label") {
		t.Error(said)
	}

	// Who may only look makes documents, and hands nothing over.
	if err := r.s.Accounts.Add(ctx, api.Account{Name: "ada", Password: "a long password", Rights: right.Look}); err != nil {
		t.Fatal(err)
	}
	given, err := r.s.Accounts.AddToken(ctx, api.Person{Name: "ada", Rights: right.Look}, api.ForToken{Name: "reader", Rights: right.Look})
	if err != nil {
		t.Fatal(err)
	}
	token = given.Token
	ask(202, "POST", "makings", `{"document":"hosts"}`)
	ask(403, "POST", "handovers", `{"document":"hosts","to":"Ida Holm"}`)

	// Older ones make room; none is left when the service ends.
	for range 9 {
		var w api.Work
		if err := json.Unmarshal([]byte(ask(202, "POST", "makings", `{"document":"hosts"}`)), &w); err != nil {
			t.Fatal(err)
		}
		ask(200, "GET", fmt.Sprintf("makings/%d", w.ID), "")
	}
	ask(404, "GET", fmt.Sprintf("makings/%d", pack.ID), "")
	kept := func() int {
		list, err := filepath.Glob(filepath.Join(r.dir, "leaving-*"))
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	if n := kept(); n == 0 || n > 8 {
		t.Errorf("%d are kept", n)
	}
	r.stop()
	if n := kept(); n != 0 {
		t.Errorf("%d are left behind", n)
	}
	r.serve(r.site.Attach())
}

// What was found is told in the report with what was done about it, by whom.
func TestFindingsAndWhatWasDone(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 92})
	redstart := r.with(t)
	r.plan("tag,profile,address\nCAM-1,ovalis-c20,10.40.8.30\nCAM-2,ovalis-c20,10.40.8.31\n")
	redstart(0, nil, "plan", "set", "CAM-2", "address=10.40.11.255")
	redstart(0, nil, "plan", "set", "CAM-2", "address=10.40.8.32")
	redstart(0, nil, "plan", "set", "CAM-1", "name=not_a_name")
	site, err := r.s.At(patience(t), "skerry-point")
	if err != nil {
		t.Fatal(err)
	}
	list, err := site.Records.Findings(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	mended, open := false, false
	for _, f := range list {
		mended = mended || f.Of == "CAM-2" && strings.HasPrefix(f.Code, "address-broadcast") && !f.GoneAt.IsZero() && f.Who == "this computer" && f.What != ""
		open = open || f.Of == "CAM-1" && strings.HasPrefix(f.Code, "name-refused") && f.GoneAt.IsZero()
	}
	if !mended || !open {
		t.Errorf("mended %v, open %v: %+v", mended, open, list)
	}
	path := filepath.Join(t.TempDir(), "report.pdf")
	redstart(0, nil, "handover", "report", path)
	out, err := exec.CommandContext(patience(t), "pdftotext", "-layout", path, "-").Output()
	if err != nil {
		t.Fatal(err)
	}
	_, findings, _ := strings.Cut(string(out), "Findings, and what was done")
	standing, former, _ := strings.Cut(findings, "Went away")
	if !strings.Contains(standing, "CAM-1") || strings.Contains(standing, "broadcast") || !strings.Contains(former, "broadcast") {
		t.Errorf("%s", findings)
	}
}

// Everything of the hand-over is done from the page too: a workbook and an archive are looked
// into, logins are printed for somebody, and the whole site goes sealed to another service, which
// takes it in from the browser.
func TestHandingOverFromThePage(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 93, Pace: 0.3})
	r.upToVerify()
	tag := r.entryOf(r.site.Boxes[0]).Tag
	sealed := filepath.Join(t.TempDir(), "site.age")
	const phrase = "a phrase of many words"
	redstart := r.with(t)
	r.typed = phrase + "\n" + phrase + "\n"
	redstart(0, []string{"Written"}, "site", "export", sealed, "--passphrase")
	drawer := chromedp.CSS(".n-drawer-mask")
	b := r.signedIn(t, 1280, "/handover")
	b.do(shows("2 of 2 entries"), browser.Press("look-register"), shows("Seen behind switch port"), shows("%s", tag), chromedp.KeyEvent("\x1b"), browser.Gone(drawer),
		browser.Press("look-package"), browser.Press("look-in-report.pdf"), browser.Seen(chromedp.CSS(`canvas[aria-label^="Page 1 of"]`)),
		browser.Press("preview-back"), browser.Press("look-in-index.html"), browser.Seen(browser.Mark("framed")),
		browser.Press("preview-save"), shows("index.html is made"), chromedp.KeyEvent("\x1b"), browser.Gone(drawer),
		browser.Click(browser.Mark("paper-tags")), chromedp.KeyEvent(tag+"\r"), chromedp.KeyEvent("\x1b"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Who takes the logins"]`), "Ida Holm"), browser.Press("login-sheet"),
		shows("logins.pdf is made"), browser.Press("verify-capture"), browser.Gone(browser.Mark("verify-capture")))
	redstart(0, []string{"login printed on a sheet for Ida Holm"}, "plan", "show", tag)

	other := start(t, skerry.Options{Devices: 1, Seed: 94})
	b = other.signedIn(t, 1280, "/settings")
	field := chromedp.CSS(`textarea[aria-label="What opens it"]`)
	b.do(browser.Press("take-site"), chromedp.SetUploadFiles(chromedp.CSS(`input[aria-label="Sealed site"]`), []string{sealed}),
		chromedp.SendKeys(field, "the wrong words"), browser.Press("take-look"), shows("does not open the file"),
		chromedp.Focus(field), control("a"), chromedp.SendKeys(field, phrase), browser.Press("take-look"), shows("In the way: there is a site with the key"),
		chromedp.SendKeys(chromedp.CSS(`input[aria-label="Key that the site gets here"]`), "from-ida"), browser.Press("take-look"),
		browser.Enabled(browser.Mark("take-in")), browser.Press("take-in"), browser.Gone(chromedp.CSS(".n-modal-mask")))
	other.with(t)(0, []string{"2 entries: 2 verified"}, "--site", "from-ida", "plan", "list")
}
