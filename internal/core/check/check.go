// Package check compares what a device says with what the plan says. It judges
// observations; it makes none. What was not looked at never counts as passed.
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

// Verdict is the result of a check. Its zero value is that nobody looked.
type Verdict int8

// The three results of a check.
const (
	NotLookedAt Verdict = iota
	Passed
	Failed
)

var verdicts = []string{"not looked at", "passed", "failed"}

func (v Verdict) String() string {
	if v < 0 || int(v) >= len(verdicts) {
		v = NotLookedAt
	}
	return verdicts[v]
}

// MarshalText prints the result in words.
func (v Verdict) MarshalText() ([]byte, error) { return []byte(v.String()), nil }

// UnmarshalText reads it again; what it does not know was not looked at.
func (v *Verdict) UnmarshalText(b []byte) error {
	*v = Verdict(max(0, slices.Index(verdicts, string(b))))
	return nil
}

// Names of the checks that are the same for every device; besides there are
// "port N", the fields read back and the settings by their keys.
const (
	HeldBy   = "address held by"
	Echo     = "echo"
	MAC      = "MAC"
	NewLogin = "new login"
	Password = "password"
	Factory  = "factory login"
	Serial   = "serial"
	Kept     = "kept over a restart"
)

// Check is one verified fact about one device.
type Check struct {
	Name     string    `json:"name"`
	Expected string    `json:"expected"`
	Observed string    `json:"observed"`
	Verdict  Verdict   `json:"verdict"`
	By       string    `json:"by,omitempty"` // what it rests on: a login, a restart and how it showed, when it was read
	At       time.Time `json:"at"`
}

// Look is what became of one question to a device. The zero Look was not taken.
type Look struct {
	Taken bool
	Good  bool   // it was answered, as hoped
	Said  string // what was answered, or why nobody looked
	By    string // what the answer rests on
}

// Saw is a look that was taken.
func Saw(said string, good bool) Look { return Look{Taken: true, Good: good, Said: said} }

// Unseen is a look that was not taken, and why.
func Unseen(why string) Look { return Look{Said: why} }

// Answered is a look at something that should work: err says why it did not.
func Answered(err error, good string) Look {
	if err != nil {
		return Saw(err.Error(), false)
	}
	return Saw(good, true)
}

// Observation is everything that one fresh look at a device brought. What is
// left out was not looked at.
type Observation struct {
	Held         bool              // somebody was asked for the planned address
	Holders      []address.MAC     // who answers for it
	Echo         Look              // good: it answered
	Ports        map[uint16]Look   // good: it opened
	NewLogin     Look              // good: a stored credential was accepted; By names it
	FactoryLogin Look              // good: it was refused
	LoginStamp   string            // how the accepted credential was made, as procedure.Values.Login
	LoginUser    string            // whose it is
	Read         Look              // good: the facts were read with the new login
	Facts        map[string]string // what it says of itself: name, address, mask, gateway, serial
	Told         string            // the serial that it told earlier, "" when none
	Servers      map[string]Look   // by kind; good: it was shown, Said is its SHA-256
	LastChange   time.Time         // when it was last written to; zero: not known
	RestartedAt  time.Time         // when it was last seen to come back from a restart
	Evidence     string            // what showed that restart
	Restart      Look              // the restart of this very look, when one was asked for
	FactsReadAt  time.Time         // the facts were read then or later
}

// Expectation is what should be so.
type Expectation struct {
	MAC        address.MAC       // of the matched box
	PlannedMAC address.MAC       // that the plan names; zero when it names none
	Serial     string            // "" when it was neither planned nor ever read
	Servers    map[string]string // SHA-256 of what its servers showed before, by kind: certificate, host key
	Values     procedure.Values
	Ports      []uint16
	// Reads lists the facts that the profile says how to read back.
	Reads []string
}

