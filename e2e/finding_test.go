package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"

	"redstart/internal/api"
	"redstart/internal/client"
	"redstart/internal/core/device"
	"redstart/internal/core/notice"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
)

// whole starts the whole terminal with its plan, and waits until everything on it
// is up and the laptop has its address.
func whole(t *testing.T) *rig {
	t.Helper()
	return wholeBut(t, "nothing")
}

// wholeBut is the same without the entries of one profile in its plan.
func wholeBut(t *testing.T, profile string) *rig {
	t.Helper()
	r := start(t, skerry.Options{Seed: 1, Whole: true})
	r.plan(strings.Join(slices.DeleteFunc(strings.Split(string(r.site.WholePlan()), "\n"), func(line string) bool {
		return strings.Contains(line, ","+profile+",")
	}), "\n"))
	waitFor(t, func() bool {
		return !slices.ContainsFunc(r.site.All(), func(b *box.Box) bool {
			return b.Starts() == 0 || b.Model.Name == "laptop" && !b.Running().Address.IsValid()
		})
	})
	return r
}

// other gives the stand-in that is truly an entry.
func (r *rig) other(tag string) skerry.Other {
	r.t.Helper()
	i := slices.IndexFunc(r.site.Others, func(o skerry.Other) bool { return o.Tag == tag })
	if i < 0 {
		r.t.Fatalf("there is no %s", tag)
	}
	return r.site.Others[i]
}

