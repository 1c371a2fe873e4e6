package plan_test

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/profiles"
)

func bundled(t testing.TB) profile.Set {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return set
}

func ip(s string) netip.Addr { return netip.MustParseAddr(s) }

// small is a site whose subnet has 11 free addresses.
func small(t testing.TB) plan.Plan {
	kept, _ := address.ParseRange("10.1.0.3")
	return plan.Plan{Profiles: bundled(t), Site: plan.Site{Key: "test", Name: "Test", Contact: "somebody",
		Zone: "Europe/Oslo", Subnets: []plan.Subnet{{
			Name: "main", Prefix: netip.MustParsePrefix("10.1.0.0/28"), Gateway: ip("10.1.0.1"),
			NTP:      []netip.Addr{ip("10.1.0.2")},
			KeptFree: []plan.Kept{{Range: kept, Reason: "a server"}},
		}}}}
}

// with gives the plan with new entries, each written as "tag profile field=value …".
func with(t testing.TB, p plan.Plan, lines ...string) plan.Plan {
	t.Helper()
	var patches []plan.Patch
	for _, line := range lines {
		words := strings.Fields(line)
		set := map[string]string{"tag": words[0], "profile": words[1]}
		for _, w := range words[2:] {
			field, value, _ := strings.Cut(w, "=")
			set[field] = strings.ReplaceAll(value, "+", " ")
		}
		patches = append(patches, plan.Patch{Set: set})
	}
	entries, _, complaints := p.Apply(patches)
	if complaints != nil {
		t.Fatalf("%+v", complaints)
	}
	p.Entries = entries
	return p
}

// codes lists findings as "code tag field", hints about models that are not set yet left out.
func codes(findings []plan.Finding) []string {
	list := []string{}
	for _, f := range findings {
		if f.Code != "not-set-yet" {
			list = append(list, strings.TrimSpace(fmt.Sprintf("%s %s %s", f.Code, f.Tag+f.Profile, f.Field)))
		}
	}
	return list
}

func expect(t *testing.T, p plan.Plan, want ...string) {
	t.Helper()
	if got := codes(p.Check()); !slices.Equal(got, want) && len(got)+len(want) > 0 {
		t.Errorf("findings %q\nwant     %q", got, want)
	}
}

func TestASoundPlanHasNoFindings(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20", "A-2 brindlecap-b4 address=10.1.0.9", "A-3 tolvern-m7 room=1")
	p.Site.Policies = []plan.Policy{{Mode: plan.OneEach, Recovery: "a@b.example"}}
	expect(t, p)
}

func TestLivingDevicesConflictUnlessTheyAreTheEntrysOwn(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20 address=10.1.0.5", "A-2 ovalis-c20 address=10.1.0.6",
		"A-3 ovalis-c20 address=10.1.0.7")
	mac := address.MAC{2, 0, 0, 0, 0, 1}
	p.Known.Living = []plan.Living{{Address: ip("10.1.0.5"), MAC: mac, Tag: "A-1"}, {Address: ip("10.1.0.6"), MAC: mac},
		{Address: ip("10.1.0.7"), MAC: mac, Tag: "A-1"}}
	expect(t, p, "address-living A-2 address", "address-living A-3 address")
	if f := p.Check()[1]; !strings.Contains(f.Reason, mac.String()) || !strings.Contains(f.Reason, "A-1") {
		t.Errorf("who holds it is not said: %s", f.Reason)
	}
}

