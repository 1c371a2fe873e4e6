package e2e

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/right"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
)

// with runs commands on a rig and checks what they print.
func (r *rig) with(t *testing.T) func(code int, wanted []string, args ...string) string {
	r.env = map[string]string{}
	return func(code int, wanted []string, args ...string) string {
		t.Helper()
		out, errs, got := runIn(r.env, r.typed, append([]string{"--data", r.dir}, args...)...)
		r.typed = ""
		if got != code {
			t.Fatalf("redstart %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), got, code, out, errs)
		}
		has(t, "redstart "+strings.Join(args, " "), out+errs, wanted...)
		return out
	}
}

// A whole plan written on the command line, on a site that did not exist before.
func TestPlanningOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	redstart := r.with(t)
	redstart(0, []string{"Skerry Point"}, "site", "list")
	redstart(0, []string{"harbour-office", "Usable", "254 addresses"}, "site", "add", "--name", "Harbour Office",
		"--contact", "Ada", "--zone", "Europe/Oslo", "--subnet", "10.60.0.0/24", "--gateway", "10.60.0.1", "--ntp",
		"10.60.0.2", "--range", "clock=10.60.0.100-10.60.0.110")
	redstart(2, []string{"several sites", "--site KEY"}, "plan", "list")
	r.env["REDSTART_SITE"] = "harbour-office"
	redstart(0, []string{"Subnet attic", "VLAN", "61"}, "site", "subnet", "attic", "--prefix", "10.61.0.0/26", "--vlan",
		"61", "--gateway", "10.61.0.1", "--ntp", "10.60.0.2")
	redstart(0, []string{"10.60.0.255", "254", "252", "the time server"}, "site", "reckon", "10.60.0.2")
	redstart(0, []string{"255.255.252.0", "1022"}, "site", "reckon", "10.99.0.0/22")

	redstart(0, []string{"HALL-CAM-01", "10.60.0.3", "hall-cam-01", "Nothing was changed"}, "plan", "generate",
		"--profile", "ovalis-c20", "--count", "2", "--pattern", "{area}-CAM-{n:02}", "--areas", "HALL,YARD",
		"--preview")
	redstart(0, []string{"4 entries added"}, "plan", "generate", "--profile", "ovalis-c20", "--count", "2", "--pattern",
		"{area}-CAM-{n:02}", "--areas", "HALL,YARD")
	redstart(0, []string{"CLK-1", "10.60.0.100"}, "plan", "add", "CLK-1", "profile=clepsydra-k3",
		"time-zone=Europe/Oslo", "place=MON-1")
	redstart(0, []string{"1 entry added"}, "plan", "add", "MON-1", "profile=tolvern-m7", "room=1")
	redstart(0, []string{"1 entry added"}, "plan", "add", "DOOR-1", "profile=tolvern-d1", "rings-at=MON-1", "room=2",
		"shows=HALL-CAM-01", "after=MON-1")
	redstart(0, []string{"rtsp://operator@10.60.0.3:554/main", "HALL-CAM-01 address 10.60.0.3", "Comes after"}, "plan",
		"show", "DOOR-1")
	redstart(0, []string{"Address", "10.60.0.3", "10.60.0.77"}, "plan", "set", "HALL-CAM-01", "address=10.60.0.77")
	redstart(0, []string{"rtsp://operator@10.60.0.77:554/main"}, "plan", "show", "DOOR-1")
	redstart(2, []string{"is not an IPv4 address", "nothing was changed"}, "plan", "set", "HALL-CAM-01",
		"address=10.60.0.777")
	redstart(2, []string{"give tags and field=value"}, "plan", "set", "HALL-CAM-01", "MON-1")

	// A mistake, its finding, its mend.
	redstart(0, nil, "plan", "set", "YARD-CAM-01", "name=Not A Name", "address=none")
	redstart(1, []string{"name refused", "address missing", "(safe)", "--mend applies"}, "plan", "check")
	redstart(0, []string{"yard-cam-01", "safe mends; nothing was changed"}, "plan", "check", "--mend", "--preview")
	redstart(0, []string{"2 safe mends", "0 stop commissioning"}, "plan", "check", "--mend")

	redstart(0, []string{"10.60.0.10", "10.60.0.20"}, "plan", "addresses", "spread", "HALL-CAM-01", "HALL-CAM-02",
		"--from", "10.60.0.10", "--step", "10")
	redstart(0, []string{"10.61.0.10", "10.61.0.20"}, "plan", "addresses", "move", "HALL-CAM-01", "HALL-CAM-02",
		"--subnet", "attic")
	redstart(0, []string{"is kept free: later"}, "plan", "reserve", "10.60.0.200-10.60.0.209", "later")
	redstart(0, []string{"10.60.0.0", "××", "o", "addresses are free"}, "plan", "map", "main")
	redstart(0, []string{"10.60.0.205", "kept free later"}, "plan", "map", "main", "--list")

	// Out, changed, and in again.
	workbook := filepath.Join(r.dir, "out.xlsx")
	redstart(0, []string{"Written"}, "plan", "export", workbook)
	redstart(0, []string{"already as the file says"}, "plan", "import", workbook)
	redstart(0, []string{"Written"}, "plan", "template", filepath.Join(r.dir, "template.xlsx"))
	csv := redstart(0, nil, "plan", "export", "-", "--format", "csv")
	redstart(0, []string{"hosts", "redstart handover NAME FILE"}, "handover")
	redstart(0, []string{"\thall-cam-01", "# HALL-CAM-01, planned"}, "handover", "hosts", "-")
	redstart(1, []string{"there is no such document"}, "handover", "nothing", "-")
	changed := r.write("rev-b.csv", strings.Replace(strings.Replace(csv, "tag,", "Dev ref,", 1), "YARD-CAM-02,",
		"YARD-CAM-09,", 1))
	redstart(1, []string{"YARD-CAM-09", "removed", "Nothing was changed", "--apply"}, "plan", "import", changed,
		"--whole", "--column", "Dev ref=tag")
	redstart(0, []string{"1 entry added", "1 entry removed"}, "plan", "import", changed, "--whole", "--apply",
		"--column", "Dev ref=tag")
	redstart(0, []string{"already as the file says"}, "plan", "import", changed) // the site remembers the column

	// What was, and back to it.
	redstart(0, []string{"1 removed", "entries 1 added", "site made"}, "plan", "history")
	revisions := redstart(0, nil, "plan", "history", "-o", "json")
	var list []api.Revision
	decode(t, []byte(revisions), &list)
	before := fmt.Sprint(list[1].ID)
	redstart(0, []string{"YARD-CAM-02", "removed", "YARD-CAM-09", "added"}, "plan", "compare", before)
	redstart(0, []string{"is named"}, "plan", "name-revision", before, "issued for construction, rev C")
	redstart(0, []string{"YARD-CAM-02", "Nothing was changed"}, "plan", "restore", before, "--preview")
	redstart(0, []string{"1 entry added, 1 entry removed"}, "plan", "restore", before)
	redstart(0, []string{"The plans are the same"}, "plan", "compare", before)
	redstart(0, []string{"YARD-CAM-09"}, "plan", "undo")
	redstart(0, []string{"issued for construction, rev C"}, "plan", "history")

	redstart(0, []string{"removed"}, "plan", "remove", "DOOR-1")
	redstart(1, []string{"there is no such site"}, "site", "remove", "harbour-office-not")
	redstart(2, []string{"for good", "nothing was done"}, "site", "remove", "harbour-office")
	redstart(0, []string{"is forgotten"}, "site", "remove", "harbour-office", "--yes")
}

func TestThePlantedMistakesOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	redstart := r.with(t)
	out := redstart(1, nil, "plan", "check", "../demo/skerry-point-mistakes.json")
	for _, rule := range plan.Rules {
		if rule.Code != "address-living" && rule.Code != "policy-refused" &&
			!strings.Contains(out, strings.ReplaceAll(rule.Code, "-", " ")) &&
			!slices.Contains([]string{"mac-other", "serial-other", "setting-unknown", "not-set-yet"}, rule.Code) {
			t.Errorf("%s is not shown", rule.Code)
		}
	}
	has(t, "plan check", out, "5 cells cannot be understood", `row 2, column address, "10.40.8.300"`,
		"HALL-CAM-10, row 11", "address = ")
	redstart(2, []string{"refused whole because of 5 mistakes"}, "plan", "import", "../demo/skerry-point-mistakes.json")
	if len(r.entries()) != 0 {
		t.Error("a refused file left entries")
	}
}

// An entry whose device is configured and that is changed in the plan, or whose
// settings follow another entry, differs; it is never shown as verified, and a
// run sets it right.
func TestADeviceThatDiffersFromThePlan(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 4, Seed: 3})
	r.upToVerify()
	ctx := patience(t)
	redstart := r.with(t)
	camera := r.entryOf(r.site.Boxes[1])
	redstart(0, nil, "plan", "set", camera.Tag, "name=pier-head")
	e := r.entries()[camera.Tag]
	if e.State == state.Verified || len(e.Differs) != 1 || !strings.Contains(e.Differs[0], "planned pier-head") {
		t.Fatalf("%s, %q", e.State, e.Differs)
	}
	redstart(0, []string{"configured, differs", "1 differing from the plan", "which sets what differs", "name: set to"},
		"plan", "list")
	redstart(1, []string{"its device is configured"}, "plan", "remove", camera.Tag)
	// A file does not touch configured entries unless that is asked for.
	file := r.write("rev.csv", "tag,profile,name\n"+camera.Tag+",ovalis-c20,somewhere-else\n")
	redstart(1, []string{"Left alone, because their devices are configured"}, "plan", "import", file)
	if got := r.entries()[camera.Tag].Name; got != "pier-head" {
		t.Errorf("the name became %q", got)
	}
	// Where it is, is nothing that the device is given.
	redstart(0, []string{"Place"}, "plan", "import", "--apply",
		r.write("place.csv", "tag,profile,place\n"+camera.Tag+",ovalis-c20,Pier head\n"))
	if e := r.entries()[camera.Tag]; e.Place != "Pier head" || len(e.Differs) != 1 {
		t.Errorf("the place is %q, it differs in %q", e.Place, e.Differs)
	}
	if a := r.commission(); a.Total != 1 {
		t.Errorf("%d devices were set, want the one that differs", a.Total)
	}
	r.verify()
	if e := r.entries()[camera.Tag]; e.State != state.Verified || r.site.Boxes[1].Saved().Name != "pier-head" {
		t.Errorf("%s, %q, the box has %q", e.State, e.Differs, r.site.Boxes[1].Saved().Name)
	}
	// Everybody on the gateway's other side: all four differ.
	site, err := r.c.Site(ctx)
	if err != nil {
		t.Fatal(err)
	}
	site.Subnets[0].Gateway = site.Subnets[0].Gateway.Next()
	if err := r.c.SetSite(ctx, site); err != nil {
		t.Fatal(err)
	}
	for tag, e := range r.entries() {
		if e.State == state.Verified || len(e.Differs) == 0 {
			t.Errorf("%s is %s after the gateway moved", tag, e.State)
		}
	}
}

