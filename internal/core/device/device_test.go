package device_test

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/profile"
	"redstart/profiles"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func sighting(last byte, protocol string, after time.Duration, facts ...string) device.Sighting {
	s := device.Sighting{MAC: address.MAC{0x0a, 0x4f, 0x56, 0, 0, last}, Protocol: protocol, At: noon.Add(after),
		Facts: map[string]string{}}
	for i := 0; i < len(facts); i += 2 {
		s.Facts[facts[i]] = facts[i+1]
	}
	return s
}

func TestSightingsMergeWithTheirSources(t *testing.T) {
	var f device.Found
	if !f.Add(sighting(1, "arp", 0, "address", "192.168.77.20")) {
		t.Error("the first sighting is no news")
	}
	if f.Add(sighting(1, "arp", time.Second, "address", "192.168.77.20")) {
		t.Error("the same again is news")
	}
	if !f.Add(sighting(1, "web", 2*time.Second, "serial", "OV20-1", "address", "192.168.77.20")) {
		t.Error("a serial is no news")
	}
	if len(f.Facts) != 3 {
		t.Fatalf("%d facts, want the address twice by protocol and the serial: %+v", len(f.Facts), f.Facts)
	}
	for _, x := range f.Facts {
		if x.Protocol == "arp" && (x.First != noon || x.Last != noon.Add(time.Second)) {
			t.Errorf("first and last time are %v and %v", x.First, x.Last)
		}
	}
	f.Add(sighting(1, "arp", time.Minute, "address", "10.40.8.30"))
	if got := f.Addresses(); len(got) != 2 || got[0].String() != "10.40.8.30" {
		t.Errorf("addresses %v, want the latest first and the old one kept", got)
	}
	if f.Value("serial") != "OV20-1" || f.Value("name") != "" || f.Values("mac")[0] != f.MAC.String() {
		t.Error("values are lost")
	}
}

func TestHostileFactsAreBounded(t *testing.T) {
	var f device.Found
	f.Add(sighting(1, "dcp", 0, "name", "a\x00b\nc\xff\u202e"+strings.Repeat("x", 5000)))
	if v := f.Value("name"); len([]rune(v)) > 200 || strings.ContainsAny(v, "\x00\n") || strings.Contains(v, "\xff") {
		t.Errorf("kept %d runes: %q", len([]rune(v)), v[:20])
	}
	for i := range 500 {
		f.Add(sighting(1, "dcp", time.Duration(i)*time.Second, "name", fmt.Sprint("n", i)))
	}
	if len(f.Facts) > 96 || f.Value("name") != "n499" {
		t.Errorf("%d facts are kept of one MAC, the latest name is %s", len(f.Facts), f.Value("name"))
	}
	f.Add(sighting(1, "arp", 0, "address", "not an address"))
	if len(f.Addresses()) != 0 {
		t.Error("a wrong address counts as one")
	}
}

func load(t *testing.T) profile.Set {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return set
}

func TestRecogniseTakesTheSurest(t *testing.T) {
	set := load(t)
	var f device.Found
	f.Add(sighting(1, "arp", 0, "address", "192.168.77.20"))
	f.Recognise(set)
	if f.Profile != "ovalis-c20" || f.Sure != 76 || len(f.Why) != 2 {
		t.Errorf("by MAC and address: %s, %d %%, %v", f.Profile, f.Sure, f.Why)
	}
	f.Add(sighting(1, "web", 0, "model", "B4"))
	f.Recognise(set)
	if f.Profile != "brindlecap-b4" || f.Sure != 95 {
		t.Errorf("what it says of itself should win: %s, %d %%", f.Profile, f.Sure)
	}
	stranger := device.Found{}
	stranger.Add(device.Sighting{MAC: address.MAC{2, 9, 9, 9, 9, 9}, Protocol: "traffic", At: noon})
	stranger.Recognise(set)
	if stranger.Profile != "" {
		t.Errorf("a stranger is taken for a %s", stranger.Profile)
	}
}