func TestPoliciesAreCheckedAgainstEveryProfileInUse(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20", "A-2 tolvern-d1 rings-at=A-3 room=2", "A-3 tolvern-m7 room=1")
	p.Site.Policies = []plan.Policy{{Mode: plan.Given, Given: "vault:x", Recovery: "a@b.example"},
		{For: "profile:ovalis-c20", Mode: plan.OneEach}}
	p.Known.Refused = func(c plan.Policy, q *profile.Profile) error {
		if c.Given != "vault:x" {
			t.Errorf("asked about another password: %+v", c)
		}
		return q.Password.Check("Correct7Horse")
	}
	// A D1 takes six digits; a M7 takes up to 12 characters; the camera has its own policy.
	expect(t, p, "policy-refused tolvern-d1 policy", "policy-refused tolvern-m7 policy")
	p.Known.Refused = func(plan.Policy, *profile.Profile) error { return errors.New("never asked for") }
	p.Site.Policies = []plan.Policy{{Mode: plan.OneKind, Recovery: "a@b.example"}}
	p = with(t, p, "A-4 tolvern-d4 rings-at=A-3 room=4 keypad-code=4711")
	expect(t, p, "policy-impossible tolvern-d1 policy", "policy-impossible tolvern-d4 policy")
	p.Site.Policies = []plan.Policy{{Mode: plan.OneEach, Users: plan.AddUser, User: "x", Recovery: "a@b.example"}}
	expect(t, p, "policy-user ovalis-c20 policy", "policy-user tolvern-d1 policy", "policy-user tolvern-d4 policy",
		"policy-user tolvern-m7 policy")
}

func TestReferencesFollowWhatTheyPointTo(t *testing.T) {
	p := with(t, small(t), "CAM ovalis-c20 address=10.1.0.9", "MON tolvern-m7 room=1",
		"DOOR tolvern-d1 room=2 rings-at=MON shows=CAM", "LONE tolvern-d1 room=3 rings-at=MON")
	value := func(tag, key string) plan.Value {
		r := p.Resolve()
		for _, e := range p.Entries {
			if e.Tag != tag {
				continue
			}
			for _, v := range r.Settings(e) {
				if v.Key == key {
					return v
				}
			}
		}
		t.Fatalf("%s has no %s", tag, key)
		return plan.Value{}
	}
	if v := value("DOOR", "stream"); v.Value != "rtsp://operator@10.1.0.9:554/main" ||
		!strings.Contains(v.From, "CAM address 10.1.0.9") {
		t.Errorf("%+v", v)
	}
	if v := value("LONE", "stream"); v.Value != "" || v.From == "" {
		t.Errorf("a stream of no camera: %+v", v)
	}
	change := func(patches ...plan.Patch) {
		t.Helper()
		entries, _, complaints := p.Apply(patches)
		if complaints != nil {
			t.Fatal(complaints)
		}
		p.Entries = entries
	}
	change(plan.Patch{Tag: "CAM", Set: map[string]string{"address": "10.1.0.10", "stream-port": "8554",
		"tag": "CAM-9"}}, plan.Patch{Tag: "MON", Set: map[string]string{"tag": "DESK"}})
	if v := value("DOOR", "stream"); v.Value != "rtsp://operator@10.1.0.10:8554/main" {
		t.Errorf("the stream did not follow address, port and tag: %+v", v)
	}
	if v := value("DOOR", "rings-at"); v.Value != "DESK" {
		t.Errorf("the reference did not follow the tag: %+v", v)
	}
	// A setting of another entry.
	p = with(t, p, "RTR tidewell-r2 ip-network=1 trunk-a-network=4001",
		"ACC brindlecap-d2 trunk=RTR/trunk-a-network bus-address=5")
	if v := value("ACC", "network"); v.Value != "4001" {
		t.Errorf("%+v", v)
	}
	change(plan.Patch{Tag: "DESK", Remove: true})
	if got := codes(p.Check()); !slices.Contains(got, "reference-missing DOOR rings-at") ||
		!slices.Contains(got, "reference-missing LONE rings-at") {
		t.Errorf("a reference to what is gone: %q", got)
	}
}