// Judge turns an observation into checks.
func Judge(want Expectation, saw Observation, now time.Time) []Check {
	j := &judge{now: now}
	holders := macs(saw.Holders)
	j.look(HeldBy, want.MAC.String(), Look{Taken: saw.Held, Good: holders == want.MAC.String(), Said: holders})
	if !want.PlannedMAC.IsZero() {
		j.look(MAC, want.PlannedMAC.String(), Saw(want.MAC.String(), want.MAC == want.PlannedMAC))
	}
	j.look(Echo, "answers", saw.Echo)
	for _, p := range want.Ports {
		j.look(fmt.Sprintf("port %d", p), "open", saw.Ports[p])
	}
	if want.Values.User != "" {
		j.look(NewLogin, "accepted", saw.NewLogin)
		if want.Values.Login != "" {
			j.look(Password, procedure.LoginWords(want.Values.Login), password(want.Values, saw))
		}
		j.look(Factory, "refused", saw.FactoryLogin)
	}
	if want.Serial != "" {
		j.look(Serial, want.Serial, serial(want, saw))
	}
	vars := want.Values.Variables()
	for _, key := range []string{"name", "address", "mask", "gateway"} {
		j.fact(want, saw, key, key, vars[key])
	}
	for _, key := range slices.Sorted(maps.Keys(want.Values.Settings)) {
		j.fact(want, saw, key, "setting."+key, want.Values.Settings[key])
	}
	for _, key := range slices.Sorted(maps.Keys(want.Values.Secrets)) {
		if want.Values.Secrets[key] != "" {
			j.look(key, "as planned", Unseen("it is a secret that the device never tells again"))
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(want.Servers)) {
		seen, shown := saw.Servers[kind]
		switch {
		case !shown && saw.Read.Taken:
			seen = Saw("", false)
		case !shown:
			seen = Unseen(saw.Read.Said)
		}
		if seen.Taken {
			seen.Good, seen.Said = seen.Said == want.Servers[kind], short(seen.Said)
		}
		j.look(kind, short(want.Servers[kind]), seen)
	}
	j.look(Kept, "read again after it", kept(saw))
	return j.list
}

type judge struct {
	now  time.Time
	list []Check
}

func (j *judge) look(name, expected string, l Look) {
	c := Check{Name: name, Expected: expected, Observed: l.Said, By: l.By, At: j.now}
	switch {
	case !l.Taken:
		c.Observed = cmp.Or(l.Said, "not asked")
	case l.Good:
		c.Verdict = Passed
	default:
		c.Verdict = Failed
	}
	j.list = append(j.list, c)
}

// fact judges what was read back.
func (j *judge) fact(want Expectation, saw Observation, name, key, expected string) {
	seen, said := saw.Facts[key]
	var l Look
	switch {
	case !slices.Contains(want.Reads, key):
		l = Unseen("its profile does not say how to read it back")
	case !saw.Read.Taken:
		l = Unseen(saw.Read.Said)
	case !saw.Read.Good:
		l = Saw(saw.Read.Said, false)
	case !said || seen == "" && expected != "":
		l = Saw("not said", false)
	default:
		l = Saw(cmp.Or(seen, "nothing"), seen == expected)
	}
	if l.Taken && l.Good {
		l.By = saw.Read.By
	}
	j.look(name, cmp.Or(expected, "nothing"), l)
}

func serial(want Expectation, saw Observation) Look {
	switch now := saw.Facts["serial"]; {
	case now != "":
		return Saw(now, strings.EqualFold(now, want.Serial))
	case saw.Told != "" && !strings.EqualFold(saw.Told, want.Serial):
		return Saw(saw.Told+", told earlier", false)
	}
	return Unseen(cmp.Or(saw.Read.Said, "it does not tell its serial"))
}

func password(want procedure.Values, saw Observation) Look {
	if !saw.NewLogin.Taken || !saw.NewLogin.Good {
		return Unseen("no stored credential was accepted")
	}
	if saw.LoginUser != want.User {
		return Saw("that of the user "+saw.LoginUser, false)
	}
	l := Saw(procedure.LoginWords(saw.LoginStamp), procedure.LoginFits(saw.LoginStamp, want.Login))
	if !l.Good && l.Said == procedure.LoginWords(want.Login) {
		l.Said = "an earlier one"
	}
	l.By = saw.NewLogin.By
	return l
}

// kept judges whether the settings are known to survive a power cut: they were
// read after a restart that was seen after the last write.
func kept(saw Observation) Look {
	switch {
	case saw.Restart.Taken && !saw.Restart.Good:
		return Saw(saw.Restart.Said, false)
	case saw.LastChange.IsZero():
		return Unseen("it is not known when it was last written to")
	case !saw.RestartedAt.After(saw.LastChange):
		return Unseen("no restart was seen after the last change")
	case !saw.Read.Taken || !saw.Read.Good || !saw.FactsReadAt.After(saw.RestartedAt):
		return Unseen("it restarted after the last change, but was not read again")
	}
	l := Saw("read again after it", true)
	l.By = saw.Evidence
	return l
}

// Verified reports whether there are checks, and every one of them passed.
func Verified(list []Check) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(c Check) bool { return c.Verdict != Passed })
}

// Failing gives the checks that failed.
func Failing(list []Check) []Check { return with(list, Failed) }

// NotLooked gives the names of the checks that nobody could take.
func NotLooked(list []Check) []string {
	names := []string{}
	for _, c := range with(list, NotLookedAt) {
		names = append(names, c.Name)
	}
	return names
}

func with(list []Check, v Verdict) []Check {
	return slices.DeleteFunc(slices.Clone(list), func(c Check) bool { return c.Verdict != v })
}

func short(fingerprint string) string {
	if len(fingerprint) > 16 {
		return fingerprint[:16] + "…"
	}
	return cmp.Or(fingerprint, "none")
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
