// Package result holds what became of the checks of a device. What was not looked at
// never counts as passed.
package result

import (
	"cmp"
	"slices"
	"time"
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

// Check is one verified fact about one device.
type Check struct {
	Name     string    `json:"name"`
	Expected string    `json:"expected"`
	Observed string    `json:"observed"`
	Verdict  Verdict   `json:"verdict" jsonschema:"enum=passed,enum=failed,enum=not looked at"`
	By       string    `json:"by,omitempty"` // what it rests on: a login, a restart and how it showed, when it was read
	At       time.Time `json:"at"`
}

// Of makes a check of a look.
func Of(name, expected string, l Look, now time.Time) Check {
	c := Check{Name: name, Expected: expected, Observed: l.Said, By: l.By, At: now}
	switch {
	case !l.Taken:
		c.Observed = cmp.Or(l.Said, "not asked")
	case l.Good:
		c.Verdict = Passed
	default:
		c.Verdict = Failed
	}
	return c
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
