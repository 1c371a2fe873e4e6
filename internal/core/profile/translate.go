package profile

import (
	"maps"
	"net/netip"
	"strconv"
	"strings"

	"redstart/internal/core/value"
)

// settingPrefix begins the variables and facts that stand for settings.
const settingPrefix = "setting."

// Translate gives variables in the words of the device: a setting's values as its
// profile says that the device calls them.
func (p *Profile) Translate(vars map[string]string) map[string]string {
	out := maps.Clone(vars)
	for key, v := range vars {
		switch s := p.settingOf(key); {
		case s == nil:
		case s.Type == Rows && v != "":
			out[key] = s.spokenRows(v)
		case s.Words[v] != "":
			out[key] = s.Words[v]
		}
	}
	return out
}

// Heard gives facts that a device told in the words of the plan.
func (p *Profile) Heard(facts map[string]string) map[string]string {
	out := value.Addressing(facts)
	for key, v := range out {
		if s := p.settingOf(key); s != nil {
			out[key] = s.heard(v)
		}
	}
	return out
}

func (p *Profile) settingOf(variable string) *Setting {
	key, ok := strings.CutPrefix(variable, settingPrefix)
	if !ok {
		return nil
	}
	return p.Setting(key)
}

// heard gives a value that the device told as the plan writes it; what cannot be
// understood stays as it is.
func (s Setting) heard(told string) string {
	for ours, theirs := range s.Words {
		if strings.EqualFold(strings.TrimSpace(told), theirs) {
			return ours
		}
	}
	switch s.Type {
	case Rows:
		return s.heardRows(told)
	case YesNo, Secret, EntryLogin, File: // of a secret it tells whether it works
		if v, ok := value.YesNo(told); ok {
			return v
		}
	case Number:
		if n, err := strconv.ParseInt(strings.TrimSpace(told), 10, 64); err == nil {
			return strconv.FormatInt(n, 10)
		}
	case Choice:
		for _, c := range s.Choices {
			if strings.EqualFold(strings.TrimSpace(told), c) {
				return c
			}
		}
	case Numbers:
		if list, err := value.Numbers(strings.Trim(told, "[] ")); err == nil {
			return value.NumbersText(list)
		}
	case IPv4:
		if a, err := netip.ParseAddr(strings.TrimSpace(told)); err == nil {
			return a.String()
		}
	}
	return told
}