// Finding as a technician does it: which interface, everything on the segment,
// its details, what changed, the packets, the files.
func TestFindingOnTheCommandLine(t *testing.T) {
	t.Parallel()
	r := whole(t)
	redstart := r.with(t)
	redstart(0, []string{"Interface", "Link", "Nothing was sent"}, "find", "--list", "--listen", "0.1")
	redstart(2, []string{"no range of addresses"}, "find", "--range", "10.0.0.0/8")
	redstart(2, []string{"if any flags"}, "find", "--gentle", "--look-only")
	out := redstart(0, []string{"agree that these are all", "and 5 behind them", "└ 2002/12", "reader-5",
		"waits for DHCP", "fe80::4f52:16", "172.23.7.9",
		"which the plan gives to HALL-CLK-01", "2 devices hand out addresses",
		"in its factory state hands out addresses", "2 devices share the address 10.40.8.5",
		"192.168.77.20 (10), 192.168.77.31 (6), 192.168.81.40 (3)", "5 devices fit no profile; they are left alone"},
		"find", "--capture", "--range", "172.23.7.0/28")
	if n := strings.Count(out, "\n0") + strings.Count(out, "\n1"); n != len(r.site.All()) {
		t.Errorf("%d lines of devices, want %d", n, len(r.site.All()))
	}
	router := r.other("HALL-RTR-01")
	redstart(0, []string{"tidewell-r2 (99 %)", "Recognised by: mac, model, title",
		"State: factory, because its title says so", "2001/11", "BDR-000411", "bacnet", "Told over"}, "find", "show",
		router.MAC.String())
	redstart(0, []string{"2 devices"}, "find", "--known", "--only", "tidewell-r2")

	laptop := r.site.Others[slices.IndexFunc(r.site.Others, func(o skerry.Other) bool {
		return o.Model.Name == "laptop"
	})]
	redstart(0, []string{"is a brindlecap-d2"}, "find", "choose", laptop.MAC.String(), "brindlecap-d2")
	redstart(0, []string{"brindlecap-d2 (99 %)", "Recognised by: a person"}, "find", "show", laptop.MAC.String())
	redstart(0, []string{"recognised by its signs again"}, "find", "choose", laptop.MAC.String())
	redstart(0, []string{"  unknown"}, "find", "show", laptop.MAC.String())
	redstart(1, []string{"no such profile"}, "find", "choose", laptop.MAC.String(), "nothing")
	redstart(0, []string{"1 device forgotten"}, "find", "forget", laptop.MAC.String())
	redstart(1, []string{"no such box was found"}, "find", "show", laptop.MAC.String())

	// Between two surveys one is switched off and one was moved.
	gone, moved := r.other("HALL-REC-01"), r.site.Others[slices.IndexFunc(r.site.Others, func(o skerry.Other) bool {
		return o.Model.Name == "printer"
	})]
	gone.SetFaults(box.Faults{NeverReturns: true})
	gone.Restart()
	moved.Store(func(s *box.Settings) { s.Address = netip.MustParsePrefix("10.40.11.77/22"); s.Name = "printer-2" })
	moved.Restart()
	waitFor(t, func() bool { return moved.Starts() == 2 })
	redstart(0, []string{"since the last survey: 1 gone, 1 moved"}, "find")
	redstart(0, []string{"gone " + gone.MAC.String(), "moved " + moved.MAC.String() + " 10.40.9.100 → 10.40.11.77"},
		"find", "history")
	redstart(0, []string{"not here now", "1 device found before, not here now"}, "find", "--known")

	dir := t.TempDir()
	for _, name := range []string{"found.csv", "found.xlsx", "found.json"} {
		redstart(0, []string{"Written"}, "find", "--known", "--save", filepath.Join(dir, name))
	}
	redstart(2, []string{"Give one of: csv, xlsx, json"}, "find", "--known", "--save", filepath.Join(dir, "found.doc"))
	csv, err := os.ReadFile(filepath.Join(dir, "found.csv"))
	if err != nil || strings.Count(string(csv), "\n") != len(r.site.All())+1 ||
		!strings.Contains(string(csv), "hall-core-01") {
		t.Errorf("%v\n%s", err, csv)
	}
	workbook, err := excelize.OpenFile(filepath.Join(dir, "found.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	defer workbook.Close()
	if rows, err := workbook.GetRows("facts"); err != nil || len(rows) < 200 {
		t.Errorf("%d facts, %v", len(rows), err)
	}
	var saved api.Segment
	doc, err := os.ReadFile(filepath.Join(dir, "found.json"))
	if err != nil || json.Unmarshal(doc, &saved) != nil || len(saved.Devices) != len(r.site.All()) {
		t.Errorf("%d devices, %v", len(saved.Devices), err)
	}

	packets := filepath.Join(dir, "survey.pcapng")
	redstart(0, []string{"Written"}, "find", "packets", packets)
	kept, err := filepath.Glob(filepath.Join(r.dir, "captures", "*"))
	if err != nil || len(kept) == 0 {
		t.Fatalf("no captures in the data folder: %v", err)
	}
	for _, name := range kept { // sealed: what the switches say in plain text is not in it
		if content, err := os.ReadFile(name); err != nil || bytes.Contains(content, []byte("Fennmark")) || len(content) < 4096 {
			t.Errorf("%s: %d bytes, %v", name, len(content), err)
		}
	}
	analyse(t, packets, "02:52:53:00:00:01", map[string]string{
		"arp": "ARP probes", "lldp": "LLDP", "pn_dcp": "DCP", "udp.port == 3702": "WS-Discovery", "bacapp": "BACnet",
		"enip": "EtherNet/IP", "mdns": "mDNS", "ssdp": "SSDP",
		"dhcp": "DHCP", "icmpv6": "ICMPv6", "snmp": "SNMP", "http": "HTTP", "tls": "TLS", "ssh": "SSH",
	})
	redstart(1, []string{"no such survey"}, "find", "packets", packets, "99")
}

// analyse has an independent analyser read a capture: no frame may be malformed,
// each protocol must be there, and what we sent must be in order.
func analyse(t *testing.T, path, us string, wanted map[string]string) {
	t.Helper()
	tshark := func(filter string) []string {
		out, err := exec.Command("tshark", "-r", path, "-o", "ip.check_checksum:TRUE", "-o", "udp.check_checksum:TRUE",
			"-Y", filter, "-T", "fields", "-e", "frame.number", "-e", "_ws.col.Protocol", "-e", "_ws.col.Info").Output()
		if err != nil {
			t.Fatalf("tshark -Y %s: %v", filter, err)
		}
		return strings.FieldsFunc(string(out), func(r rune) bool { return r == '\n' })
	}
	// Kernels on this machine hand over partial checksums; ours must be whole.
	for _, bad := range []string{"_ws.malformed", "eth.src == " + us +
		" && (ip.checksum.status == \"Bad\" || udp.checksum.status == \"Bad\" || icmpv6.checksum.status == \"Bad\")"} {
		if list := tshark(bad); len(list) > 0 {
			t.Errorf("%d frames are malformed (%s), like %s", len(list), bad, list[0])
		}
	}
	for filter, what := range wanted {
		if len(tshark(filter)) == 0 {
			t.Errorf("the analyser sees no %s", what)
		}
	}
	if len(tshark("eth.src == "+us+" && (dhcp || arp || bacapp || mdns)")) < 10 {
		t.Error("what we sent is not in the capture")
	}
}

func TestTheWatchTellsWhoComesAndGoes(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 6, Seed: 2})
	waitFor(t, func() bool { return r.site.Boxes[5].Starts() > 0 })
	r.find()
	camera := r.site.Boxes[2]
	ctx, cancel := context.WithCancel(patience(t))
	defer cancel()
	var seen []string
	err := r.c.Follow(ctx, func(e client.Event) bool {
		if e.Kind == "hello" {
			if err := r.c.Watch(ctx, true); err != nil {
				t.Error(err)
				return false
			}
			camera.SetFaults(box.Faults{NeverReturns: true})
			camera.Restart()
		}
		if e.Kind != "presence" {
			return true
		}
		var p api.Presence
		decode(t, e.Data, &p)
		if p.Device.MAC != camera.MAC || p.Kind == survey.Learned {
			return true
		}
		seen = append(seen, p.Kind)
		if p.Kind == survey.Departed {
			if p.Device.Here {
				t.Error("who departed is said to be here")
			}
			r.site.Plug(camera)
		}
		return p.Kind != survey.Arrived
	})
	if err != nil || !slices.Equal(seen, []string{survey.Departed, survey.Arrived}) {
		t.Errorf("%v, %v", seen, err)
	}
	seg, err := r.c.Devices(ctx)
	if err != nil || !seg.Watched || len(seg.Devices) != 6 {
		t.Errorf("%+v, %v", seg.Watched, err)
	}
	// What a person says of a box stands while the watch goes on telling of it,
	// until it is taken back.
	other := r.site.Boxes[4]
	for i, choice := range []string{"clepsydra-t1", ""} {
		if err := r.c.Choose(ctx, other.MAC, choice); err != nil {
			t.Fatal(err)
		}
		at := netip.AddrFrom4([4]byte{10, 40, 11, byte(101 + i)})
		other.Store(func(s *box.Settings) { s.Address = netip.PrefixFrom(at, 22) })
		other.Restart()
		var d api.DeviceView
		waitFor(t, func() bool {
			d, err = r.c.Device(ctx, other.MAC)
			return err == nil && d.Now == at
		})
		if d.Chosen != (choice != "") || d.Chosen && d.Profile != choice || !d.Chosen && d.Profile == "clepsydra-t1" {
			t.Errorf("chosen %q: it is a %q, chosen: %v", choice, d.Profile, d.Chosen)
		}
	}
	if err := r.c.Watch(ctx, false); err != nil {
		t.Fatal(err)
	}
	if seg, err = r.c.Devices(ctx); err != nil || seg.Watched {
		t.Errorf("still watched: %v", err)
	}
}

