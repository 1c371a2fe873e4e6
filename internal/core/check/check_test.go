package check_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/check"
	"redstart/internal/core/procedure"
)

var (
	mac   = address.MAC{2, 0, 0, 0, 0, 1}
	other = address.MAC{2, 0, 0, 0, 0, 2}
	noon  = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
)

func want() check.Expectation {
	return check.Expectation{MAC: mac, PlannedMAC: mac, Serial: "S-1", Servers: map[string]string{"certificate": "aa11"}, Ports: []uint16{80}, Reads: []string{"name", "address", "mask", "gateway", "setting.room"},
		Values: procedure.Values{Name: "cam-1", Address: netip.MustParsePrefix("10.40.8.30/22"), Gateway: netip.MustParseAddr("10.40.8.1"), User: "u", Login: "each 16", Settings: map[string]string{"room": "7"}}}
}

// good is what a device shows that is as planned.
func good() check.Observation {
	ok := func(said string) check.Look { return check.Saw(said, true) }
	return check.Observation{
		Held: true, Holders: []address.MAC{mac}, Echo: ok("answers"), Ports: map[uint16]check.Look{80: ok("open")},
		NewLogin: ok("accepted"), LoginStamp: "each 16", LoginUser: "u", FactoryLogin: ok("refused"), Servers: map[string]check.Look{"certificate": ok("aa11")}, Read: ok("read"),
		Facts:      map[string]string{"name": "cam-1", "address": "10.40.8.30", "mask": "255.255.252.0", "gateway": "10.40.8.1", "serial": "s-1", "setting.room": "7"},
		LastChange: noon, RestartedAt: noon.Add(time.Second), Evidence: "silent for 2 s", FactsReadAt: noon.Add(2 * time.Second),
	}
}

func names(list []check.Check) (n []string) {
	for _, c := range list {
		n = append(n, c.Name)
	}
	return n
}

func TestEverythingAsPlannedIsVerified(t *testing.T) {
	list := check.Judge(want(), good(), noon)
	if !check.Verified(list) || len(list) != 15 {
		t.Errorf("%d checks, failing %v, not looked at %v", len(list), names(check.Failing(list)), check.NotLooked(list))
	}
	if last := list[len(list)-1]; last.Name != check.Kept || last.By != "silent for 2 s" {
		t.Errorf("the last check rests on %q", last.By)
	}
	if check.Verified(nil) {
		t.Error("no checks at all count as verified")
	}
}

// What was not looked at neither passes nor fails, down to the very last check.
func TestTheZeroObservationPassesNothing(t *testing.T) {
	e := want()
	e.PlannedMAC = address.MAC{}
	list := check.Judge(e, check.Observation{}, noon)
	if got := check.NotLooked(list); len(got) != len(list) || len(list) != 14 || check.Verified(list) {
		t.Errorf("of %d checks only %v were not looked at", len(list), got)
	}
	var zero check.Verdict
	if text, _ := zero.MarshalText(); string(text) != "not looked at" {
		t.Errorf("the zero verdict prints as %q", text)
	}
	zero = check.Passed
	if zero.UnmarshalText([]byte("pass")) != nil || zero != check.NotLookedAt {
		t.Error("a word that is no verdict counts as one")
	}
}

