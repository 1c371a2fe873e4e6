// Package procedure works out what one device is to be given, out of the plan, and in
// what that differs from what it was given.
package procedure

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/value"
)

// Values are what one device is to be given, frozen when a run begins so that
// no device is ever set twice with different values. The password is not here:
// it lives in the vault alone.
type Values struct {
	Name    string       `json:"name"`
	Address netip.Prefix `json:"address"`
	Gateway netip.Addr   `json:"gateway"`
	User    string       `json:"user,omitempty"`
	// Login stamps how its password is made, as plan.Policy.Stamp; "" for a model
	// whose password a run does not set.
	Login string `json:"login,omitempty"`
	// SiteWide are those of the site and the subnet that the profile's acts send: time zone,
	// name servers and the like, by the variable (profile.SiteWide).
	SiteWide map[string]string `json:"siteWide,omitempty"`
	// Recovery is the mail address for a lost password, where the model takes one.
	Recovery string `json:"recovery,omitempty"`
	// Settings are those that the profile's acts send, by key, with what they
	// come to; an empty one is sent as such.
	Settings map[string]string `json:"settings,omitempty"`
	// ByHand are the planned settings that no act of the profile sends: a person sets them. What is
	// secret stands for itself as in Secrets.
	ByHand map[string]string `json:"byHand,omitempty"`
	// Files are the SHA-256 of the files of the site that settings of them name, by key.
	Files map[string]string `json:"files,omitempty"`
	// Secrets are those of them that are secret, by key: what stands for each in the
	// vault, never the secret itself. "" where none is planned.
	Secrets map[string]string `json:"secrets,omitempty"`
}

// OfPart takes the values of an entry that hangs behind another out of the plan: its row
// there. ok is false while it has none.
func OfPart(r plan.Resolver, e plan.Entry) (v Values, ok bool) {
	row, ok := r.PartRow(e)
	if !ok {
		return v, false
	}
	v.Settings = map[string]string{"part": e.Part}
	if row.Setting == nil {
		return v, true
	}
	for _, c := range row.Setting.Columns {
		switch {
		case c.Takes == "part" || row.Row[c.Key] == "":
		case c.Sealed():
			if v.Secrets == nil {
				v.Secrets = map[string]string{}
			}
			v.Secrets[c.Takes] = row.Row[c.Key]
		default:
			v.Settings[c.Takes] = row.Row[c.Key]
		}
	}
	return v, true
}

// For takes an entry's values out of the plan.
func For(r plan.Resolver, e plan.Entry, p *profile.Profile) Values {
	if e.Behind != "" {
		v, _ := OfPart(r, e)
		return v
	}
	n := r.Site.SubnetOf(e.Address)
	v := Values{Name: e.Name, Gateway: n.Gateway, User: r.Site.PolicyFor(p).LoginName(p)}
	if p.SetsPassword() {
		v.Login = r.Site.PolicyFor(p).Stamp(p.Kind)
	}
	if p.Accounts.Recovery {
		v.Recovery = r.Site.PolicyFor(p).Recovery
	}
	if n.Prefix.IsValid() {
		v.Address = netip.PrefixFrom(e.Address, n.Prefix.Bits())
	}
	for _, key := range p.SendsSiteWide() {
		if v.SiteWide == nil {
			v.SiteWide = map[string]string{}
		}
		v.SiteWide[key] = siteWide(r.Site, n, key)
	}
	sent := p.Sent()
	for _, s := range r.Settings(e) {
		if setting := p.Setting(s.Key); s.Value != "" && s.Value != setting.Default && p.ByHand(*setting) {
			if v.ByHand == nil {
				v.ByHand = map[string]string{}
			}
			v.ByHand[s.Key] = s.Value
		}
	}
	if len(sent) > 0 {
		v.Settings = map[string]string{}
		for _, s := range r.Settings(e) {
			switch setting := p.Setting(s.Key); {
			case !slices.Contains(sent, s.Key):
			case setting.Sealed():
				if v.Secrets == nil {
					v.Secrets = map[string]string{}
				}
				v.Secrets[s.Key] = s.Value
			default:
				v.Settings[s.Key] = s.Value
				if sum := r.Known.Files[s.Value]; setting.Type == profile.File && sum != "" {
					if v.Files == nil {
						v.Files = map[string]string{}
					}
					v.Files[s.Key] = sum
				}
			}
		}
	}
	return v
}

// SetByHand is what a person sets a setting to, as far as it may be shown.
func (v Values) SetByHand(p *profile.Profile, key string) string {
	if s := p.Setting(key); s == nil || s.Sealed() || s.Type == profile.Rows || strings.Contains(v.ByHand[key], "\n") {
		return "what is planned"
	}
	return v.ByHand[key]
}

// siteWide gives one value of the site and its subnet; "" for what is not planned.
func siteWide(s plan.Site, n plan.Subnet, key string) string {
	nth := func(list []netip.Addr, i int) string {
		if i >= len(list) {
			return ""
		}
		return list[i].String()
	}
	switch key {
	case fact.DNS:
		return nth(n.DNS, 0)
	case fact.DNS2:
		return nth(n.DNS, 1)
	case fact.NTP:
		return nth(n.NTP, 0)
	case fact.NTP2:
		return nth(n.NTP, 1)
	case fact.Domain:
		return n.Domain
	case fact.Zone:
		return s.Zone
	case fact.ZonePOSIX:
		return value.POSIXZone(s.Zone)
	case fact.Log:
		return nth(n.Log, 0)
	case fact.Traps:
		return nth(n.Traps, 0)
	}
	return ""
}

