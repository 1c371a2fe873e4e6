package match_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
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
	f.Add(device.Sighting{MAC: address.MAC{2, 0, 0, 0, 0, last}, Protocol: "web", At: time.Unix(1, 0),
		Facts: map[string]string{"serial": serial}})
	f.Profile = profile
	return f
}

func propose(entries []plan.Entry, found ...*device.Found) ([]match.Proposal, []match.Open) {
	r := match.Propose(match.Segment{Entries: entries, Found: found})
	return r.Proposals, r.Open
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
	proposals, open := propose(entries, box(1, "cam", "S-9"), box(2, "cam", "S-7"), box(3, "cam", "S-3"),
		box(4, "cam", "S-1"))
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
	proposals, open := propose(entries, found...)
	if got := pairs(proposals); len(got) != 2 || got["C"] != 2 {
		t.Errorf("%v; want the lamp, and a part of the cameras", got)
	}
	for _, p := range proposals {
		if p.Part != (p.Profile == "cam") || p.Part && p.Sure >= 50 {
			t.Errorf("%+v", p)
		}
	}
	if len(open) != 1 || open[0].Profile != "cam" || !strings.Contains(open[0].Why, "2 entries but 1 devices") {
		t.Errorf("%+v", open)
	}
	if proposals[1].Sure != 90 {
		t.Errorf("the only one of its model is %d %% sure", proposals[1].Sure)
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
	proposals, open := propose(entries, box(1, "cam", "x"), box(2, "cam", "y"), box(3, "lamp", "lamp-1"),
		box(4, "lamp", "twice"))
	if got := pairs(proposals); len(got) != 1 || got["D"] != 4 {
		t.Errorf("%v; want only D", got)
	}
	var why []string
	for _, o := range open {
		why = append(why, o.Tag+": "+o.Why)
	}
	text := strings.Join(why, "\n")
	for _, want := range []string{"A: the box that the plan names by serial gone",
		"B: the box that the plan names by MAC", "C: serial lamp-1 is a lamp, but the plan says cam",
		"E: another entry, D, names the same box"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is not said in\n%s", want, text)
		}
	}
}

// with adds facts to a box.
func with(f *device.Found, part string, facts ...string) *device.Found {
	s := device.Sighting{MAC: f.MAC, Part: part, Protocol: "snmp", At: time.Unix(2, 0), Facts: map[string]string{}}
	for i := 0; i < len(facts); i += 2 {
		s.Facts[facts[i]] = facts[i+1]
	}
	f.Add(s)
	return f
}

func TestTheSwitchKnowsWhereEverythingHangs(t *testing.T) {
	core := with(box(9, "switch", ""), "", "name", "core-1")
	for port, last := range map[string]byte{"port1": 1, "port2": 2, "port3": 3} {
		with(core, "port "+port, "behind", address.MAC{2, 0, 0, 0, 0, last}.String())
	}
	with(core, "port port3", "behind", address.MAC{2, 0, 0, 0, 0, 4}.String())
	entries := []plan.Entry{
		{Tag: "CORE", Profile: "switch", Name: "core-1"},
		{Tag: "A", Profile: "door", SwitchPort: "CORE/Port 2"},
		{Tag: "B", Profile: "door", SwitchPort: "core/1"},
		{Tag: "C", Profile: "door", SwitchPort: "CORE/port3"},
		{Tag: "D", Profile: "door"},
	}
	proposals, open := propose(entries, core, box(1, "door", "1"), box(2, "door", "2"), box(3, "door", "3"),
		box(4, "door", "4"))
	got := pairs(proposals)
	if got["CORE"] != 9 || got["A"] != 2 || got["B"] != 1 || got["C"] != 3 || got["D"] != 4 || len(open) != 0 {
		t.Errorf("%v, open %+v", got, open)
	}
	for _, p := range proposals {
		// Two of a model behind port 3: the port alone does not decide.
		want := map[string]string{"CORE": match.ByName, "A": match.ByPort, "B": match.ByPort, "C": match.ByOrder,
			"D": match.ByOrder}[p.Tag]
		if p.By != want {
			t.Errorf("%s by %s, want %s", p.Tag, p.By, want)
		}
	}
}

// A box that hung elsewhere when the switch was asked before hangs where it was
// seen last, and a name that it had before is not its name.
func TestWhatWasBeforeIsNoSign(t *testing.T) {
	core := with(box(9, "switch", ""), "", "name", "core-1")
	for reading, where := range map[int64]string{3: "port 1", 4: "port 2"} {
		core.Add(device.Sighting{MAC: core.MAC, Part: where, Protocol: "snmp", At: time.Unix(reading, 0),
			Facts: map[string]string{"behind": "02:00:00:00:00:01"}})
		core.Add(device.Sighting{MAC: core.MAC, Part: map[string]string{"port 1": "port 2", "port 2": "port 1"}[where],
			Protocol: "snmp", At: time.Unix(reading, 0), Facts: map[string]string{"behind": "02:00:00:00:00:02"}})
	}
	entries := []plan.Entry{{Tag: "CORE", Profile: "switch", Name: "core-1"},
		{Tag: "A", Profile: "door", SwitchPort: "CORE/1"}, {Tag: "B", Profile: "door", SwitchPort: "CORE/2"}}
	proposals, _ := propose(entries, core, box(1, "door", "1"), box(2, "door", "2"))
	if got := pairs(proposals); got["A"] != 2 || got["B"] != 1 || proposals[1].By != match.ByPort {
		t.Errorf("%+v", proposals)
	}
	renamed := with(box(1, "cam", "1"), "", "name", "a")
	renamed.Add(device.Sighting{MAC: renamed.MAC, Protocol: "snmp", At: time.Unix(5, 0),
		Facts: map[string]string{"name": "b"}})
	renamed.State = device.Set
	proposals, _ = propose([]plan.Entry{{Tag: "A", Profile: "cam", Name: "a"}, {Tag: "B", Profile: "cam", Name: "b"}},
		renamed)
	if got := pairs(proposals); got["B"] != 1 || len(got) != 1 {
		t.Errorf("%+v", proposals)
	}
}

