package check

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/profiles"
)

var (
	mac   = address.MAC{2, 0, 0, 0, 0, 1}
	other = address.MAC{2, 0, 0, 0, 0, 2}
	noon  = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

// camera is a profile that reads everything back that is planned here.
func camera(t *testing.T) *profile.Profile {
	t.Helper()
	p, err := profiles.Parse([]byte(`redstart: profile/1
id: cam
maker: Ovalis
model: C9
kind: camera
recognise: [{fact: model, is: C9, sure: 90}]
factory: {address: 192.168.77.20/24, login: {user: u, password: p}}
user: u
name: {max: 20}
password: {min: 4, max: 20}
restart: {takes: 1s, at-most: 9s}
ports: [80]
talk: {web: {scheme: http, port: 80}}
settings:
  - {key: room, label: Room, type: text}
  - {key: ports, label: Ports, type: rows, columns: [{key: port, label: Port, type: number}, {key: role, label: Role, type: text}]}
order: [{act: name}, {act: settings}, {act: address, then: moves}]
acts:
  identify: [{request: GET /, take: {model: json /m, serial: json /s}}]
  name: [{request: PUT /, json: {name: "{name}"}}]
  settings: [{request: PUT /, json: {room: "{setting.room}"}}, {each: ports, request: "PUT /{row.port}", json: {role: "{row.role}"}}]
  address: [{request: PUT /, json: {address: "{address}", mask: "{mask}", gateway: "{gateway}"}}]
  read: [{request: GET /, take: {name: json /name, address: json /a, mask: json /b, gateway: json /g, setting.room: json /r, setting.ports: json /p}}]
`))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// good is a visit at a device that shows everything as planned.
func good(t *testing.T) *Visit {
	t.Helper()
	ok := func(said string) result.Look { return result.Saw(said, true) }
	return &Visit{
		Subject: Subject{
			MAC: mac, PlannedMAC: mac, Serial: "S-1", Servers: map[string]string{"certificate": "aa11"},
			Profile: camera(t),
			Given: procedure.Values{Name: "cam-1", Address: netip.MustParsePrefix("10.40.8.30/22"),
				Gateway: netip.MustParseAddr("10.40.8.1"), User: "u", Login: "each 16",
				Settings: map[string]string{"room": "7"}},
		},
		held: &[]address.MAC{mac},
		looks: map[string]result.Look{Echo: ok("answers"), "port 80": ok("open"), Factory: ok("refused"),
			FactoryAddress: ok("given up")},
		reading: &reading{
			login: ok("accepted"), stamp: "each 16", user: "u", read: ok("read"),
			servers: map[string]string{"certificate": "aa11"}, at: noon.Add(2 * time.Second),
			facts: map[string]string{"name": "cam-1", "address": "10.40.8.30", "mask": "255.255.252.0",
				"gateway": "10.40.8.1", "serial": "s-1", "setting.room": "7"},
		},
		changedAt: noon, restartedAt: noon.Add(time.Second), evidence: "silent for 2 s",
	}
}

func run(t *testing.T, v *Visit) []result.Check {
	t.Helper()
	list, err := Run(context.Background(), v, Never)
	if err != nil {
		t.Fatal(err)
	}
	return list
}

func names(list []result.Check) (n []string) {
	for _, c := range list {
		n = append(n, c.Name)
	}
	return n
}

func TestEverythingAsPlannedIsVerified(t *testing.T) {
	list := run(t, good(t))
	if !result.Verified(list) || len(list) != 16 {
		t.Errorf("%d checks, failing %v, not looked at %v", len(list), names(result.Failing(list)),
			result.NotLooked(list))
	}
	if last := list[len(list)-1]; last.Name != Kept || last.By != "silent for 2 s" {
		t.Errorf("the last check rests on %q", last.By)
	}
}

func TestEachDeviationFailsItsOwnCheck(t *testing.T) {
	bad := result.Saw("no answer", false)
	for failing, change := range map[string]func(*Visit){
		HeldBy:         func(v *Visit) { v.held = &[]address.MAC{mac, other} },
		MAC:            func(v *Visit) { v.PlannedMAC = other },
		Echo:           func(v *Visit) { v.looks[Echo] = bad },
		"port 80":      func(v *Visit) { v.looks["port 80"] = bad },
		Password:       func(v *Visit) { v.reading.stamp = "given x" },
		FactoryAddress: func(v *Visit) { v.looks[FactoryAddress] = bad },
		Factory:        func(v *Visit) { v.looks[Factory] = result.Saw("accepted", false) },
		Serial:         func(v *Visit) { v.reading.facts["serial"] = "S-2" },
		"name":         func(v *Visit) { v.reading.facts["name"] = "c20" },
		"address":      func(v *Visit) { v.reading.facts["address"] = "10.40.8.31" },
		"mask":         func(v *Visit) { v.reading.facts["mask"] = "255.255.255.0" },
		"gateway":      func(v *Visit) { delete(v.reading.facts, "gateway") },
		"room":         func(v *Visit) { v.reading.facts["setting.room"] = "8" },
		"certificate":  func(v *Visit) { v.reading.servers["certificate"] = "bb22" },
		Kept:           func(v *Visit) { v.restarted = result.Saw("it did not restart", false) },
	} {
		v := good(t)
		change(v)
		list := run(t, v)
		if got := names(result.Failing(list)); !slices.Equal(got, []string{failing}) ||
			len(result.NotLooked(list)) > 0 {
			t.Errorf("want only %q to fail, got %v; not looked at: %v", failing, got, result.NotLooked(list))
		}
	}
	v := good(t)
	v.reading.user = "operator"
	if got := names(result.Failing(run(t, v))); !slices.Equal(got, []string{Password}) {
		t.Errorf("another user's login: %v", got)
	}
	v = good(t)
	v.reading.facts["serial"], v.State.Serial = "", "S-2"
	if got := names(result.Failing(run(t, v))); !slices.Equal(got, []string{Serial}) {
		t.Errorf("another serial that was told earlier: %v", got)
	}
}

func TestWhatCannotBeLookedAtIsNamed(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*Visit)
		unseen []string
	}{
		"no sign-in act": {func(v *Visit) {
			v.reading.login = result.Unseen("its profile does not say how")
		}, []string{NewLogin, Password}},
		"no factory way": {func(v *Visit) { v.looks[Factory] = result.Look{} }, []string{Factory}},
		"name not read": {func(v *Visit) {
			v.Profile.Acts[profile.Read] = nil
		}, []string{"name", "address", "mask", "gateway", "room"}},
		"no serial told": {func(v *Visit) { delete(v.reading.facts, "serial") }, []string{Serial}},
		"no restart":     {func(v *Visit) { v.restartedAt = time.Time{} }, []string{Kept}},
		"no change":      {func(v *Visit) { v.changedAt = time.Time{} }, []string{Kept}},
		"a secret": {func(v *Visit) {
			v.Given.Secrets = map[string]string{"code": "secret:1"}
		}, []string{"code"}},
		"never seen here": {func(v *Visit) { v.Serial, v.State = "", store.DeviceState{} }, nil},
	} {
		v := good(t)
		c.change(v)
		list := run(t, v)
		if got := result.NotLooked(list); !slices.Equal(got, c.unseen) && len(got)+len(c.unseen) > 0 ||
			len(result.Failing(list)) > 0 || result.Verified(list) != (c.unseen == nil) {
			t.Errorf("%s: not looked at %v, want %v; failing %v", name, got, c.unseen, names(result.Failing(list)))
		}
	}
}