func TestPoliciesDecidePasswords(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 5})
	redstart := r.with(t)
	redstart(0, []string{"one password per kind of 12 characters"}, "vault", "policy", "set", "kind:camera",
		"--passwords", "kind", "--length", "12")
	r.typed = "Correct7Horse" + "\n"
	redstart(0, []string{"a given password"}, "vault", "policy", "set", "kind:switch", "--passwords", "given")
	redstart(0, []string{"kind:camera", "given", "duty@skerry-point.example"}, "vault", "policy", "list")
	r.upToMatch()
	r.commission()
	passwords := map[string]map[string]bool{}
	for _, b := range r.site.Boxes {
		if passwords[b.Model.Name] == nil {
			passwords[b.Model.Name] = map[string]bool{}
		}
		passwords[b.Model.Name][b.Saved().Password] = true
	}
	if len(passwords["C20"]) != 1 || len(passwords["FS8"]) != 1 || !passwords["FS8"]["Correct7Horse"] {
		t.Errorf("cameras have %d passwords, switches %d", len(passwords["C20"]), len(passwords["FS8"]))
	}
	for p := range passwords["C20"] {
		if len(p) != 12 {
			t.Errorf("a password of %d characters, want 12", len(p))
		}
	}
	// A given password that a family refuses stops its entries before the run.
	r.typed = "short" + "\n"
	redstart(0, nil, "vault", "policy", "set", "kind:switch", "--passwords", "given")
	redstart(1, []string{"policy refused", "the FS8 refuses the given password"}, "plan", "check")
	redstart(0, []string{"Left out", "the FS8 refuses the given password"}, "commission", "--rehearse", "BERTH1-SW-01")
	redstart(0, []string{"Taken away"}, "vault", "policy", "remove", "kind:switch")
}

