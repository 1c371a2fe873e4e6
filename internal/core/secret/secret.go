// Package secret checks and generates device passwords under a family's rules.
package secret

import (
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"

	"crypto/rand"
)

// Rules say which passwords a device accepts. The zero value accepts 8 to 32
// letters and digits.
type Rules struct {
	Min     int      `json:"min,omitempty" yaml:"min"`         // fewest characters
	Max     int      `json:"max,omitempty" yaml:"max"`         // most characters
	Classes int      `json:"classes,omitempty" yaml:"classes"` // how many of lower, upper, digit, special must occur
	Needs   []string `json:"needs,omitempty" yaml:"needs"`     // classes of which each must occur
	// the characters that are taken; "" for all letters, digits and Special
	Only    string   `json:"only,omitempty" yaml:"only"`
	Special string   `json:"special,omitempty" yaml:"special"` // special characters that are accepted
	Digits  bool     `json:"digits,omitempty" yaml:"digits"`   // digits only
	Refuse  []string `json:"refuse,omitempty" yaml:"refuse"`   // words that must not occur, in any case
}

// Classes are the classes of characters, by the names that rules give them.
var Classes = []string{"small letter", "capital", "digit", "special character"}

// Alphabets without look-alikes (0 O, 1 l I), so that a password can be read off paper.
const (
	lower  = "abcdefghijkmnpqrstuvwxyz"
	upper  = "ABCDEFGHJKLMNPQRSTUVWXYZ"
	digits = "23456789"
)

func (r Rules) bounds() (low, high int) {
	low, high = r.Min, r.Max
	if low <= 0 {
		low = 8
	}
	if high <= 0 {
		high = max(32, low)
	}
	return low, high
}

// Check says why a password is refused, without repeating it; nil when it is accepted.
func (r Rules) Check(password string) error {
	if err := r.Refuses(password); err != nil {
		return fmt.Errorf("the password %w", err)
	}
	return nil
}

// Refuses says why a text is refused, as what follows its name: "must have 8 to 32
// characters, not 3"; nil when it is accepted.
func (r Rules) Refuses(password string) error {
	low, high := r.bounds()
	if n := len(password); n < low || n > high {
		return fmt.Errorf("must have %d to %d characters, not %d", low, high, n)
	}
	seen := map[int]bool{}
	if r.Only != "" && strings.ContainsFunc(password, func(c rune) bool { return !strings.ContainsRune(r.Only, c) }) {
		return fmt.Errorf("holds a character that the device does not take")
	}
	for _, c := range password {
		class := 3
		switch {
		case c >= 'a' && c <= 'z':
			class = 0
		case c >= 'A' && c <= 'Z':
			class = 1
		case c >= '0' && c <= '9':
			class = 2
		}
		seen[class] = true
		if class == 3 && !strings.ContainsRune(r.Special, c) {
			return fmt.Errorf("holds a character that the device does not take")
		}
		if r.Digits && class != 2 {
			return fmt.Errorf("may hold digits only")
		}
	}
	for _, name := range r.Needs {
		if class := slices.Index(Classes, name); !seen[class] {
			return fmt.Errorf("needs a %s", name)
		}
	}
	if len(seen) < r.Classes {
		return fmt.Errorf("needs %d of: small letters, capitals, digits, special characters", r.Classes)
	}
	for _, word := range r.Refuse {
		if word != "" && strings.Contains(strings.ToLower(password), strings.ToLower(word)) {
			return fmt.Errorf("must not contain the word %q", word)
		}
	}
	return nil
}

// Merge gives the rules under which a password is accepted by all of several
// families: the narrowest of each. The result may be impossible to satisfy;
// Generate and Check say so.
func Merge(list ...Rules) Rules {
	if len(list) == 0 {
		return Rules{}
	}
	m := list[0]
	m.Refuse, m.Needs = slices.Clone(m.Refuse), slices.Clone(m.Needs)
	m.Min, m.Max = m.bounds()
	for _, r := range list[1:] {
		low, high := r.bounds()
		m.Min, m.Max = max(m.Min, low), min(m.Max, high)
		m.Classes, m.Digits = max(m.Classes, r.Classes), m.Digits || r.Digits
		m.Needs = append(m.Needs, r.Needs...)
		switch {
		case m.Only == "":
			m.Only = r.Only
		case r.Only != "":
			if m.Only = among(m.Only, r.Only); m.Only == "" {
				m.Only = "\x00" // none at all
			}
		}
		m.Special = among(m.Special, r.Special)
		m.Refuse = append(m.Refuse, r.Refuse...)
	}
	return m
}

// among gives the characters of one text that another has too.
func among(text, other string) string {
	return strings.Map(func(c rune) rune {
		if strings.ContainsRune(other, c) {
			return c
		}
		return -1
	}, text)
}

// sets are the alphabets that passwords are made from, by class.
func (r Rules) sets() map[string]string {
	sets := map[string]string{Classes[0]: lower, Classes[1]: upper, Classes[2]: digits, Classes[3]: r.Special}
	if r.Digits {
		sets = map[string]string{Classes[2]: "0123456789"}
	}
	for class, set := range sets {
		if r.Only != "" {
			sets[class] = among(set, r.Only)
		}
		if sets[class] == "" {
			delete(sets, class)
		}
	}
	return sets
}

// Possible says why no password can satisfy the rules; nil when one can.
func (r Rules) Possible() error {
	sets := r.sets()
	if low, high := r.bounds(); low > high {
		return fmt.Errorf("one asks for at least %d characters, another takes at most %d", low, high)
	}
	for _, name := range r.Needs {
		if !slices.Contains(Classes, name) {
			return fmt.Errorf("needs: %q is none of %s", name, strings.Join(Classes, ", "))
		}
		if sets[name] == "" {
			return fmt.Errorf("a %s is asked for, but none is taken", name)
		}
	}
	if r.Classes > len(sets) || len(sets) == 0 {
		return fmt.Errorf("one takes digits only or no special characters, another asks for %d classes of characters",
			r.Classes)
	}
	return nil
}

// UsualLength is how long generated passwords are where nothing else is said,
// in characters.
const UsualLength = 16

// Generate makes a password of so many characters, or as near as the rules let
// it, from the random source (crypto/rand.Reader in earnest); length 0 means
// UsualLength. It fails when the rules contradict themselves.
func (r Rules) Generate(random io.Reader, length int) (string, error) {
	if err := r.Possible(); err != nil {
		return "", err
	}
	if length <= 0 {
		length = UsualLength
	}
	low, high := r.bounds()
	length = min(max(length, low), high)
	all := ""
	for _, class := range Classes {
		all += r.sets()[class]
	}
	// Refused words and missing classes are rare: draw again rather than repair.
	for range 1000 {
		b := make([]byte, length)
		for i := range b {
			n, err := rand.Int(random, big.NewInt(int64(len(all))))
			if err != nil {
				return "", err
			}
			b[i] = all[n.Int64()]
		}
		if r.Check(string(b)) == nil {
			return string(b), nil
		}
	}
	return "", fmt.Errorf("no password satisfies the rules: mend the profile's password section")
}
