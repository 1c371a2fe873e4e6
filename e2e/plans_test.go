package e2e

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/chromedp/chromedp"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/right"
	"redstart/internal/core/state"
	"redstart/internal/sim/skerry"
)

// set changes one entry.
func (r *rig) set(tag string, fields ...string) error {
	return r.patch(plan.Patch{Tag: tag, Set: pairs(fields)})
}

func (r *rig) patch(patches ...plan.Patch) error {
	_, err := r.c.Edit(patience(r.t), api.Edits{Patches: patches}, false)
	return err
}

func pairs(fields []string) map[string]string {
	set := map[string]string{}
	for i := 0; i < len(fields); i += 2 {
		set[fields[i]] = fields[i+1]
	}
	return set
}

// Many people at once: no change is lost, and no address is given out twice.
func TestPlannersSideBySide(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	var all sync.WaitGroup
	for i := range 40 {
		all.Add(1)
		go func() {
			defer all.Done()
			tag := fmt.Sprintf("CAM-%02d", i)
			if err := r.patch(plan.Patch{Set: map[string]string{"tag": tag, "profile": "ovalis-c20"}}); err != nil {
				t.Error(err)
			}
			if err := r.set(tag, "place", "Hall"); err != nil {
				t.Error(err)
			}
		}()
	}
	all.Wait()
	seen := map[string]string{}
	for tag, e := range r.entries() {
		if other := seen[e.Address.String()]; other != "" || e.Place != "Hall" {
			t.Errorf("%s: address %s is %s's too, place %q", tag, e.Address, other, e.Place)
		}
		seen[e.Address.String()] = tag
	}
	if len(seen) != 40 {
		t.Errorf("%d entries, want 40", len(seen))
	}
}

func TestSitesKnowNothingOfEachOther(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 2})
	ctx := patience(t)
	other := skerry.Data()
	other.Key, other.Name = "annex", "Annex"
	if _, err := r.c.AddSite(ctx, other); err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.AddSite(ctx, other); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a key twice: %v", err)
	}
	annex := r.c.At("annex")
	r.upToMatch()
	if list, err := annex.Entries(ctx); err != nil || len(list) != 0 {
		t.Errorf("the other site has %d entries, %v", len(list), err)
	}
	if s, err := annex.Devices(ctx); err != nil || len(s.Devices) != 0 {
		t.Errorf("the other site has %d devices, %v", len(s.Devices), err)
	}
	// Events of one site do not reach those who listen to another.
	heard := make(chan string, 100)
	ready := make(chan struct{})
	listening, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		_ = annex.Follow(ctx, func(e client.Event) bool {
			if e.Kind == "hello" {
				close(ready)
			}
			heard <- e.Kind
			return e.Kind != "site"
		})
	}()
	<-ready
	if err := r.set("HALL-CAM-01", "place", "Pier"); err != nil && !strings.Contains(err.Error(), "no such entry") {
		t.Fatal(err)
	}
	if err := r.patch(plan.Patch{Set: map[string]string{"tag": "X-1", "profile": "ovalis-c20"}}); err != nil {
		t.Fatal(err)
	}
	other.Contact = "Bo"
	if err := annex.SetSite(ctx, other); err != nil {
		t.Fatal(err)
	}
	<-done
	close(listening)
	close(heard)
	for kind := range heard {
		if kind == "entry" || kind == "device" {
			t.Errorf("heard a %q of another site", kind)
		}
	}
	// A run of one site is not another's to go on with.
	r.commission()
	if _, ok, err := annex.LatestRun(ctx); ok || err != nil {
		t.Errorf("the other site has a run: %v", err)
	}
	run, _, err := r.c.LatestRun(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := annex.GiveUp(ctx, run.ID); problem.KindOf(err) != problem.Missing {
		t.Errorf("another site's run was given up: %v", err)
	}
	if err := annex.RemoveSite(ctx); err != nil {
		t.Fatal(err)
	}
	if len(r.entries()) != 5 {
		t.Errorf("removing a site left %d entries of another", len(r.entries()))
	}
}

