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
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/profiles"
)

func bundled(t testing.TB) profile.Set {
	t.Helper()
	set, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	return set
}

// small is a site whose subnet has 11 free addresses.
func small() plan.Site {
	kept, _ := address.ParseRange("10.1.0.3")
	return plan.Site{Name: "Test", Subnet: plan.Subnet{
		Prefix: netip.MustParsePrefix("10.1.0.0/28"), Gateway: netip.MustParseAddr("10.1.0.1"), NTP: netip.MustParseAddr("10.1.0.2"),
		KeptFree: []plan.Kept{{Range: kept, Reason: "for a server"}},
	}}
}

func read(t *testing.T, site plan.Site, csv string, existing ...plan.Entry) ([]plan.Entry, *problem.Error) {
	t.Helper()
	entries, err := plan.ReadCSV([]byte(csv), site, existing, bundled(t))
	var p *problem.Error
	if err != nil && !errors.As(err, &p) {
		t.Fatalf("an error that is no problem: %v", err)
	}
	if p != nil && entries != nil {
		t.Error("a refused file gave entries")
	}
	return entries, p
}

func TestReadCSVCompletesEntries(t *testing.T) {
	entries, p := read(t, small(), "\ufeffTag;Profile;Place;Address;Name;MAC;Serial\r\n"+
		"A-CAM-01;ovalis-c20;\"Hall; east\";next;auto;0A-4F-56-00-00-01;\r\n"+
		";;;;;;\r\n"+
		"A-CAM-02;ovalis-c20;Hall;10.1.0.4;;;OV20-1\r\n"+
		"A-CTL-01;brindlecap-b4;;;MAIN;;\r\n")
	if p != nil {
		t.Fatal(p)
	}
	want := []plan.Entry{
		// .1 is the gateway, .2 the time server, .3 kept free, .4 written further down.
		{Tag: "A-CAM-01", Kind: "camera", Profile: "ovalis-c20", Place: "Hall; east", Address: netip.MustParseAddr("10.1.0.5"), Name: "a-cam-01", MAC: address.MAC{0x0a, 0x4f, 0x56, 0, 0, 1}},
		{Tag: "A-CAM-02", Kind: "camera", Profile: "ovalis-c20", Place: "Hall", Address: netip.MustParseAddr("10.1.0.4"), Name: "a-cam-02", Serial: "OV20-1"},
		{Tag: "A-CTL-01", Kind: "controller", Profile: "brindlecap-b4", Address: netip.MustParseAddr("10.1.0.6"), Name: "MAIN"},
	}
	if !slices.Equal(entries, want) {
		t.Errorf("got  %+v\nwant %+v", entries, want)
	}
}

func TestReadCSVTakesEveryUsualDelimiter(t *testing.T) {
	for _, d := range []string{",", ";", "\t"} {
		csv := strings.ReplaceAll("tag|profile|address\nA-CAM-01|ovalis-c20|10.1.0.9\n\nA-CAM-02|ovalis-c20|next\n", "|", d)
		entries, p := read(t, small(), csv)
		if p != nil {
			t.Fatalf("divided by %q: %v", d, p)
		}
		if len(entries) != 2 || entries[0].Address.String() != "10.1.0.9" || entries[1].Address.String() != "10.1.0.4" || entries[1].Name != "a-cam-02" || entries[1].Kind != "camera" {
			t.Errorf("divided by %q: %+v", d, entries)
		}
	}
}

