package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"redstart/internal/api"
	"redstart/internal/browser"
	"redstart/internal/client"
	"redstart/internal/core/match"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/hands"
	"redstart/internal/sim/model/all"
	"redstart/internal/sim/model/d1"
	"redstart/internal/sim/model/fs5"
	"redstart/internal/sim/model/r16"
	"redstart/internal/sim/model/w1"
	"redstart/internal/sim/skerry"
)

// labelled is the site's plan in which every line names its box by MAC and by the serial on
// its label, with what alter changes in it.
func (r *rig) labelled(t *testing.T, alter func(row map[string]string, b *box.Box)) string {
	t.Helper()
	return labelled(t, r.site, alter)
}

func labelled(t testing.TB, site *skerry.Site, alter func(row map[string]string, b *box.Box)) string {
	t.Helper()
	lines, err := csv.NewReader(bytes.NewReader(site.Plan())).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for i, line := range lines {
		if i > 0 {
			row := map[string]string{}
			for n, key := range lines[0] {
				row[key] = line[n]
			}
			b := site.Boxes[i-1]
			row["mac"], row["serial"] = b.MAC.String(), b.Label
			if alter != nil {
				alter(row, b)
			}
			for n, key := range lines[0] {
				line[n] = row[key]
			}
		}
		if err := w.Write(line); err != nil {
			t.Fatal(err)
		}
	}
	w.Flush()
	return out.String()
}

// upTo plans what stands there, finds it and accepts what the plan itself says.
func (r *rig) upTo(t *testing.T, plan string) {
	t.Helper()
	r.plan(plan)
	r.find()
	if _, err := r.c.Accept(patience(t), api.Acceptance{Reasons: match.Reasons}); err != nil {
		t.Fatal(err)
	}
}

// neverTold are the settings that a model never tells again, by model.
var neverTold = map[string]string{"D4": "keypad-code"}

// Every family that can be set goes from factory to verified, and what nobody can observe
// is named, not passed.
func TestEveryFamilyFromFactoryToVerified(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: len(all.Stock), Every: true, Seed: 91})
	r.upTo(t, r.labelled(t, nil))
	r.hands(t)
	r.besideDeskSwitches()
	r.verify()
	for i, b := range r.site.Boxes {
		e := r.entryOf(b)
		if unseen := neverTold[b.Model.Name]; unseen != "" {
			if e.State != state.Configured || !slices.Equal(e.Unseen, []string{unseen}) {
				t.Errorf("%s: %s: %s; not looked at: %v", e.Tag, e.State, e.Reason, e.Unseen)
			}
			continue
		}
		if e.State != state.Verified {
			d, err := r.c.Entry(patience(t), e.Tag)
			if err != nil {
				t.Fatal(err)
			}
			var open []string
			for _, c := range d.Checks {
				if c.Verdict != result.Passed {
					open = append(open, c.Name+": "+c.Observed)
				}
			}
			t.Errorf("%s, %s: %s: %s; %s", e.Tag, all.Stock[i].Profile, e.State, e.Reason, strings.Join(open, "; "))
		}
	}
}

// A door station follows the camera that it shows: a new password there is a difference
// here, and is given to it with the next run.
func TestALoginThatOneDeviceNeedsOfAnother(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 7, Every: true, Seed: 92})
	r.upTo(t, r.labelled(t, nil))
	i := slices.IndexFunc(r.site.Boxes, func(b *box.Box) bool { return b.Model.Name == "D1" })
	door := r.site.Boxes[i]
	camera := r.site.Boxes[slices.IndexFunc(r.site.Boxes, func(b *box.Box) bool { return b.Model.Name == "C20" })]
	monitor := r.site.Boxes[slices.IndexFunc(r.site.Boxes, func(b *box.Box) bool { return b.Model.Name == "M7" })]
	tag, of := r.entryOf(door).Tag, r.entryOf(camera).Tag

	// Without the camera it is left out; with it, it comes after.
	if out, err := r.c.Rehearse(patience(t), api.RunOptions{Chosen: chosen([]string{tag})}); err != nil ||
		len(out.Left) != 1 || !strings.Contains(out.Left[0].Why, "comes after "+of) {
		t.Errorf("without its camera: %+v", out.Left)
	}
	r.commission(tag, of, r.entryOf(monitor).Tag)
	r.verify(tag)
	if e := r.entryOf(door); e.State != state.Verified {
		t.Fatalf("%s: %s", e.State, e.Reason)
	}
	if own := door.Running().Own.(d1.Own); own.Login != camera.Running().Password || own.User != "operator" {
		t.Errorf("it has the login %s of the camera", own.User)
	}
	was := camera.Running().Password
	r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{of}), Fresh: true})
	})
	if camera.Running().Password == was {
		t.Fatal("the camera has no new password")
	}
	if e := r.entryOf(door); !slices.ContainsFunc(e.Differs, func(s string) bool {
		return strings.Contains(s, "stream-login: "+of+" has another login now")
	}) {
		t.Errorf("it differs in %v", e.Differs)
	}
	r.verify(tag)
	if e := r.entryOf(door); e.State != state.Attention || !strings.Contains(e.Reason, "does not work") {
		t.Errorf("with the old login of the camera it is %s: %s", e.State, e.Reason)
	}
	r.commission(tag)
	r.verify(tag)
	if e := r.entryOf(door); e.State != state.Verified || e.Differs != nil {
		t.Errorf("%s: %s, differs in %v", e.State, e.Reason, e.Differs)
	}
}