func TestUndoAndRestore(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Seed: 3})
	ctx := patience(t)
	r.upToMatch()
	latest := func() api.Revision {
		t.Helper()
		list, err := r.c.Revisions(ctx)
		if err != nil {
			t.Fatal(err)
		}
		return list[0].Revision
	}
	imported := latest()
	if err := r.patch(plan.Patch{Tag: "BERTH1-CAM-01", Set: map[string]string{"place": "Pier", "tag": "PIER-CAM-01"}},
		plan.Patch{Set: map[string]string{"tag": "NEW-1", "profile": "ovalis-c20"}}); err != nil {
		t.Fatal(err)
	}
	first := latest()
	if first.Who != account.LocalUser || first.What != "entries 1 added, 1 changed" {
		t.Errorf("%+v", first)
	}
	site, err := r.c.Site(ctx)
	if err != nil {
		t.Fatal(err)
	}
	site.Subnets[0].Gateway = site.Subnets[0].Gateway.Next()
	if err := r.c.SetSite(ctx, site); err != nil {
		t.Fatal(err)
	}
	if _, err := r.c.Undo(ctx, fmt.Sprint(first.ID)); problem.KindOf(err) != problem.Conflict {
		t.Errorf("an earlier revision was undone: %v", err)
	}
	m, err := r.c.Compare(ctx, fmt.Sprint(imported.ID), "")
	if err != nil || len(m.Site) != 1 || !strings.Contains(m.Site[0].After, "gateway 10.40.8.2") ||
		len(m.Comparison.Added) != 1 || len(m.Comparison.Removed) != 0 ||
		m.Comparison.Changed[0].String() != "tag changed from BERTH1-CAM-01 to PIER-CAM-01" {
		t.Errorf("%+v, %v", m, err)
	}
	if m, err = r.c.Compare(ctx, fmt.Sprint(imported.ID), fmt.Sprint(first.ID)); err != nil || len(m.Site) != 0 ||
		m.To.ID != first.ID {
		t.Errorf("%+v, %v", m, err)
	}
	preview, err := r.c.Restore(ctx, fmt.Sprint(imported.ID), true)
	if err != nil || preview.Revision != 0 || len(preview.Comparison.Removed) != 1 ||
		len(preview.Comparison.Changed) != 2 || len(preview.Changes) != 1 {
		t.Errorf("%+v, %v", preview, err)
	}
	if len(r.entries()) != 3 {
		t.Error("a preview changed the plan")
	}
	// The entry that was renamed is the same one, and stays what it is.
	r.commission()
	out, err := r.c.Restore(ctx, fmt.Sprint(imported.ID), false)
	if err != nil || len(out.Kept) != 0 {
		t.Errorf("kept %q, %v", out.Kept, err)
	}
	e := r.entries()
	if e["BERTH1-CAM-01"].State != state.Configured || e["PIER-CAM-01"].Tag != "" || e["NEW-1"].Tag != "" {
		t.Errorf("%+v", e)
	}
	if site, err = r.c.Site(ctx); err != nil || site.Subnets[0].Gateway.String() != "10.40.8.1" ||
		len(site.Policies) != 2 {
		t.Errorf("the site was not restored: %+v, %v", site, err)
	}
	if _, err := r.c.Undo(ctx, fmt.Sprint(out.Revision)); err != nil {
		t.Fatal(err)
	}
	if _, there := r.entries()["NEW-1"]; !there {
		t.Error("undoing the restoring did not bring the entry back")
	}
	for id, want := range map[string]problem.Kind{"999": problem.Missing, "x": problem.Missing} {
		if _, err := r.c.Restore(ctx, id, true); problem.KindOf(err) != want {
			t.Errorf("revision %s: %v", id, err)
		}
	}
	if err := r.c.NameRevision(ctx, fmt.Sprint(first.ID), strings.Repeat("x",
		101)); problem.KindOf(err) != problem.Usage {
		t.Errorf("a long name: %v", err)
	}
}