func TestTheVaultIsLockedAndUnlocked(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20"})
	redstart := r.with(t)
	r.upToMatch()
	known := r.entries()["BERTH1-CAM-01"].Device
	for _, b := range r.site.Boxes {
		if b.MAC == known {
			b.Change(func(s *box.Settings) { s.Password = "known-before-1" })
			b.Save()
		}
	}
	learned := r.write("known.csv", "tag,user,password\nBERTH1-CAM-01,operator,known-before-1\nNOBODY,x,y\n")
	redstart(2, []string{`row 3, column tag, "NOBODY": there is no such entry`, "none was stored"}, "vault", "learn",
		learned)
	redstart(0, []string{"1 login stored", "delete it"}, "vault", "learn",
		r.write("known.csv", "mac,tag,user,password\n,BERTH1-CAM-01,operator,known-before-1\n"))
	redstart(0, []string{"operator", "known-before-1"}, "vault", "reveal", "BERTH1-CAM-01")
	r.typed = "four words nobody says" + "\n"
	redstart(0, []string{"open", "a passphrase"}, "vault", "change-key")
	redstart(0, []string{"locked"}, "vault", "lock")
	redstart(1, []string{"the vault is locked"}, "vault", "reveal", "BERTH1-CAM-01")
	redstart(1, []string{"the vault is locked, so no password could be stored"}, "commission")
	r.typed = "not this one at all" + "\n"
	redstart(2, []string{"does not open the vault"}, "vault", "unlock")
	r.typed = "four words nobody says" + "\n"
	redstart(0, []string{"open"}, "vault", "unlock")
	redstart(0, []string{"known-before-1"}, "vault", "reveal", "BERTH1-CAM-01")
	redstart(0, []string{"the key file"}, "vault", "change-key", "--key-file")
	if a := r.commission(); a.Failed != 0 {
		t.Errorf("%+v", a)
	}
	history := redstart(0, nil, "plan", "show", "BERTH1-CAM-01")
	has(t, "history", history, "credential 1 shown", "known login stored")
}

func TestSecretSettingsStayInTheVault(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	redstart := r.with(t)
	redstart(0, nil, "plan", "add", "RAD-1", "profile=tidewell-w1", "radio-region=Europe",
		"join-secret=gullandtern9")
	for what, text := range map[string]string{"show": redstart(0, []string{"••• in the vault"}, "plan", "show",
		"RAD-1"), "history": redstart(0, nil, "plan", "history"),
		"JSON":   redstart(0, nil, "plan", "list", "-o", "json"),
		"export": redstart(0, nil, "plan", "export", "-", "--format", "json"), "log": r.log.String()} {
		if strings.Contains(text, "gullandtern") {
			t.Errorf("the secret is in the %s", what)
		}
	}
	files, err := filepath.Glob(filepath.Join(r.dir, "redstart.db*"))
	if err != nil || len(files) == 0 {
		t.Fatal(err)
	}
	for _, f := range files {
		if content, err := os.ReadFile(f); err != nil || strings.Contains(string(content), "gullandtern") {
			t.Errorf("the secret is in %s (%v)", filepath.Base(f), err)
		}
	}
	redstart(0, []string{"gullandtern9"}, "vault", "reveal", "RAD-1", "--setting", "join-secret")
	redstart(0, []string{"join-secret shown"}, "plan", "show", "RAD-1")
	redstart(0, []string{"Stored"}, "plan", "file", "add", r.write("vox.lic", "licence"))
	redstart(0, []string{"vox.lic", "7 bytes"}, "plan", "file", "list")
	redstart(0, nil, "plan", "add", "VOX-1", "profile=tolvern-v2", "licence=vox.lic")
	if out, _, _ := run("--data", r.dir, "plan", "check"); strings.Contains(out, "file missing") {
		t.Error("a file that is there is missing")
	}
	redstart(0, []string{"Forgotten"}, "plan", "file", "remove", "vox.lic")
	redstart(1, []string{"file missing"}, "plan", "check")
}