// A service that only looks finds everything and can do nothing else.
func TestLookingOnly(t *testing.T) {
	t.Parallel()
	r := startAs(t, &rig{lookOnly: true}, skerry.Options{Devices: 4, Seed: 1})
	r.plan(string(r.site.Plan()))
	redstart := r.with(t)
	redstart(0, []string{"4 devices."}, "find", "--pace", "400")
	redstart(0, nil, "match", "--accept")
	for _, args := range [][]string{{"commission"}, {"find", "blink", r.site.Boxes[0].MAC.String()},
		{"find", "page", r.site.Boxes[1].MAC.String()}, {"commission", "hand-out"}} {
		redstart(1, []string{"this service only looks"}, args...)
	}
	for _, b := range r.site.Boxes {
		if b.Running() != b.Factory {
			t.Errorf("%s was changed", b.MAC)
		}
	}
	seg, err := r.c.Devices(patience(t))
	if err != nil || !seg.LookOnly || slices.ContainsFunc(seg.Devices, func(d api.DeviceView) bool {
		return slices.ContainsFunc(d.Facts, func(f device.Fact) bool {
			return slices.Contains([]string{"web", "http", "onvif"}, f.Protocol)
		})
	}) {
		t.Errorf("a conversation was held: %v", err)
	}
}