// A table is one check, which says what of it differs.
func TestATableIsOneCheck(t *testing.T) {
	v := good(t)
	v.Given.Settings["ports"] = `[{"port":"1","role":"a"},{"port":"2","role":"b"}]`
	v.reading.facts["setting.ports"] = `[{"port":"1","role":"a"},{"port":"2","role":"b"}]`
	if list := run(t, v); !result.Verified(list) || len(list) != 17 {
		t.Errorf("failing %v, not looked at %v", result.Failing(list), result.NotLooked(list))
	}
	v = good(t)
	v.Given.Settings["ports"] = `[{"port":"1","role":"a"},{"port":"2","role":"b"}]`
	v.reading.facts["setting.ports"] = `[{"port":"1","role":"c"}]`
	failing := result.Failing(run(t, v))
	if len(failing) != 1 || failing[0].Expected != "2 rows as planned" ||
		failing[0].Observed != "port 1: role is c, not a; port 2 is missing" {
		t.Errorf("%+v", failing)
	}
}

// A device that does not let us in fails that one check; what would have been
// read is named as not looked at, not as so many failures.
func TestARefusedLoginIsOneFailure(t *testing.T) {
	v := good(t)
	v.reading.login, v.reading.read = result.Saw("the login was refused", false), result.Unseen("not signed in")
	v.reading.facts = map[string]string{}
	list := run(t, v)
	if got := names(result.Failing(list)); !slices.Equal(got, []string{NewLogin}) {
		t.Errorf("failing: %v", got)
	}
	for _, c := range list {
		if c.Name == "name" && c.Observed != "not signed in" {
			t.Errorf("an unread name shows as %q", c.Observed)
		}
	}
}

