package enip

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/wire/cip"
	"redstart/internal/wire/enip"
)

// Section says where the device speaks EtherNet/IP.
type Section struct {
	At uint16 `yaml:"port"` // 0: the usual one
}

// Port is where it listens for TCP.
func (s Section) Port() uint16 {
	if s.At != 0 {
		return s.At
	}
	return enip.Port
}

// Move reads, writes or resets one thing: "get CLASS/INSTANCE/ATTRIBUTE", "set" with the same,
// "reset CLASS/INSTANCE".
type Move struct {
	Request string  `yaml:"enip"`
	Fields  []Field `yaml:"fields"` // what the attribute holds, in order

	service byte
	path    cip.Path
}

// Field is one value of an attribute.
type Field struct {
	As    string            `yaml:"as"`    // its type
	Value string            `yaml:"value"` // what is written, with {variables}
	Take  string            `yaml:"take"`  // the fact that is read; "" for none
	Words map[string]string `yaml:"words"` // what values that are read mean: {"0": "no"}
}

// Driver is the EtherNet/IP driver.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "enip" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"enip"} }

// Shows implements profile.Driver: there is nothing to know its end again by.
func (Driver) Shows() string { return "" }

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	err := part.Into(&s)
	return s, err
}

var services = map[string]byte{"get": cip.GetOne, "set": cip.SetOne, "reset": cip.Reset}

var requestForm = regexp.MustCompile(`^(get|set|reset) (0x[0-9A-Fa-f]+|\d+)/(0x[0-9A-Fa-f]+|\d+)(?:/(0x[0-9A-Fa-f]+|\d+))?$`)

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	found := requestForm.FindStringSubmatch(m.Request)
	if found == nil || (found[1] == "reset") != (found[4] == "") {
		return nil, fmt.Errorf("enip is get or set with class, instance and attribute, or reset with class and instance, like: set 0xF5/1/3; not %q",
			m.Request)
	}
	m.service = services[found[1]]
	for i, into := range []*uint16{&m.path.Class, &m.path.Instance, &m.path.Attribute} {
		if found[2+i] == "" {
			continue
		}
		n, err := strconv.ParseUint(found[2+i], 0, 16)
		if err != nil || n == 0 && i != 1 {
			return nil, fmt.Errorf("%s is no number of 1 to 0xFFFF", found[2+i])
		}
		*into = uint16(n)
	}
	return &m, m.checkFields()
}

func (m *Move) checkFields() error {
	if len(m.Fields) == 0 && m.service != cip.Reset {
		return fmt.Errorf("fields are missing: what does the attribute hold?")
	}
	for i, f := range m.Fields {
		switch {
		case !slices.Contains(cip.Types, f.As):
			return fmt.Errorf("fields, %d: as is one of %s, not %q", i+1, strings.Join(cip.Types, ", "), f.As)
		case m.service == cip.GetOne && f.Value != "":
			return fmt.Errorf("fields, %d: a value belongs to set", i+1)
		case m.service != cip.GetOne && (f.Take != "" || f.Words != nil):
			return fmt.Errorf("fields, %d: take and words belong to get", i+1)
		}
	}
	return nil
}

// Sends implements profile.Words.
func (m *Move) Sends() []string {
	var all strings.Builder
	for _, f := range m.Fields {
		all.WriteString(f.Value)
	}
	return profile.Variables(all.String())
}

// Takes implements profile.Words.
func (m *Move) Takes() []string {
	facts := map[string]bool{}
	for _, f := range m.Fields {
		if f.Take != "" {
			facts[f.Take] = true
		}
	}
	return slices.Sorted(maps.Keys(facts))
}

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }
