package plan_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
)

func TestPatchesAreAppliedWholeOrNotAtAll(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20", "A-2 ovalis-c20")
	entries, pairs, complaints := p.Apply([]plan.Patch{
		{Tag: "A-1", Set: map[string]string{"place": "Hall", "address": "10.1.0.300"}},
		{Tag: "A-9", Set: map[string]string{"place": "Hall"}},
		{Set: map[string]string{"profile": "ovalis-c20"}},
		{Tag: "A-2", Set: map[string]string{"tag": "A-1"}},
		{Tag: "A-2", Set: map[string]string{"not-wired": "perhaps", "note": strings.Repeat("x", 300), "place": "a\nb"}},
	})
	var got []string
	for _, c := range complaints {
		got = append(got, fmt.Sprintf("%d %s", c.Patch, c.Field))
	}
	if want := []string{"0 address", "1 tag", "2 tag", "3 tag", "4 not-wired", "4 note", "4 place"}; !slices.Equal(got,
		want) || pairs != nil {
		t.Errorf("%q, want %q", got, want)
	}
	if entries[0].Place != "" {
		t.Error("half of a refused change was made")
	}
	entries, pairs, complaints = p.Apply([]plan.Patch{{Tag: "A-1", Remove: true},
		{Set: map[string]string{"tag": "A-1", "profile": "brindlecap-b4"}},
		{Tag: "A-2", Set: map[string]string{"place": ""}}})
	if complaints != nil || len(entries) != 2 || entries[1].Kind != "controller" || entries[1].Name != "A-1" ||
		len(pairs) != 2 {
		t.Errorf("%+v %+v %+v", entries, pairs, complaints)
	}
}

func TestAddressesThatAreWrittenComeBeforeThoseGivenOut(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20", "A-2 ovalis-c20 address=10.1.0.4", "A-3 ovalis-c20 address=next",
		"A-4 ovalis-c20 address=none")
	var got []string
	for _, e := range p.Entries {
		got = append(got, e.Get("address"))
	}
	// .1 is the gateway, .2 the time server, .3 kept free, .4 written further down.
	if want := []string{"10.1.0.5", "10.1.0.4", "10.1.0.6", ""}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	for i := range 9 {
		_, _, complaints := p.Apply([]plan.Patch{{Set: map[string]string{"tag": fmt.Sprint("B-", i),
			"profile": "ovalis-c20"}}})
		if complaints != nil {
			if i != 8 || !strings.Contains(complaints[0].Reason, "no free address is left") {
				t.Errorf("after %d: %+v", i, complaints)
			}
			break
		}
		p = with(t, p, fmt.Sprintf("B-%d ovalis-c20", i))
		if i == 8 {
			t.Error("twelve addresses out of eleven")
		}
	}
}

func TestRangesPerKind(t *testing.T) {
	p := small(t)
	span := func(a, b string) address.Range { return address.Range{From: ip(a), To: ip(b)} }
	p.Site.Subnets[0].Ranges = []plan.KindRange{{Kind: "controller", Range: span("10.1.0.4", "10.1.0.5")},
		{Kind: "controller", Range: span("10.1.0.9", "10.1.0.9")}}
	p.Site.Subnets = append(p.Site.Subnets, plan.Subnet{Name: "clocks", Prefix: netip.MustParsePrefix("10.2.0.0/29"),
		Gateway: ip("10.2.0.1"), NTP: []netip.Addr{ip("10.2.0.1")},
		Ranges: []plan.KindRange{{Kind: "clock", Range: span("10.2.0.4", "10.2.0.5")}}})
	p = with(t, p, "A-1 ovalis-c20", "A-2 brindlecap-b4", "A-3 brindlecap-b4", "A-4 brindlecap-b4",
		"A-5 clepsydra-k3 time-zone=Europe/Oslo", "A-6 ovalis-c20 subnet=clocks")
	var got []string
	for _, e := range p.Entries {
		got = append(got, e.Get("address"))
	}
	if want := []string{"10.1.0.6", "10.1.0.4", "10.1.0.5", "10.1.0.9", "10.2.0.4", "10.2.0.2"}; !slices.Equal(got,
		want) {
		t.Errorf("%q, want %q", got, want)
	}
	expect(t, p)
	_, _, complaints := p.Apply([]plan.Patch{{Set: map[string]string{"tag": "A-9", "profile": "brindlecap-b4"}}})
	if complaints == nil || !strings.Contains(complaints[0].Reason, "for a controller") {
		t.Errorf("a fourth controller in three addresses: %+v", complaints)
	}
}

