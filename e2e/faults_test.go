package e2e

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/lan"
	"redstart/internal/lan/faults"
	"redstart/internal/lan/netstack"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/skerry"
)

var restartTimes = regexp.MustCompile(`restart: \{takes: \w+, at-most: \w+`)

// impatient is a bundled profile whose devices are given up sooner.
func impatient(t testing.TB, id string) string {
	t.Helper()
	doc, err := os.ReadFile("../profiles/" + id + ".yaml")
	if err != nil {
		t.Fatal(err)
	}
	text := restartTimes.ReplaceAllString(string(doc), "restart: {takes: 4s, at-most: 12s")
	if text == string(doc) {
		t.Fatal("the profile's patience was not found")
	}
	return text
}

// What any box may do, done by one of every model that can be set: each is found out, no
// wrong login is tried twice, and nothing of it is called verified.
func TestEveryModelWithEachFault(t *testing.T) {
	t.Parallel()
	kinds := []struct {
		faults box.Faults
		says   []string // any of them
	}{
		{box.Faults{OtherSerial: true}, []string{"serial: expected"}},
		{box.Faults{Locked: true}, []string{"neither a stored password nor the factory login opens it",
			"somebody set its first password before"}},
		{box.Faults{GoesDark: 2}, []string{"not on the segment", "no answer", "It was last seen at"}},
		{box.Faults{Slow: 300 * time.Millisecond}, nil},
	}
	models := len(all.Stock)
	devices := models*(len(kinds)-1) + 4 // slow ones are the same work again: four of them
	broken := map[int]box.Faults{}
	for i := range devices {
		broken[i] = kinds[i/models].faults
	}
	var profiles []string
	for _, s := range all.Stock {
		profiles = append(profiles, impatient(t, s.Profile))
	}
	r := start(t, skerry.Options{Devices: devices, Every: true, Seed: 55, Broken: broken}, profiles...)
	n, monitor := 0, fmt.Sprintf("BOX-%02d", slices.IndexFunc(all.Stock, func(s box.Stock) bool {
		return s.Kind == "monitor"
	}))
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) {
		// Each stands for itself: nothing waits for what is broken.
		row["tag"], row["shows"], row["after"], row["trunk"] = fmt.Sprintf("BOX-%02d", n), "", "", ""
		row["cameras"] = ""
		row["rings-at"] = strings.Replace(row["rings-at"], "BERTH1-MON-01", monitor, 1)
		n++
	}))
	r.hands(t)
	r.besideDeskSwitches()
	findings, err := r.c.Findings(patience(t))
	if err != nil {
		t.Fatal(err)
	}
	for i, b := range r.site.Boxes {
		kind, e := kinds[i/models], r.entries()[fmt.Sprintf("BOX-%02d", i)]
		if kind.says == nil {
			if e.State != state.Configured {
				t.Errorf("%s, %s, slow: %s: %s", e.Tag, e.Profile, e.State, e.Reason)
			}
			continue
		}
		// A switch on its board, or a button pressed for long, opens these all the same; a C31
		// has no login before the first is made, and an M9 none at all.
		opened := kind.faults.Locked && slices.Contains([]string{"D2", "FS5", "C31", "M9"}, b.Model.Name)
		switch {
		case kind.faults.OtherSerial: // it told so when it was found: no run takes it
			if strings.Contains(e.Reason, "it has the serial") {
				break // it tells only who is signed in: the run stopped before it wrote anything
			}
			if e.State != state.Matched || !slices.ContainsFunc(findings, func(f plan.Finding) bool {
				return f.Tag == e.Tag && f.Code == "serial-other"
			}) {
				t.Errorf("%s, %s, another serial: %s: %s", e.Tag, e.Profile, e.State, e.Reason)
			}
		case opened:
			if e.State != state.Configured {
				t.Errorf("%s, %s, locked: %s: %s", e.Tag, e.Profile, e.State, e.Reason)
			}
		case e.State != state.Attention || !slices.ContainsFunc(kind.says, func(s string) bool {
			return strings.Contains(e.Reason, s)
		}):
			t.Errorf("%s, %s, %+v: %s: %s", e.Tag, e.Profile, kind.faults, e.State, e.Reason)
		}
		refused := map[string]int{}
		for _, d := range b.Events() {
			if d.What == "refused" {
				refused[d.Value]++
			}
			station := b.Model.Frame != nil && (strings.HasPrefix(d.Value, "name ") ||
				strings.HasPrefix(d.Value, "address ")) // what it can be given before it tells who it is
			station = station || b.Model.Name == "V2" && (strings.HasPrefix(d.Value, "console ") ||
				strings.HasPrefix(d.Value, "terms ")) // before anybody can sign in
			if d.What == "write" && !station && (kind.faults.OtherSerial && i > 0 ||
				kind.faults.Locked && !opened) {
				t.Errorf("%s, %s, %+v: %s was written", e.Tag, e.Profile, kind.faults, d.Value)
			}
		}
		for login, n := range refused {
			if n > 1 {
				t.Errorf("%s, %s: %q was tried %d times", e.Tag, e.Profile, login, n)
			}
		}
	}
}