// A preview and a change that is refused leave no trace.
func TestWhatIsRefusedLeavesNoTrace(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	r.plan("tag,profile,address\nA-1,ovalis-c20,10.40.8.30\nA-2,ovalis-c20,10.40.8.31\n")
	before, err := r.c.Export(ctx, "json", "")
	if err != nil {
		t.Fatal(err)
	}
	out, err := r.c.Edit(ctx, api.Edits{Patches: []plan.Patch{{Tag: "A-1",
		Set: map[string]string{"address": "10.40.8.31"}}}}, true)
	if err != nil || len(out.New) != 1 || out.New[0].Code != "address-twice" || out.New[0].Tag != "A-2" ||
		out.Revision != 0 {
		t.Errorf("a preview: %+v, %v", out.New, err)
	}
	for what, err := range map[string]error{
		"half wrong": r.patch(plan.Patch{Tag: "A-1", Set: map[string]string{"place": "Hall"}},
			plan.Patch{Tag: "A-2", Set: map[string]string{"mac": "zz"}}),
		"no such entry": r.patch(plan.Patch{Tag: "A-1", Set: map[string]string{"place": "Hall"}},
			plan.Patch{Tag: "A-9", Remove: true}),
		"a tag twice": r.patch(plan.Patch{Tag: "A-1", Set: map[string]string{"tag": "A-2"}}),
		"control":     r.patch(plan.Patch{Tag: "A-1", Set: map[string]string{"note": "a\x00b"}}),
	} {
		if problem.KindOf(err) != problem.Usage || !strings.Contains(err.Error(), "nothing was changed") {
			t.Errorf("%s: %v", what, err)
		}
	}
	if _, err := r.c.Import(ctx, []byte("tag,place\nA-1,Hall\nA-3,Yard\n"),
		api.ImportOptions{}); problem.KindOf(err) != problem.Conflict {
		t.Errorf("a file that changes what is there: %v", err)
	}
	after, err := r.c.Export(ctx, "json", "")
	if err != nil || string(after) != string(before) {
		t.Errorf("something stuck:\n%s\n%s, %v", before, after, err)
	}
	if list, err := r.c.Revisions(ctx); err != nil || len(list) != 2 {
		t.Errorf("%d revisions, want the site and the import: %v", len(list), err)
	}
	// Renaming takes the records along.
	if err := r.set("A-1", "tag", "B-1"); err != nil {
		t.Fatal(err)
	}
	d, err := r.c.Entry(ctx, "B-1")
	if err != nil || len(d.History) != 2 || !strings.Contains(d.History[1].What, "tag changed from A-1 to B-1") {
		t.Errorf("%+v, %v", d.History, err)
	}
}

// A file in JSON brings the site along; secrets and given passwords stay behind.
func TestAWholeSiteAsAFile(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	if _, err := r.c.Import(ctx, r.site.WholePlan(), api.ImportOptions{}); err == nil && len(r.entries()) != 1 {
		t.Errorf("%d entries", len(r.entries()))
	}
	if err := r.c.SetPolicy(ctx, api.PolicyChange{For: "kind:switch", Mode: ptr(plan.Given),
		Password: "Correct7Horse"}); err != nil {
		t.Fatal(err)
	}
	file, err := r.c.Export(ctx, "json", "")
	if err != nil || strings.Contains(string(file), "vault:") || strings.Contains(string(file), "Horse") {
		t.Fatalf("%v\n%s", err, file)
	}
	var doc struct{ Site plan.Site }
	if err := json.Unmarshal(file, &doc); err != nil || len(doc.Site.Subnets) != 2 {
		t.Fatalf("%+v, %v", doc, err)
	}
	if _, err := r.c.AddSite(ctx, plan.Site{Name: "Copy of it"}); err != nil {
		t.Fatal(err)
	}
	copied := r.c.At("copy-of-it")
	if _, err := copied.Import(ctx, file, api.ImportOptions{}); err != nil {
		t.Fatal(err)
	}
	site, err := copied.Site(ctx)
	if err != nil || site.Key != "copy-of-it" || len(site.Subnets) != 2 || site.Contact == "" ||
		len(site.Policies) != 0 {
		t.Errorf("%+v, %v", site, err)
	}
	a, err := r.c.Entries(ctx)
	if err != nil {
		t.Fatal(err)
	}
	b, err := copied.Entries(ctx)
	if err != nil || len(a) != len(b) || a[0].Address != b[0].Address {
		t.Errorf("%d and %d entries, %v", len(a), len(b), err)
	}
}

