package device_test

import (
	"fmt"
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
	s := device.Sighting{MAC: address.MAC{0x0a, 0x4f, 0x56, 0, 0, last}, Protocol: protocol, At: noon.Add(after), Facts: map[string]string{}}
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
	if v := f.Value("name"); len([]rune(v)) > 200 || strings.ContainsAny(v, "\x00\n\xff") {
		t.Errorf("kept %d runes: %q", len([]rune(v)), v[:20])
	}
	for i := range 500 {
		f.Add(sighting(1, "dcp", time.Duration(i)*time.Second, "name", fmt.Sprint("n", i)))
	}
	if len(f.Facts) > 64 || f.Value("name") != "n499" {
		t.Errorf("%d facts are kept of one MAC, the latest name is %s", len(f.Facts), f.Value("name"))
	}
	f.Add(sighting(1, "arp", 0, "address", "not an address"))
	if len(f.Addresses()) != 0 {
		t.Error("a wrong address counts as one")
	}
}

func load(t *testing.T) profile.Set {
	t.Helper()
	set, err := profiles.Load("")
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

func TestFindings(t *testing.T) {
	set := load(t)
	var all []*device.Found
	for i := range 4 {
		f := &device.Found{}
		f.Add(sighting(byte(i), "arp", 0, "address", "192.168.77.20"))
		f.Recognise(set)
		all = append(all, f)
	}
	// One has moved on since.
	all[3].Add(sighting(3, "arp", time.Minute, "address", "10.40.8.30"))
	stranger := &device.Found{}
	stranger.Add(device.Sighting{MAC: address.MAC{2, 9, 9, 9, 9, 9}, Protocol: "traffic", At: noon})
	findings := device.Findings(append(all, stranger))
	if len(findings) != 2 || findings[0].Text != "3 devices share the address 192.168.77.20" || len(findings[0].MACs) != 3 {
		t.Errorf("%+v", findings)
	}
	if findings[1].Kind != "unknown-device" || findings[1].MACs[0] != stranger.MAC {
		t.Errorf("%+v", findings[1])
	}
}