// One device of each trouble: the others go on, and each failure says what
// happened, where the box is, and what to do.
func TestTroubledDevicesFailAloneAndSayWhy(t *testing.T) {
	t.Parallel()
	// With 20 devices: 0-5 switches, 6-15 cameras, 16-19 controllers.
	r := start(t, skerry.Options{Seed: 3, Broken: map[int]box.Faults{
		1: {NeverReturns: true}, 7: {NeverReturns: true}, 8: {OldAddress: true}, 9: {RefusesPassword: true},
		17: {OldAddress: true}, 18: {RefusesPassword: true},
	}}, impatient(t, "fennmark-fs8"), impatient(t, "ovalis-c20"), impatient(t, "brindlecap-b4"))
	r.upToMatch()
	ended := r.commission()
	if ended.Failed != 6 || ended.Done != 14 {
		t.Errorf("the run says %d done, %d failed", ended.Done, ended.Failed)
	}
	for i, b := range r.site.Boxes {
		e := r.entryOf(b)
		want := map[int][]string{
			1: {"return after restart", "it did not come back, after", "not on the segment", "switch it off and on"},
			7: {"return after address", "it did not come back, after", "switch it off and on"},
			8: {"return after address", "it is at its old address", "last seen at 192.168.77.20"},
			9: {"password", "it refused: this password is not allowed", "last seen at 192.168.77.20",
				"commission it again"},
			17: {"return after restart", "it is at its old address", "last seen at 192.168.66."},
			18: {"password", "it refused: This password is not allowed", "last seen at 192.168.66."},
		}[i]
		if want == nil {
			if e.State != state.Configured {
				t.Errorf("%s is %s: %s", e.Tag, e.State, e.Reason)
			}
			expectPlanned(t, b, e)
			continue
		}
		if e.State != state.Attention {
			t.Errorf("%s is %s, want it to need attention", e.Tag, e.State)
		}
		has(t, e.Tag, e.Reason, want...)
	}
	// A device whose trouble is over goes on from what is set: here one that
	// has its new password but not its address.
	stuck := r.site.Boxes[8]
	password := stuck.Running().Password
	tag := r.entryOf(stuck).Tag
	r.site.Mend(8)
	if ended := r.commission(tag); ended.Failed != 0 {
		t.Fatalf("%s: %s", tag, r.entries()[tag].Reason)
	}
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Verified || stuck.Running().Password != password {
		t.Errorf("%s is %s: %s; the password was kept: %t", tag, e.State, e.Reason,
			stuck.Running().Password == password)
	}
}

