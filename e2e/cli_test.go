package e2e

import (
	"context"
	"encoding/csv"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/client"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/sim/skerry"
	"redstart/profiles"
)

// A technician's whole day on the command line.
func TestTheWholeJobOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 8, Seed: 1})
	planFile := r.write("plan.csv", string(r.site.Plan()))
	redstart := func(wantCode int, wanted []string, args ...string) string {
		t.Helper()
		out, errs, code := run(append([]string{"--data", r.dir}, args...)...)
		if code != wantCode {
			t.Fatalf("redstart %s: exit code %d, want %d\n%s%s", strings.Join(args, " "), code, wantCode, out, errs)
		}
		has(t, "redstart "+strings.Join(args, " "), out+errs, wanted...)
		return out
	}
	redstart(0, []string{"Skerry Point", "10.40.8.0/22", "1022 addresses",
		"10.40.8.2-10.40.8.19 for the terminal's servers"}, "site", "show")
	redstart(0, []string{"Europe/London"}, "site", "set", "--zone", "Europe/London")
	redstart(0, []string{"The plan is empty"}, "plan", "list")
	redstart(0, []string{"8 entries added; 1 finding in the plan as it would be"}, "plan", "import", "--preview",
		planFile)
	redstart(0, []string{"BERTH1-CAM-01", "10.40.8.22", "8 entries added. Next: redstart find"}, "plan", "import",
		planFile)
	redstart(0, []string{"no entry is of the profile tolvern-d1", "0 stop commissioning, 0 warnings, 1 hint"}, "plan",
		"check")
	redstart(0, []string{"fennmark-fs8 (98 %)", "192.168.77.20", "8 devices.",
		"5 devices share the address 192.168.77.20", "Next: redstart match"}, "find")
	redstart(0, []string{"8 devices."}, "find", "--known")
	redstart(0, []string{"the plan gives this serial", "the counts agree", "8 proposed"}, "match")
	redstart(0, []string{"1 matched"}, "match", "--accept", "BERTH1-CTL-01")
	redstart(0, []string{"Matches undone: 1 (BERTH1-CTL-01)"}, "match", "undo", "BERTH1-CTL-01")
	redstart(0, []string{"guesses", "3 matched"}, "match", "--accept")
	redstart(0, []string{"5 matched"}, "match", "--accept", "--by", "order")
	redstart(0, []string{"set a new password for keeper", "Nothing was sent"}, "commission", "--rehearse",
		"BERTH1-SW-01")
	redstart(0, []string{"BERTH1-SW-01", "return after restart", "8 of 8 configured.", "Next: redstart verify"},
		"commission")
	redstart(0, []string{"8 entries: 8 verified. All done."}, "verify")
	redstart(0, []string{"factory login", "refused", "passed"}, "verify", "HALL-CAM-01")
	redstart(0, []string{"hall-cam-01", "operator", "kept over a restart", "password done"}, "plan", "show",
		"HALL-CAM-01")
	redstart(0, []string{"operator", "the history of HALL-CAM-01 says so"}, "vault", "reveal", "HALL-CAM-01")
	redstart(0, []string{"brindlecap-b4", "192.168.66.10-192.168.66.19/24"}, "profile", "list")
	redstart(0, []string{"blinks"}, "find", "blink", r.site.Boxes[0].MAC.String())

	var entries []struct{ Tag, State, Present string }
	decode(t, []byte(redstart(0, nil, "plan", "list", "--output", "json")), &entries)
	if len(entries) != 8 || entries[0].State != "verified" || entries[0].Present == "" {
		t.Errorf("as JSON: %+v", entries)
	}
	rows, err := csv.NewReader(strings.NewReader(redstart(0, nil, "plan", "list", "-o", "csv"))).ReadAll()
	if err != nil || len(rows) != 9 || rows[0][0] != "tag" || rows[1][1] != "verified" {
		t.Errorf("as CSV: %v, %v", rows, err)
	}
}

