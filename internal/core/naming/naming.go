// Package naming makes device names from tags under a profile's rules.
package naming

import (
	"fmt"
	"strings"
	"unicode"
)

// Rules say which names a device accepts. The zero value accepts RFC 1123
// host labels of up to 63 characters.
type Rules struct {
	Max   int    `json:"max,omitempty" yaml:"max"`     // longest name, in characters
	Case  string `json:"case,omitempty" yaml:"case"`   // "lower", "upper" or "" for either
	Extra string `json:"extra,omitempty" yaml:"extra"` // characters allowed besides letters, digits and "-"
}

func (r Rules) max() int {
	if r.Max <= 0 {
		return 63
	}
	return r.Max
}

func (r Rules) allows(c rune) bool {
	switch {
	case c >= 'a' && c <= 'z':
		return r.Case != "upper"
	case c >= 'A' && c <= 'Z':
		return r.Case != "lower"
	case c >= '0' && c <= '9', c == '-':
		return true
	}
	return strings.ContainsRune(r.Extra, c)
}

// FromTag turns a tag into the nearest name that the rules accept.
func (r Rules) FromTag(tag string) string {
	switch r.Case {
	case "lower":
		tag = strings.ToLower(tag)
	case "upper":
		tag = strings.ToUpper(tag)
	}
	var b strings.Builder
	for _, c := range tag {
		switch {
		case r.allows(c):
			b.WriteRune(c)
		case c == '_' || c == '.' || c == '/' || unicode.IsSpace(c):
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "-")
	if len(name) > r.max() {
		name = strings.TrimRight(name[:r.max()], "-")
	}
	return name
}

// Check says why a name is refused; nil when it is accepted.
func (r Rules) Check(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("the name is empty")
	case len(name) > r.max():
		return fmt.Errorf("the name has %d characters; the device takes %d", len(name), r.max())
	case name[0] == '-' || name[len(name)-1] == '-':
		return fmt.Errorf("the name begins or ends with a dash")
	}
	for _, c := range name {
		if !r.allows(c) {
			return fmt.Errorf("the device does not take %q in a name", c)
		}
	}
	return nil
}