// A planned address that somebody holds is not given out.
func TestAPlannedAddressInUseIsNotGivenOut(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 5})
	r.upToMatch()
	first := r.entryOf(r.site.Boxes[0])
	plug(t, r.site, address.MAC{2, 0xbb, 0, 0, 0, 1}, netip.PrefixFrom(first.Address, 22))
	r.commission()
	e := r.entries()[first.Tag]
	if e.State != state.Attention {
		t.Fatalf("%s is %s", e.Tag, e.State)
	}
	has(t, "reason", e.Reason, "address: the address "+first.Address.String()+" is in use by 02:bb:00:00:00:01",
		"Free the address or plan another")
	if at := r.site.Boxes[0].Running().Address.Addr().String(); at != "192.168.77.20" {
		t.Errorf("it was moved to %s all the same", at)
	}
	if e := r.entryOf(r.site.Boxes[1]); e.State != state.Configured {
		t.Errorf("the other one is %s", e.State)
	}
}

// A box that is not the one the plan names is not written to.
func TestTheWrongBoxIsNotWrittenTo(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "B4", Seed: 8})
	csv := "tag,profile,serial\nA-CTL-01,brindlecap-b4,BC4-000000\n"
	ctx := patience(t)
	r.plan(csv)
	r.find()
	wrong := r.site.Boxes[0]
	before := wrong.Running()
	if err := r.c.Match(ctx, "A-CTL-01", api.MatchWith{MAC: wrong.MAC}); err != nil {
		t.Fatal(err)
	}
	_, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil)})
	if err == nil || !strings.Contains(fmt.Sprintf("%+v", problem.Cells(err)),
		"the plan says BC4-000000, but the matched box tells "+wrong.Serial) {
		t.Errorf("commissioning the wrong box: %v", err)
	}
	e := r.entries()["A-CTL-01"]
	if e.State != state.Matched || wrong.Running() != before || wrong.Saved() != before || wrong.Starts() != 1 {
		t.Errorf("%s; the box was touched: %t", e.State, wrong.Running() != before)
	}
}

// "It answers" is not enough: somebody else at the address fails verification.
func TestVerifyNoticesASecondHolder(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "C20", Seed: 8})
	r.upToMatch()
	r.commission()
	e := r.entryOf(r.site.Boxes[0])
	plug(t, r.site, address.MAC{2, 0xbb, 0, 0, 0, 2}, netip.PrefixFrom(e.Address, 22))
	r.verify()
	e = r.entryOf(r.site.Boxes[0])
	if e.State != state.Attention {
		t.Errorf("it is %s although two hold its address", e.State)
	}
	has(t, "reason", e.Reason, "address held by: expected "+e.Device.String()+", observed 02:bb:00:00:00:02, "+
		e.Device.String())
}

// plug puts a plain host on the site's segment.
func plug(t testing.TB, site *skerry.Site, mac address.MAC, at netip.Prefix) {
	t.Helper()
	port := site.Segment.Attach(mac, 64)
	host, err := netstack.New(mac, at, netip.Addr{}, func(f []byte) { _ = port.Send(f) })
	if err != nil {
		t.Fatal(err)
	}
	var reading sync.WaitGroup
	reading.Add(1)
	go func() {
		defer reading.Done()
		for {
			f, err := port.Receive()
			if err == lan.ErrClosed {
				return
			}
			host.Deliver(f)
		}
	}()
	t.Cleanup(func() {
		port.Close()
		reading.Wait()
		host.Close()
	})
}

func TestABadCableOnlyCostsTime(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Seed: 6, Faults: faults.Faults{Loss: 0.02, Duplicate: 0.05,
		Delay: 5 * time.Millisecond}})
	r.upToVerify()
	r.allVerified()
}

// A device may go before its answer is out. What counts is where it comes back.
func TestAnAnswerLostWithTheDeviceIsNoFailure(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 12, Broken: map[int]box.Faults{0: {Mute: true}}})
	r.upToVerify()
	e := r.entryOf(r.site.Boxes[0])
	if e.State != state.Verified {
		t.Fatalf("%s: %s", e.State, e.Reason)
	}
	detail, err := r.c.Entry(patience(t), e.Tag)
	if err != nil {
		t.Fatal(err)
	}
	var history strings.Builder
	for _, n := range detail.History {
		history.WriteString(n.What + "\n")
	}
	has(t, "history", history.String(), "no answer came, so looking for it", "return after address done")
}