// The pages of boxes at addresses that others have as well, each by its MAC.
func TestPagesOfBoxesAtOneAddress(t *testing.T) {
	t.Parallel()
	r := whole(t)
	r.find()
	ctx := patience(t)
	get := func(c *http.Client, url string) (int, string, http.Header) {
		t.Helper()
		answer, err := c.Get(url)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(body), answer.Header
	}
	boxes := map[string][]*box.Box{}
	for _, b := range r.site.All() {
		boxes[b.Model.Name] = append(boxes[b.Model.Name], b)
	}
	for model, want := range map[string]string{"C20": "/about.json", "FS5": "Fennmark FS5: first use"} {
		if len(boxes[model]) < 2 || boxes[model][0].Factory.Address != boxes[model][1].Factory.Address {
			t.Fatalf("no two %s share an address", model)
		}
		for _, b := range boxes[model][:2] {
			v, err := r.c.OpenPage(ctx, b.MAC)
			if err != nil {
				t.Fatal(err)
			}
			base, once, _ := strings.Cut(v.URL, "/#open=")
			if strings.HasPrefix(base, strings.TrimSuffix(r.url, r.url[strings.LastIndex(r.url, ":"):])) {
				t.Errorf("the page is on the console's own host: %s", base)
			}
			jar, _ := cookiejar.New(nil)
			browser := &http.Client{Jar: jar}
			if status, body, _ := get(browser, base+"/"); status != http.StatusUnauthorized ||
				strings.Contains(body, b.Model.Maker) {
				t.Errorf("without the secret: %d", status)
			}
			enter := func(secret string) int {
				request, _ := http.NewRequestWithContext(ctx, http.MethodPost, base+"/.redstart/open", nil)
				request.Header.Set("X-Redstart-Open", secret)
				answer, err := browser.Do(request)
				if err != nil {
					t.Fatal(err)
				}
				answer.Body.Close()
				return answer.StatusCode
			}
			if status := enter("guess"); status != http.StatusForbidden {
				t.Errorf("a guess: %d", status)
			}
			if status := enter(once); status != http.StatusNoContent {
				t.Fatalf("the door: %d", status)
			}
			if status := enter(once); status != http.StatusForbidden {
				t.Errorf("the secret opens twice: %d", status)
			}
			path := "/"
			if strings.HasPrefix(want, "/") {
				path, want = want, b.Serial
			}
			status, body, _ := get(browser, base+path)
			if status != http.StatusOK || !strings.Contains(body, want) {
				t.Errorf("%s %s: %d %s", model, b.MAC, status, body)
			}
			if model == "FS5" && (!strings.Contains(body, `href="`+base+`/"`) ||
				strings.Contains(body, b.Factory.Address.Addr().String())) {
				t.Errorf("its links lead elsewhere: %s", body)
			}
			want = map[string]string{"C20": "/about.json", "FS5": "Fennmark FS5: first use"}[model]
			if err := r.c.ClosePage(ctx, b.MAC); err != nil {
				t.Error(err)
			}
			if _, err := browser.Get(base + "/"); err == nil {
				t.Error("a closed page still answers")
			}
		}
	}
	if _, err := r.c.OpenPage(ctx, r.other("HALL-REC-02").MAC); err == nil ||
		!strings.Contains(err.Error(), "no page of this box is known") {
		t.Errorf("a box without IPv4: %v", err)
	}
	if strings.Contains(r.log.String(), "X-Redstart-Open") || strings.Contains(r.log.String(), "#open=") {
		t.Error("a page's secret is in the log")
	}
}

