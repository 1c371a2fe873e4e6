package handover

import (
	"encoding/csv"
	"encoding/json"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/result"
	"redstart/internal/core/value"
)

// Value is one value of the register, with what shows it.
type Value struct {
	Text     string    `json:"value"`
	Verified bool      `json:"verified"`
	At       time.Time `json:"at,omitzero"`  // when that was seen
	By       string    `json:"by,omitempty"` // what it rests on
}

// Column is one column of the register.
type Column struct {
	Key  string // as fields of the plan are called, where it is one
	Says string // its heading, in English
	of   func(Record, Entry) Value
}

// Columns are all that a register can have, in their usual order.
var Columns = []Column{
	{"tag", "Tag", func(_ Record, e Entry) Value { return noted(e.Tag) }},
	{"kind", "Kind", func(_ Record, e Entry) Value { return noted(e.Kind) }},
	{"area", "Area", func(_ Record, e Entry) Value { return noted(e.Area) }},
	{"floor", "Floor", func(_ Record, e Entry) Value { return noted(e.Floor) }},
	{"place", "Place", func(_ Record, e Entry) Value { return noted(e.Place) }},
	{"model", "Model", func(_ Record, e Entry) Value {
		v := Value{Text: strings.TrimSpace(e.Maker + " " + e.Model)}
		if told := e.told(fact.Model); strings.EqualFold(told.Text, e.Model) && told.Text != "" {
			v.Verified, v.At, v.By = true, told.At, told.By
		}
		return v
	}},
	{"serial", "Serial", func(_ Record, e Entry) Value {
		told := e.told(fact.Serial)
		if e.Serial == "" {
			return told
		}
		return e.shown(e.Serial, e.Serial, "serial")
	}},
	{"mac", "MAC", func(_ Record, e Entry) Value {
		mac := e.Device
		if mac.IsZero() {
			mac = e.MAC
		}
		return e.shown(mac.String(), mac.String(), "address held by")
	}},
	{"address", "Address", func(_ Record, e Entry) Value {
		return e.shown(addrText(e.Address), addrText(e.Address), "address")
	}},
	{"mask", "Mask", func(r Record, e Entry) Value {
		n := r.Site.SubnetOf(e.Address)
		if !n.Prefix.IsValid() {
			return Value{}
		}
		mask := address.Mask(n.Prefix)
		return e.shown(mask, mask, "mask")
	}},
	{"gateway", "Gateway", func(r Record, e Entry) Value {
		gateway := addrText(r.Site.SubnetOf(e.Address).Gateway)
		return e.shown(gateway, gateway, "gateway")
	}},
	{"name", "Device name", func(_ Record, e Entry) Value { return e.shown(e.Name, e.Name, "name") }},
	{"firmware", "Firmware", func(_ Record, e Entry) Value { return e.told(fact.Firmware) }},
	{"subnet", "Subnet", func(r Record, e Entry) Value { return noted(r.Site.SubnetOf(e.Address).Name) }},
	{"vlan", "VLAN", func(r Record, e Entry) Value {
		if n := r.Site.SubnetOf(e.Address); n.VLAN > 0 {
			return noted(strconv.Itoa(n.VLAN))
		}
		return Value{}
	}},
	{"switch-port", "Switch port", func(_ Record, e Entry) Value {
		v := Value{Text: e.SwitchPort}
		if e.SwitchPort != "" && match.SamePort(e.SwitchPort, e.Hangs.At) {
			v.Verified, v.At, v.By = true, e.Hangs.Seen, toldBySwitch
		}
		return v
	}},
	{"seen-behind", "Seen behind switch port", func(_ Record, e Entry) Value {
		if e.Hangs.At == "" {
			return Value{}
		}
		return Value{e.Hangs.At, true, e.Hangs.Seen, toldBySwitch}
	}},
	{"behind", "Behind", func(_ Record, e Entry) Value { return e.shown(e.Behind, "", "answers") }},
	{"part", "Part", func(_ Record, e Entry) Value { return e.shown(e.Part, "", "answers") }},
	{"licence", "Licence", func(_ Record, e Entry) Value { return e.shown(e.Licence, "", "licence") }},
	{"state", "State", func(r Record, e Entry) Value { return noted(r.say(e.State)) }},
	{"checked", "Last check", func(_ Record, e Entry) Value {
		if e.CheckedAt.IsZero() {
			return Value{}
		}
		return noted(e.CheckedAt.UTC().Format("2006-01-02 15:04 UTC"))
	}},
	{"unverified", "Not verified", func(r Record, e Entry) Value { return noted(strings.Join(e.unverified(r), "; ")) }},
	{"description", "Description", func(_ Record, e Entry) Value { return noted(e.Description) }},
	{"note", "Note", func(_ Record, e Entry) Value { return noted(e.Note) }},
}