func TestNextNeverGivesAFactoryAddress(t *testing.T) {
	p := small(t)
	p.Site.Subnets = []plan.Subnet{{Name: "x", Prefix: netip.MustParsePrefix("192.168.66.8/29")}}
	p = with(t, p, "A-1 ovalis-c20")
	if got := p.Entries[0].Get("address"); got != "192.168.66.9" {
		t.Fatal(got)
	}
	if _, _, complaints := p.Apply([]plan.Patch{{Set: map[string]string{"tag": "A-2",
		"profile": "ovalis-c20"}}}); complaints == nil {
		t.Error("192.168.66.10 and up are factory addresses of a controller and must not be planned")
	}
}

func TestGenerate(t *testing.T) {
	p := small(t)
	p.Site.Naming = "{site}-{area}-{kind}{n:03}"
	p = with(t, p, "HALL-CAM-02 ovalis-c20 area=HALL")
	patches, err := p.Generate([]plan.Quantity{{Profile: "ovalis-c20", Count: 2, Pattern: "{area}-CAM-{n:02}",
		Areas: []string{"HALL", "YARD"}, Address: "10.1.0.9-10.1.0.12", Place: "x",
		Set: map[string]string{"stream-port": "1554"}}})
	if err != nil {
		t.Fatal(err)
	}
	entries, _, complaints := p.Apply(patches)
	if complaints != nil {
		t.Fatal(complaints)
	}
	var got []string
	for _, e := range entries[1:] {
		got = append(got, e.Tag+" "+e.Get("address")+" "+e.Name+" "+e.Get("stream-port"))
	}
	want := []string{"HALL-CAM-01 10.1.0.9 test-hall-camera001 1554", "HALL-CAM-03 10.1.0.10 test-hall-camera003 1554",
		"YARD-CAM-01 10.1.0.11 test-yard-camera001 1554", "YARD-CAM-02 10.1.0.12 test-yard-camera002 1554"}
	if !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	for want, q := range map[string]plan.Quantity{
		"no profile":             {Profile: "nothing", Count: 1, Pattern: "{n}"},
		"count":                  {Profile: "ovalis-c20", Count: 0, Pattern: "{n}"},
		"needs a number":         {Profile: "ovalis-c20", Count: 1, Pattern: "CAM"},
		"over and over":          {Profile: "ovalis-c20", Count: 2, Pattern: "{kind}"},
		"{colour}":               {Profile: "ovalis-c20", Count: 1, Pattern: "{colour}-{n}"},
		"brace":                  {Profile: "ovalis-c20", Count: 1, Pattern: "{n}-}"},
		"already in the plan":    {Profile: "ovalis-c20", Count: 1, Pattern: "HALL-CAM-{n:02}", First: 2},
		"outside every subnet":   {Profile: "ovalis-c20", Count: 1, Pattern: "X{n}", Address: "10.9.0.1"},
		"no free address":        {Profile: "ovalis-c20", Count: 3, Pattern: "X{n}", Address: "10.1.0.9-10.1.0.10"},
		"is not an IPv4 address": {Profile: "ovalis-c20", Count: 1, Pattern: "X{n}", Address: "tomorrow"},
	} {
		if _, err := p.Generate([]plan.Quantity{q}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want something about %q", q, err, want)
		}
	}
}