func TestReadCSVNamesEveryMistakeByRowAndColumn(t *testing.T) {
	existing := plan.Entry{Tag: "OLD-01", Profile: "ovalis-c20", Kind: "camera", Address: netip.MustParseAddr("10.1.0.14"), Name: "old-01", Serial: "S-9"}
	_, p := read(t, small(), `tag,kind,profile,place,address,name,mac,serial
A-01,camera,ovalis-c20,,10.1.0.300,,,
A-02,camera,ovalis-c21,,next,,,
A-03,clock,ovalis-c20,,next,,,
A-01,camera,ovalis-c20,,next,second,,
A-05,camera,ovalis-c20,,10.2.0.1,,,
A-06,camera,ovalis-c20,,10.1.0.15,,,
A-07,camera,ovalis-c20,,10.1.0.1,,,
A-08,camera,ovalis-c20,,10.1.0.3,,,
A-09,camera,ovalis-c20,,next,Upper,,
A-10,camera,ovalis-c20,,next,,01:00:5e:00:00:01,
A-11,camera,ovalis-c20,,next,,0a:4f:56:00:00:01,S-1
A-12,camera,ovalis-c20,,next,,0a4f.5600.0001,s-1
,camera,ovalis-c20,,next,x,,
A-14,camera
A-15,camera,ovalis-c20,,10.1.0.14,,,S-9
old-01,camera,ovalis-c20,,next,other,,
`, existing)
	if p == nil {
		t.Fatal("accepted")
	}
	var got []string
	for _, c := range p.Cells {
		got = append(got, fmt.Sprintf("%d %s %s", c.Row, c.Column, c.Reason))
	}
	want := []string{
		"2 address is not an IPv4 address", "3 profile there is no profile", "4 kind the profile ovalis-c20 is for a camera",
		"5 tag is already used by row 2", "6 address 10.2.0.1 is outside the subnet", "7 address 10.1.0.15 is the broadcast address",
		"8 address 10.1.0.1 is the gateway's", "9 address 10.1.0.3 is kept free for a server", "10 name the device does not take",
		"11 mac is not a MAC address of one device", "13 mac is already used by row 12", "13 serial is already used by row 12",
		"14 tag a tag has 1 to 64", "15  the row has 2 fields", "16 address is already used by OLD-01 in the plan",
		"16 serial is already used by OLD-01 in the plan", "17 tag is already used by OLD-01",
	}
	for i, w := range want {
		if i >= len(got) || !strings.HasPrefix(got[i], w) {
			t.Errorf("mistake %d should be %q\nall: %s", i+1, w, strings.Join(got, "\n     "))
			break
		}
	}
	if len(got) != len(want) {
		t.Errorf("%d mistakes, want %d:\n     %s", len(got), len(want), strings.Join(got, "\n     "))
	}
	if !strings.Contains(p.Cause, "17 mistakes") || p.Kind != problem.Usage {
		t.Errorf("cause %q", p.Cause)
	}
}

func TestReadCSVRefusesFilesThatAreNoPlan(t *testing.T) {
	huge := "tag,profile\n" + strings.Repeat("x", plan.MaxFile)
	many := "tag,profile\n" + strings.Repeat("A,ovalis-c20\n", plan.MaxEntries+1)
	for name, c := range map[string]struct{ csv, want string }{
		"empty":          {"", "no header"},
		"header only":    {"tag,profile\n", "no entries"},
		"unknown column": {"tag,profile,colour\nA,ovalis-c20,red\n", "colour"},
		"twice":          {"tag,tag,profile\n", "twice"},
		"missing":        {"tag,kind\nA,camera\n", "profile: the column is missing"},
		"latin-1":        {"tag,profile,place\nA,ovalis-c20,T\xe5rn\n", "not UTF-8"},
		"utf-16":         {"t\x00a\x00g\x00", "not UTF-8"},
		"too large":      {huge, "larger than 4 MiB"},
		"too many":       {many, "at most"},
		"quotes":         {"tag,profile,place\nA,ovalis-c20,\"open\nB,ovalis-c20,x\n", "quotes do not pair"},
		"a picture":      {"\x89PNG\r\n\x1a\n\x00\x00", "not UTF-8"},
	} {
		_, p := read(t, small(), c.csv)
		if p == nil {
			t.Errorf("%s: accepted", name)
			continue
		}
		text := p.Error()
		for _, cell := range p.Cells[:min(len(p.Cells), 3)] {
			text += " " + cell.String()
		}
		for _, cell := range p.Cells[max(0, len(p.Cells)-1):] {
			text += " " + cell.String()
		}
		if !strings.Contains(text, c.want) {
			t.Errorf("%s: %s; want something about %q", name, text, c.want)
		}
	}
	if _, p := read(t, plan.Site{Name: "x"}, "tag,profile\nA,ovalis-c20\n"); p == nil || !strings.Contains(p.Cause, "no subnet") {
		t.Errorf("a site without a subnet: %v", p)
	}
}

func TestNextRunsOutOfAddresses(t *testing.T) {
	var csv strings.Builder
	csv.WriteString("tag,profile\n")
	for i := range 12 {
		fmt.Fprintf(&csv, "A-%02d,ovalis-c20\n", i)
	}
	_, p := read(t, small(), csv.String())
	// 14 hosts less gateway, time server and one kept free leave 11.
	if p == nil || len(p.Cells) != 1 || p.Cells[0].Row != 13 || !strings.Contains(p.Cells[0].Reason, "no free address is left") {
		t.Errorf("got %+v", p)
	}
}