func TestRightsAndTokens(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2})
	redstart := r.with(t)
	ctx := patience(t)
	if _, err := r.s.Accounts.FirstStart(ctx); err != nil {
		t.Fatal(err)
	}
	rights := map[string]string{"lou": "look", "pat": "plan", "cas": "commission", "owner": "own"}
	for _, name := range []string{"lou", "pat", "cas"} {
		right := rights[name]
		r.typed = "a long password " + name + "\n"
		redstart(0, []string{name, "may"}, "user", "add", name, "--right", right)
	}
	r.typed = "short" + "\n"
	redstart(2, []string{"10 to 200 characters"}, "user", "add", "zoe")
	redstart(0, []string{"owner", "may do everything", "lou", "may only look"}, "user", "list")
	for name, may := range map[string][3]bool{"lou": {false, false, false}, "pat": {true, false, false},
		"cas": {true, true, false}, "owner": {true, true, true}} {
		token, err := r.s.Accounts.AddToken(ctx, api.Person{Name: name}, api.ForToken{Name: "test", Rights: right.Right(rights[name])})
		if err != nil {
			t.Fatal(err)
		}
		header := []string{"Authorization", "Bearer " + token.Token}
		if status, _, _ := send(t, http.DefaultClient, "GET", r.url+"/api/sites/skerry-point/entries", "",
			header...); status != http.StatusOK {
			t.Errorf("%s may not look: %d", name, status)
		}
		for i, c := range []struct{ method, path, body string }{
			{"PATCH", "/api/sites/skerry-point/entries?preview=true", `{"patches":[]}`},
			{"POST", "/api/sites/skerry-point/matches", `{"all":true}`},
			{"GET", "/api/users", ""},
		} {
			status, _, answer := send(t, http.DefaultClient, c.method, r.url+c.path, c.body, header...)
			if (status == http.StatusOK) != may[i] || !may[i] &&
				(status != http.StatusForbidden || !strings.Contains(answer, "the token test may not")) {
				t.Errorf("%s, %s %s: %d %s", name, c.method, c.path, status, answer)
			}
		}
	}
	for name, want := range map[string]int{"lou": http.StatusForbidden, "pat": http.StatusForbidden,
		"cas": http.StatusNotFound} { // packets hold what was typed into boxes; there are none yet
		token, err := r.s.Accounts.AddToken(ctx, api.Person{Name: name}, api.ForToken{Name: "packets", Rights: right.Right(rights[name])})
		if err != nil {
			t.Fatal(err)
		}
		if status, _, answer := send(t, http.DefaultClient, "GET", r.url+"/api/sites/skerry-point/surveys/1/capture", "",
			"Authorization", "Bearer "+token.Token); status != want {
			t.Errorf("packets for %s: %d %s", name, status, answer)
		}
	}
	// The command line with a token, from anywhere.
	out := redstart(0, []string{"Shown only now"}, "user", "token", "add", "laptop", "-o", "table")
	var token string
	for _, word := range strings.Fields(out) {
		if len(word) == 26 && strings.ToUpper(word) == word {
			token = word
		}
	}
	remote := map[string]string{"REDSTART_URL": r.url, "REDSTART_TOKEN": token}
	if out, errs, code := runIn(remote, "", "site", "list", "--data", t.TempDir()); code != 0 ||
		!strings.Contains(out, "Skerry Point") {
		t.Fatalf("with a token: %d %s%s", code, out, errs)
	}
	tokens, err := r.c.Tokens(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range tokens {
		if k.Name == "laptop" {
			redstart(0, []string{"Revoked"}, "user", "token", "revoke", fmt.Sprint(k.ID))
		}
	}
	if _, errs, code := runIn(remote, "", "site", "list", "--data", t.TempDir()); code != 1 ||
		!strings.Contains(errs, "not signed in") {
		t.Errorf("with a revoked token: %d %s", code, errs)
	}
	redstart(1, []string{"this is the only owner"}, "user", "remove", "owner")
	redstart(0, []string{"may only look"}, "user", "set", "pat", "--right", "look")
	redstart(0, []string{"may not sign in any more"}, "user", "remove", "lou")
	// Changing one's own password ends what knew the old one.
	if err := r.s.Accounts.ChangePassword(context.Background(), api.Person{Name: "cas"},
		api.NewPassword{Old: "wrong", New: "another long one"}); err == nil {
		t.Error("a wrong old password was taken")
	}
	if err := r.s.Accounts.ChangePassword(context.Background(), api.Person{Name: "cas"},
		api.NewPassword{Old: "a long password cas", New: "another long one"}); err != nil {
		t.Error(err)
	}
}