// beacon is a model that no Go code outside this test knows.
const beacon = `redstart: profile/1
id: lumen-k7
maker: Lumen Works
model: K7
kind: beacon
about: A made-up fourth model.
recognise:
  - {fact: mac, begins: "02:4b:37", sure: 60}
factory:
  address: 192.168.55.5/24
  login: {user: root, password: light}
user: root
name: {max: 20, case: lower}
password: {min: 6, max: 6, digits: true}
restart: {takes: 1s, at-most: 20s, shows: [uptime]}
ports: [8080]
talk:
  web: {scheme: http, port: 8080, auth: basic}
order:
  - {act: password}
  - {act: name}
  - {act: settings}
  - {act: address, then: restarts}
settings:
  - {key: colour, label: Colour, type: choice, choices: [red, green], default: red}
  - {key: watches, label: Watches, type: entry, kinds: [camera]}
  - {key: watches-at, label: Address watched, type: computed, from: "{watches.address}"}
  - {key: spare, label: Spare lamps, type: number}
acts:
  settings: [{request: "POST /set/colour", form: {to: "{setting.colour} {setting.watches-at}"}, refused: [401]}]
  identify: [{request: GET /label, take: {model: header X-Model, serial: header X-Serial, uptime: header X-Uptime}}]
  sign-in: [{request: GET /all, refused: [401]}]
  password: [{request: "POST /set/secret", form: {to: "{password}"}, refused: [401]}]
  name: [{request: "POST /set/name", form: {to: "{name}"}, refused: [401]}]
  address: [{request: "POST /set/address", form: {to: "{address}/{bits}", via: "{gateway}"}, refused: [401]}]
  read:
    - {request: GET /all, refused: [401], take: {name: json /name, address: json /net/0, mask: json /net/1, gateway: json /net/2, setting.colour: json /colour, setting.watches-at: json /at}}
`

// A fourth web-configured model needs a YAML file alone.
func TestAFourthModelNeedsOnlyAProfile(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 3, Seed: 7}, beacon)
	spec := box.Spec{MAC: address.MAC{2, 0x4b, 0x37, 0, 0, 9}, Serial: "K7-000042", Away: 100 * time.Millisecond,
		Factory: box.Settings{Name: "k7", Address: netip.MustParsePrefix("192.168.55.5/24"), Password: "light"}}
	fourth := box.New(spec, box.Model{Maker: "Lumen Works", Name: "K7", Port: 8080, Handler: beaconPages},
		r.site.Segment.Attach(spec.MAC, 64))
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Add(1)
	go func() {
		defer running.Done()
		fourth.Run(ctx)
	}()
	t.Cleanup(func() {
		stop()
		running.Wait()
	})
	csv := string(r.site.Plan()) + "YARD-BCN-01,beacon,lumen-k7,YARD,Marshalling yard,next,auto,,K7-000042\n"
	r.plan(csv)
	if err := r.set("YARD-BCN-01", "colour", "green", "watches", "BERTH1-CAM-01"); err != nil {
		t.Fatal(err)
	}
	r.find()
	if _, err := r.c.Accept(patience(t), api.Acceptance{Reasons: match.Reasons}); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	e := r.entries()["YARD-BCN-01"]
	if e.State != state.Verified || e.MatchedBy != "serial" {
		t.Fatalf("%s by %s: %s", e.State, e.MatchedBy, e.Reason)
	}
	camera := r.entries()["BERTH1-CAM-01"]
	if got := beacons.of(fourth); got != "green "+camera.Address.String() {
		t.Errorf("the device was given %q", got)
	}
	// What no act of it sends is a hand's.
	if err := r.set("YARD-BCN-01", "spare", "3"); err != nil {
		t.Fatal(err)
	}
	rehearsal, err := r.c.Rehearse(patience(t), api.RunOptions{Chosen: api.Chosen{Tags: []string{"YARD-BCN-01"}}})
	if err != nil || !slices.Equal(rehearsal.Devices[0].NotSent, []string{"spare"}) ||
		!slices.ContainsFunc(rehearsal.Devices[0].Steps, func(s api.Step) bool { return s.Hands && strings.Contains(s.Text, "to 3: no act") }) {
		t.Errorf("%+v, %v", rehearsal, err)
	}
	if e := r.entries()["YARD-BCN-01"]; e.State != state.Configured || len(e.Differs) != 1 {
		t.Errorf("with a value planned since it is %s: %v", e.State, e.Differs)
	}
	if err := r.set("YARD-BCN-01", "spare", ""); err != nil {
		t.Fatal(err)
	}
	// What it watches moves: it differs, and the next run sets it.
	if err := r.set("BERTH1-CAM-01", "address", "10.40.8.99"); err != nil {
		t.Fatal(err)
	}
	if e := r.entries()["YARD-BCN-01"]; e.State == state.Verified || len(e.Differs) != 1 ||
		!strings.Contains(e.Differs[0], "planned 10.40.8.99") {
		t.Errorf("%s, %q", e.State, e.Differs)
	}
	r.commission()
	r.verify("YARD-BCN-01")
	if got := beacons.of(fourth); got != "green 10.40.8.99" || r.entries()["YARD-BCN-01"].State != state.Verified {
		t.Errorf("after the second run it has %q: %+v", got, r.entries()["YARD-BCN-01"])
	}
	// Verification observes the setting, whatever the run believed.
	beacons.set(fourth, "red 10.40.8.99")
	r.verify("YARD-BCN-01")
	if e := r.entries()["YARD-BCN-01"]; e.State != state.Attention ||
		!strings.Contains(e.Reason, "expected green, observed red") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	s := fourth.Running()
	if s.Name != "yard-bcn-01" || s.Address.Addr() != e.Address || len(s.Password) != 6 ||
		strings.Trim(s.Password, "0123456789") != "" {
		t.Errorf("the device has %q at %s", s.Name, s.Address)
	}
}

