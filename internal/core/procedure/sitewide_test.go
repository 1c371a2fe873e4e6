package procedure_test

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/plan"
	"redstart/internal/core/procedure"
	"redstart/profiles"
)

// terminal is a plan with a camera, and a door station and a recorder that need its login.
func terminal(t *testing.T) plan.Plan {
	t.Helper()
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	at := netip.MustParseAddr
	return plan.Plan{
		Site: plan.Site{Zone: "Europe/Oslo", Subnets: []plan.Subnet{{Name: "main",
			Prefix:  netip.MustParsePrefix("10.1.0.0/24"),
			Gateway: at("10.1.0.1"), DNS: []netip.Addr{at("10.1.0.2"), at("10.1.0.3")},
			NTP: []netip.Addr{at("10.1.0.5")}}}},
		Profiles: set,
		Entries: []plan.Entry{
			{Tag: "CAM", Kind: "camera", Profile: "ovalis-c20", Name: "cam", Address: at("10.1.0.20")},
			{Tag: "MON", Kind: "monitor", Profile: "tolvern-m7", Name: "MON", Address: at("10.1.0.21"),
				Settings: map[string]string{"room": "100"}},
			{Tag: "DOOR", Kind: "intercom", Profile: "tolvern-d1", Name: "DOOR", Address: at("10.1.0.22"),
				After:    []string{"MON"},
				Settings: map[string]string{"room": "201", "rings-at": "MON", "shows": "CAM"}},
			{Tag: "REC", Kind: "recorder", Profile: "ovalis-r16", Name: "rec", Address: at("10.1.0.23"),
				Settings: map[string]string{"cameras": `[{"camera":"CAM"}]`}},
			{Tag: "RAD", Kind: "radio gateway", Profile: "tidewell-w1", Name: "rad", Address: at("10.1.0.24"),
				Settings: map[string]string{"radio-region": "Europe"}},
			{Tag: "EYE", Kind: "camera", Profile: "ovalis-c31", Name: "eye", Address: at("10.1.0.25")},
		},
		Known: plan.Known{Logins: map[string]string{"CAM": "7"}},
	}
}

func valuesOf(p plan.Plan, tag string) procedure.Values {
	i := slices.IndexFunc(p.Entries, func(e plan.Entry) bool { return e.Tag == tag })
	return procedure.For(p.Resolve(), p.Entries[i], p.Profiles[p.Entries[i].Profile])
}

func TestWhatTheSiteSaysIsSentWhereItIsTaken(t *testing.T) {
	p := terminal(t)
	for tag, want := range map[string]string{"CAM": "ntp=10.1.0.5 zone=Europe/Oslo", "DOOR": "",
		"RAD": "dns=10.1.0.2 ntp=10.1.0.5 zone=Europe/Oslo",
		"EYE": "dns=10.1.0.2 ntp=10.1.0.5 zone-posix=CET-1CEST,M3.5.0,M10.5.0/3"} {
		v := valuesOf(p, tag)
		var list []string
		for key, value := range v.SiteWide {
			list = append(list, key+"="+value)
			if v.Variables()[key] != value {
				t.Errorf("%s: {%s} is %q", tag, key, v.Variables()[key])
			}
		}
		slices.Sort(list)
		if got := strings.Join(list, " "); got != want {
			t.Errorf("%s: %s, want %s", tag, got, want)
		}
	}
	given := valuesOf(p, "RAD")
	p.Site.Zone, p.Site.Subnets[0].DNS = "Etc/UTC", nil
	if got := procedure.Differ(given, valuesOf(p, "RAD")); !slices.Equal(got, []string{
		"dns: set to 10.1.0.2, planned nothing", "zone: set to Europe/Oslo, planned Etc/UTC"}) {
		t.Errorf("%q", got)
	}
}

// Whose login is given is set before, and a new login there is a difference here.
func TestALoginFollowsItsDevice(t *testing.T) {
	p := terminal(t)
	for tag, want := range map[string][]string{"DOOR": {"MON", "CAM"}, "REC": {"CAM"}, "CAM": nil} {
		i := slices.IndexFunc(p.Entries, func(e plan.Entry) bool { return e.Tag == tag })
		if got := p.Before(p.Entries[i]); !slices.Equal(got, want) {
			t.Errorf("%s comes after %v, want %v", tag, got, want)
		}
	}
	door, rec := valuesOf(p, "DOOR"), valuesOf(p, "REC")
	if door.Secrets["stream-login"] != "login:CAM 7" || !strings.Contains(rec.Settings["cameras"],
		`"login":"login:CAM 7"`) {
		t.Fatalf("%v, %v", door.Secrets, rec.Settings)
	}
	if _, sent := door.Variables()["setting.stream-login"]; sent {
		t.Error("a login among the plain values")
	}
	p.Known.Logins["CAM"] = "8"
	if got := procedure.Differ(door, valuesOf(p, "DOOR")); !slices.Equal(got, []string{
		"stream-login: CAM has another login now than was set"}) {
		t.Errorf("%q", got)
	}
	if got := procedure.Differ(rec, valuesOf(p, "REC")); !slices.Equal(got, []string{
		"cameras: other rows are planned than were set"}) {
		t.Errorf("%q", got)
	}
	// Where nobody looked which login it is, nothing is said of it.
	p.Known.Logins = nil
	if got := procedure.Differ(door, valuesOf(p, "DOOR")); got != nil {
		t.Errorf("%q", got)
	}
}

// The station file is the same for every station, in the order of the tags.
func TestTheListingOfAllStations(t *testing.T) {
	p := terminal(t)
	const want = "201;DOOR;10.1.0.22;intercom\n100;MON;10.1.0.21;monitor"
	for _, tag := range []string{"DOOR", "MON"} {
		if got := valuesOf(p, tag).Settings["stations"]; got != want {
			t.Errorf("%s: %q", tag, got)
		}
	}
	slices.Reverse(p.Entries)
	if got := valuesOf(p, "MON").Settings["stations"]; got != want {
		t.Errorf("in another order: %q", got)
	}
	given := valuesOf(p, "MON")
	p.Entries[slices.IndexFunc(p.Entries, func(e plan.Entry) bool { return e.Tag == "DOOR" })].Settings["room"] = "202"
	if got := procedure.Differ(given, valuesOf(p, "MON")); !slices.Equal(got, []string{
		"stations: other lines are planned than were set"}) {
		t.Errorf("%q", got)
	}
}