// Of a device that is away only that is said; the rest was not looked at.
func TestWhatIsAwayWasNotLookedAt(t *testing.T) {
	v := good(t)
	v.held = &[]address.MAC{}
	list := run(t, v)
	if got := names(result.Failing(list)); !slices.Equal(got, []string{HeldBy}) {
		t.Errorf("failing: %v", got)
	}
	if got := result.NotLooked(list); len(got) != len(list)-2 { // all but the address and the MAC
		t.Errorf("not looked at: %v", got)
	}
}

// What is wrong is told in its size and in words that a technician needs.
func TestWords(t *testing.T) {
	for d, want := range map[time.Duration]string{3 * time.Second: "3s", 90 * time.Minute: "h", 50 * time.Hour: "day", 5 * 365 * 24 * time.Hour: "year"} {
		if got := roughly(d); !strings.Contains(got, want) {
			t.Errorf("%s is said as %q", d, got)
		}
	}
	for _, c := range []struct {
		told time.Time
		good bool
		says string
	}{{noon, true, ""}, {noon.Add(-time.Hour), false, "behind"}, {noon.Add(time.Hour), false, "ahead"}} {
		if l := clockLook(c.told, noon, noon.Add(time.Second)); l.Good != c.good || !strings.Contains(l.Said, c.says) {
			t.Errorf("%s: %+v", c.told, l)
		}
	}
	if plain(nil) != nil || plain(fmt.Errorf("it: %w", context.DeadlineExceeded)).Error() != "no answer" ||
		plain(problem.New(problem.Device, "it refused", "reset it")).Error() != "it refused" {
		t.Error("errors are not plain")
	}
}

// A box that tells of what hangs behind it is believed in what it tells, and in nothing else.
func TestWhatABoxTellsOfItsParts(t *testing.T) {
	v := good(t)
	v.Profile.Parts = &profile.Parts{}
	r := v.reading
	for says, set := range map[string]func(){
		"not signed in":    func() { r.read = result.Unseen("not signed in") },
		"no answer":        func() { r.read = result.Saw("no answer", false) },
		"it does not tell": func() { r.read = result.Saw("read", true) },
	} {
		set()
		if _, l := v.partTold(r, "5"); !strings.Contains(l.Said, says) || l.Good {
			t.Errorf("%+v, want %q", l, says)
		}
	}
}

// Blanks around a value are no difference; what looks alike and is not is shown with quotes.
func TestValuesAreComparedByMeaning(t *testing.T) {
	for told, want := range map[string]result.Look{
		"cam-1 \t": {Taken: true, Good: true, Said: "cam-1"}, "cam -1": {Taken: true, Said: `"cam -1"`}, "Cam-1": {Taken: true, Said: `"Cam-1"`},
		"cam-2": {Taken: true, Said: "cam-2"},
	} {
		v := good(t)
		v.reading.facts["name"] = told
		got, err := readBack(t.Context(), v, Want{Name: "name", Expected: "cam-1", Key: "name"})
		if got.By = ""; err != nil || got != want {
			t.Errorf("%q: %+v, %v", told, got, err)
		}
	}
}

// A factory login that somebody stored opens the device all the same: that is no reason not to look.
func TestAStoredFactoryLoginIsStillAccepted(t *testing.T) {
	v := good(t)
	delete(v.looks, Factory)
	v.login = &vault.Login{Login: *v.Profile.Factory.Login}
	if l, err := v.factoryLogin(t.Context()); err != nil || !l.Taken || l.Good {
		t.Errorf("%+v, %v", l, err)
	}
}

// Where only a person can restart a device, a restart that was asked for is not passed on old evidence.
func TestARestartThatNothingCanMakeIsSaid(t *testing.T) {
	v := good(t)
	v.Profile.Acts[profile.Restart] = nil
	list, err := Run(t.Context(), v, Always)
	if err != nil || result.Verified(list) || !slices.Equal(result.NotLooked(list), []string{Kept}) {
		t.Errorf("%v, %v", result.NotLooked(list), err)
	}
}

// What joined once and was not heard since does not answer.
func TestWhoWasHeardLongAgoDoesNotAnswer(t *testing.T) {
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	v := &Visit{Subject: Subject{Profile: set["tidewell-w1"]}}
	for ago, answers := range map[time.Duration]bool{time.Hour: true, 48 * time.Hour: false} {
		r := &reading{read: result.Saw("read", true), facts: map[string]string{"parts": `[{"eui":"0004A30B001C0530","joined":"yes","heard":"` +
			time.Now().Add(-ago).UTC().Format(time.RFC3339) + `"}]`}}
		if _, l := v.partTold(r, "0004A30B001C0530"); !l.Taken || l.Good != answers {
			t.Errorf("heard %s ago: %+v", ago, l)
		}
	}
}
