package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"reflect"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
)

// MaxEntries is the largest number of entries in a plan.
const MaxEntries = 20000

// longest text of a field, in characters.
const longest = 200

// longestTable of a setting, in characters.
const longestTable = 1 << 17

// Entry is one device that should exist. The zero MAC, the empty serial and
// the invalid address mean "not given".
type Entry struct {
	Tag         string      `json:"tag"`
	Kind        string      `json:"kind"`
	Profile     string      `json:"profile"`
	Area        string      `json:"area,omitempty"`
	Floor       string      `json:"floor,omitempty"`
	Place       string      `json:"place,omitempty"`
	Label       string      `json:"label,omitempty"`       // what is printed on its label
	Description string      `json:"description,omitempty"` // free text on the device; nothing looks it up
	Note        string      `json:"note,omitempty"`        // for people who read the plan
	Subnet      string      `json:"subnet,omitempty"`      // where it gets its address; "": by kind
	Address     netip.Addr  `json:"address"`
	Name        string      `json:"name"` // the device's own name
	MAC         address.MAC `json:"mac,omitzero"`
	Serial      string      `json:"serial,omitempty"`
	SwitchPort  string      `json:"switchPort,omitempty"` // where it hangs: TAG/port of a switch
	NotWired    bool        `json:"notWired,omitempty"`   // it is not there yet, and need not be
	Behind      string      `json:"behind,omitempty"`     // tag of the entry it hangs behind; it has no MAC of its own
	Part        string      `json:"part,omitempty"`       // what that one calls it: a bus address, a device EUI
	After       []string    `json:"after,omitempty"`      // tags of entries that are commissioned before it
	// Settings are what its profile declares, by key. A secret is a token of the vault.
	Settings map[string]string `json:"settings,omitempty"`
}

// Quiet reports whether two entries differ in nothing but words for people, which no check looks
// at but to make a mend of what it finds.
func Quiet(a, b Entry) bool {
	if a.Description != "" || b.Description != "" {
		return false // it may hold another's name
	}
	for _, e := range []*Entry{&a, &b} {
		e.Area, e.Floor, e.Place, e.Label, e.Note = "", "", "", "", ""
	}
	return reflect.DeepEqual(a, b)
}

// Field is one column of a plan, apart from settings.
type Field struct {
	Key   string `json:"key"`
	Label string `json:"label"`
	Help  string `json:"help"`
}

// Fields are the columns of a plan in their usual order; settings follow by key.
var Fields = []Field{
	{"tag", "Tag", "Its designation on the drawings, unique in the site"},
	{"kind", "Kind", "What it is: camera, switch, clock …; follows from the profile"},
	{"profile", "Profile", "The profile of its model"},
	{"area", "Area", "Short name of the part of the site, used in tags and names"},
	{"floor", "Floor", "Floor, as on the drawings"},
	{"place", "Place", "Where to find it, in words"},
	{"label", "Label text", "What is printed on its label; the tag if empty"},
	{"description", "Description",
		"Free text kept on the device for people. Not its name: nothing finds the device by it"},
	{"note", "Note", "For readers of the plan; never sent to the device"},
	{"subnet", "Subnet", "Name of the subnet it gets its address from; by kind if empty"},
	{"address", "Address", "IPv4 address; “next” takes the next free one, “none” leaves it open"},
	{"name", "Device name",
		"The device's own name, by which others find it; “auto” makes it from the tag. Not the description"},
	{"mac", "MAC", "If the plan names one exact box"},
	{"serial", "Serial", "If the plan names one exact box"},
	{"switch-port", "Switch port", "Where it is plugged in, as TAG/port of a switch in the plan"},
	{"behind", "Behind", "Tag of the entry it hangs behind, where it has no MAC of its own: a sensor behind a gateway"},
	{"part", "Part", "What that one calls it: a bus address, a device EUI"},
	{"not-wired", "Not wired yet", "yes while the device is not there"},
	{"after", "Comes after", "Tags of entries that are commissioned before it"},
}

// documentary are the fields that only people read: no device is given them.
var documentary = []string{"area", "floor", "place", "label", "note"}

// OnlyDocuments reports whether a change concerns only what people read.
func OnlyDocuments(set map[string]string) bool {
	for field := range set {
		if !slices.Contains(documentary, field) {
			return false
		}
	}
	return true
}

// Words that ask for a value to be made.
const (
	Next = "next" // address: the next free one
	Auto = "auto" // name: made from the pattern of the site
	None = "none" // address: none is given, not even to a new entry
)

// Get gives a field or setting as text.
func (e Entry) Get(field string) string {
	switch field {
	case "address":
		if e.Address.IsValid() {
			return e.Address.String()
		}
		return ""
	case "mac":
		return e.MAC.String()
	case "not-wired":
		if e.NotWired {
			return "yes"
		}
		return ""
	case "after":
		return strings.Join(e.After, " ")
	}
	if p := e.text(field); p != nil {
		return *p
	}
	return e.Settings[field]
}

