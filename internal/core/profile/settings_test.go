package profile_test

import (
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/profiles"
)

func number(n int64) *int64 { return &n }

func TestSettingsCheckTheirValues(t *testing.T) {
	for _, c := range []struct {
		s         profile.Setting
		good, bad []string
	}{
		{profile.Setting{Type: profile.Text, Max: number(4)}, []string{"", "abcd", "øøøø"}, []string{"abcde"}},
		{profile.Setting{Type: profile.Number, Min: number(0), Max: number(127)}, []string{"0", "127"},
			[]string{"-1", "128", "1.5", "x", "99999999999999999999"}},
		{profile.Setting{Type: profile.Choice, Choices: []string{"9600", "19200"}}, []string{"9600"},
			[]string{"9601", " 9600"}},
		{profile.Setting{Type: profile.YesNo}, []string{"yes", "no"}, []string{"Yes", "1"}},
		{profile.Setting{Type: profile.IPv4}, []string{"10.0.0.1"}, []string{"10.0.0.256", "::1", "10.0.0.1/24"}},
		{profile.Setting{Type: profile.SecondPort}, []string{"10.0.0.1/24"},
			[]string{"10.0.0.1", "10.0.0.0/24", "10.0.0.255/24", "10.0.0.1/31", "::1/64"}},
		{profile.Setting{Type: profile.Zone}, []string{"Europe/Oslo", "Etc/UTC"},
			[]string{"Europe/Skerry", "Local", "../../etc/passwd"}},
		{profile.Setting{Type: profile.Mail}, []string{"duty@example.org"},
			[]string{"duty", "Duty <duty@example.org>", "a@b@c"}},
		{profile.Setting{Type: profile.Secret}, []string{"anything"}, nil},
		{profile.Setting{Type: profile.Computed}, []string{""}, []string{"x"}},
	} {
		for _, v := range c.good {
			if err := c.s.Check(v); err != nil {
				t.Errorf("%s %q: %v", c.s.Type, v, err)
			}
		}
		for _, v := range c.bad {
			if c.s.Check(v) == nil {
				t.Errorf("%s takes %q", c.s.Type, v)
			}
		}
	}
}

func TestWrongSettingsAreRefusedWithTheirKey(t *testing.T) {
	const head = "redstart: profile/1\nid: x-1\nmaker: M\nmodel: X\nkind: thing\nrecognise: [{fact: model, is: X, sure: 90}]\nrestart: {takes: 1s, at-most: 2s}\nsettings:\n"
	good := "  - {key: room, label: Room, type: number, min: 1, max: 9}\n"
	if p, err := profiles.Parse([]byte(head + good)); err != nil || p.Sets() || p.Setting("room") == nil ||
		p.Setting("none") != nil {
		t.Fatalf("a profile to plan with: %v", err)
	}
	for want, line := range map[string]string{
		"key must be":                    "{key: Room, label: R, type: text}",
		"name of a field of every entry": "{key: serial, label: R, type: text}",
		"label is missing":               "{key: a, type: text}",
		"type must be":                   "{key: a, label: A, type: colour}",
		"unique must be":                 "{key: a, label: A, type: text, unique: world}",
		"needs a setting with":           "{key: a, label: A, type: number, unique: trunk}",
		"choices belong":                 "{key: a, label: A, type: choice}",
		"of belongs":                     "{key: a, label: A, type: setting}",
		"min and max belong":             "{key: a, label: A, type: yes-no, max: 3}",
		"max is less than min":           "{key: a, label: A, type: number, min: 3, max: 1}",
		"many belongs to the type entry": "{key: a, label: A, type: text, many: true}",
		"from belongs":                   "{key: a, label: A, type: computed}",
		"a secret has no default":        "{key: a, label: A, type: secret, default: x}",
		"default: \"12\" is outside":     "{key: a, label: A, type: number, max: 9, default: \"12\"}",
		"refers to an entry":             "{key: a, label: A, type: computed, from: \"{room.address}\"}",
		"no field or setting":            "{key: a, label: A, type: computed, from: \"{colour}\"}",
		"declared twice":                 "{key: room, label: A, type: text}",
		"unknown field":                  "{key: a, label: A, type: text, colour: red}",
	} {
		_, err := profiles.Parse([]byte(head + good + "  - " + line + "\n"))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want something about %q", line, err, want)
		}
	}
}
