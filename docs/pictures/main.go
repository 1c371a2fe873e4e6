// Command pictures makes the screenshots in docs/screenshots from the demo
// data: it runs the simulated site and the service, and walks through the
// console in headless Chromium.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/cli"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/segments"
	"redstart/internal/server"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/skerry"
	"redstart/internal/site"
)

const folder = "docs/screenshots"

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "redstart-pictures-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	b, stop, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer stop()
	if err := console(ctx, b, dir); err != nil {
		return err
	}
	return terminal(ctx, b, dir)
}

const (
	settle   = 700 * time.Millisecond // how long movements on a page take
	patience = 20 * time.Second       // for one picture
)

// shot does the steps and takes a picture.
func shot(b context.Context, name string, steps ...browser.Step) error {
	limited, cancel := context.WithTimeout(b, patience)
	defer cancel()
	for i, s := range steps {
		if err := chromedp.Do(limited, s); err != nil {
			if png, err := chromedp.Run(b, chromedp.CaptureScreenshot()); err == nil {
				_ = os.WriteFile(filepath.Join(os.TempDir(), "failed.png"), png, 0o600) // what it looked like
			}
			return fmt.Errorf("%s, step %d: %w", name, i+1, err)
		}
	}
	// After a click with a mouse a link has no ring around it.
	if err := chromedp.Do(limited,
		browser.Script(`document.activeElement?.matches('a') && document.activeElement.blur()`)); err != nil {
		return err
	}
	time.Sleep(settle)
	png, err := chromedp.Run(b, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	fmt.Println(name)
	return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
}

func console(ctx context.Context, b context.Context, dir string) error {
	// One camera takes no password, so that the pictures show what a failure looks like.
	terminal := skerry.Start(skerry.Options{Seed: 1, Whole: true,
		Broken: map[int]box.Faults{8: {RefusesPassword: true}}})
	defer terminal.Close()
	lines, err := terminal.PlugLines()
	if err != nil {
		return err
	}
	var names []string
	for _, l := range lines {
		names = append(names, l.Name)
	}
	s, err := site.Open(ctx, site.Config{Data: dir, Plugs: []segments.Plug{{Name: "simulated site",
		Port: terminal.Attach()}}, Lines: names, Round: 300 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer s.Close()
	if _, err := s.AddSite(ctx, skerry.Data(), "demo"); err != nil {
		return err
	}
	at, err := s.At(ctx, "skerry-point")
	if err == nil {
		err = at.Jobs.Watch(ctx, true)
	}
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	serving, stop := context.WithCancel(ctx)
	defer stop()
	go server.New(s).Serve(serving, l)
	token, err := s.Accounts.OnceToken(ctx)
	if err != nil {
		return err
	}
	planFile := filepath.Join(dir, "plan.csv")
	if err := os.WriteFile(planFile, terminal.WholePlan(), 0o600); err != nil {
		return err
	}
	if err := addMistakes(ctx, s); err != nil {
		return err
	}
	url := "http://" + l.Addr().String()
	chose := browser.Mark("plan-file")
	router, door := other(terminal, "HALL-RTR-01"), other(terminal, "BERTH1-DOOR-01")
	for _, step := range []struct {
		name  string
		steps []browser.Step
	}{
		{"plan", []browser.Step{chromedp.Navigate(url + "/#once=" + token),
			browser.Press("stage-plan"), chromedp.SetUploadFiles(chose, []string{planFile}),
			browser.Enabled(browser.Mark("import-apply")), browser.Answer("import-apply"),
			browser.Seen(browser.Mark("tag")), browser.Press("nav-plan"), browser.Seen(browser.Mark("sheet")),
			chromedp.Focus(browser.Mark("sheet")), chromedp.KeyEvent(kb.ArrowRight + kb.ArrowRight + kb.ArrowRight +
				kb.ArrowRight + kb.ArrowRight)}},
		{"found", []browser.Step{chromedp.Navigate(url), browser.Press("stage-find"), browser.Ended("Finding"),
			browser.Enabled(browser.Mark("stage-match"))}},
		{"device",
			[]browser.Step{browser.Click(chromedp.Search(fmt.Sprintf(`//button[contains(@class,"mono") and text()="%s"]`, router.MAC))), browser.Seen(browser.Mark("facts"))}},
		{"match", []browser.Step{chromedp.KeyEvent(kb.Escape), browser.Gone(chromedp.CSS(".n-drawer-mask")),
			browser.Press("nav-match"), browser.Enabled(browser.Mark("match-accept"))}},
		{"rehearsal", []browser.Step{browser.Press("accept-order"), browser.Press("match-accept"),
			browser.Press("nav-work"), browser.Enabled(browser.Mark("stage-commission")),
			browser.Press("stage-commission"), browser.Enabled(browser.Mark("run-begin"))}},
		{"home-during", []browser.Step{chromedp.KeyEvent(kb.Escape),
			browser.Gone(browser.Mark("run-begin")), browser.Click(chromedp.CSS(`[data-name="entries"]`)),
			chromedp.Sleep(1200 * time.Millisecond)}},
		{"by-hand", []browser.Step{chromedp.Navigate(url + "/hands"), browser.Seen(browser.Mark("hand-window"))}},
		{"by-hand-phone", []browser.Step{
			chromedp.EmulateViewport(390, 800, chromedp.EmulateMobile, chromedp.EmulateScale(2)),
			chromedp.Navigate(url + "/hands"), browser.Seen(browser.Mark("hand-window"))}},
		{"home-after", []browser.Step{chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url),
			browser.Ended("Commissioning"), browser.Press("stage-verify"),
			browser.Ended("Verifying")}},
		{"detail", []browser.Step{browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="HALL-SW-01"]`)),
			browser.Seen(browser.Mark("checks"))}},
		{"parts", []browser.Step{chromedp.KeyEvent(kb.Escape), browser.Gone(chromedp.CSS(".n-drawer-mask")),
			chromedp.SendKeys(chromedp.CSS(`input[placeholder^="Search tag"]`), "YARD-RAD-01"),
			browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="YARD-RAD-01"]`)),
			browser.Seen(browser.Mark("checks"))}},
		{"logins", []browser.Step{chromedp.Navigate(url + "/settings#vault"), browser.Seen(browser.Mark("policies"))}},
		{"port-roles", []browser.Step{chromedp.Navigate(url + "/settings#ports"), browser.Seen(browser.Mark("switch-ports"))}},
		{"licences", []browser.Step{chromedp.Navigate(url + "/settings#licences"), browser.Seen(browser.Mark("licences"))}},
		{"handover", []browser.Step{chromedp.Navigate(url + "/handover"), browser.Seen(browser.Mark("documents"))}},
		{"documents", []browser.Step{chromedp.Navigate("file://" + filepath.Join(dir, "documents.html"))}},
		{"on-foot", []browser.Step{chromedp.EmulateViewport(390, 800, chromedp.EmulateMobile, chromedp.EmulateScale(2)),
			chromedp.Navigate(url + "/walk"),
			chromedp.SendKeys(chromedp.CSS(`input[aria-label="Label"]`), "BERTH1-DOOR-01\r"),
			browser.Seen(browser.Mark("waiting")),
			func(context.Context, *chromedp.Target) (chromedp.Void, error) {
				door.Restart()
				return chromedp.Void{}, nil
			}, browser.Seen(chromedp.Search(fmt.Sprintf(`//*[@data-test="newcomer" and contains(., "%s")]`,
				door.MAC)))}},
	} {
		var err error
		switch step.name {
		case "home-during":
			// The desk switches go on handing out addresses until they are set.
			_, err = at.Jobs.Commission(ctx, "ines", api.RunOptions{Chosen: api.Chosen{All: true},
				OtherServers: []netip.Addr{netip.MustParseAddr("192.168.88.1")}})
		case "home-after":
			err = allHands(ctx, at, terminal)
		case "parts":
			err = sensors(ctx, at, terminal)
		case "documents":
			err = documents(ctx, at, dir)
		case "by-hand":
			err = byHand(ctx, at, terminal)
		}
		if err != nil {
			return err
		}
		if err := shot(b, step.name, step.steps...); err != nil {
			return err
		}
	}
	return planning(ctx, b, dir, s, url)
}