func TestEachDeviationFailsItsOwnCheck(t *testing.T) {
	bad := check.Saw("no answer", false)
	for failing, change := range map[string]func(*check.Expectation, *check.Observation){
		check.HeldBy:   func(_ *check.Expectation, o *check.Observation) { o.Holders = append(o.Holders, other) },
		check.MAC:      func(e *check.Expectation, _ *check.Observation) { e.PlannedMAC = other },
		check.Echo:     func(_ *check.Expectation, o *check.Observation) { o.Echo = bad },
		"port 80":      func(_ *check.Expectation, o *check.Observation) { o.Ports[80] = bad },
		check.Password: func(_ *check.Expectation, o *check.Observation) { o.LoginStamp = "given x" },
		check.Factory:  func(_ *check.Expectation, o *check.Observation) { o.FactoryLogin = check.Saw("accepted", false) },
		check.Serial:   func(_ *check.Expectation, o *check.Observation) { o.Facts["serial"] = "S-2" },
		"name":         func(_ *check.Expectation, o *check.Observation) { o.Facts["name"] = "c20" },
		"address":      func(_ *check.Expectation, o *check.Observation) { o.Facts["address"] = "10.40.8.31" },
		"mask":         func(_ *check.Expectation, o *check.Observation) { o.Facts["mask"] = "255.255.255.0" },
		"gateway":      func(_ *check.Expectation, o *check.Observation) { delete(o.Facts, "gateway") },
		"room":         func(_ *check.Expectation, o *check.Observation) { o.Facts["setting.room"] = "8" },
		"certificate": func(_ *check.Expectation, o *check.Observation) {
			o.Servers = map[string]check.Look{"certificate": check.Saw("bb22", true)}
		},
		check.Kept: func(_ *check.Expectation, o *check.Observation) { o.Restart = check.Saw("it did not restart", false) },
	} {
		e, saw := want(), good()
		change(&e, &saw)
		list := check.Judge(e, saw, noon)
		if got := names(check.Failing(list)); !slices.Equal(got, []string{failing}) || len(check.NotLooked(list)) > 0 {
			t.Errorf("want only %q to fail, got %v; not looked at: %v", failing, got, check.NotLooked(list))
		}
	}
	e, saw := want(), good()
	saw.LoginUser = "operator"
	if got := names(check.Failing(check.Judge(e, saw, noon))); !slices.Equal(got, []string{check.Password}) {
		t.Errorf("another user's login: %v", got)
	}
	saw = good()
	saw.Facts["serial"], saw.Told = "", "S-2"
	if got := names(check.Failing(check.Judge(e, saw, noon))); !slices.Equal(got, []string{check.Serial}) {
		t.Errorf("another serial that was told earlier: %v", got)
	}
}

func TestWhatCannotBeLookedAtIsNamed(t *testing.T) {
	for name, c := range map[string]struct {
		change func(*check.Expectation, *check.Observation)
		unseen []string
	}{
		"no sign-in act": {func(_ *check.Expectation, o *check.Observation) {
			o.NewLogin = check.Unseen("its profile does not say how")
		}, []string{check.NewLogin, check.Password}},
		"no factory way": {func(_ *check.Expectation, o *check.Observation) { o.FactoryLogin = check.Look{} }, []string{check.Factory}},
		"name not read":  {func(e *check.Expectation, _ *check.Observation) { e.Reads = e.Reads[1:] }, []string{"name"}},
		"no serial told": {func(_ *check.Expectation, o *check.Observation) { delete(o.Facts, "serial") }, []string{check.Serial}},
		"no restart":     {func(_ *check.Expectation, o *check.Observation) { o.RestartedAt = time.Time{} }, []string{check.Kept}},
		"no change":      {func(_ *check.Expectation, o *check.Observation) { o.LastChange = time.Time{} }, []string{check.Kept}},
		"read before":    {func(_ *check.Expectation, o *check.Observation) { o.FactsReadAt = noon }, []string{check.Kept}},
		"changed since":  {func(_ *check.Expectation, o *check.Observation) { o.LastChange = noon.Add(3 * time.Second) }, []string{check.Kept}},
	} {
		e, saw := want(), good()
		c.change(&e, &saw)
		list := check.Judge(e, saw, noon)
		if got := check.NotLooked(list); !slices.Equal(got, c.unseen) || len(check.Failing(list)) > 0 || check.Verified(list) {
			t.Errorf("%s: not looked at %v, want %v; failing %v", name, got, c.unseen, names(check.Failing(list)))
		}
	}
}

// A device that does not let us in fails that one check; what would have been
// read is named as not looked at, not as so many failures.
func TestARefusedLoginIsOneFailure(t *testing.T) {
	saw := good()
	saw.NewLogin, saw.Read, saw.Facts = check.Saw("the login was refused", false), check.Unseen("not signed in"), nil
	list := check.Judge(want(), saw, noon)
	if got := names(check.Failing(list)); !slices.Equal(got, []string{check.NewLogin}) {
		t.Errorf("failing: %v", got)
	}
	for _, c := range list {
		if c.Name == "name" && c.Observed != "not signed in" {
			t.Errorf("an unread name shows as %q", c.Observed)
		}
	}
}