func TestTheBestAssignmentOverAllIsNotFirstCome(t *testing.T) {
	// Box 1 has A's address and B's name. First come would give it to A; box 2
	// fits only A.
	one := with(with(box(1, "cam", "1"), "", "address", "10.0.0.1"), "", "name", "b")
	two := with(box(2, "cam", "2"), "", "name", "a")
	one.State, two.State = device.Set, device.Set
	entries := []plan.Entry{{Tag: "A", Profile: "cam", Name: "a", Address: netip.MustParseAddr("10.0.0.1")},
		{Tag: "B", Profile: "cam", Name: "b"}}
	proposals, _ := propose(entries, one, two)
	if got := pairs(proposals); got["A"] != 2 || got["B"] != 1 {
		t.Errorf("%v", got)
	}
	if p := proposals[0]; p.By != match.ByName || p.Sure != 88 {
		t.Errorf("%+v", p)
	}
}

func TestWhatFitsEquallyIsLeftOpen(t *testing.T) {
	one, two := with(box(1, "cam", "1"), "", "name", "gate"), with(box(2, "cam", "2"), "", "name", "gate")
	one.State, two.State = device.Set, device.Set
	proposals, open := propose([]plan.Entry{{Tag: "A", Profile: "cam", Name: "gate"}}, one, two)
	if len(proposals) != 0 || len(open) != 1 || open[0].Tag != "A" || open[0].Decide == "" {
		t.Errorf("%+v, open %+v", proposals, open)
	}
	one.State, two.State = device.Factory, device.Factory
	if proposals, _ = propose([]plan.Entry{{Tag: "A", Profile: "cam", Name: "gate"}}, one, two); len(proposals) != 1 ||
		!proposals[0].Part {
		t.Errorf("a factory name is no sign: %+v", proposals)
	}
}

func TestBothSidesAreListed(t *testing.T) {
	r := match.Propose(match.Segment{
		Entries: []plan.Entry{{Tag: "A", Profile: "cam"}, {Tag: "B", Profile: "lamp"},
			{Tag: "C", Profile: "lamp", NotWired: true}, {Tag: "D", Profile: "cam"}},
		Found:   []*device.Found{box(1, "cam", "1"), box(2, "door", "2"), box(3, "", ""), box(4, "cam", "4")},
		Matched: map[address.MAC]string{{2, 0, 0, 0, 0, 4}: "D"},
	})
	if len(r.Proposals) != 1 || len(r.Missing) != 1 || r.Missing[0] != "B" || len(r.Spare) != 2 || r.Spare[0][5] != 2 ||
		r.Spare[1][5] != 3 {
		t.Errorf("%+v", r)
	}
}

// On random graphs the assignment is worth as much as the best of all
// permutations.
func TestTheAssignmentIsTheBest(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		n := 2 + random.IntN(4)
		entries, found, worth := []plan.Entry{}, []*device.Found{}, make([][]int, n)
		for i := range n {
			entries = append(entries, plan.Entry{Tag: string(rune('A' + i)), Profile: "cam", Name: fmt.Sprint("n", i),
				Address: netip.AddrFrom4([4]byte{10, 0, 0, byte(i + 1)})})
			f := box(byte(i+1), "cam", "")
			f.State = device.Set
			with(f, "", "name", fmt.Sprint("n", random.IntN(n)), "address", fmt.Sprintf("10.0.0.%d", 1+random.IntN(n)))
			found = append(found, f)
		}
		for i, e := range entries {
			worth[i] = make([]int, n)
			for j, f := range found {
				name, at := f.Value("name") == e.Name, f.Value("address") == e.Address.String()
				worth[i][j] = map[[2]bool]int{{true, true}: 98, {true, false}: 88, {false, true}: 85}[[2]bool{name, at}]
			}
		}
		var most func(row int, used int) int
		most = func(row, used int) int {
			if row == n {
				return 0
			}
			best := most(row+1, used)
			for j := range n {
				if used&(1<<j) == 0 && worth[row][j] > 0 {
					best = max(best, worth[row][j]+most(row+1, used|1<<j))
				}
			}
			return best
		}
		r := match.Propose(match.Segment{Entries: entries, Found: found})
		total, tied := 0, 0
		for _, p := range r.Proposals {
			if p.By != match.ByOrder {
				total += p.Sure
			}
		}
		for _, o := range r.Open {
			if o.Tag != "" {
				tied++
			}
		}
		if want := most(0, 0); tied == 0 && total != want || total > want {
			t.Fatalf("%d, the best is %d: %+v", total, want, worth)
		}
	}
}