func TestAllocate(t *testing.T) {
	p := small(t)
	p.Site.Subnets[0].Prefix = netip.MustParsePrefix("10.1.0.0/24")
	p.Site.Subnets = append(p.Site.Subnets, plan.Subnet{Name: "other", Prefix: netip.MustParsePrefix("10.2.0.0/26"),
		Gateway: ip("10.2.0.1")})
	p = with(t, p, "B-2 ovalis-c20 address=10.1.0.40", "A-1 ovalis-c20 address=10.1.0.50",
		"A-2 ovalis-c20 address=none", "C-1 ovalis-c20 address=10.1.0.200")
	p.Known.Locked = map[string]bool{"C-1": true}
	for _, c := range []struct {
		name string
		a    plan.Allocation
		want map[string]string
		kept string
		err  string
	}{
		{"missing", plan.Allocation{Way: plan.Missing}, map[string]string{"A-2": "10.1.0.4"}, "", ""},
		{"compact", plan.Allocation{Way: plan.Compact}, map[string]string{"B-2": "10.1.0.4", "A-1": "10.1.0.5",
			"A-2": "10.1.0.6"}, "C-1", ""},
		{"compact by tag from", plan.Allocation{Way: plan.Compact, Order: "tag", From: "10.1.0.100"},
			map[string]string{"A-1": "10.1.0.100", "A-2": "10.1.0.101", "B-2": "10.1.0.102"}, "C-1", ""},
		{"spread", plan.Allocation{Way: plan.Spread, Step: 10, Tags: []string{"A-1", "B-2"}},
			map[string]string{"A-1": "10.1.0.4", "B-2": "10.1.0.14"}, "", ""},
		{"move", plan.Allocation{Way: plan.Move, Subnet: "other", Tags: []string{"B-2", "A-1"}},
			map[string]string{"B-2": "10.2.0.40", "A-1": "10.2.0.50"}, "", ""},
		{"move what does not fit", plan.Allocation{Way: plan.Move, Subnet: "other"}, nil, "", "no address"},
		{"move to nowhere", plan.Allocation{Way: plan.Move, Subnet: "nowhere"}, nil, "", "no subnet"},
		{"no way", plan.Allocation{Way: "somehow"}, nil, "", "no way"},
		{"no order", plan.Allocation{Way: plan.Compact, Order: "colour"}, nil, "", "no order"},
		{"nobody", plan.Allocation{Way: plan.Compact, Tags: []string{"Z"}}, nil, "", "no such entry"},
		{"small step", plan.Allocation{Way: plan.Spread, Step: 1}, nil, "", "step"},
		{"too many", plan.Allocation{Way: plan.Compact, From: "10.1.0.254"}, nil, "", "no free address"},
	} {
		patches, kept, err := p.Allocate(c.a)
		got := map[string]string{}
		for _, x := range patches {
			got[x.Tag] = x.Set["address"]
		}
		if c.err != "" {
			if err == nil || !strings.Contains(err.Error(), c.err) {
				t.Errorf("%s: %v, want something about %q", c.name, err, c.err)
			}
			continue
		}
		if err != nil || fmt.Sprint(got) != fmt.Sprint(c.want) || strings.Join(kept, " ") != c.kept {
			t.Errorf("%s: %v kept %q, %v; want %v kept %q", c.name, got, kept, err, c.want, c.kept)
		}
	}
	site, err := p.Site.Reserve(address.Range{From: ip("10.1.0.4"), To: ip("10.1.0.9")}, "later")
	if err != nil || len(site.Subnets[0].KeptFree) != 2 || len(p.Site.Subnets[0].KeptFree) != 1 {
		t.Errorf("%+v, %v", site, err)
	}
	if _, err := p.Site.Reserve(address.Range{From: ip("10.9.0.4"), To: ip("10.9.0.9")}, ""); err == nil {
		t.Error("a range outside the site was reserved")
	}
}

