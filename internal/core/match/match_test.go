package match_test

import (
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
)

func box(last byte, profile, serial string) *device.Found {
	f := &device.Found{}
	f.Add(device.Sighting{MAC: address.MAC{2, 0, 0, 0, 0, last}, Protocol: "web", At: time.Unix(1, 0), Facts: map[string]string{"serial": serial}})
	f.Profile = profile
	return f
}

func pairs(list []match.Proposal) map[string]byte {
	m := map[string]byte{}
	for _, p := range list {
		m[p.Tag] = p.MAC[5]
	}
	return m
}

func TestCertainThingsComeFirst(t *testing.T) {
	entries := []plan.Entry{
		{Tag: "A", Profile: "cam"},
		{Tag: "B", Profile: "cam", Serial: "s-3"},
		{Tag: "C", Profile: "cam", MAC: address.MAC{2, 0, 0, 0, 0, 1}},
		{Tag: "D", Profile: "cam"},
	}
	proposals, open := match.Propose(entries, []*device.Found{box(1, "cam", "S-9"), box(2, "cam", "S-7"), box(3, "cam", "S-3"), box(4, "cam", "S-1")})
	got := pairs(proposals)
	// What is left, A and D, is paired by serial: S-1 (4) before S-7 (2).
	if len(open) != 0 || got["C"] != 1 || got["B"] != 3 || got["A"] != 4 || got["D"] != 2 {
		t.Errorf("%v, open %v", got, open)
	}
	for _, p := range proposals {
		want := map[string]string{"A": match.ByOrder, "B": match.BySerial, "C": match.ByMAC, "D": match.ByOrder}[p.Tag]
		if p.By != want || p.Why == "" || p.Sure < 50 {
			t.Errorf("%s matched by %s (%d %%, %q), want by %s", p.Tag, p.By, p.Sure, p.Why, want)
		}
		if p.By == match.ByOrder && p.Sure >= 99 {
			t.Errorf("%s by order is called certain", p.Tag)
		}
	}
}

func TestOrderNeedsEqualCountsAndStaysWithinAProfile(t *testing.T) {
	entries := []plan.Entry{{Tag: "A", Profile: "cam"}, {Tag: "B", Profile: "cam"}, {Tag: "C", Profile: "lamp"}}
	found := []*device.Found{box(1, "cam", "1"), box(2, "lamp", "2"), box(3, "", "")}
	proposals, open := match.Propose(entries, found)
	if got := pairs(proposals); len(got) != 1 || got["C"] != 2 {
		t.Errorf("%v; want only the lamp", got)
	}
	if len(open) != 1 || open[0].Profile != "cam" || !strings.Contains(open[0].Why, "2 entries but 1 devices") {
		t.Errorf("%+v", open)
	}
	if proposals[0].Sure != 90 {
		t.Errorf("the only one of its model is %d %% sure", proposals[0].Sure)
	}
}

func TestANamedBoxIsNeverReplacedByAnother(t *testing.T) {
	entries := []plan.Entry{
		{Tag: "A", Profile: "cam", Serial: "gone"},
		{Tag: "B", Profile: "cam", MAC: address.MAC{2, 0, 0, 0, 0, 7}},
		{Tag: "C", Profile: "cam", Serial: "lamp-1"},
		{Tag: "D", Profile: "lamp", Serial: "twice"},
		{Tag: "E", Profile: "lamp", Serial: "twice"},
	}
	proposals, open := match.Propose(entries, []*device.Found{box(1, "cam", "x"), box(2, "cam", "y"), box(3, "lamp", "lamp-1"), box(4, "lamp", "twice")})
	if got := pairs(proposals); len(got) != 1 || got["D"] != 4 {
		t.Errorf("%v; want only D", got)
	}
	var why []string
	for _, o := range open {
		why = append(why, o.Tag+": "+o.Why)
	}
	text := strings.Join(why, "\n")
	for _, want := range []string{"A: the box that the plan names by serial gone", "B: the box that the plan names by MAC", "C: serial lamp-1 is a lamp, but the plan says cam", "E: another entry names the same box"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not said in\n%s", want, text)
		}
	}
}