// besideDeskSwitches commissions everything while desk switches that are not set yet hand
// out addresses.
func (r *rig) besideDeskSwitches() {
	r.t.Helper()
	r.do(func(ctx context.Context) (api.Work, error) {
		return r.c.Commission(ctx, api.RunOptions{Chosen: chosen(nil), Lines: onLines(r.t, r.c, r.plugged, nil),
			OtherServers: []netip.Addr{fs5.Factory.Address.Addr()}})
	})
}

// hands has somebody do what is asked by hand while the test runs.
func (r *rig) hands(t *testing.T) {
	t.Helper()
	ended := handsOf(r.site, r.c)
	t.Cleanup(func() {
		if err := ended(); err != nil {
			t.Errorf("the hands: %v", err)
		}
	})
}

// wrongHands has somebody say of all that is asked by hand that it was done, and do nothing.
func (r *rig) wrongHands(t *testing.T) {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- hands.Person{Wrong: true}.Serve(ctx, r.c) }()
	t.Cleanup(func() {
		if stop(); <-ended != nil {
			t.Error("the hands")
		}
	})
}

// handsOf has somebody do what is asked by hand, until the function that it gives is called.
func handsOf(site *skerry.Site, c *client.Client) (end func() error) {
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() {
		ended <- hands.Person{Do: hands.With(site.All()), Accepts: "a person who is simulated"}.Serve(ctx, c)
	}()
	return func() error {
		stop()
		return <-ended
	}
}

// With a speed that the bus does not have nothing behind a router answers, and that is seen.
func TestTheWrongSpeedOnATrunk(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "R2", Seed: 93}, impatient(t, "tidewell-r2"))
	router := r.site.Boxes[0]
	plan := func(speed string) string {
		return "tag,profile,mac,ip-network,trunk-a-network,trunk-a-speed,trunk-b-network,trunk,bus-address,not-wired\n" +
			"RTR,tidewell-r2," + router.MAC.String() + ",40,4001," + speed + ",4002,,,\n" +
			"ACC,brindlecap-d2,,,,,,RTR/trunk-a-network,11,yes\n"
	}
	r.upTo(t, plan("9600"))
	r.commission("RTR")
	r.verify("RTR")
	if e := r.entries()["RTR"]; e.State != state.Attention || !strings.Contains(e.Reason,
		"network 4001: expected answers, observed nothing answers there") {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
	if err := r.set("RTR", "trunk-a-speed", "76800"); err != nil {
		t.Fatal(err)
	}
	r.commission("RTR")
	r.verify("RTR")
	// Nothing is planned on the other trunk, so that nothing answers there says nothing.
	if e := r.entries()["RTR"]; e.State != state.Configured || !slices.Equal(e.Unseen, []string{"network 4002"}) {
		t.Errorf("%s: %s; not looked at: %v", e.State, e.Reason, e.Unseen)
	}
}

// A radio gateway restarts after every page; its sensors are given as a table with a secret
// in each row, and join when somebody takes their batteries out.
func TestARadioGatewayAndItsSensors(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "W1", Seed: 94}, impatient(t, "tidewell-w1"))
	b := r.site.Boxes[0]
	r.upTo(t, "tag,profile,mac,radio-region\nRAD,tidewell-w1,"+b.MAC.String()+",Europe\n")
	key := w1.KeyOf("0011223344556677")
	if err := r.set("RAD", "sensors", `[{"eui":"0011223344556677","join-eui":"8899AABBCCDDEEFF","key":"`+key+
		`","point":"Gate"}]`); err != nil {
		t.Fatal(err)
	}
	r.hands(t)
	r.commission("RAD")
	r.verify("RAD")
	if e := r.entries()["RAD"]; e.State != state.Verified {
		t.Fatalf("%s: %s, not looked at %v", e.State, e.Reason, e.Unseen)
	}
	if own := b.Running().Own.(w1.Own); !strings.Contains(own.Sensors, key) || own.Joined != "0011223344556677" {
		t.Errorf("%+v", own)
	}
	if b.Starts() < 4 {
		t.Errorf("it started %d times", b.Starts())
	}
	r.hidden(map[string]string{key: "the key of a sensor"})
	// What it is told to forget later is seen.
	b.Change(func(s *box.Settings) {
		own := s.Own.(w1.Own)
		own.Sensors, own.Zone = "", "Etc/UTC"
		s.Own = own
	})
	b.SetClock(time.Now().Add(-time.Hour))
	r.verify("RAD")
	for name, want := range map[string]string{"zone": "Etc/UTC", "sensors": "not said", "clock": "1h0m"} {
		if c := r.checkOf("RAD", name); c.Verdict != result.Failed || !strings.Contains(c.Observed, want) {
			t.Errorf("%+v", c)
		}
	}
}