func TestFurtherPortsAreNotGivenOut(t *testing.T) {
	p := small(t)
	p.Site.Subnets = append(p.Site.Subnets, plan.Subnet{Name: "tel", Prefix: netip.MustParsePrefix("10.2.0.0/29"),
		Gateway: ip("10.2.0.1"), NTP: []netip.Addr{ip("10.2.0.1")}})
	p.Site.Policies = []plan.Policy{{Mode: plan.OneEach, Recovery: "a@b.example"}}
	p = with(t, p, "V-1 tolvern-v2 second-port=10.2.0.2/29", "A-1 ovalis-c20 subnet=tel")
	if got := p.Entries[1].Get("address"); got != "10.2.0.3" {
		t.Errorf("the next free address is %s; .2 is a further port", got)
	}
	expect(t, p)
	if m := p.Map(p.Site.Subnets[1]); m.Free != 3 {
		t.Errorf("%d free, want 3: %+v", m.Free, m.Cells)
	}
	after, _, _ := p.Apply([]plan.Patch{{Tag: "A-1", Set: map[string]string{"address": "10.2.0.2"}}})
	p.Entries = after
	expect(t, p, "second-twice V-1 second-port")
}

func TestTheAddressMap(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20 address=10.1.0.5", "A-2 ovalis-c20 address=10.1.0.6",
		"A-3 ovalis-c20 address=10.1.0.6", "A-4 ovalis-c20 address=10.1.0.7", "A-5 ovalis-c20 address=10.1.0.1")
	p.Known.Living = []plan.Living{{Address: ip("10.1.0.5"), Tag: "A-1"},
		{Address: ip("10.1.0.7"), MAC: address.MAC{2}}, {Address: ip("10.1.0.9"), MAC: address.MAC{4}}}
	m := p.Map(p.Site.Subnets[0])
	got := map[string]string{}
	for _, c := range m.Cells {
		got[strings.TrimPrefix(c.Address.String(), "10.1.0.")] = c.Is
	}
	want := map[string]string{"0": "kept", "1": "conflict", "2": "kept", "3": "kept", "5": "found", "6": "conflict",
		"7": "conflict", "9": "found", "15": "kept"}
	if fmt.Sprint(got) != fmt.Sprint(want) {
		t.Errorf("%v\nwant %v", got, want)
	}
	if m.Hosts != 14 || m.Free != 7 {
		t.Errorf("%d of %d free, want 7 of 14", m.Free, m.Hosts)
	}
}

func TestCompareTellsFieldByField(t *testing.T) {
	before := with(t, small(t), "A-1 ovalis-c20", "A-2 ovalis-c20", "A-3 tolvern-m7 room=1")
	after, _, _ := before.Apply([]plan.Patch{{Tag: "A-1", Remove: true},
		{Tag: "A-3", Set: map[string]string{"room": "7", "place": "Desk"}},
		{Set: map[string]string{"tag": "A-4", "profile": "ovalis-c20"}}})
	c := plan.Compare(before.Entries, after)
	if len(c.Added) != 1 || len(c.Removed) != 1 || len(c.Changed) != 2 || c.Entries() != 1 || c.Empty() {
		t.Fatalf("%+v", c)
	}
	if text := c.Changed[0].String() + "; " +
		c.Changed[1].String(); text != "place set to Desk; room changed from 1 to 7" {
		t.Error(text)
	}
	if pairs := plan.Pairs(before.Entries, after); len(pairs) != 3 {
		t.Errorf("%d pairs", len(pairs))
	}
	if !plan.Compare(after, after).Empty() {
		t.Error("a plan differs from itself")
	}
}

