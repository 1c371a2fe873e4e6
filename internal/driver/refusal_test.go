package driver

import (
	"encoding/base64"
	"encoding/hex"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
)

// A known reason is kept; whatever else a device says to a secret that it was sent is not.
func TestOnlyKnownReasonsAreKept(t *testing.T) {
	p := &profile.Profile{Maker: "Ovalis Optics", Password: secret.Rules{Refuse: []string{"ovalis"}}}
	if reason("it must be 6 digits", p, []string{"471100"}) != notKept {
		t.Error("a number is kept where the secret is one")
	}
	for said, kept := range map[string]bool{
		"This password is not allowed":                               true,
		"the password is too short: 8 to 24 characters, two classes": true,
		"The old password is wrong, or the new one is refused":       true,
		"password heron-and-tern-7 is not allowed":                   false,
		"H e r o n a n d T e r n":                                    false,
		"refused: 123456":                                            false,
		"refused 12 34 56 78":                                        false,
		"nret-dna-noreh":                                             false,
		"код неверен":                                                false,
		"":                                                           true,
	} {
		if got := reason(said, p, []string{"Heron-and-Tern-7"}) != notKept; got != kept {
			t.Errorf("%q is kept: %v", said, got)
		}
	}
}

// A secret is seen in any form that a simple device would give it.
func TestDisguisedSecrets(t *testing.T) {
	const word = "Heron-and-Tern-7"
	for text, want := range map[string]bool{
		"no: HERON-AND-TERN-7": true, "H e r o n a n d T e r n 7": true, "7nretdnanoreh": true,
		"x" + hex.EncodeToString([]byte(word)): true, "y " + base64.StdEncoding.EncodeToString([]byte(word)): true,
		"heron and gull": false, "": false,
	} {
		if got := disguised(text, []string{word}); got != want {
			t.Errorf("%q: %v", text, got)
		}
	}
	if disguised("123", []string{"1"}) {
		t.Error("what is too short is in everything")
	}
}

func FuzzReason(f *testing.F) {
	f.Add("this password is not allowed")
	f.Fuzz(func(t *testing.T, said string) {
		kept := reason(said, &profile.Profile{}, nil)
		if kept == notKept {
			return
		}
		digits := 0
		for _, r := range kept {
			if strings.ContainsRune("0123456789", r) {
				digits++
			}
		}
		if digits > 2*mostNumbers {
			t.Errorf("%q keeps %d digits", kept, digits)
		}
	})
}
