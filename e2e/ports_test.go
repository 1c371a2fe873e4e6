package e2e

import (
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/fs24"
	"redstart/internal/sim/skerry"
)

// Roles of ports are defined once and given to ranges of ports on several switches in one
// act; a change of the role is a difference of all that have it. The port that we hang on is
// set last, and one that cuts us off is no success.
func TestRolesOfPorts(t *testing.T) {
	t.Parallel()
	r := start(t, skerry.Options{Devices: 2, Only: "FS24", Seed: 81, Pace: 0.05}, impatient(t, "fennmark-fs24"))
	r.upTo(t, r.labelled(t, func(row map[string]string, b *box.Box) {
		row["tag"], row["port-roles"] = "SW-"+b.Label[len(b.Label)-6:], ""
	}))
	first, second := r.entryOf(r.site.Boxes[0]).Tag, r.entryOf(r.site.Boxes[1]).Tag
	redstart := r.with(t)
	redstart(0, []string{"link", "switch", "408, 410"}, "plan", "ports", "roles")
	redstart(0, []string{"camera: one device, untagged 411, tagged none"}, "plan", "ports", "role", "camera", "--untagged", "411")
	redstart(2, []string{"VLAN 411 is tagged and untagged"}, "plan", "ports", "role", "wrong", "--untagged", "411", "--tagged", "400-420")
	redstart(1, []string{"no role of ports of that name"}, "plan", "ports", "give", "lift", "1", first)
	redstart(2, []string{"these are no ports"}, "plan", "ports", "give", "camera", "x", first)
	redstart(0, []string{"2 ports of 2 entries: link"}, "plan", "ports", "give", "link", "1-2", first, second)
	redstart(0, []string{"18 ports of 2 entries: camera"}, "plan", "ports", "give", "camera", "3-20", first, second)
	redstart(0, nil, "plan", "ports", "give", "management", "21-24", first, second)
	// Links with two untagged VLANs are found before anything is sent.
	redstart(0, nil, "plan", "ports", "role", "odd", "--hangs", "switch", "--untagged", "9", "--tagged", "408")
	redstart(0, nil, "plan", "ports", "give", "odd", "2", second)
	redstart(1, []string{"different untagged VLANs", "9 at " + second}, "plan", "check")
	redstart(0, nil, "plan", "ports", "give", "link", "2", second)
	redstart(0, nil, "plan", "ports", "role", "odd", "--remove")

	r.commission()
	r.verify()
	for _, b := range r.site.Boxes {
		if e := r.entryOf(b); e.State != state.Verified {
			t.Errorf("%s: %s: %s", e.Tag, e.State, e.Reason)
		}
		var order []string
		for _, d := range b.Events() {
			if d.What == "write" && (strings.HasPrefix(d.Value, "port ") || d.Value == "management") {
				order = append(order, d.Value)
			}
		}
		if len(order) != 25 || order[0] != "port 1 switch 1" || order[5] != "port 6 one-device 411" || order[24] != "management" {
			t.Errorf("%s: %d writes: %v", b.Label, len(order), order)
		}
	}
	redstart(0, nil, "plan", "ports", "role", "camera", "--untagged", "412")
	for _, tag := range []string{first, second} {
		if e := r.entries()[tag]; len(e.Differs) != 1 || !strings.Contains(e.Differs[0], profile.PortsSetting) {
			t.Errorf("%s differs in %v", tag, e.Differs)
		}
	}
	// Managed at other ports than the one that we hang on, it hears us no more.
	if err := r.set(first, "management-ports", "21-23"); err != nil {
		t.Fatal(err)
	}
	r.commission(first)
	if e := r.entries()[first]; e.State != state.Attention {
		t.Errorf("cut off, it is %s: %s", e.State, e.Reason)
	}
	if own := r.site.Boxes[0].Saved().Own.(fs24.Own); own.ManagedAt != "21-23" {
		t.Errorf("it is managed at %q", own.ManagedAt)
	}
}