// documents draws what is handed over side by side, as it is printed or opened: pages of the
// report, a sheet of labels, the workbook as another program opens it, and the contents page of the
// package.
func documents(ctx context.Context, at *site.Site, dir string) error {
	page := `<!doctype html><style>body{margin:10px;background:#8a8f93;display:flex;flex-wrap:wrap;gap:10px;justify-content:center;align-items:start}
		img,iframe{border:0;background:#fff}</style>`
	for _, of := range []struct {
		name, file, has string
		width           int
	}{{"report", "report.pdf", "Summary", 290}, {"report", "report.pdf", "Findings, and what was done about them", 290},
		{"labels", "labels.pdf", "", 290}, {"package", "index.html", "", 290}, {"register", "register.xlsx", "", 600}} {
		made, err := at.Handing.Document(ctx, api.ToMake{Document: of.name})
		if err != nil {
			return err
		}
		if of.name == "package" {
			in, err := handover.Member(bytes.NewReader(made.Content), int64(len(made.Content)), made.Name, of.file)
			if err != nil {
				return err
			}
			if made.Content, err = io.ReadAll(in); err != nil {
				return err
			}
		}
		path := filepath.Join(dir, of.file)
		if err := os.WriteFile(path, made.Content, 0o600); err != nil {
			return err
		}
		if of.name == "package" {
			page += fmt.Sprintf(`<div style="width:%dpx;height:412px;overflow:hidden"><iframe src="%s" style="width:%dpx;height:824px;transform:scale(.5);transform-origin:0 0"></iframe></div>`,
				of.width, of.file, 2*of.width)
			continue
		}
		if of.name == "register" {
			if err := tool(ctx, "soffice", "-env:UserInstallation=file://"+dir+"/office", "--headless", "--convert-to", "pdf", "--outdir", dir, path); err != nil {
				return err
			}
			path = filepath.Join(dir, "register.pdf")
		}
		text, err := exec.CommandContext(ctx, "pdftotext", path, "-").Output()
		if err != nil {
			return fmt.Errorf("pdftotext: %w", err)
		}
		n := 1 + slices.IndexFunc(strings.Split(string(text), "\f"), func(page string) bool { return strings.Contains(page, of.has) })
		drawn := fmt.Sprintf("%s-%d", of.name, n)
		if err := tool(ctx, "pdftoppm", "-png", "-singlefile", "-r", "130", "-f", fmt.Sprint(n), "-l", fmt.Sprint(n), path, filepath.Join(dir, drawn)); err != nil {
			return err
		}
		page += fmt.Sprintf(`<img style="width:%dpx" src="%s.png">`, of.width, drawn)
	}
	return os.WriteFile(filepath.Join(dir, "documents.html"), []byte(page), 0o600)
}