func TestWhatHangsBehindADeviceIsKeptApart(t *testing.T) {
	var f device.Found
	f.Add(sighting(1, "bacnet", 0, "model", "R2"))
	s := sighting(1, "bacnet", time.Second, "model", "D2", "instance", "40111")
	s.Part = "4001/11"
	if !f.Add(s) || f.Add(s) {
		t.Error("a part is news once")
	}
	if f.Value("model") != "R2" || f.ValuesOf("4001/11", "model")[0] != "D2" || len(f.Parts()) != 1 ||
		f.Parts()[0] != "4001/11" {
		t.Errorf("%+v", f.Facts)
	}
	for i := range 2000 {
		s.Part = fmt.Sprint("4001/", i)
		f.Add(s)
	}
	if f.Value("model") != "R2" || len(f.Facts) > 96+512 {
		t.Errorf("%d facts; a long bus pushed out the device's own", len(f.Facts))
	}
}

func TestMergingIsTheSameInAnyOrder(t *testing.T) {
	var a, b, x, y device.Found
	a.Add(sighting(1, "dcp", 0, "name", "c20"))
	a.Add(sighting(1, "arp", time.Second, "address", "10.40.8.30"))
	b.Add(sighting(1, "arp", time.Minute, "address", "10.40.8.30"))
	b.Add(sighting(1, "web", time.Minute, "serial", "S-1"))
	x.Merge(&a)
	x.Merge(&b)
	y.Merge(&b)
	y.Merge(&a)
	y.Merge(&a)
	if !reflect.DeepEqual(x, y) || len(x.Facts) != 3 || x.First != noon || x.Last != noon.Add(time.Minute) {
		t.Errorf("%+v\n%+v", x, y)
	}
}

func TestContradictionsAreShownAndChangesAreNot(t *testing.T) {
	var f device.Found
	f.Add(sighting(1, "mdns", 0, "name", "Clock-1"))
	f.Add(sighting(1, "snmp", 0, "name", "clock-1.skerry-point.example"))
	if c := f.Contradictions(); c != nil {
		t.Errorf("a domain is no contradiction: %+v", c)
	}
	f.Add(sighting(1, "mdns", time.Minute, "name", "clock-2"))
	if c := f.Contradictions(); c != nil {
		t.Errorf("a new name, told when the other was told no more: %+v", c)
	}
	f.Add(sighting(1, "snmp", 2*time.Minute, "name", "clock-1"))
	f.Add(sighting(1, "mdns", 3*time.Minute, "name", "clock-2"))
	if c := f.Contradictions(); len(c) != 1 || c[0].Key != "name" || len(c[0].Facts) != 2 {
		t.Errorf("%+v", c)
	}
}

func TestStatesAndTies(t *testing.T) {
	set := load(t)
	for what, c := range map[string]struct {
		facts []string
		mac   address.MAC
		state string
	}{
		"factory address": {[]string{"address", "192.168.77.20"}, address.MAC{0x0a, 0x4f, 0x56, 1, 1, 1},
			"factory"},
		"another address":     {[]string{"address", "10.40.8.30"}, address.MAC{0x0a, 0x4f, 0x56, 1, 1, 1}, "set"},
		"DCP without address": {[]string{"model", "FS8"}, address.MAC{0x06, 0x46, 0x4e, 1, 1, 1}, "factory"},
		"DCP with an address": {[]string{"model", "FS8", "address", "10.40.8.20"},
			address.MAC{0x06, 0x46, 0x4e, 1, 1, 1}, "set"},
		"waits for DHCP":      {[]string{"asks", "dhcp"}, address.MAC{0x0e, 0x42, 0x44, 1, 1, 1}, "factory"},
		"took a DHCP address": {[]string{"address", "10.40.8.30"}, address.MAC{0x0e, 0x42, 0x44, 1, 1, 1}, ""},
		"says so itself": {[]string{"state", "set", "address", "192.168.77.20"},
			address.MAC{0x0a, 0x4f, 0x56, 1, 1, 1}, "set"},
		"first-use page": {[]string{"address", "10.40.9.150", "title", "Tolvern D1: first use"},
			address.MAC{0x0a, 0x54, 0x44, 1, 1, 1}, "factory"},
		"nothing known of it": {nil, address.MAC{2, 9, 9, 9, 9, 9}, ""},
	} {
		f := device.Found{}
		s := sighting(0, "x", 0, c.facts...)
		s.MAC = c.mac
		f.Add(s)
		f.Recognise(set)
		if f.State != c.state || (f.State != "") != (f.StateWhy != "") {
			t.Errorf("%s: %q because %q", what, f.State, f.StateWhy)
		}
	}

	twin := *set["ovalis-c20"]
	twin.ID = "ovalis-c21"
	set["ovalis-c21"] = &twin
	var f device.Found
	f.Add(sighting(1, "arp", 0, "address", "192.168.77.20"))
	f.Recognise(set)
	if f.Profile != "" || len(f.Maybe) != 2 || f.Sure != 76 {
		t.Errorf("two profiles that fit equally: %+v", f)
	}
	f.Profile, f.Chosen = "ovalis-c21", true
	f.Recognise(set)
	if f.Profile != "ovalis-c21" || f.Maybe != nil || f.State != "factory" {
		t.Errorf("a person chose: %+v", f)
	}
}