// usual are the columns of a register for which none were chosen.
var usual = []string{"tag", "kind", "area", "floor", "place", "model", "serial", "mac", "address", "name", "firmware",
	"subnet", "vlan", "switch-port", "seen-behind", "behind", "part", "licence", "state", "checked", "unverified"}

// Usual reports whether a register has a column where none were chosen.
func Usual(key string) bool { return slices.Contains(usual, key) }

// noted is a value that somebody said, of which nothing is to be verified.
func noted(text string) Value { return Value{Text: text, Verified: true} }

// shown is a planned value that a check shows, by its name. What the check expected must be
// what is planned now, where that is given: a plan may have changed since.
func (e Entry) shown(text, expected, name string) Value {
	for _, c := range e.Checks {
		if text == "" || c.Name != name || expected != "" && !strings.EqualFold(c.Expected, expected) {
			continue
		}
		if c.Verdict == result.Passed || c.Verdict == result.Said { // a word is told as one, and verifies nothing
			return Value{text, c.Verdict == result.Passed, c.At, c.By}
		}
	}
	return Value{Text: text}
}

// told is what the device told last of itself, and over what.
func (e Entry) told(key string) (v Value) {
	if e.Found == nil {
		return v
	}
	for _, x := range e.Found.Facts {
		if x.Part == "" && x.Key == key && x.Last.After(v.At) {
			v = Value{x.Value, true, x.Last, "told over " + x.Protocol}
		}
	}
	return v
}

// unverified lists what checks did not show, each with why.
func (e Entry) unverified(r Record) (list []string) {
	for _, c := range e.Checks {
		if c.Verdict != result.Passed {
			text := c.Name + ": " + r.say(c.Verdict.String())
			if c.Verdict == result.Said {
				text = c.Name + ": " + c.By
			}
			list = append(list, text)
		}
	}
	if e.Hangs.Contradicts(e.SwitchPort) {
		list = append(list, r.say("switch port: seen behind")+" "+e.Hangs.At)
	}
	return append(list, e.Differs...)
}

const toldBySwitch = "told by the switch"

func addrText(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// columns are those that the record asks for.
func (r Record) columns() (list []Column) {
	keys := r.Columns
	if len(keys) == 0 {
		keys = usual
	}
	for _, key := range keys {
		if i := slices.IndexFunc(Columns, func(c Column) bool { return c.Key == key }); i >= 0 {
			list = append(list, Columns[i])
		}
	}
	return list
}

// registerCSV is the register as CSV (RFC 4180). Its last column names those that are verified.
var registerCSV = &Document{
	Name: "register-csv", Says: "Register of all entries, as CSV", File: "register.csv", Kind: "text/csv; charset=utf-8",
	Write: func(out io.Writer, r Record) error {
		w := csv.NewWriter(out)
		columns := r.columns()
		var header []string
		for _, c := range columns {
			header = append(header, c.Key)
		}
		if err := w.Write(append(header, "verified")); err != nil {
			return err
		}
		for _, e := range r.Entries {
			var row, verified []string
			for _, c := range columns {
				v := c.of(r, e)
				row = append(row, value.Cell(v.Text))
				if v.Verified && !v.At.IsZero() {
					verified = append(verified, c.Key)
				}
			}
			if err := w.Write(append(row, strings.Join(verified, " "))); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	},
}

// registerJSON is the register as JSON: every value with whether, when and by what it was
// verified.
var registerJSON = &Document{
	Name: "register-json", Says: "Register of all entries, as JSON, with what each value rests on", File: "register.json",
	Kind: "application/json",
	Write: func(out io.Writer, r Record) error {
		type row struct {
			Tag    string           `json:"tag"`
			Values map[string]Value `json:"values"`
			Checks []result.Check   `json:"checks"`
		}
		doc := struct {
			Site    string    `json:"site"`
			Made    time.Time `json:"made"`
			Entries []row     `json:"entries"`
		}{r.Site.Name, r.At.UTC(), []row{}}
		for _, e := range r.Entries {
			x := row{e.Tag, map[string]Value{}, append([]result.Check{}, e.Checks...)}
			for _, c := range r.columns() {
				if v := c.of(r, e); v.Text != "" {
					x.Values[c.Key] = v
				}
			}
			doc.Entries = append(doc.Entries, x)
		}
		w := json.NewEncoder(out)
		w.SetIndent("", " ")
		return w.Encode(doc)
	},
}