// Wrong use and bad input: one clear sentence, the right exit code, nothing half done.
func TestBadInputOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2})
	wrong := r.write("wrong.csv", "tag,profile,address\nA-01,ovalis-c20,10.40.8.300\nA-02,ovalis-c99,next\n")
	latin := r.write("latin.csv", "tag,profile,place\nA-01,ovalis-c20,\x01\xe5rn\n")
	big := r.write("big.csv", "tag,profile\n"+strings.Repeat("A,b\n", 2600000))
	profile := r.write("bad.yaml", "redstart: profile/1\nid: x1\ncolour: red\n")
	nowhere := t.TempDir()
	busy, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer busy.Close()
	stale := t.TempDir()
	if _, err := client.WriteHandle(stale, client.Handle{URL: "http://127.0.0.1:1", Token: "x"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		code int
		want string
		args []string
	}{
		{2, `row 2, column address, "10.40.8.300": is not an IPv4 address`, []string{"plan", "import", wrong}},
		{2, "no text that can be read", []string{"plan", "import", latin}},
		{2, "larger than 4 MiB", []string{"plan", "import", big}},
		{2, "cannot be read", []string{"plan", "import", filepath.Join(r.dir, "absent.csv")}},
		{2, "no file, but a folder", []string{"plan", "import", r.dir}},
		{2, "it is used as: redstart plan import FILE", []string{"plan", "import"}},
		{2, "needs a further word", []string{"plan"}},
		{2, "unknown command", []string{"plann"}},
		{2, "unknown flag", []string{"find", "--fast"}},
		{2, "--output is table, json or csv", []string{"plan", "list", "-o", "xml"}},
		{2, "is not a MAC address", []string{"match", "set", "A", "12:34"}},
		{2, "not a prefix", []string{"site", "set", "--subnet", "10.40.8.0/99"}},
		{2, "host bits", []string{"site", "set", "--subnet", "10.40.8.1/22"}},
		{2, "not a time zone", []string{"site", "set", "--zone", "Europe/Skerry"}},
		{2, "colour", []string{"profile", "check", profile}},
		{1, "there is nothing to commission", []string{"commission"}},
		{1, "there is no such entry", []string{"plan", "show", "NOBODY"}},
		{1, "no run is under way", []string{"commission", "--stop"}},
		{1, "no run was cut off", []string{"commission", "--give-up"}},
		{1, "nothing is configured yet", []string{"verify"}},
		{1, "no Redstart service is running", []string{"plan", "list", "--data", nowhere}},
		{1, "no Redstart service is running", []string{"plan", "list", "--data", stale}},
		{1, "another Redstart service is using this data folder", []string{"serve", "--listen", "127.0.0.1:0"}},
		{1, "there is no network interface nosuch0", []string{"serve", "--interface", "nosuch0", "--data", nowhere}},
		{1, "is not an Ethernet interface", []string{"serve", "--interface", "lo", "--data", nowhere}},
		{1, "cannot listen", []string{"serve", "--listen", busy.Addr().String(), "--data", nowhere}},
		{2, "not an address with a port", []string{"serve", "--listen", "here", "--data", nowhere}},
		{2, "not a loopback address", []string{"serve", "--vxlan", "192.0.2.1:4789", "--data", nowhere}},
		{2, "say where the simulated site should be", []string{"sim"}},
		{2, "--devices must be 1 to 2000", []string{"demo", "--devices", "0"}},
		{2, "the device must be 1 to 20", []string{"demo", "--fault", "21=never-returns"}},
		{2, "there are never-returns", []string{"sim", "--fault", "1=explodes"}},
		{2, "--loss must be", []string{"demo", "--loss", "2"}},
	} {
		args := c.args
		if !strings.Contains(strings.Join(args, " "), "--data") {
			args = append(args, "--data", r.dir)
		}
		out, errs, code := run(args...)
		if code != c.code || !strings.Contains(errs, c.want) || out != "" {
			t.Errorf("redstart %s: exit code %d, want %d with %q; printed\n%s%s", strings.Join(c.args, " "), code,
				c.code, c.want, out, errs)
		}
	}
	if n := len(r.entries()); n != 0 {
		t.Errorf("%d entries came from refused files", n)
	}
}

func TestWalkthroughOfTheDemo(t *testing.T) {
	t.Parallel()
	out, errs, code := run("demo", "--walkthrough", "--devices", "40", "--seed", "7", "--restarts", "0.1")
	if code != 0 {
		t.Fatalf("exit code %d\n%s%s", code, out, errs)
	}
	has(t, "walk-through", out, "Everything on its network is simulated", "PLAN", "FIND", "MATCH", "COMMISSION",
		"VERIFY", "40 entries: 40 verified. All done.")
	// One device that takes no password must show in the exit code.
	out, _, code = run("demo", "--walkthrough", "--devices", "4", "--restarts", "0.1", "--fault", "2=refuses-password")
	if code != 1 {
		t.Errorf("a failure ended with exit code %d\n%s", code, out)
	}
}

// The plan that ships with the demo is the one of the usual simulated site.
func TestShippedPlanFitsTheDemo(t *testing.T) {
	t.Parallel()
	shipped, err := os.ReadFile("../demo/skerry-point.csv")
	if err != nil {
		t.Fatal(err)
	}
	site := skerry.Start(skerry.Options{Seed: 1, Whole: true})
	defer site.Close()
	if string(shipped) != string(site.WholePlan()) {
		t.Error("demo/skerry-point.csv is out of date: make demo/skerry-point.csv")
	}
	workbook, err := os.ReadFile("../demo/skerry-point.xlsx")
	if err != nil {
		t.Fatal(err)
	}
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	var plans [2][]plan.Entry
	for i, file := range [][]byte{shipped, workbook} {
		read, err := planfile.Read(context.Background(), file, plan.Plan{Site: skerry.Data(), Profiles: set}, nil, planfile.Options{})
		if err != nil || read.Refusal() != nil {
			t.Fatal(err, read.Refusal())
		}
		plans[i] = read.Entries
		for _, e := range read.Entries {
			delete(e.Settings, "keypad-code") // a workbook holds no secrets
		}
	}
	if c := plan.Compare(plans[0], plans[1]); !c.Empty() {
		t.Errorf("demo/skerry-point.xlsx is out of date: make demo/skerry-point.xlsx: %+v", c)
	}
}
