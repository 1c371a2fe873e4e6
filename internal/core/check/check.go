// Package check compares what a device says with what the plan says. It judges
// observations; it makes none.
package check

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/procedure"
)

// Verdicts of a check.
const (
	Pass = "pass"
	Fail = "fail"
)

// Check is one verified fact about one device.
type Check struct {
	Name     string    `json:"name"`
	Expected string    `json:"expected"`
	Observed string    `json:"observed"`
	Verdict  string    `json:"verdict"`
	At       time.Time `json:"at"`
}

// Observation is everything that one fresh look at a device brought.
type Observation struct {
	Holders      []address.MAC     // who answers for the planned address
	Echo         error             // nil: it answered
	Ports        map[uint16]error  // port to why it did not open; nil: it did
	NewLogin     error             // nil: it was accepted
	FactoryLogin string            // what became of it: "refused", "accepted", "none", or a reason
	Facts        map[string]string // what it says of itself: name, address, mask, gateway, serial
	ReadError    error             // why the facts could not be read
	Certificate  string            // SHA-256 of its TLS certificate, "" without TLS
	LastChange   time.Time         // when it was last written to
	RestartedAt  time.Time         // when it was last seen to come back from a restart
	FactsReadAt  time.Time         // when the facts were read
}

// Expectation is what should be so.
type Expectation struct {
	MAC         address.MAC
	Serial      string // "" when it was never read
	Certificate string // "" when none was seen before
	Values      procedure.Values
	Ports       []uint16
}

// Judge turns an observation into checks.
func Judge(want Expectation, saw Observation, now time.Time) []Check {
	var list []Check
	add := func(name, expected, observed string, ok bool) {
		verdict := Fail
		if ok {
			verdict = Pass
		}
		list = append(list, Check{name, expected, observed, verdict, now})
	}
	holders := macs(saw.Holders)
	add("address held by", want.MAC.String(), holders, holders == want.MAC.String())
	add("echo", "answers", said(saw.Echo, "answers"), saw.Echo == nil)
	for _, p := range want.Ports {
		err, tried := saw.Ports[p]
		add(fmt.Sprintf("port %d", p), "open", said(err, "open"), tried && err == nil)
	}
	if want.Values.User != "" {
		add("new login", "accepted", said(saw.NewLogin, "accepted"), saw.NewLogin == nil)
		add("factory login", "refused", saw.FactoryLogin, saw.FactoryLogin == "refused")
	}
	vars := want.Values.Variables()
	if want.Serial != "" {
		add("serial", want.Serial, fact(saw, "serial"), strings.EqualFold(fact(saw, "serial"), want.Serial))
	}
	for _, key := range []string{"name", "address", "mask", "gateway"} {
		add(key, vars[key], fact(saw, key), fact(saw, key) == vars[key])
	}
	for _, key := range slices.Sorted(maps.Keys(want.Values.Settings)) {
		seen := saw.Facts["setting."+key]
		if want.Values.Settings[key] != "" {
			seen = fact(saw, "setting."+key)
		}
		add(key, cmp.Or(want.Values.Settings[key], "nothing"), cmp.Or(seen, "nothing"), seen == want.Values.Settings[key])
	}
	if want.Certificate != "" {
		add("certificate", short(want.Certificate), short(saw.Certificate), saw.Certificate == want.Certificate)
	}
	kept := !saw.LastChange.IsZero() && saw.RestartedAt.After(saw.LastChange) && saw.FactsReadAt.After(saw.RestartedAt)
	observed := "no restart was seen after the last change"
	if kept {
		observed = "read again after it"
	}
	add("kept over a restart", "read again after it", observed, kept)
	return list
}

// Passed reports whether there are checks and all of them passed.
func Passed(list []Check) bool { return len(list) > 0 && len(Failing(list)) == 0 }

// Failing gives the checks that did not pass.
func Failing(list []Check) []Check {
	var failing []Check
	for _, c := range list {
		if c.Verdict != Pass {
			failing = append(failing, c)
		}
	}
	return failing
}

func fact(saw Observation, key string) string {
	if v := saw.Facts[key]; v != "" {
		return v
	}
	if saw.ReadError != nil {
		return saw.ReadError.Error()
	}
	return "not said"
}

func said(err error, good string) string {
	if err != nil {
		return err.Error()
	}
	return good
}

func short(fingerprint string) string {
	if len(fingerprint) > 16 {
		return fingerprint[:16] + "…"
	}
	if fingerprint == "" {
		return "none"
	}
	return fingerprint
}

func macs(list []address.MAC) string {
	if len(list) == 0 {
		return "nobody"
	}
	var text []string
	for _, m := range list {
		text = append(text, m.String())
	}
	slices.Sort(text)
	return strings.Join(text, ", ")
}