func TestNextNeverGivesAFactoryAddress(t *testing.T) {
	site := plan.Site{Name: "Test", Subnet: plan.Subnet{Prefix: netip.MustParsePrefix("192.168.66.8/29")}}
	entries, p := read(t, site, "tag,profile\nA-1,ovalis-c20\n")
	if p != nil || entries[0].Address.String() != "192.168.66.9" {
		t.Fatalf("%v %v", entries, p)
	}
	_, p = read(t, site, "tag,profile\nA-1,ovalis-c20\nA-2,ovalis-c20\n")
	if p == nil {
		t.Error("192.168.66.10 and up are factory addresses of a controller and must not be planned")
	}
}

func TestCheckFindsWhatAppearsLater(t *testing.T) {
	set := bundled(t)
	entries, p := read(t, small(), "tag,profile,address\nA-1,ovalis-c20,10.1.0.5\nA-2,ovalis-c20,10.1.0.6\n")
	if p != nil {
		t.Fatal(p)
	}
	if f := plan.Check(small(), entries, set); len(f) != 0 {
		t.Fatalf("a sound plan has findings: %v", f)
	}
	entries[1].Address = entries[0].Address
	moved := small()
	moved.Subnet.Gateway = entries[0].Address
	delete(set, "brindlecap-b4")
	findings := plan.Check(moved, entries, set)
	if len(findings) != 3 || findings[0].Tag != "A-1" || findings[0].Field != "address" || findings[0].Level != plan.Stops {
		t.Errorf("%+v", findings)
	}
	if !slices.ContainsFunc(findings, func(f plan.Finding) bool {
		return f.Tag == "A-2" && strings.Contains(f.Reason, "already used by A-1")
	}) {
		t.Errorf("the address used twice is not found: %+v", findings)
	}
}

func TestSiteCheck(t *testing.T) {
	good := small()
	if err := good.Check(); err != nil {
		t.Fatal(err)
	}
	for want, change := range map[string]func(*plan.Site){
		"name":        func(s *plan.Site) { s.Name = " " },
		"prefix":      func(s *plan.Site) { s.Subnet.Prefix = netip.Prefix{} },
		"host bits":   func(s *plan.Site) { s.Subnet.Prefix = netip.MustParsePrefix("10.1.0.1/28") },
		"the gateway": func(s *plan.Site) { s.Subnet.Gateway = netip.MustParseAddr("10.1.0.15") },
		"the kept-free": func(s *plan.Site) {
			s.Subnet.Prefix, s.Subnet.Gateway = netip.MustParsePrefix("10.9.0.0/24"), netip.Addr{}
		},
	} {
		s := small()
		change(&s)
		if err := s.Check(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("got %v, want something about %q", err, want)
		}
	}
}

func TestNeeds(t *testing.T) {
	needs := plan.Needs(small(), []plan.Entry{{Address: netip.MustParseAddr("10.1.0.9")}})
	for a, want := range map[string]bool{"10.1.0.1": true, "10.1.0.2": true, "10.1.0.3": true, "10.1.0.9": true, "10.1.0.10": false} {
		if needs(netip.MustParseAddr(a)) != want {
			t.Errorf("needs(%s) = %t", a, !want)
		}
	}
}

func FuzzReadCSV(f *testing.F) {
	f.Add([]byte("tag,kind,profile,place,address,name,mac,serial\nA-1,camera,ovalis-c20,Hall,next,auto,,\n"))
	f.Add([]byte("\ufefftag;profile;address\nA;ovalis-c20;10.1.0.300\n"))
	f.Add([]byte("tag,profile\n\"A\nB,\"\"\n"))
	set := bundled(f)
	f.Fuzz(func(t *testing.T, file []byte) {
		entries, err := plan.ReadCSV(file, small(), nil, set)
		if (err == nil) == (len(entries) == 0) {
			t.Fatalf("neither entries nor an error, or both: %v, %v", entries, err)
		}
		if findings := plan.Check(small(), entries, set); err == nil && len(findings) > 0 {
			t.Errorf("an accepted plan has findings: %v", findings)
		}
	})
}
