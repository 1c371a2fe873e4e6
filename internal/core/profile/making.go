package profile

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"hash"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Making works out a variable from others: challenge logins ask for a hash over
// some, and tokens have to be put into another form.
type Making struct {
	Name string   `yaml:"name"` // of the new variable
	Of   string   `yaml:"of"`   // text with {variables}
	By   []string `yaml:"by"`   // what is done to it, in this order
	Key  string   `yaml:"key"`  // of the hmac forms; text with {variables}
}

// hashes are the hash functions (RFC 1321, FIPS 180-4), also keyed (RFC 2104).
var hashes = map[string]func() hash.Hash{"md5": md5.New, "sha1": sha1.New, "sha256": sha256.New}

// forms are the other ways to treat bytes (RFC 4648).
var forms = map[string]func([]byte) []byte{
	"hex":    func(b []byte) []byte { return hex.AppendEncode(nil, b) },
	"base64": func(b []byte) []byte { return base64.StdEncoding.AppendEncode(nil, b) },
	"lower":  func(b []byte) []byte { return []byte(strings.ToLower(string(b))) },
	"upper":  func(b []byte) []byte { return []byte(strings.ToUpper(string(b))) },
}

// ways lists what may stand in By.
func ways() []string {
	list := slices.Sorted(maps.Keys(forms))
	for _, name := range slices.Sorted(maps.Keys(hashes)) {
		list = append(list, name, "hmac-"+name)
	}
	return list
}

var madeForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

func (m Making) check() error {
	keyed, text := false, true
	for _, by := range m.By {
		of, hmac := strings.CutPrefix(by, "hmac-")
		switch {
		case hashes[of] != nil:
			keyed, text = keyed || hmac, false
		case !hmac && forms[by] != nil:
			text = text || by == "hex" || by == "base64"
		default:
			return fmt.Errorf("%s: %q is none of %s", m.Name, by, strings.Join(ways(), ", "))
		}
	}
	switch {
	case !madeForm.MatchString(m.Name):
		return fmt.Errorf("name must be small letters, digits and dashes, not %q", m.Name)
	case m.Of == "":
		return fmt.Errorf("%s: of is missing", m.Name)
	case keyed != (m.Key != ""):
		return fmt.Errorf("%s: key belongs to the hmac forms, which need it", m.Name)
	case !text:
		return fmt.Errorf("%s: a hash is no text; end with hex or base64", m.Name)
	}
	return nil
}

func (m Making) sends() []string { return Variables(m.Of + m.Key) }

// Worked gives the value.
func (m Making) Worked(vars map[string]string) (string, error) {
	of, err := Fill(m.Of, vars, nil)
	if err != nil {
		return "", err
	}
	key, err := Fill(m.Key, vars, nil)
	if err != nil {
		return "", err
	}
	value := []byte(of)
	for _, by := range m.By {
		name, keyed := strings.CutPrefix(by, "hmac-")
		switch {
		case keyed:
			h := hmac.New(hashes[name], []byte(key))
			h.Write(value)
			value = h.Sum(nil)
		case hashes[name] != nil:
			h := hashes[name]()
			h.Write(value)
			value = h.Sum(nil)
		default:
			value = forms[by](value)
		}
	}
	return string(value), nil
}

var variable = regexp.MustCompile(`\{([a-z][a-z0-9.-]*)\}`)

// Variables lists the {variables} of a text, each once, sorted.
func Variables(text string) []string {
	names := map[string]bool{}
	for _, found := range variable.FindAllStringSubmatch(text, -1) {
		names[found[1]] = true
	}
	return slices.Sorted(maps.Keys(names))
}

// Fill replaces {name} by its value, put through escape unless that is nil. A
// variable without a value is an error: a device must never be given a literal
// "{password}".
func Fill(text string, vars map[string]string, escape func(string) string) (string, error) {
	var missing string
	text = variable.ReplaceAllStringFunc(text, func(v string) string {
		value, ok := vars[v[1:len(v)-1]]
		switch {
		case !ok:
			missing = v
		case escape != nil:
			value = escape(value)
		}
		return value
	})
	if missing != "" {
		return "", fmt.Errorf("the profile uses %s, which has no value here", missing)
	}
	return text, nil
}