func TestChangesBetweenSurveys(t *testing.T) {
	seen := func(last byte, at, name string) device.Seen {
		var f device.Found
		f.Add(sighting(last, "arp", 0, "address", at, "name", name))
		return f.Glance()
	}
	got := device.Changes([]device.Seen{seen(1, "10.0.0.1", "a"), seen(2, "10.0.0.2", "b"), seen(3, "", "c")},
		[]device.Seen{seen(1, "10.0.0.9", "z"), seen(3, "", "c"), seen(4, "10.0.0.4", "")})
	var text []string
	for _, c := range got {
		text = append(text, fmt.Sprintf("%d %s %s>%s", c.MAC[5], c.Kind, c.From, c.To))
	}
	if s := strings.Join(text,
		"; "); s != "1 moved 10.0.0.1>10.0.0.9; 1 renamed a>z; 2 gone 10.0.0.2>; 4 new >10.0.0.4" {
		t.Error(s)
	}
}

// What a device told before it was set up, or reset, is history; that something
// is as it once was is news.
func TestWhatIsTrueAgainIsNews(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	var f device.Found
	for i, step := range []struct {
		address, title, state string
	}{
		{"192.168.88.1", "Fennmark FS5: first use", device.Factory},
		{"10.40.8.9", "Fennmark FS5: sign in", device.Set},
		{"192.168.88.1", "Fennmark FS5: first use", device.Factory},
		{"10.40.8.9", "Fennmark FS5: sign in", device.Set},
	} {
		after := time.Duration(i) * time.Minute
		if !f.Add(sighting(1, "arp", after, "address", step.address)) {
			t.Errorf("step %d: the address is no news", i)
		}
		if !f.Add(sighting(1, "http", after, "title", step.title, "server", "fennmark")) {
			t.Errorf("step %d: the title is no news", i)
		}
		if f.Add(sighting(1, "http", after+time.Second, "title", step.title)) {
			t.Errorf("step %d: the same title again is news", i)
		}
		f.Recognise(set)
		if f.State != step.state {
			t.Errorf("step %d: %s taken for %q (%s)", i, f.Profile, f.State, f.StateWhy)
		}
	}
	if got := f.Present("title"); !reflect.DeepEqual(got, []string{"Fennmark FS5: sign in"}) {
		t.Errorf("%v", got)
	}
	// It asks for an address again, and gets the one that it had.
	for i, facts := range [][]string{{"asks", "dhcp"}, {"address", "10.40.8.9"}, {"asks", "dhcp"}} {
		if !f.Add(sighting(1, "dhcp", time.Hour+time.Duration(i)*time.Minute, facts...)) {
			t.Errorf("%v is no news", facts)
		}
	}
	if !f.Waits() {
		t.Error("it does not wait")
	}
	// Values side by side are no change, in whatever order they come.
	for i := range 4 {
		for _, service := range []string{"_http._tcp", "_ssh._tcp"} {
			if f.Add(sighting(1, "mdns", 2*time.Hour+time.Duration(i)*time.Minute, "service", service)) != (i == 0) {
				t.Errorf("%s, time %d", service, i)
			}
		}
	}
}