// Differ lists in words in what a device that was given some values differs
// from what the plan says now.
func Differ(given, planned Values) []string {
	var list []string
	compare := func(what, was, is string) {
		if was != is {
			list = append(list, fmt.Sprintf("%s: set to %s, planned %s", what, cmp.Or(was, "nothing"),
				cmp.Or(is, "nothing")))
		}
	}
	compare("name", given.Name, planned.Name)
	compare("address", text(given.Address), text(planned.Address))
	compare("gateway", text(given.Gateway), text(planned.Gateway))
	compare("user", given.User, planned.User)
	if given.Login != "" && !LoginFits(given.Login, planned.Login) {
		was, is := LoginWords(given.Login), LoginWords(planned.Login)
		if was == is {
			is = "another"
		}
		compare("password", was, is)
	}
	compare("recovery mail", given.Recovery, planned.Recovery)
	for _, k := range keysOf(given.SiteWide, planned.SiteWide) {
		compare(k, given.SiteWide[k], planned.SiteWide[k])
	}
	for _, k := range keysOf(given.Settings, planned.Settings) {
		was, is := given.Settings[k], planned.Settings[k]
		if strings.HasPrefix(was, "[{") || strings.HasPrefix(is, "[{") { // a table
			if was != is {
				list = append(list, k+": other rows are planned than were set")
			}
			continue
		}
		if strings.Contains(was+is, "\n") {
			if was != is {
				list = append(list, k+": other lines are planned than were set")
			}
			continue
		}
		compare(k, was, is)
	}
	for _, k := range keysOf(given.ByHand, planned.ByHand) {
		if given.ByHand[k] != planned.ByHand[k] {
			list = append(list, k+": another value is planned than was to be set by hand")
		}
	}
	for _, k := range keysOf(given.Files, planned.Files) {
		if given.Files[k] != planned.Files[k] && given.Settings[k] == planned.Settings[k] {
			list = append(list, k+": the file of that name has another content now than was sent")
		}
	}
	for _, k := range keysOf(given.Secrets, planned.Secrets) {
		was, is := given.Secrets[k], planned.Secrets[k]
		switch tag, login, other := plan.LoginOf(is); {
		case was == is:
		case other:
			if before, had, _ := plan.LoginOf(was); before != tag {
				list = append(list, k+": the login of another device is planned than was set")
			} else if login != "" && login != had {
				list = append(list, k+": "+tag+" has another login now than was set")
			}
		default:
			list = append(list, k+": another secret is planned than was set")
		}
	}
	return list
}

// keysOf lists the keys of two maps, each once, sorted.
func keysOf(a, b map[string]string) []string {
	both := maps.Clone(b)
	if both == nil {
		both = map[string]string{}
	}
	maps.Copy(both, a)
	return slices.Sorted(maps.Keys(both))
}

// LoginFits reports whether a credential that was made as one stamp says is as
// another wants it. One that came from elsewhere ("") is as good as any where
// each device has its own.
func LoginFits(made, wanted string) bool {
	return made == wanted || made == "" && strings.HasPrefix(wanted, plan.OneEach+" ")
}

// LoginWords says in words what a stamp means.
func LoginWords(stamp string) string {
	mode, rest, _ := strings.Cut(stamp, " ")
	switch mode {
	case plan.OneEach:
		return "one of its own"
	case plan.OneKind:
		_, rest, _ = strings.Cut(rest, " ") // length
		_, kind, _ := strings.Cut(rest, " ")
		return "one for every " + kind
	case plan.Given:
		return "the given one"
	}
	return "one that was given to it elsewhere"
}

// Login is what is known of the credential that opens a device before a run.
type Login struct {
	Known bool // one is stored that the device accepted
	User  string
	Stamp string
	Fresh bool // a new one is wanted all the same
}

// Keeps reports whether a run leaves the password as it is.
func (l Login) Keeps(v Values) bool {
	return l.Known && l.User == v.User && LoginFits(l.Stamp, v.Login)
}

func text(v interface {
	IsValid() bool
	String() string
}) string {
	if !v.IsValid() {
		return ""
	}
	return v.String()
}

// Variables gives the values as a profile's moves name them, without the secrets.
func (v Values) Variables() map[string]string {
	gateway := "0.0.0.0"
	if v.Gateway.IsValid() {
		gateway = v.Gateway.String()
	}
	vars := map[string]string{"name": v.Name, "user": v.User, "recovery": v.Recovery, "gateway": gateway, "address": "",
		"mask": "", "bits": ""}
	if v.Address.IsValid() {
		vars["address"], vars["mask"], vars["bits"] = v.Address.Addr().String(), address.Mask(v.Address), strconv.Itoa(v.Address.Bits())
	}
	maps.Copy(vars, v.SiteWide)
	for key, value := range v.Settings {
		vars["setting."+key] = value
	}
	return vars
}
