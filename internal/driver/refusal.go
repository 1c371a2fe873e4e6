package driver

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"slices"
	"strings"
	"unicode"

	"redstart/internal/core/profile"
)

// Refusal is an answer of the device that says no, in its own words where it has some.
type Refusal struct {
	Text string // in our words
	Said string // in the device's; ""
}

func (r Refusal) Error() string {
	if r.Said == "" {
		return r.Text
	}
	return r.Text + ": " + r.Said
}

// Is makes every refusal an ErrValue.
func (r Refusal) Is(target error) bool { return target == ErrValue }

// notKept stands for a device's words where they might hold a secret that it was sent.
const notKept = "in words that are not kept, since they may hold the secret that it was sent"

// reasons are the words of which reasons are made up that devices give for refusing a
// password or another secret. No secret is made of these alone by a rule.
var reasons = wordsOf(`a able access accepted address admin after again all allowed already alphanumeric also an and another any
	are as at authentication authorized bad be because before between blank both by cannot capital capitals case change
	changed character characters choose class classes code combination common complexity configuration confirm contain
	contains could credentials damaged data denied device did differ different digit digits do does down duplicate each
	eight either empty enough error exactly exceeds existing expired factory failed fault few field file first fit for forbidden
	format four from further given has have held holds host id illegal in incorrect indicated input insufficient invalid is
	it item key kind kinds large last least length less letter letters license licence limit list locked logged login
	long longer lower lowercase made mail malformed many match maximum may message minimum missing mode more most must
	name need needed needs new no not numbers number numeric of old older on one only operation or other out parameter
	part password passphrase permission permitted policy previous privilege protected range read refused rejected
	repeat repeated required requires reset reused rule rules same secret service session set setting settings short signature
	shorter should sign six size small so space spaces special state status still strength strong support supported
	syntax system take taken takes than that the their they third this three times to too try two type unable unknown
	unsupported unauthorized until up update upper uppercase used user username valid value values was weak
	which while with without word words wrong yet you your zero`)

func wordsOf(text string) map[string]bool {
	words := map[string]bool{}
	for _, w := range strings.Fields(text) {
		words[w] = true
	}
	return words
}

// mostNumbers is how many numbers a reason may have, of two digits each: it has 5 characters,
// and needs 8 to 24.
const mostNumbers = 3

// reason keeps of a device's words what is certainly no secret: a known reason, or nothing.
// Words that the profile refuses in passwords are known too. Where a secret is a number, no
// number is kept.
func reason(said string, p *profile.Profile, secrets []string) string {
	numbers, most := 0, mostNumbers
	if slices.ContainsFunc(secrets, func(s string) bool { return strings.Trim(s, "0123456789 ") == "" }) {
		most = 0
	}
	named := wordsOf(strings.ToLower(strings.Join(p.Password.Refuse, " ") + " " + p.Maker + " " + p.Model))
	for _, word := range strings.FieldsFunc(strings.ToLower(said), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}) {
		if strings.ContainsFunc(word, unicode.IsDigit) {
			if numbers++; numbers > most || len(word) > 2 || strings.ContainsFunc(word, unicode.IsLetter) {
				return notKept
			}
		} else if !reasons[word] && !named[word] {
			return notKept
		}
	}
	return said
}

// withReason keeps of an error that a device brought about, while it was sent a secret, no
// more of its words than certainly hold none of it.
func withReason(err error, p *profile.Profile, secrets []string) string {
	text := err.Error()
	var r Refusal
	if errors.As(err, &r) && r.Said != "" {
		kept := r
		kept.Said = reason(r.Said, p, secrets)
		text = strings.ReplaceAll(text, r.Error(), kept.Error())
	}
	return text
}

// leastHidden is how many letters and digits a secret has that is looked for in other forms.
const leastHidden = 4

// disguised reports whether a text holds a secret in another form than it has: in other case,
// with something in between, backwards, in hexadecimal or base64.
func disguised(text string, secrets []string) bool {
	plain := bare(text)
	for _, s := range secrets {
		forms := []string{s, hex.EncodeToString([]byte(s)), base64.StdEncoding.EncodeToString([]byte(s))}
		for _, form := range forms {
			b := bare(form)
			if len(b) < leastHidden {
				continue
			}
			back := []rune(b)
			slices.Reverse(back)
			if strings.Contains(plain, b) || strings.Contains(plain, string(back)) {
				return true
			}
		}
	}
	return false
}

// bare keeps the letters and digits of a text, small.
func bare(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, text)
}