func TestBadInputOfPlanningCommands(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1})
	r.plan("tag,profile\nA-1,ovalis-c20\n")
	csv := r.write("x.csv", "Ref,profile\nA-2,ovalis-c20\n")
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{1, "there is no such site", []string{"plan", "list", "--site", "nowhere"}},
		{2, "neither a prefix", []string{"site", "reckon", "x"}},
		{2, "not an IPv4 address", []string{"site", "subnet", "terminal", "--dns", "10.0.0.300"}},
		{2, "ends before it begins", []string{"site", "subnet", "terminal", "--range", "clock=10.0.0.9-10.0.0.1"}},
		{1, "no such subnet", []string{"site", "subnet", "attic", "--remove"}},
		{2, "1 to 4094", []string{"site", "subnet", "terminal", "--vlan", "5000"}},
		{2, "the file has no column", []string{"plan", "import", csv, "--column", "Tag=tag"}},
		{2, "HEADER=FIELD", []string{"plan", "import", csv, "--column", "Ref"}},
		{2, "no field or setting", []string{"plan", "import", csv, "--column", "Ref=colour"}},
		{2, "Give one of: csv, xlsx, json", []string{"plan", "export", filepath.Join(r.dir, "x.pdf")}},
		{2, "needs a number", []string{"plan", "generate", "--profile", "ovalis-c20", "--pattern", "CAM"}},
		{2, "FIELD=VALUE", []string{"plan", "generate", "--profile", "ovalis-c20", "--set", "x"}},
		{2, "no way", []string{"plan", "addresses", "somehow"}},
		{2, "outside every subnet", []string{"plan", "reserve", "10.99.0.1-10.99.0.9", "x"}},
		{2, "give tags and field=value", []string{"plan", "add", "B-1", "B-2"}},
		{1, "no such revision", []string{"plan", "compare", "99"}},
		{1, "no such revision", []string{"plan", "restore", "x"}},
		{2, "cannot be read", []string{"plan", "file", "add", filepath.Join(r.dir, "absent")}},
		{2, "mode is each, kind or given", []string{"vault", "policy", "set", "site", "--passwords", "often"}},
		{1, "no such policy", []string{"vault", "policy", "remove", "kind:gate"}},
		{1, "no such profile", []string{"profile", "settings", "nothing"}},
		{1, "no such user", []string{"user", "remove", "nobody"}},
		{2, "say the right", []string{"user", "set", "nobody"}},
		{1, "no such token", []string{"user", "token", "revoke", "99"}},
	} {
		out, errs, code := run(append(c.args, "--data", r.dir)...)
		if code != c.code || !strings.Contains(errs, c.want) || out != "" {
			t.Errorf("redstart %s: exit code %d, want %d with %q; printed\n%s%s", strings.Join(c.args, " "), code,
				c.code, c.want, out, errs)
		}
	}
	if e := r.entries(); len(e) != 1 {
		t.Errorf("%d entries after wrong use", len(e))
	}
	redstart := r.with(t)
	redstart(0, []string{"rings-at", "tag of a monitor", "computed: {rings-at.address}", "needed"}, "profile",
		"settings", "tolvern-d1")
	redstart(0, []string{"takes nothing besides"}, "profile", "settings", "fennmark-fs5")
	doc, err := os.ReadFile("../profiles/tolvern-v2.yaml")
	if err != nil {
		t.Fatal(err)
	}
	known, _, _ := strings.Cut(string(doc), "\ntalk:")
	redstart(0, []string{"is sound", "does not say how to set the model"}, "profile", "check",
		r.write("known.yaml", known+"\ntalk:\n  web: {scheme: https}\n"))
}