// lamps are what beacons were given, over their restarts.
type lamps struct{ sync.Map }

var beacons lamps

func (l *lamps) of(b *box.Box) string {
	v, _ := l.Load(b)
	text, _ := v.(string)
	return text
}

func (l *lamps) set(b *box.Box, text string) { l.Store(b, text) }

// beaconPages is the web server of the fourth model.
func beaconPages(b *box.Box) http.Handler {
	mux := http.NewServeMux()
	inside := func(h http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if user, password, ok := r.BasicAuth(); !ok || user != "root" || password != b.Running().Password {
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			h(w, r)
		}
	}
	mux.HandleFunc("GET /label", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("X-Model", "K7")
		w.Header().Set("X-Serial", b.Serial)
		w.Header().Set("X-Uptime", b.Uptime())
	})
	mux.HandleFunc("GET /all", inside(func(w http.ResponseWriter, _ *http.Request) {
		s := b.Running()
		colour, at, _ := strings.Cut(beacons.of(b), " ")
		_, _ = w.Write([]byte(`{"name":"` + s.Name + `","net":["` + s.Address.Addr().String() + `","` +
			box.Mask(s.Address) + `","` + box.AddrText(s.Gateway) + `"],"colour":"` + colour + `","at":"` + at + `"}`))
	}))
	mux.HandleFunc("POST /set/{what}", inside(func(w http.ResponseWriter, r *http.Request) {
		to := r.PostFormValue("to")
		if r.PathValue("what") == "colour" {
			beacons.set(b, to)
			return
		}
		set := map[string]func(*box.Settings){
			"secret": func(s *box.Settings) { s.Password = to },
			"name":   func(s *box.Settings) { s.Name = to },
			"address": func(s *box.Settings) {
				s.Address, s.Gateway = netip.MustParsePrefix(to), netip.MustParseAddr(r.PostFormValue("via"))
			},
		}[r.PathValue("what")]
		b.Store(set)
		if r.PathValue("what") == "address" {
			b.RestartSoon(r)
			return
		}
		b.Change(set)
	}))
	return mux
}
