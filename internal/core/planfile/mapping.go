package planfile

import (
	"slices"
	"strings"
	"unicode"

	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
)

// Mapping says which field or setting each column of a file is, by the
// column's header; "" leaves a column out.
type Mapping map[string]string

// spellings are the headers that lists of the trade use for a field.
var spellings = map[string][]string{
	"tag":         {"designation", "device tag", "asset", "asset tag", "item", "id", "device id", "point", "reference"},
	"kind":        {"device kind", "device type", "type", "category"},
	"profile":     {"device profile", "model", "product", "article"},
	"area":        {"zone", "building", "section"},
	"floor":       {"level", "storey"},
	"place":       {"location", "room", "position", "where"},
	"label":       {"label text", "label"},
	"description": {"free text", "comment on device"},
	"note":        {"notes", "remark", "remarks", "comment", "comments"},
	"subnet":      {"network", "vlan name", "segment"},
	"address":     {"ip", "ip address", "ipv4", "ipv4 address", "static address"},
	"name":        {"device name", "host name", "hostname", "dns name"},
	"mac":         {"mac address", "hardware address", "ethernet address"},
	"serial":      {"serial number", "serial no", "s n"},
	"not-wired":   {"not wired", "not wired yet", "absent", "later"},
	"behind":      {"hangs behind", "gateway", "behind tag"},
	"part":        {"bus address of part", "device eui", "deveui", "eui"},
	"switch-port": {"port", "switchport", "patched to"},
	"after":       {"comes after", "depends on", "waits for"},
}

// plain brings a header to one spelling: small letters, words divided by one space.
func plain(header string) string {
	return strings.Join(strings.FieldsFunc(strings.ToLower(header), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r)
	}), " ")
}

// meanings gives what each header means, in its plain spelling.
func meanings(profiles profile.Set) map[string]string {
	known := map[string]string{}
	for field, others := range spellings {
		for _, o := range others {
			known[plain(o)] = field
		}
	}
	for _, p := range profiles.Sorted() {
		for _, s := range p.Settings {
			if !s.Derived() {
				known[plain(s.Label)] = s.Key
				known[plain(s.Key)] = s.Key
			}
		}
	}
	for _, f := range plan.Fields {
		known[plain(f.Label)], known[plain(f.Key)] = f.Key, f.Key
	}
	return known
}

// rivals lists fields that two columns mean under the same right, by their own name
// or by another spelling, where nobody has said which it is: a silent choice could be
// the wrong one.
func rivals(header []string, profiles profile.Set, remembered Mapping) map[string][]string {
	known := meanings(profiles)
	exact, other := map[string][]string{}, map[string][]string{}
	said := map[string]bool{}
	for _, h := range header {
		if field, ok := remembered[h]; ok {
			said[field] = true
			continue
		}
		switch field := known[plain(h)]; {
		case field == "":
		case plain(field) == plain(h):
			exact[field] = append(exact[field], h)
		default:
			other[field] = append(other[field], h)
		}
	}
	list := map[string][]string{}
	for field, headers := range exact {
		if len(headers) > 1 && !said[field] {
			list[field] = headers
		}
	}
	for field, headers := range other {
		if len(headers) > 1 && len(exact[field]) == 0 && !said[field] {
			list[field] = headers
		}
	}
	return list
}

// Propose finds out which column is what: as the site remembers, by its own
// name, or by what lists of the trade call it. A field is proposed once.
func Propose(header []string, profiles profile.Set, remembered Mapping) Mapping {
	known := meanings(profiles)
	m := Mapping{}
	taken := map[string]bool{}
	take := func(h, field string) {
		if field == "" || !taken[field] {
			m[h], taken[field] = field, true
		}
	}
	for _, h := range header {
		if field, ok := remembered[h]; ok && (field == "" || IsTarget(field, profiles)) {
			take(h, field)
		}
	}
	// Exact names come before other spellings: a column "tag" beside one "id".
	for _, exact := range []bool{true, false} {
		for _, h := range header {
			if _, done := m[h]; done {
				continue
			}
			if field := known[plain(h)]; field != "" && (!exact || plain(field) == plain(h)) && !taken[field] {
				take(h, field)
			}
		}
	}
	for _, h := range header {
		if _, done := m[h]; !done {
			m[h] = ""
		}
	}
	return m
}

// IsTarget reports whether a column can be mapped to a field or setting of this name.
func IsTarget(field string, profiles profile.Set) bool {
	return slices.Contains(Targets(profiles), field)
}

// Targets lists everything a column can be mapped to.
func Targets(profiles profile.Set) []string {
	var list []string
	for _, f := range plan.Fields {
		list = append(list, f.Key)
	}
	for _, p := range profiles.Sorted() {
		for _, s := range p.Settings {
			if !s.Derived() && !slices.Contains(list, s.Key) {
				list = append(list, s.Key)
			}
		}
	}
	return list
}