// text gives the place of a plain text field; nil for any other.
func (e *Entry) text(field string) *string {
	switch field {
	case "tag":
		return &e.Tag
	case "kind":
		return &e.Kind
	case "profile":
		return &e.Profile
	case "area":
		return &e.Area
	case "floor":
		return &e.Floor
	case "place":
		return &e.Place
	case "label":
		return &e.Label
	case "description":
		return &e.Description
	case "note":
		return &e.Note
	case "subnet":
		return &e.Subnet
	case "name":
		return &e.Name
	case "serial":
		return &e.Serial
	case "behind":
		return &e.Behind
	case "part":
		return &e.Part
	case "switch-port":
		return &e.SwitchPort
	}
	return nil
}

// longestOf is how long a value may be: a table in one cell is longer than any text.
func longestOf(field, value string) int {
	if strings.HasPrefix(value, "[") && !slices.Contains(profile.Reserved, field) {
		return longestTable
	}
	return longest
}

// Set sets a field or setting from text. Text that cannot be understood is an
// error and changes nothing; whether the value makes sense is for Plan.Check.
func (e *Entry) Set(field, value string) error {
	value = strings.TrimSpace(value)
	if most := longestOf(field, value); len([]rune(value)) > most {
		return fmt.Errorf("is longer than %d characters", most)
	}
	if strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		return fmt.Errorf("holds a line break or another control character")
	}
	switch field {
	case "address":
		if value == "" || strings.EqualFold(value, None) {
			e.Address = netip.Addr{}
			return nil
		}
		a, err := address.ParseIPv4(value)
		if err != nil {
			return fmt.Errorf("is not an IPv4 address: four numbers from 0 to 255 divided by dots")
		}
		e.Address = a
	case "mac":
		m, err := address.ParseMAC(value)
		if err != nil {
			return fmt.Errorf("is not a MAC address of one device; write six pairs of hexadecimal digits")
		}
		e.MAC = m
	case "not-wired":
		switch strings.ToLower(value) {
		case "", "no", "false", "0":
			e.NotWired = false
		case "yes", "true", "1", "x":
			e.NotWired = true
		default:
			return fmt.Errorf("is neither yes nor no")
		}
	case "after":
		e.After = strings.FieldsFunc(value, func(r rune) bool { return r == ' ' || r == ',' || r == ';' })
	case "kind":
		e.Kind = strings.ToLower(value)
	default:
		if p := e.text(field); p != nil {
			*p = value
			return nil
		}
		// What is nearly the key of a secret would stand in the plan as it is.
		if value != "" && !profile.IsKey(field) {
			return fmt.Errorf("is given for a setting that no profile can have: keys are small letters, digits and hyphens")
		}
		e.setSetting(field, value)
	}
	return nil
}

// setSetting changes a copy of the map: entries are passed around by value.
func (e *Entry) setSetting(key, value string) {
	settings := maps.Clone(e.Settings)
	if settings == nil {
		settings = map[string]string{}
	}
	settings[key] = value
	if value == "" {
		delete(settings, key)
	}
	if len(settings) == 0 {
		settings = nil
	}
	e.Settings = settings
}

// IsField reports whether a key is one of an entry's own fields.
func IsField(key string) bool {
	return slices.ContainsFunc(Fields, func(f Field) bool { return f.Key == key })
}

// Columns lists the fields and settings that any of the entries uses, in
// their usual order.
func Columns(entries []Entry, profiles profile.Set) []string {
	var list []string
	for _, f := range Fields {
		list = append(list, f.Key)
	}
	used := map[string]bool{}
	for _, e := range entries {
		for key := range e.Settings {
			used[key] = true
		}
	}
	for _, p := range profiles.Sorted() {
		for _, s := range p.Settings {
			if used[s.Key] {
				list = append(list, s.Key)
				delete(used, s.Key)
			}
		}
	}
	return append(list, slices.Sorted(maps.Keys(used))...)
}

// Change is one field of one entry that changes.
type Change struct {
	Tag    string `json:"tag"`
	Field  string `json:"field"`
	Before string `json:"before"`
	After  string `json:"after"`
	Why    string `json:"why,omitempty"`
}

// Differences lists the fields in which two entries differ.
func Differences(before, after Entry) []Change {
	keys := map[string]bool{}
	for k := range before.Settings {
		keys[k] = true
	}
	for k := range after.Settings {
		keys[k] = true
	}
	var list []Change
	compare := func(field string) {
		if b, a := before.Get(field), after.Get(field); b != a {
			list = append(list, Change{Tag: before.Tag, Field: field, Before: b, After: a})
		}
	}
	for _, f := range Fields {
		compare(f.Key)
	}
	for _, k := range slices.Sorted(maps.Keys(keys)) {
		compare(k)
	}
	return list
}

// String says the change in words.
func (c Change) String() string {
	switch {
	case c.Before == "":
		return fmt.Sprintf("%s set to %s", c.Field, c.After)
	case c.After == "":
		return fmt.Sprintf("%s %s taken away", c.Field, c.Before)
	}
	return fmt.Sprintf("%s changed from %s to %s", c.Field, c.Before, c.After)
}

// article puts a kind behind a or an.
func article(kind string) string {
	if strings.ContainsAny(kind[:min(1, len(kind))], "aeiou") {
		return "an " + kind
	}
	return "a " + kind
}