func TestEveryFieldIsSetAndGot(t *testing.T) {
	values := map[string]string{"address": "10.1.0.4", "mac": "0a:4f:56:00:00:01", "not-wired": "yes", "after": "A B",
		"kind": "camera"}
	var e plan.Entry
	for _, f := range plan.Fields {
		v := values[f.Key]
		if v == "" {
			v = "x-" + f.Key
		}
		if err := e.Set(f.Key, " "+v+" "); err != nil {
			t.Errorf("%s: %v", f.Key, err)
		}
		if got := e.Get(f.Key); got != v {
			t.Errorf("%s is %q, want %q", f.Key, got, v)
		}
		if f.Label == "" || f.Help == "" {
			t.Errorf("%s has no label or help", f.Key)
		}
		if err := e.Set(f.Key, ""); err != nil || e.Get(f.Key) != "" {
			t.Errorf("%s cannot be taken away: %q, %v", f.Key, e.Get(f.Key), err)
		}
	}
	copied := e
	if err := copied.Set("room", "7"); err != nil || copied.Get("room") != "7" || e.Get("room") != "" {
		t.Errorf("a setting of a copy: %q and %q, %v", copied.Get("room"), e.Get("room"), err)
	}
	// What is nearly the key of a secret would stand in the plan, and in its history, in plain text.
	for _, key := range []string{" keypad-code", "Keypad-Code", "set.keypad-code", "keypad_code", ""} {
		if err := e.Set(key, "4711"); err == nil || e.Settings != nil {
			t.Errorf("%q is taken as a setting: %v, %v", key, e.Settings, err)
		}
	}
}

func TestNamesFollowPatternAndProfile(t *testing.T) {
	p := small(t)
	camera, door := p.Profiles["ovalis-c20"], p.Profiles["tolvern-d1"]
	e := plan.Entry{Tag: "BERTH1-CAM-007", Area: "BERTH1", Floor: "2", Place: "Pier head", Kind: "camera"}
	for pattern, want := range map[string][2]string{
		"":                         {"berth1-cam-007", "BERTH1-CAM-007"},
		"{site}-{area}-{kind}{n}":  {"test-berth1-camera7", "TEST-BERTH1-CAM"},
		"{tag}.{floor}":            {"berth1-cam-007-2", "BERTH1-CAM-007"},
		"{place}_{n:04}":           {"pier-head-0007", "PIER-HEAD-0007"},
		"{nothing of this kind}":   {"berth1-cam-007", "BERTH1-CAM-007"},
		"{site}{site}{site}{site}": {"testtesttesttest", "TESTTESTTESTTES"},
	} {
		site := p.Site
		site.Naming = pattern
		for i, q := range []*profile.Profile{camera, door} {
			got := site.NameFor(e, q)
			if got != want[i] || q.Name.Check(got) != nil {
				t.Errorf("%q for a %s: %q, want %q (%v)", pattern, q.Model, got, want[i], q.Name.Check(got))
			}
		}
	}
	// Two tags that are told apart only by what is cut off.
	p = with(t, p, "YARD-BARRIER-NORTH-01 tolvern-m7 room=1", "YARD-BARRIER-NORTH-02 tolvern-m7 room=2")
	p.Site.Policies = []plan.Policy{{Mode: plan.OneEach, Recovery: "a@b.example"}}
	expect(t, p, "name-twice YARD-BARRIER-NORTH-02 name")
}

func TestWhatAChangeMakesWrong(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20 address=10.1.0.5", "A-2 ovalis-c20 address=10.1.0.6 name=Wrong")
	before := p.Check()
	after, _, _ := p.Apply([]plan.Patch{{Tag: "A-1", Set: map[string]string{"address": "10.1.0.6"}}})
	p.Entries = after
	if got := codes(plan.NewFindings(before, p.Check())); !slices.Equal(got, []string{"address-twice A-2 address"}) {
		t.Errorf("%q", got)
	}
	if got := plan.NewFindings(p.Check(), p.Check()); len(got) != 0 {
		t.Errorf("nothing changed, but %+v", got)
	}
}

