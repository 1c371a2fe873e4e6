package secret_test

import (
	"crypto/rand"
	"strings"
	"testing"

	"redstart/internal/core/secret"
)

func TestGeneratedPasswordsKeepTheRules(t *testing.T) {
	for name, rules := range map[string]secret.Rules{
		"zero":          {},
		"three classes": {Min: 8, Max: 24, Classes: 3, Refuse: []string{"admin"}},
		"four classes":  {Min: 8, Max: 12, Classes: 4, Special: "!#%"},
		"digits":        {Min: 6, Max: 6, Digits: true},
		"short":         {Min: 4, Max: 5},
		"long":          {Min: 20, Max: 40, Classes: 2},
		"each named":    {Min: 8, Max: 12, Needs: []string{"small letter", "digit", "special character"}, Special: "!"},
		"these alone":   {Min: 8, Max: 12, Only: "abcdef23456789", Needs: []string{"digit"}},
	} {
		seen := map[string]bool{}
		for range 200 {
			p, err := rules.Generate(rand.Reader, 0)
			if err != nil {
				t.Fatalf("%s: %v", name, err)
			}
			if err := rules.Check(p); err != nil {
				t.Fatalf("%s: generated a password that the rules refuse: %v", name, err)
			}
			if !rules.Digits && strings.ContainsAny(p, "0O1lI") {
				t.Errorf("%s: a look-alike character in a generated password", name)
			}
			seen[p] = true
		}
		if len(seen) < 190 && name != "digits" {
			t.Errorf("%s: only %d different passwords of 200", name, len(seen))
		}
	}
}

// What leaflets say: at least one of each named class, these characters only.
func TestWhatLeafletsAskFor(t *testing.T) {
	rules := secret.Rules{Min: 4, Max: 12, Needs: []string{"capital", "digit"}, Only: "abcABC123"}
	for password, want := range map[string]string{
		"abA1": "", "abc1": "needs a capital", "abcA": "needs a digit",
		"abA1d": "character that the device does not take", "abA9": "character that the device does not take",
	} {
		if err := rules.Check(password); (err == nil) != (want == "") || err != nil &&
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", password, err, want)
		}
	}
	for _, wrong := range []secret.Rules{
		{Needs: []string{"special character"}}, {Needs: []string{"vowel"}}, {Digits: true, Needs: []string{"capital"}},
		{Only: "abc", Needs: []string{"digit"}}, {Only: "€"},
		secret.Merge(secret.Rules{Only: "abc"}, secret.Rules{Only: "xyz"}),
	} {
		if wrong.Possible() == nil {
			t.Errorf("%+v is possible", wrong)
		}
	}
	both := secret.Merge(secret.Rules{Needs: []string{"digit"}}, secret.Rules{Only: "abc123"},
		secret.Rules{Needs: []string{"small letter"}})
	if p, err := both.Generate(rand.Reader, 8); err != nil || strings.Trim(p, "abc123") != "" ||
		!strings.ContainsAny(p, "abc") || !strings.ContainsAny(p, "123") {
		t.Errorf("%s %v", p, err)
	}
}

func TestPasswordsThatAreRefused(t *testing.T) {
	rules := secret.Rules{Min: 8, Max: 12, Classes: 3, Special: "!", Refuse: []string{"admin"}}
	for password, why := range map[string]string{
		"Ab1":           "8 to 12",
		"Abcdefgh12345": "8 to 12",
		"abcdefgh1":     "needs 3",
		"Abcdef?12":     "does not take",
		"xAdMin123A":    `"admin"`,
	} {
		err := rules.Check(password)
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v, want something about %s", err, why)
		}
		if err != nil && strings.Contains(err.Error(), password) {
			t.Error("the complaint repeats the password")
		}
	}
	if err := (secret.Rules{Digits: true, Min: 6, Max: 6}).Check("12345a"); err == nil {
		t.Error("a letter passed as a digit")
	}
	if err := rules.Check("Abcdef!12"); err != nil {
		t.Errorf("a good password was refused: %v", err)
	}
}

func TestContradictoryRulesAreSaid(t *testing.T) {
	if _, err := (secret.Rules{Digits: true, Classes: 2}).Generate(rand.Reader, 0); err == nil {
		t.Error("digits only with two classes cannot be made")
	}
}

func TestOnePasswordForSeveralFamilies(t *testing.T) {
	door := secret.Rules{Min: 6, Max: 12, Special: "!#", Refuse: []string{"door"}}
	desk := secret.Rules{Min: 8, Max: 20, Classes: 3, Special: "#+", Refuse: []string{"desk"}}
	both := secret.Merge(door, desk)
	for range 100 {
		p, err := both.Generate(rand.Reader, 20)
		if err != nil {
			t.Fatal(err)
		}
		if len(p) != 12 || door.Check(p) != nil || desk.Check(p) != nil {
			t.Fatalf("%v, %v: the password fits only one", door.Check(p), desk.Check(p))
		}
	}
	for want, rules := range map[string][]secret.Rules{
		"at least 10":    {{Min: 10, Max: 20}, {Min: 6, Max: 8}},
		"digits only":    {{Digits: true, Min: 6, Max: 12}, {Min: 6, Max: 12, Classes: 3}},
		"no special cha": {{Classes: 4, Special: "!"}, {Special: "#"}},
	} {
		if err := secret.Merge(rules...).Possible(); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want something about %q", rules, err, want)
		}
	}
	if len(door.Refuse) != 1 {
		t.Error("merging changed what was merged")
	}
}
