package check_test

import (
	"errors"
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
	return check.Expectation{MAC: mac, Serial: "S-1", Certificate: "aa11", Ports: []uint16{80},
		Values: procedure.Values{Name: "cam-1", Address: netip.MustParsePrefix("10.40.8.30/22"), Gateway: netip.MustParseAddr("10.40.8.1"), User: "u"}}
}

// good is what a device shows that is as planned.
func good() check.Observation {
	return check.Observation{
		Holders: []address.MAC{mac}, Ports: map[uint16]error{80: nil}, FactoryLogin: "refused", Certificate: "aa11",
		Facts:      map[string]string{"name": "cam-1", "address": "10.40.8.30", "mask": "255.255.252.0", "gateway": "10.40.8.1", "serial": "s-1"},
		LastChange: noon, RestartedAt: noon.Add(time.Second), FactsReadAt: noon.Add(2 * time.Second),
	}
}

func names(list []check.Check) (n []string) {
	for _, c := range list {
		n = append(n, c.Name)
	}
	return n
}

func TestEverythingAsPlannedPasses(t *testing.T) {
	list := check.Judge(want(), good(), noon)
	if !check.Passed(list) || len(list) != 12 {
		t.Errorf("%d checks, failing: %v", len(list), names(check.Failing(list)))
	}
	if check.Passed(nil) {
		t.Error("no checks at all count as passed")
	}
}

func TestEachDeviationFailsItsOwnCheck(t *testing.T) {
	broken := errors.New("no answer")
	for failing, change := range map[string]func(*check.Observation){
		"address held by":     func(o *check.Observation) { o.Holders = append(o.Holders, other) },
		"echo":                func(o *check.Observation) { o.Echo = broken },
		"port 80":             func(o *check.Observation) { o.Ports = nil },
		"new login":           func(o *check.Observation) { o.NewLogin = broken },
		"factory login":       func(o *check.Observation) { o.FactoryLogin = "accepted" },
		"serial":              func(o *check.Observation) { o.Facts["serial"] = "S-2" },
		"name":                func(o *check.Observation) { o.Facts["name"] = "c20" },
		"address":             func(o *check.Observation) { o.Facts["address"] = "10.40.8.31" },
		"mask":                func(o *check.Observation) { o.Facts["mask"] = "255.255.255.0" },
		"gateway":             func(o *check.Observation) { delete(o.Facts, "gateway") },
		"certificate":         func(o *check.Observation) { o.Certificate = "bb22" },
		"kept over a restart": func(o *check.Observation) { o.RestartedAt = noon.Add(-time.Second) },
	} {
		saw := good()
		change(&saw)
		if got := names(check.Failing(check.Judge(want(), saw, noon))); !slices.Equal(got, []string{failing}) {
			t.Errorf("want only %q to fail, got %v", failing, got)
		}
	}
}

func TestNothingIsKeptBeforeItWasReadAgain(t *testing.T) {
	for name, change := range map[string]func(*check.Observation){
		"no restart":         func(o *check.Observation) { o.RestartedAt = time.Time{} },
		"no change known":    func(o *check.Observation) { o.LastChange = time.Time{} },
		"read before it":     func(o *check.Observation) { o.FactsReadAt = noon },
		"changed since then": func(o *check.Observation) { o.LastChange = noon.Add(3 * time.Second) },
	} {
		saw := good()
		change(&saw)
		if got := names(check.Failing(check.Judge(want(), saw, noon))); !slices.Equal(got, []string{"kept over a restart"}) {
			t.Errorf("%s: %v", name, got)
		}
	}
}

func TestWhatWasNeverSeenIsNotChecked(t *testing.T) {
	e := want()
	e.Serial, e.Certificate, e.Values.User = "", "", ""
	for _, c := range check.Judge(e, good(), noon) {
		if c.Name == "serial" || c.Name == "certificate" || c.Name == "new login" {
			t.Errorf("%s is checked against nothing", c.Name)
		}
	}
	silent := check.Judge(want(), check.Observation{ReadError: errors.New("the login was refused")}, noon)
	for _, c := range silent {
		if c.Name == "name" && c.Observed != "the login was refused" {
			t.Errorf("an unread name shows as %q", c.Observed)
		}
		if c.Verdict == check.Pass && c.Name != "echo" && c.Name != "new login" {
			t.Errorf("%s passes without an observation", c.Name)
		}
	}
}