// What a box's web server sends beyond its page stays away from the browser's
// other business.
func TestAPageIsKeptApart(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "B4", Seed: 1})
	r.find()
	ctx := patience(t)
	v, err := r.c.OpenPage(ctx, r.site.Boxes[0].MAC)
	if err != nil {
		t.Fatal(err)
	}
	base, once, _ := strings.Cut(v.URL, "/#open=")
	send := func(method, path string, header map[string]string, cookies ...string) *http.Response {
		t.Helper()
		request, err := http.NewRequestWithContext(ctx, method, base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		for k, v := range header {
			request.Header.Set(k, v)
		}
		request.Header.Set("Cookie", strings.Join(cookies, "; "))
		answer, err := http.DefaultTransport.RoundTrip(request)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		return answer
	}
	in := send("POST", "/.redstart/open", map[string]string{"X-Redstart-Open": once}).Cookies()
	if len(in) != 1 || !in[0].HttpOnly || !strings.HasPrefix(in[0].Name, "box-") {
		t.Fatalf("%+v", in)
	}
	door := in[0].Name + "=" + in[0].Value
	if answer := send("GET", "/door", nil, door, "redstart=secret"); answer.StatusCode != http.StatusOK ||
		answer.Header.Get("X-Frame-Options") != "SAMEORIGIN" {
		t.Errorf("%d %v", answer.StatusCode, answer.Header)
	}
	if answer := send("GET", "/setup", nil, door); answer.StatusCode != http.StatusUnauthorized &&
		answer.StatusCode != http.StatusSeeOther {
		t.Errorf("without the box's own sign-in: %d", answer.StatusCode)
	}
	if answer := send("GET", "/worker.js", map[string]string{"Service-Worker": "script"},
		door); answer.StatusCode != http.StatusForbidden {
		t.Errorf("a service worker: %d", answer.StatusCode)
	}
	for _, c := range send("GET", "/door", nil, door).Cookies() {
		if !strings.HasPrefix(c.Name, "box-") || c.Domain != "" {
			t.Errorf("the box sets %s for %q", c.Name, c.Domain)
		}
	}
}

// The eight boxes that wait for DHCP get exactly what the plan says, beside a
// switch that hands out nonsense; nobody else is answered.
func TestAddressesAreHandedOutToTheChosen(t *testing.T) {
	t.Parallel()
	r := whole(t)
	redstart := r.with(t)
	redstart(0, nil, "find")
	redstart(0, []string{"match them first"}, "commission", "askers")
	redstart(1, []string{"no matched box waits"}, "commission", "hand-out")
	redstart(0, []string{"8 matched", "HALL-CORE-01/port7"}, "match", "--accept", "BERTH1-ACC-01", "BERTH2-ACC-01",
		"HALL-ACC-01", "HALL-ACC-02", "YARD-ACC-01", "SHOP-ACC-01", "BERTH1-RAMP-01", "BERTH1-RAMP-02")
	redstart(1, []string{"another DHCP server answers: 192.168.88.1", "--other-server 192.168.88.1"}, "commission",
		"hand-out")
	redstart(0, []string{"7 of 7 have their address"}, "commission", "hand-out", "--other-server", "192.168.88.1",
		"BERTH1-ACC-01", "BERTH2-ACC-01", "HALL-ACC-01", "HALL-ACC-02", "YARD-ACC-01", "SHOP-ACC-01", "BERTH1-RAMP-01")
	for tag, e := range r.entries() {
		o := slices.IndexFunc(r.site.Others, func(o skerry.Other) bool { return o.Tag == tag })
		if o < 0 || r.site.Others[o].Model.Class == "" {
			continue
		}
		got := r.site.Others[o].Running()
		if tag == "BERTH1-RAMP-02" {
			if got.Address.IsValid() {
				t.Errorf("who was not chosen got %s", got.Address)
			}
			continue
		}
		if got.Address != netip.MustParsePrefix(e.Address.String()+"/22") || got.Gateway.String() != "10.40.8.1" {
			t.Errorf("%s got %s by %s, planned %s", tag, got.Address, got.Gateway, e.Address)
		}
	}
	redstart(0, []string{"given 10.40.9.200 over DHCP"}, "plan", "show", "BERTH1-ACC-01")
	ctx := patience(t)
	list, err := r.c.Askers(ctx)
	if err != nil || len(list) != 1 || list[0].Tag != "BERTH1-RAMP-02" {
		t.Errorf("%+v, %v", list, err)
	}
}

// Several findings at once, in the words of the API.
func TestNoticesOfTheSegment(t *testing.T) {
	t.Parallel()
	r := whole(t)
	r.find()
	seg, err := r.c.Devices(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[string]int{}
	for _, n := range seg.Findings {
		kinds[n.Kind]++
		if n.Text == "" || len(n.MACs) == 0 {
			t.Errorf("%+v", n)
		}
	}
	for kind, want := range map[string]int{notice.PlanConflict: 2, notice.DHCPServers: 1, notice.FreshServer: 1,
		notice.UnknownDevice: 1, notice.SharedAddress: 2} {
		if kinds[kind] != want {
			t.Errorf("%d of %s, want %d", kinds[kind], kind, want)
		}
	}
	if kinds[notice.WrongSubnet] < 1 {
		t.Errorf("%v", kinds)
	}
}