func TestPlanningProblemsSayWhatToDo(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	token, err := r.s.Accounts.LocalToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	r.plan("tag,profile\nA-1,ovalis-c20\n")
	const at = "/api/sites/skerry-point"
	for _, c := range []struct {
		method, path, body string
		status             int
		want               string
	}{
		{"GET", "/api/sites/nowhere/entries", "", 404, "there is no such site"},
		{"POST", "/api/sites", `{"name":""}`, 422, "needs a name"},
		{"POST", "/api/sites", `{"name":"x","subnets":[{"name":"a","prefix":"10.0.0.1/24"}]}`, 422, "host bits"},
		{"PUT", at, `{"name":"x","zone":"Europe/Skerry"}`, 422, "time zone"},
		{"DELETE", at + "?sure=something", "", 422, "to be sure"},
		{"GET", at + "/devices/02%3A00%3A00%3a00%3A00%3A01", "", 404, "02:00:00:00:00:01"},
		{"GET", at + "/devices/", "", 404, "no such call"},
		{"GET", "/api/reckon?of=tomorrow", "", 422, "neither a prefix"},
		{"GET", "/api/reckon?of=10.0.0.1", "", 422, "with its prefix length"},
		{"GET", "/api/reckon?of=::1/64", "", 422, "IPv4"},
		{"GET", at + "/map?subnet=attic", "", 404, "no such subnet"},
		{"PATCH", at + "/entries", `{"patches":[{"tag":"A-1","set":{"address":"1.2.3"}}]}`, 422,
			"is not an IPv4 address"},
		{"PATCH", at + "/entries", `{"patches":[`, 422, "no whole JSON document"},
		{"PATCH", at + "/entries", `{"what":"` + strings.Repeat("x", 300) + `","patches":[]}`, 422, "200 characters"},
		{"POST", at + "/quantities", `[{"profile":"x","count":1,"pattern":"{n}"}]`, 422, "no profile"},
		{"POST", at + "/addresses", `{"way":"somehow","all":true}`, 422, "no way"},
		{"POST", at + "/imports?mapping=[]", "tag\nA\n", 422, "not a JSON object"},
		{"POST", at + "/imports?sheet=Nope", "tag\nA\n", 422, "no sheet"},
		{"POST", at + "/imports", "", 422, "no header"},
		{"GET", at + "/export?format=pdf", "", 422, "give one of: csv, xlsx, json"},
		{"GET", at + "/comparison?from=77", "", 404, "no such revision"},
		{"POST", at + "/revisions/1/undo", "", 409, "something else was changed"},
		{"PUT", at + "/files/..%2Fetc", "x", 422, "a file's name has"},
		{"PUT", at + "/files/empty.lic", "", 422, "empty"},
		{"PUT", at + "/policies", `{"for":"room:7","mode":"each"}`, 422, "a policy is for"},
		{"PUT", at + "/policies", `{"for":"","mode":"given"}`, 422, "needs one"},
		{"DELETE", at + "/policies?for=kind:gate", "", 404, "no such policy"},
		{"POST", at + "/credentials", "who,what\n", 422, "needs the columns"},
		{"POST", at + "/credentials", "tag,user,password\n\"A-1,x\n", 422, "do not pair up"},
		{"POST", at + "/credentials", "mac,user,password\nzz,x,y\n02:00:00:00:00:01,x,\n", 422, `"column":"password"`},
		{"POST", at + "/entries/A-1/reveal?setting=join-secret", "", 404, "no such secret"},
		{"POST", "/api/vault/key", `{"passphrase":"short"}`, 422, "12 characters"},
		{"POST", "/api/users", `{"name":"a/b","password":"a long password","rights":"look"}`, 422, "without slashes"},
		{"POST", "/api/users", `{"name":"ada","password":"a long password","rights":"rule"}`, 422, "choose look"},
		{"POST", "/api/users", `{"name":"this computer","password":"a long password","rights":"own"}`, 422, "taken"},
		{"PUT", "/api/users/nobody", `{"rights":"look"}`, 404, "no such user"},
		{"POST", "/api/tokens", `{"name":" "}`, 422, "needs a name"},
		{"DELETE", "/api/tokens/77", "", 404, "no such token"},
	} {
		status, header, answer := send(t, http.DefaultClient, c.method, r.url+c.path, c.body, "Authorization",
			"Bearer "+token)
		if status != c.status || header.Get("Content-Type") != "application/problem+json" ||
			!strings.Contains(answer, c.want) {
			t.Errorf("%s %s: %d %s; want %d with %q", c.method, c.path, status, answer, c.status, c.want)
		}
	}
	if e := r.entries(); len(e) != 1 || e["A-1"].Address.String() != "10.40.8.20" {
		t.Errorf("a refused request changed the plan: %+v", e)
	}
}

// What somebody downloads has a name and a type, and cannot be shown as a page.
func TestDownloads(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile\nA-1,ovalis-c20\n")
	token, err := r.s.Accounts.LocalToken(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"export?format=csv": "text/csv", "export?format=json": "application/json",
		"export?format=xlsx": "spreadsheetml", "template": "spreadsheetml"} {
		status, header, body := send(t, http.DefaultClient, "GET", r.url+"/api/sites/skerry-point/"+path, "",
			"Authorization", "Bearer "+token)
		if status != 200 || !strings.Contains(header.Get("Content-Type"), want) ||
			!strings.HasPrefix(header.Get("Content-Disposition"), `attachment; filename="skerry-point`) ||
			header.Get("X-Content-Type-Options") != "nosniff" || len(body) == 0 {
			t.Errorf("%s: %d %v, %d bytes", path, status, header, len(body))
		}
		for name, part := range map[string]string{"Content-Security-Policy": "frame-ancestors 'none'",
			"Referrer-Policy": "no-referrer", "Cache-Control": "no-store"} {
			if !strings.Contains(header.Get(name), part) {
				t.Errorf("%s: %s is %q", path, name, header.Get(name))
			}
		}
	}
}