func TestUniqueWithinTrunkAndDevice(t *testing.T) {
	p := small(t)
	p.Site.Subnets[0].Prefix = netip.MustParsePrefix("10.1.0.0/24")
	p = with(t, p, "R1 tidewell-r2 ip-network=1 trunk-a-network=1 trunk-b-network=2",
		"R2 tidewell-r2 ip-network=1 trunk-a-network=3",
		"D1 brindlecap-d2 trunk=R1/trunk-a-network bus-address=5",
		"D2 brindlecap-d2 trunk=R1/trunk-b-network bus-address=5",
		"D3 brindlecap-d2 trunk=R2/trunk-a-network bus-address=5", "D4 brindlecap-d2 bus-address=5")
	p.Site.Policies = []plan.Policy{{Mode: plan.OneEach, Recovery: "a@b.example"}}
	expect(t, p)
	p = with(t, p, "D5 brindlecap-d2 trunk=R1/trunk-a-network bus-address=5",
		"D6 brindlecap-d2 trunk=R1/trunk-a-network bus-address=0", "R3 tidewell-r2 ip-network=1 trunk-a-network=2",
		"D7 brindlecap-d2 door-1-relay=2")
	expect(t, p, "setting-twice D5 bus-address", "setting-caution D6 bus-address", "setting-twice R3 trunk-a-network",
		"setting-twice D7 door-2-relay")
	for _, f := range p.Check() {
		if f.Tag == "D5" && (f.Mend == nil || f.Mend.Value != "1" || f.Mend.Safe) {
			t.Errorf("want the next free bus address as a mend that a person decides, got %+v", f.Mend)
		}
		if f.Tag == "R3" && f.Mend.Value != "4" {
			t.Errorf("want the next free network number, got %+v", f.Mend)
		}
	}
}

func TestMendsAreSafeAndLeaveNothingToMend(t *testing.T) {
	p := with(t, small(t), "A-1 ovalis-c20 name=Not+A+Name", "A-2 ovalis-c20 address=none",
		"A-3 ovalis-c20 address=none kind=clock", "A-4 brindlecap-m9 device-instance=1 role=PRIMARY",
		"A-5 ovalis-c20 address=10.9.9.9")
	patches, changes := p.Mends(nil)
	after, _, complaints := p.Apply(patches)
	if complaints != nil {
		t.Fatal(complaints)
	}
	p.Entries = after
	expect(t, p, "address-outside A-5 address") // where a person wanted something else
	if len(changes) != 5 || changes[0].Before != "Not A Name" || changes[0].After != "a-1" || changes[0].Why == "" {
		t.Errorf("%+v", changes)
	}
	if a, b := p.Entries[1].Address, p.Entries[2].Address; !a.IsValid() || a == b {
		t.Errorf("two missing addresses became %s and %s", a, b)
	}
	if again, _ := p.Mends(nil); again != nil {
		t.Errorf("mends after mending: %+v", again)
	}
	locked := with(t, small(t), "A-1 ovalis-c20 name=Not+A+Name")
	locked.Known.Locked = map[string]bool{"A-1": true}
	if patches, _ := locked.Mends(nil); patches != nil {
		t.Errorf("a configured device was renamed: %+v", patches)
	}
}

func TestCirclesAreFoundWithoutExhaustingTheStack(t *testing.T) {
	p := small(t)
	for i := range plan.MaxEntries {
		p.Entries = append(p.Entries, plan.Entry{Tag: fmt.Sprintf("T%d", i),
			After: []string{fmt.Sprintf("T%d", (i+1)%plan.MaxEntries)}})
	}
	n := 0
	for _, f := range p.Check() {
		if f.Code == "after-circle" {
			n++
		}
	}
	if n != plan.MaxEntries {
		t.Errorf("%d entries in the circle, want %d", n, plan.MaxEntries)
	}
}