// Whatever is written into whatever field: either all of it is taken in, or
// nothing changes and each complaint names its patch; and what was taken in can
// be checked and written back.
func FuzzApply(f *testing.F) {
	f.Add("A-1", "address", "next", false)
	f.Add("", "tag", "A-9", false)
	f.Add("A-2", "rings-at", "A-1/trunk-a-network", false)
	f.Add("A-2", "after", "A-1 A-2, A-3", true)
	f.Add("A-1", "mac", "0a4f.5600.0001", false)
	f.Add("A-1", "profile", "tolvern-d1", false)
	base := small(f)
	entries, _, complaints := base.Apply([]plan.Patch{{Set: map[string]string{"tag": "A-1", "profile": "ovalis-c20"}},
		{Set: map[string]string{"tag": "A-2", "profile": "tolvern-d1", "rings-at": "A-1"}}})
	if complaints != nil {
		f.Fatal(complaints)
	}
	base.Entries = entries
	f.Fuzz(func(t *testing.T, tag, field, value string, remove bool) {
		p := base
		after, pairs, complaints := p.Apply([]plan.Patch{{Tag: tag, Set: map[string]string{field: value},
			Remove: remove}})
		if complaints != nil {
			if pairs != nil || !plan.Compare(after, base.Entries).Empty() {
				t.Fatalf("refused and changed: %+v %+v", complaints, pairs)
			}
			return
		}
		p.Entries = after
		p.Check()
		patches, _ := p.Mends(nil)
		if _, _, complaints := p.Apply(patches); complaints != nil {
			t.Fatalf("the mends cannot be applied: %+v", complaints)
		}
		for _, e := range after {
			var again plan.Entry
			for _, key := range plan.Columns(after, p.Profiles) {
				if err := again.Set(key, e.Get(key)); err != nil {
					t.Fatalf("%s: %q cannot be written back: %v", key, e.Get(key), err)
				}
			}
			if d := plan.Differences(e, again); d != nil {
				t.Fatalf("written back it differs: %+v", d)
			}
		}
	})
}

// A switch port is checked, and follows its switch when that gets another tag.
func TestSwitchPorts(t *testing.T) {
	p := plan.Plan{Profiles: bundled(t), Entries: []plan.Entry{
		{Tag: "SW-1", Kind: "switch", Profile: "fennmark-fs8"},
		{Tag: "A", Kind: "camera", Profile: "ovalis-c20", SwitchPort: "SW-1/port 3"},
		{Tag: "B", Kind: "camera", Profile: "ovalis-c20", SwitchPort: "SW-1/port 3"},
		{Tag: "C", Kind: "camera", Profile: "ovalis-c20", SwitchPort: "A/1"},
		{Tag: "D", Kind: "camera", Profile: "ovalis-c20", SwitchPort: "nonsense"},
		{Tag: "E", Kind: "camera", Profile: "ovalis-c20", SwitchPort: "SW-9/1"},
	}}
	got := map[string]string{}
	for _, f := range p.Check() {
		if f.Code == "switch-port" {
			got[f.Tag] = f.Reason
		}
	}
	for tag, want := range map[string]string{"B": "already used by A", "C": "A is a camera, not a switch",
		"D": "write it as TAG/port", "E": "there is no entry SW-9"} {
		if !strings.Contains(got[tag], want) {
			t.Errorf("%s: %q, want %q", tag, got[tag], want)
		}
	}
	if got["A"] != "" {
		t.Errorf("A: %s", got["A"])
	}
	entries, _, complaints := p.Apply([]plan.Patch{{Tag: "SW-1", Set: map[string]string{"tag": "HALL-SW-01"}}})
	if complaints != nil || entries[1].SwitchPort != "HALL-SW-01/port 3" || entries[4].SwitchPort != "nonsense" {
		t.Errorf("%+v %+v", entries, complaints)
	}
}
