package check

import (
	"context"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/profiles"
)

// doorway is a profile with everything that a device may tell besides name and address.
func doorway(t *testing.T) *profile.Profile {
	t.Helper()
	p, err := profiles.Parse([]byte(`redstart: profile/1
id: door
maker: Tern
model: D9
kind: intercom
recognise: [{fact: model, is: D9, sure: 90}]
factory: {address: 192.168.77.20/24, login: {user: u, password: p}}
user: u
name: {max: 20}
password: {min: 4, max: 20}
restart: {takes: 1s, at-most: 9s}
talk: {web: {scheme: http, port: 80}}
settings:
  - {key: shows, label: Shows, type: entry}
  - {key: login, label: Login, type: login, from: shows}
  - {key: code, label: Code, type: secret}
  - {key: stations, label: Stations, type: listing, kinds: [intercom], from: "{name}"}
  - {key: licence, label: Licence, type: file}
  - {key: cameras, label: Cameras, type: rows, columns: [{key: camera, label: Camera, type: entry}, {key: login, label: Login, type: login, from: camera}]}
order: [{act: name}, {act: time}, {act: settings}, {act: address, then: moves}]
acts:
  identify: [{request: GET /, take: {model: json /m, serial: json /s}}]
  name: [{request: PUT /, json: {name: "{name}"}}]
  time: [{request: PUT /, json: {zone: "{zone}", server: "{ntp}", clock: "{now}"}}]
  settings:
    - {request: PUT /, json: {login: "{setting.login}", code: "{setting.code}", stations: "{setting.stations}", "cameras[]": "{setting.cameras}"}}
    - {request: PUT /licence, files: {f: licence}}
  address: [{request: PUT /, json: {address: "{address}", mask: "{mask}", gateway: "{gateway}"}}]
  read:
    - request: GET /
      take: {name: json /name, address: json /a, mask: json /b, gateway: json /g, zone: json /z, ntp: json /n, clock: json /c, dhcp-client: json /d, setting.login: json /l, setting.stations: json /st, setting.licence: json /li, setting.cameras: json /ca}
`))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// atDoor is a visit at such a device that is as planned.
func atDoor(t *testing.T) *Visit {
	t.Helper()
	v := good(t)
	v.Profile = doorway(t)
	v.Servers, v.reading.servers = nil, nil
	v.Given.SiteWide = map[string]string{"zone": "Europe/Oslo", "ntp": "10.40.8.5"}
	v.Given.Secrets = map[string]string{"login": "login:CAM-1 7", "code": ""}
	v.Given.Settings = map[string]string{"stations": "a\nb", "licence": "d9.lic",
		"cameras": `[{"camera":"CAM-1","login":"login:CAM-1 7"}]`}
	v.reading.from, v.reading.until = noon, noon.Add(100*time.Millisecond)
	for key, value := range map[string]string{"zone": "Europe/Oslo", "ntp": "10.40.8.5",
		"clock": noon.Add(-time.Second).Format(time.RFC3339), "dhcp-client": "off", "setting.login": "on",
		"setting.stations": profile.Digest("a\nb"), "setting.licence": "yes",
		"setting.cameras": `[{"camera":"CAM-1","login":"yes"}]`} {
		v.reading.facts[key] = value
	}
	return v
}

func TestWhatADeviceTellsOfItself(t *testing.T) {
	for name, c := range map[string]struct {
		change   func(*Visit)
		verdict  result.Verdict
		observed string
	}{
		"zone": {func(v *Visit) {
			v.reading.facts["zone"] = "Etc/UTC"
		}, result.Failed, "Etc/UTC"},
		"ntp": {func(v *Visit) { v.reading.facts["ntp"] = "" }, result.Failed, "not said"},
		"DHCP client": {func(v *Visit) {
			v.reading.facts["dhcp-client"] = "enabled"
		}, result.Failed, "on"},
		"clock": {func(v *Visit) {
			v.reading.facts["clock"] = "2001-01-01T00:00:00Z"
		}, result.Failed, "25 years behind"},
		"clock, an hour ahead": {func(v *Visit) {
			v.reading.facts["clock"] = noon.Add(time.Hour).Format(time.RFC3339)
		}, result.Failed, "1h0m0s ahead"},
		"clock, four seconds behind": {func(v *Visit) {
			v.reading.facts["clock"] = noon.Add(-4 * time.Second).Format(time.RFC3339)
		}, result.Failed, "behind"},
		"clock, by the zone": {func(v *Visit) {
			delete(v.reading.facts, "clock")
			v.reading.facts["clock-local"] = "2026-11-23 13:00:00"
		}, result.Passed, "2026-11-23T12:00:00Z"},
		"clock, told too slowly": {func(v *Visit) {
			v.reading.until = noon.Add(5 * time.Second)
		}, result.NotLookedAt, "too long"},
		"clock, not told": {func(v *Visit) { delete(v.reading.facts, "clock") }, result.Failed, "not said"},
		"login": {func(v *Visit) {
			v.reading.facts["setting.login"] = "no"
		}, result.Failed, "does not work"},
		"login, not told": {func(v *Visit) {
			v.reading.facts["setting.login"] = ""
		}, result.NotLookedAt, "does not say"},
		"stations": {func(v *Visit) {
			v.reading.facts["setting.stations"] = profile.Digest("a")
		}, result.Failed, "other lines"},
		"stations, whole": {func(v *Visit) {
			v.reading.facts["setting.stations"] = "a\nb"
		}, result.Passed, "2 lines as planned"},
		"licence": {func(v *Visit) {
			v.reading.facts["setting.licence"] = "no"
		}, result.Failed, "did not accept"},
		"cameras": {func(v *Visit) {
			v.reading.facts["setting.cameras"] = `[{"camera":"CAM-1","login":"no"}]`
		}, result.Failed, "camera CAM-1: login does not work"},
		"cameras, one more": {func(v *Visit) {
			v.reading.facts["setting.cameras"] = `[{"camera":"CAM-1","login":"yes"},{"camera":"X"}]`
		}, result.Failed, "X is not planned"},
	} {
		v := atDoor(t)
		c.change(v)
		// As the driver's client gives them.
		v.reading.facts = v.Profile.Heard(v.reading.facts)
		what, _, _ := strings.Cut(name, ",")
		found := false
		for _, got := range run(t, v) {
			if got.Name != what {
				if got.Verdict == result.Failed {
					t.Errorf("%s: %s failed: %s", name, got.Name, got.Observed)
				}
				continue
			}
			found = true
			if got.Verdict != c.verdict || !strings.Contains(got.Observed, c.observed) {
				t.Errorf("%s: %v, %q", name, got.Verdict, got.Observed)
			}
		}
		if !found {
			t.Errorf("%s was not looked at", name)
		}
	}
	v := atDoor(t)
	v.reading.facts = v.Profile.Heard(v.reading.facts)
	if list := run(t, v); !result.Verified(list) {
		t.Errorf("failing %v, not looked at %v", names(result.Failing(list)), result.NotLooked(list))
	}
	// What nobody planned is not asked for.
	v = atDoor(t)
	v.Given = procedure.Values{Name: v.Given.Name, Address: v.Given.Address, Gateway: v.Given.Gateway, User: "u",
		Login: "each 16"}
	for _, got := range run(t, v) {
		if got.Name == "licence" || got.Name == "login" || got.Name == "stations" {
			t.Errorf("%s: %+v", got.Name, got)
		}
	}
}

// A check that could not be taken, since the device could not be read, is not passed.
func TestNothingReadIsNotLookedAt(t *testing.T) {
	v := atDoor(t)
	v.reading.read = result.Unseen("not signed in")
	list, err := Run(context.Background(), v, Never)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range list {
		switch c.Name {
		case "zone", "ntp", Clock, "DHCP client", "login", "stations", "licence", "cameras":
			if c.Verdict != result.NotLookedAt {
				t.Errorf("%s: %+v", c.Name, c)
			}
		}
	}
}