// Guessing a user's password is slowed down for that user, whoever tries.
func TestGuessingIsSlowedDownPerUser(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	ctx := patience(t)
	if err := r.s.Accounts.Add(ctx, api.Account{Name: "ada", Password: "a long password",
		Rights: right.Look}); err != nil {
		t.Fatal(err)
	}
	// All at once, so that the time it takes to refuse them does not matter.
	var refused atomic.Bool
	var all sync.WaitGroup
	for i := range 40 {
		all.Add(1)
		go func() {
			defer all.Done()
			// Pretending to come from elsewhere does not help.
			status, _, _ := send(t, http.DefaultClient, "POST", r.url+"/api/session",
				`{"user":"ada","password":"guess"}`, "X-Forwarded-For", fmt.Sprintf("10.0.0.%d", i), "X-Real-IP",
				fmt.Sprintf("10.0.1.%d", i))
			if status == http.StatusTooManyRequests {
				refused.Store(true)
			}
		}()
	}
	all.Wait()
	if !refused.Load() {
		t.Error("forty guesses at once were all answered")
	}
	if err := r.s.Accounts.Set(ctx, api.Account{Name: "ada", Password: "another long one",
		Rights: right.Plan}); err != nil {
		t.Fatal(err)
	}
	if users, err := r.c.Users(ctx); err != nil || len(users) != 1 || users[0].Rights != "plan" {
		t.Errorf("%+v, %v", users, err)
	}
}

// A table of an entry: typed and pasted in the console, imported from a file of its own,
// kept apart from its secrets, and given out again.
func TestTablesOfAnEntry(t *testing.T) {
	t.Parallel()
	doc, err := os.ReadFile("../internal/core/profile/testdata/x-24.yaml")
	if err != nil {
		t.Fatal(err)
	}
	r := start(t, skerry.Options{Devices: 1}, string(doc))
	ctx := patience(t)
	r.plan("tag,profile,address,name\nSW-1,x-24,10.40.8.20,sw-1\nSW-2,x-24,10.40.8.21,sw-2\n")
	tables := r.write("ports.csv", "tag,port,role,code\nSW-1,1,uplink,hush-7\nSW-1,2,device,\n")
	redstart := r.with(t)
	redstart(1, []string{"--apply"}, "plan", "import", tables, "--rows", "ports")
	redstart(0, nil, "plan", "import", tables, "--rows", "ports", "--apply")
	ports := func(tag string) string { return r.entries()[tag].Settings["ports"] }
	if got := ports("SW-1"); strings.Contains(got, "hush-7") || !strings.Contains(got, `"code":"vault:`) ||
		!strings.Contains(got, `"role":"uplink"`) {
		t.Errorf("%s", got)
	}
	redstart(0, []string{"tag,port,role", "SW-1,1,uplink"}, "plan", "export", "-", "--format", "csv", "--rows", "ports")
	before := ports("SW-1")
	// What goes out and comes in again loses no secret.
	file, err := r.c.Export(ctx, "json", "")
	if err != nil || strings.Contains(string(file), "vault:") {
		t.Errorf("%s %v", file, err)
	}
	if _, err := r.c.Import(ctx, file, api.ImportOptions{Apply: true}); err != nil || ports("SW-1") != before {
		t.Errorf("%s, before %s: %v", ports("SW-1"), before, err)
	}
	token, err := r.s.Accounts.OnceToken(ctx)
	if err != nil {
		t.Fatal(err)
	}
	b := openTab(t, 400, 800)
	b.do(chromedp.Navigate(r.url+"/plan#once="+token),
		browser.Click(chromedp.Search(`//*[@data-test="cards"]//*[contains(text(), "SW-2")]`)),
		browser.Seen(browser.Mark("rows-ports")))
	b.do(browser.Script(`(() => {
		const cell = document.querySelector('[aria-label="Port, row 1"]')
		const data = new DataTransfer(); data.setData('text/plain', '3\tuplink\n4\tdevice\n')
		cell.dispatchEvent(new ClipboardEvent('paste', { clipboardData: data, bubbles: true, cancelable: true })); return true })()`),
		browser.Seen(chromedp.CSS(`[aria-label="Port, row 3"]`)), browser.Press("entry-save"))
	waitFor(t, func() bool { return ports("SW-2") != "" })
	if got := ports("SW-2"); got != `[{"port":"3","role":"uplink"},{"port":"4","role":"device"}]` {
		t.Errorf("pasted: %s", got)
	}
}
