// Package result holds what became of the checks of a device. What was not looked at
// never counts as passed; what nothing can look at counts as said once a person says it by name.
package result

import (
	"cmp"
	"slices"
	"time"
)

// Verdict is the result of a check. Its zero value is that nobody looked.
type Verdict int8

// The results of a check. Said is a person's word where nothing can look; a look stands above it.
const (
	NotLookedAt Verdict = iota
	Passed
	Failed
	Said
)

var verdicts = []string{"not looked at", "passed", "failed", "said"}

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
	Verdict  Verdict   `json:"verdict" jsonschema:"enum=passed,enum=failed,enum=said,enum=not looked at"`
	By       string    `json:"by,omitempty"` // what it rests on: a login, a restart and how it showed, when it was read, who said it
	At       time.Time `json:"at"`
	// Untold says that nothing can look at it: a person may say that it is so.
	Untold bool `json:"untold,omitempty"`
}

// Of makes a check of a look.
func Of(name, expected string, l Look, now time.Time) Check {
	c := Check{Name: name, Expected: expected, Observed: l.Said, By: l.By, At: now, Untold: l.Untold}
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
	// Untold says that nothing could look, however often it is tried.
	Untold bool
}

// Saw is a look that was taken.
func Saw(said string, good bool) Look { return Look{Taken: true, Good: good, Said: said} }

// Unseen is a look that was not taken, and why.
func Unseen(why string) Look { return Look{Said: why} }

// Untold is what nothing can look at, and why.
func Untold(why string) Look { return Look{Said: why, Untold: true} }

// Answered is a look at something that should work: err says why it did not.
func Answered(err error, good string) Look {
	if err != nil {
		return Saw(err.Error(), false)
	}
	return Saw(good, true)
}

// Verified reports whether every check passed or rests on somebody's word, and not on words alone.
func Verified(list []Check) bool {
	return len(with(list, Passed)) > 0 && len(with(list, Passed))+len(with(list, Said)) == len(list)
}

// Carried puts what was said earlier of the same into a new list, where nothing could look this time either.
func Carried(earlier, now []Check) []Check {
	for i, c := range now {
		at := slices.IndexFunc(earlier, func(e Check) bool {
			return e.Verdict == Said && e.Name == c.Name && e.Expected == c.Expected
		})
		if at >= 0 && c.Verdict == NotLookedAt && c.Untold {
			now[i].Verdict, now[i].By, now[i].At = Said, earlier[at].By, earlier[at].At
		}
	}
	return now
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