func tool(ctx context.Context, name string, args ...string) error {
	if out, err := exec.CommandContext(ctx, name, args...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s: %w\n%s", name, err, out)
	}
	return nil
}

// sensors reads the cards of the sensors and sets them through their gateway, whose batteries
// somebody takes out.
func sensors(ctx context.Context, at *site.Site, terminal *skerry.Site) error {
	for n := 1; n <= w1.Cards; n++ {
		if _, err := at.Jobs.Scanned(ctx, api.Scan{Text: w1.Card(n), Cards: true}, "ines"); err != nil {
			return err
		}
	}
	chosen := api.Chosen{Tags: []string{"YARD-RAD-01"}}
	if _, err := at.Jobs.Commission(ctx, "ines", api.RunOptions{Chosen: chosen,
		OtherServers: []netip.Addr{netip.MustParseAddr("192.168.88.1")}}); err != nil {
		return err
	}
	verifying := false
	return asked(ctx, at, func(tasks []api.HandTask) (bool, error) {
		for _, t := range tasks {
			other(terminal, t.Tag).Hand(t.Do)
		}
		d, err := at.Plan.Detail(ctx, "YARD-RAD-01")
		if err == nil && d.Entry.State == state.Configured && !verifying && len(d.Entry.Differs) == 0 {
			_, wait := at.Jobs.Verify(ctx, "ines", api.VerifyOptions{Chosen: api.Chosen{Tags: []string{"YARD-RAD-01", "YARD-SEN-01",
				"YARD-SEN-02", "YARD-SEN-03", "YARD-SEN-04", "BERTH1-SEN-01", "BERTH2-SEN-01", "SHOP-SEN-01", "HALL-SEN-01"}}})
			verifying = wait == nil // the run may not have let go of it yet
		}
		return d.Entry.State == state.Verified && len(d.Entry.Differs) == 0, err
	})
}