// A profile is tried act by act: what is wrong in it shows beside what the box said, and no
// secret does.
func TestTryingAProfile(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "R16", Seed: 95})
	b := r.site.Boxes[0]
	r.find()
	redstart := r.with(t)
	mac := b.MAC.String()
	redstart(1, []string{`"nonce":"•••"`, `"proof":"•••"`, "403 Forbidden", "change the factory password first",
		"read: it answered 403 Forbidden"}, "profile", "try", "ovalis-r16", mac)
	if s := b.Running(); s != b.Factory {
		t.Errorf("trying what changes nothing changed %+v", s)
	}
	doc, err := os.ReadFile("../profiles/ovalis-r16.yaml")
	if err != nil {
		t.Fatal(err)
	}
	mine := r.write("mine.yaml", strings.Replace(string(doc), "json /nonce", "json /once", 1))
	redstart(1, []string{"> GET /r/nonce", "there is nothing at /once"}, "profile", "try", mine, mac, "sign-in")
	r.write("mine.yaml", string(doc))
	out := redstart(0, []string{"> PUT /r/name", `> {"name":"lamp-1"}`, "Went through: password, name"}, "profile",
		"try",
		mine, mac, "password", "name", "--set", "name=lamp-1")
	if s := b.Saved(); s.Name != "lamp-1" || s.Password == r16.FactoryPassword || strings.Contains(out, s.Password) {
		t.Errorf("%+v\n%s", s, out)
	}
	// What was set is kept: the next trial signs in with it.
	waitFor(t, func() bool { return b.Running().Name == "lamp-1" })
	redstart(0, []string{"Went through: sign-in"}, "profile", "try", mine, mac, "sign-in")
	redstart(1, []string{"has no act dance"}, "profile", "try", mine, mac, "dance")
}

// A camera that takes its time lets the time that it is sent grow old: its clock is read back,
// and set again by so much later.
func TestTheClockOfASlowBox(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "C20", Seed: 96, Broken: map[int]box.Faults{
		0: {Slow: 2500 * time.Millisecond}}})
	r.upTo(t, r.labelled(t, nil))
	r.commission()
	b := r.site.Boxes[0]
	if off := time.Until(b.Clock()).Abs(); off > 2*time.Second {
		t.Errorf("its clock is %s from ours: %s", off, r.entryOf(b).Reason)
	}
	times := 0
	for _, d := range b.Events() {
		if strings.HasPrefix(d.Value, "time ") {
			times++
		}
	}
	if times < 2 {
		t.Errorf("its clock was set %d times; the box is not slow enough to show anything", times)
	}
	b.SetFaults(box.Faults{})
	r.verify()
	if e := r.entryOf(b); e.State != state.Verified {
		t.Errorf("%s: %s, not looked at %v", e.State, e.Reason, e.Unseen)
	}
}

// blind is the profile of a field switch whose VLAN nothing sends, and nothing tells.
func blind(t *testing.T) string {
	t.Helper()
	doc, err := os.ReadFile("../profiles/fennmark-fs8.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return strings.NewReplacer("  - {act: settings}\n", "", `        setting.management-vlan: "css #vlan"`+"\n", "",
		"  settings:\n    - request: POST /settings/vlan\n      form: {vlan: \"{setting.management-vlan}\"}\n      expect: [303]\n      refused: [401]\n      why: css .refusal\n",
		"").Replace(string(doc))
}