func TestSiteCheck(t *testing.T) {
	if err := small(t).Site.Check(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(*plan.Site){
		"name":            func(s *plan.Site) { s.Name = " " },
		"key":             func(s *plan.Site) { s.Key = "Not A Key" },
		"time zone":       func(s *plan.Site) { s.Zone = "Europe/Skerry" },
		"language":        func(s *plan.Site) { s.Language = "Norwegian" },
		"prefix":          func(s *plan.Site) { s.Subnets[0].Prefix = netip.Prefix{} },
		"host bits":       func(s *plan.Site) { s.Subnets[0].Prefix = netip.MustParsePrefix("10.1.0.1/28") },
		"VLAN":            func(s *plan.Site) { s.Subnets[0].VLAN = 4095 },
		"domain":          func(s *plan.Site) { s.Subnets[0].Domain = "not a domain" },
		"named":           func(s *plan.Site) { s.Subnets = append(s.Subnets, s.Subnets[0]) },
		"a policy is for": func(s *plan.Site) { s.Policies = []plan.Policy{{For: "room:7", Mode: plan.OneEach}} },
		"mode":            func(s *plan.Site) { s.Policies = []plan.Policy{{Mode: "often"}} },
		"needs its name":  func(s *plan.Site) { s.Policies = []plan.Policy{{Mode: plan.OneEach, Users: plan.AddUser}} },
		"needs one":       func(s *plan.Site) { s.Policies = []plan.Policy{{Mode: plan.Given}} },
		"two policies": func(s *plan.Site) {
			s.Policies = []plan.Policy{{Mode: plan.OneEach}, {Mode: plan.OneKind}}
		},
	} {
		s := small(t).Site
		s.Subnets = slices.Clone(s.Subnets)
		change(&s)
		if err := s.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %v, want something about %q", err, want)
		}
	}
}

func TestNeeds(t *testing.T) {
	p := small(t)
	p.Entries = []plan.Entry{{Address: ip("10.1.0.9")}}
	needs := p.Needs()
	for a, want := range map[string]bool{"10.1.0.1": true, "10.1.0.2": true, "10.1.0.3": true, "10.1.0.9": true,
		"10.1.0.10": false} {
		if needs(ip(a)) != want {
			t.Errorf("needs(%s) = %t", a, !want)
		}
	}
}

// large is a plan of many entries with references, names and settings.
func large(t testing.TB, n int) plan.Plan {
	t.Helper()
	p := small(t)
	p.Site.Subnets[0] = plan.Subnet{Name: "main", Prefix: netip.MustParsePrefix("10.64.0.0/16"),
		Gateway: ip("10.64.0.1"), NTP: []netip.Addr{ip("10.64.0.2")}}
	patches, err := p.Generate([]plan.Quantity{
		{Profile: "tolvern-m7", Count: 1, Pattern: "MON-{n:04}", Set: map[string]string{"room": "1"}},
		{Profile: "ovalis-c20", Count: n / 2, Pattern: "CAM-{n:04}", Floor: "1"},
		{Profile: "tolvern-d1", Count: n - n/2 - 1, Pattern: "DOOR-{n:04}",
			Set: map[string]string{"rings-at": "MON-0001", "shows": "CAM-0001", "after": "MON-0001"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	for i := range patches {
		if patches[i].Set["rings-at"] != "" {
			set := map[string]string{"room": fmt.Sprint(i + 2)}
			for k, v := range patches[i].Set {
				set[k] = v
			}
			patches[i].Set = set
		}
	}
	entries, _, complaints := p.Apply(patches)
	if complaints != nil {
		t.Fatal(complaints[0])
	}
	p.Entries = entries
	return p
}

// BenchmarkCheck checks a whole plan of 5,000 entries.
func BenchmarkCheck(b *testing.B) {
	p := large(b, 5000)
	b.ResetTimer()
	for b.Loop() {
		for _, f := range p.Check() {
			if f.Level == plan.Stops {
				b.Fatalf("%+v", f)
			}
		}
	}
}

// Where models answer for maintenance, no other box may be for good.
func TestServiceAddressesAreNeverGivenOut(t *testing.T) {
	p := small(t)
	p.Site.Subnets[0].Prefix = netip.MustParsePrefix("192.168.120.0/24")
	p.Site.Subnets[0].Gateway, p.Site.Subnets[0].NTP, p.Site.Subnets[0].KeptFree = ip("192.168.120.1"), nil, nil
	p = with(t, p, "CAM ovalis-c20 address=192.168.120.250 name=cam")
	if got := codes(p.Check()); !slices.Contains(got, "address-factory CAM address") {
		t.Errorf("%v", got)
	}
}