// asked looks at what a person is asked for, again and again, until done says so.
func asked(ctx context.Context, at *site.Site, done func([]api.HandTask) (bool, error)) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	look := time.NewTicker(settle)
	defer look.Stop()
	for {
		list, err := at.Jobs.Hands(ctx)
		if err != nil {
			return err
		}
		if over, err := done(list.Tasks); over || err != nil {
			return err
		}
		select {
		case <-look.C:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// waits is how many devices of the first run wait for a person.
const waits = 8

// byHand waits until the run has asked for all that a person has to do: somebody is at one,
// and the first part of another was done.
func byHand(ctx context.Context, at *site.Site, terminal *skerry.Site) error {
	done := false
	return asked(ctx, at, func(tasks []api.HandTask) (bool, error) {
		switch {
		case len(tasks) < waits:
			return false, nil
		case done:
			return true, at.Jobs.TakeHands(ctx, tasks[0].Run, api.TakeHands{Tags: []string{"BERTH2-ACC-01"}}, "ines")
		}
		for _, t := range tasks {
			if t.Tag == "HALL-ACC-01" {
				done = other(terminal, t.Tag).Hand(t.Do)
			}
		}
		return false, nil
	})
}

// allHands does all that is asked for until the run has ended.
func allHands(ctx context.Context, at *site.Site, terminal *skerry.Site) error {
	done := map[string]bool{} // a button pressed once more begins all over
	return asked(ctx, at, func(tasks []api.HandTask) (bool, error) {
		for _, t := range tasks {
			if !done[t.Tag+t.Do] {
				done[t.Tag+t.Do] = other(terminal, t.Tag).Hand(t.Do)
			}
		}
		run, err := at.Jobs.LatestRun(ctx)
		return run.State == state.Done, err
	})
}

// other gives the stand-in that is an entry; the desk switch for none.
func other(terminal *skerry.Site, tag string) *box.Box {
	for _, o := range terminal.Others {
		if o.Tag == tag {
			return o.Box
		}
	}
	return nil
}

// addMistakes makes a second site with the planted mistakes, without those
// rows that no import would take.
func addMistakes(ctx context.Context, s *site.Service) error {
	file, err := os.ReadFile("demo/skerry-point-mistakes.json")
	if err != nil {
		return err
	}
	var doc struct {
		Site    plan.Site           `json:"site"`
		Entries []map[string]string `json:"entries"`
	}
	if err := json.Unmarshal(file, &doc); err != nil {
		return err
	}
	doc.Site.Key, doc.Site.Name = "mistakes", "A plan full of mistakes"
	if _, err := s.AddSite(ctx, doc.Site, "demo"); err != nil {
		return err
	}
	at, err := s.At(ctx, "mistakes")
	if err != nil {
		return err
	}
	result, err := at.Plan.CheckFile(ctx, file)
	if err != nil {
		return err
	}
	for _, c := range result.Cells {
		doc.Entries[c.Row-1] = nil
	}
	doc.Entries = slices.DeleteFunc(doc.Entries, func(e map[string]string) bool { return e == nil })
	if file, err = json.Marshal(doc.Entries); err != nil {
		return err
	}
	_, err = at.Plan.Import(ctx, file, api.ImportOptions{}, "demo")
	return err
}

// terminal draws what commands print.
func terminal(ctx context.Context, b context.Context, dir string) error {
	var out bytes.Buffer
	if code := cli.Main(ctx, []string{"demo", "--walkthrough", "--devices", "8"},
		cli.World{In: strings.NewReader(""), Out: &out, Err: new(bytes.Buffer), Env: os.Getenv}); code != 0 {
		return fmt.Errorf("the walk-through ended with %d", code)
	}
	text := "$ redstart demo --walkthrough --devices 8\n" + strings.TrimRight(out.String(), "\n")
	return screen(b, dir, "walkthrough", text)
}

// screen takes a picture of a text as a terminal shows it.
func screen(b context.Context, dir, name, text string) error {
	page := `<!doctype html><meta charset="utf-8"><style>body{margin:0;background:#1b2229;color:#dfe5e8;padding:14px 18px}
pre{font:11.2px/1.32 "DejaVu Sans Mono",monospace;margin:0}</style><pre>` + html.EscapeString(text) + `</pre>`
	file := filepath.Join(dir, "terminal.html")
	if err := os.WriteFile(file, []byte(page), 0o600); err != nil {
		return err
	}
	if err := chromedp.Do(b, chromedp.EmulateViewport(1280, 800), chromedp.Navigate("file://"+file)); err != nil {
		return err
	}
	png, err := chromedp.Run(b, chromedp.FullScreenshot(100))
	if err != nil {
		return err
	}
	fmt.Println(name)
	return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
}

// planning shows commands on the running service.
func planning(ctx context.Context, b context.Context, dir string, s *site.Service, url string) error {
	token, err := s.Accounts.LocalToken(ctx)
	if err != nil {
		return err
	}
	remove, err := client.WriteHandle(dir, client.Handle{URL: url, Token: token})
	if err != nil {
		return err
	}
	defer remove()
	var text strings.Builder
	for _, args := range [][]string{
		{"plan", "map", "terminal"},
		{"plan", "set", "HALL-CAM-02", "address=10.40.8.300"},
		{"plan", "set", "YARD-GATE-01", "room=206", "--preview"},
		{"plan", "generate", "--profile", "ovalis-c20", "--count", "2", "--pattern", "{area}-CAM-{n:02}", "--areas",
			"PIER", "--address", "10.40.8.120", "--preview"},
		{"plan", "show", "YARD-GATE-01"},
		{"plan", "history"},
	} {
		args = append(args, "--data", dir, "--site", "skerry-point")
		var out bytes.Buffer
		// some of them refuse, which is what they show
		cli.Main(ctx, args, cli.World{In: strings.NewReader(""), Out: &out, Err: &out, Env: os.Getenv})
		shown := args[:len(args)-4]
		for i, a := range shown {
			if strings.ContainsAny(a, " {") {
				shown[i] = `"` + a + `"`
			}
		}
		lines := strings.SplitAfter(strings.TrimRight(out.String(), "\n"), "\n")
		if len(lines) > 24 {
			lines = append(lines[:24], "…")
		}
		fmt.Fprintf(&text, "$ redstart %s\n%s\n\n", strings.Join(shown, " "), strings.Join(lines, ""))
	}
	return screen(b, dir, "terminal-planning", strings.TrimSpace(text.String()))
}