// What no act of a profile sends is asked for by hand, and counts as said by who did it; where nothing can
// look a person may say so later too. A look stands above a word, and a new run forgets it.
func TestWhatNothingCanLookAtIsSaid(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "FS8", Seed: 68}, blind(t))
	r.upToMatch()
	ctx, tag := patience(t), r.entryOf(r.site.Boxes[0]).Tag
	commission := func() {
		t.Helper()
		w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
		if err != nil {
			t.Fatal(err)
		}
		r.asked("Set Management VLAN to 408")
		if err := r.c.Did(ctx, w.Run, api.Hands{Tags: []string{tag}}); err != nil {
			t.Fatal(err)
		}
		r.ended()
	}
	check := func(verdict result.Verdict, by, state string) {
		t.Helper()
		d, err := r.c.Entry(ctx, tag)
		if err != nil {
			t.Fatal(err)
		}
		at := slices.IndexFunc(d.Checks, func(c result.Check) bool { return c.Name == "management-vlan" })
		if at < 0 || d.Checks[at].Verdict != verdict || !strings.Contains(d.Checks[at].By, by) || d.Checks[at].Expected != "408" {
			t.Errorf("%+v", d.Checks)
		}
		if d.Entry.State != state {
			t.Errorf("it is %s, not %s: %s", d.Entry.State, state, d.Entry.Reason)
		}
	}
	commission()
	check(result.Said, "said by this computer", state.Configured)
	r.verify(tag)
	check(result.Said, "said by this computer", state.Verified)
	redstart := r.with(t)
	redstart(1, []string{"that can be looked at"}, "verify", "say", tag, "name", "--name", "Ida")
	redstart(2, []string{"nobody signed in by name"}, "verify", "say", tag, "management-vlan")
	redstart(1, []string{"not looked at", "configured"}, "verify", "say", tag, "management-vlan", "--name", "Ida", "--not")
	check(result.NotLookedAt, "", state.Configured)
	r.verify(tag)
	check(result.NotLookedAt, "", state.Configured)
	redstart(0, []string{"said by Ida: seen on its page", "verified"}, "verify", "say", tag, "management-vlan", "--name", "Ida",
		"--note", "seen on its page")
	check(result.Said, "said by Ida: seen on its page", state.Verified)
	r.verify(tag)
	check(result.Said, "said by Ida", state.Verified)
	file := filepath.Join(t.TempDir(), "register.csv")
	redstart(0, nil, "handover", "register-csv", file)
	if out, err := os.ReadFile(file); err != nil || !strings.Contains(string(out), "management-vlan: said by Ida") {
		t.Errorf("the register: %s, %v", out, err)
	}
	commission()
	check(result.Said, "said by this computer", state.Configured)
}

// A box that takes any password, or keeps its factory address beside the planned one, is not as planned.
func TestABoxThatTakesAnythingOrKeepsItsFactoryAddress(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		fault  box.Faults
		reason string
	}{
		"any password":    {box.Faults{TakesAny: true}, "another password: expected refused, observed accepted"},
		"factory address": {box.Faults{KeepsFactory: true}, "factory address: expected given up, observed it is still at"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := start(t, skerry.Options{Devices: 1, Only: "R2", Seed: 69})
			r.upToVerify()
			e := r.entryOf(r.site.Boxes[0])
			if e.State != state.Verified {
				t.Fatalf("%s: %s", e.State, e.Reason)
			}
			r.site.Boxes[0].SetFaults(c.fault)
			r.verify()
			if e := r.entryOf(r.site.Boxes[0]); e.State != state.Attention || !strings.Contains(e.Reason, c.reason) {
				t.Errorf("%s: %s", e.State, e.Reason)
			}
		})
	}
}

// In the console, whoever tried what no box tells says so, by name.
func TestSayingInTheConsole(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "FS8", Seed: 70}, blind(t))
	r.upToMatch()
	ctx, tag := patience(t), r.entryOf(r.site.Boxes[0]).Tag
	w, err := r.c.Commission(ctx, api.RunOptions{Chosen: chosen([]string{tag})})
	if err != nil {
		t.Fatal(err)
	}
	r.asked("Set Management VLAN")
	if err := r.c.Did(ctx, w.Run, api.Hands{Tags: []string{tag}, Without: true}); err != nil {
		t.Fatal(err)
	}
	r.ended()
	r.verify(tag)
	if e := r.entries()[tag]; e.State != state.Configured {
		t.Fatalf("%s: %s", e.State, e.Reason)
	}
	b := r.signedIn(t, 1280, "/")
	b.do(browser.Click(chromedp.Search(`//button[@data-test="tag" and text()="`+tag+`"]`)), browser.Press("say"),
		shows("Nothing can look at this. Do you know it?"),
		chromedp.SendKeys(chromedp.CSS(`[data-test="say-note"] input`), "seen on its page"), browser.Press("say-sure"),
		shows("said by owner: seen on its page"))
	if e := r.entries()[tag]; e.State != state.Verified {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}
