package e2e

import (
	"strings"
	"testing"

	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/b4"
	"redstart/internal/sim/model/c20"
	"redstart/internal/sim/model/r16"
	"redstart/internal/sim/skerry"
)

// A recorder's services must run and start by themselves, and have the opinion of its name
// and address that it has: what must be so besides what was given is looked at.
func TestWhatMustBeSoBesides(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "R16", Seed: 83})
	b := r.site.Boxes[0]
	r.upTo(t, r.labelled(t, func(row map[string]string, _ *box.Box) { row["tag"], row["cameras"] = "REC", "" }))
	r.commission()
	r.verify()
	r.allVerified()
	for name, want := range map[string]string{"services running": "5 of 5", "services that start by themselves": "5 of 5",
		"name by itself": b.Running().Name, "address by itself": b.Running().Address.Addr().String()} {
		if c := r.checkOf("REC", name); c.Verdict != result.Passed || c.Expected != want || c.Observed != want {
			t.Errorf("%+v", c)
		}
	}
	b.Change(func(s *box.Settings) {
		own := s.Own.(r16.Own)
		own.Services = ""
		s.Own = own
	})
	r.verify()
	if c := r.checkOf("REC", "services that start by themselves"); c.Verdict != result.Failed || c.Observed != "3 of 5" {
		t.Errorf("%+v", c)
	}
	if c := r.checkOf("REC", "services running"); c.Verdict != result.Passed {
		t.Errorf("they still run: %+v", c)
	}
}

// A second login that may only look is given and tried, and no record holds its password;
// where none is planned there is none.
func TestALoginThatMayOnlyLook(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "C20", Seed: 84})
	const password = "LookOnly4711"
	r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
		row["tag"] = "CAM-B"
		if b == r.site.Boxes[0] {
			row["tag"] = "CAM-A"
		}
	}))
	if err := r.set("CAM-A", "viewer-password", password); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	r.allVerified()
	if c := r.checkOf("CAM-A", "viewer-password"); c.Observed != "works" || c.By != "signed in as viewer" {
		t.Errorf("%+v", c)
	}
	if c := r.checkOf("CAM-A", "the viewer may"); c.Observed != "look" {
		t.Errorf("%+v", c)
	}
	if own := r.site.Boxes[1].Running().Own.(c20.Own); own.Viewer != "" {
		t.Errorf("the other one has a viewer: %+v", own)
	}
	r.hidden(map[string]string{password: "the viewer's password"})
	r.site.Boxes[0].Change(func(s *box.Settings) {
		own := s.Own.(c20.Own)
		own.Viewer = "anotherOne1"
		s.Own = own
	})
	r.verify("CAM-A")
	if c := r.checkOf("CAM-A", "viewer-password"); c.Verdict != result.Failed || c.Observed != "refused" {
		t.Errorf("%+v", c)
	}
}

// A controller takes a licence for its host id, and a second port that lies apart from the
// first; with both in one network it would answer nowhere.
func TestAControllersLicenceAndSecondPort(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 1, Only: "B4", Seed: 85})
	b := r.site.Boxes[0]
	r.upTo(t, "tag,profile,mac,serial,second-port,licence\nCTL,brindlecap-b4,"+b.MAC.String()+","+b.Label+",10.43.0.7/24,b4.lic\n")
	ctx := patience(t)
	if _, err := r.c.PutFile(ctx, "b4.lic", strings.NewReader("brindlecap licence "+b4.HostID(b.Serial)+"\n")); err != nil {
		t.Fatal(err)
	}
	r.commission()
	r.verify()
	r.allVerified()
	if own := b.Running().Own.(b4.Own); own.Second != "10.43.0.7/24" || own.Licensed != b4.HostID(b.Serial) {
		t.Errorf("%+v", own)
	}
	if err := r.set("CTL", "second-port", "10.40.9.200/22"); err != nil {
		t.Fatal(err)
	}
	redstart := r.with(t)
	redstart(1, []string{"second overlap"}, "plan", "check")
	redstart(1, []string{"the network of the first port"}, "commission", "CTL")
	if e := r.entries()["CTL"]; e.State != state.Configured && e.State != state.Verified {
		t.Errorf("%s: %s", e.State, e.Reason)
	}
}
