package onvif

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver/overhttp"
)

// Section says how the device service is reached.
type Section struct {
	Over string `yaml:"scheme"` // http or https; "" is http
	At   uint16 `yaml:"port"`   // 0: the scheme's usual one
	Path string `yaml:"path"`   // "" is /onvif/device_service
}

// Port is where the service listens.
func (s Section) Port() uint16 { return s.place().At() }

func (s Section) place() overhttp.Place {
	return overhttp.Place{Scheme: cmp.Or(s.Over, "http"), Port: s.At}
}

// Move is one operation of the device management service (ONVIF Core Specification, 8).
type Move struct {
	Operation string `yaml:"onvif"` // its name: SetHostname
	// what is in its element, as XML with t: and s: prefixes; values are escaped
	Body string            `yaml:"body"`
	Open bool              `yaml:"open"` // no login is shown
	Take map[string]string `yaml:"take"` // facts, by the path of local names in the answer
}

// Driver is the ONVIF driver.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "onvif" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"onvif"} }

// Shows implements profile.Driver.
func (Driver) Shows() string { return "certificate" }

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	if err := part.Into(&s); err != nil {
		return nil, err
	}
	if err := s.place().Check(); err != nil {
		return nil, err
	}
	if s.Path != "" && !strings.HasPrefix(s.Path, "/") {
		return nil, fmt.Errorf("path must begin with /, not %q", s.Path)
	}
	return s, nil
}

var (
	operationForm = regexp.MustCompile(`^[A-Z][A-Za-z]{1,60}$`)
	pathForm      = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9]*(/[A-Za-z][A-Za-z0-9]*)*(/?@[A-Za-z]+)?$|^scope [a-z]+$`)
)

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if !operationForm.MatchString(m.Operation) {
		return nil, fmt.Errorf("onvif is the name of an operation like SetHostname, not %q", m.Operation)
	}
	for _, key := range slices.Sorted(maps.Keys(m.Take)) {
		if !pathForm.MatchString(m.Take[key]) {
			return nil,
				fmt.Errorf("take %s: %q is neither a path of element names like HostnameInformation/Name nor scope NAME", key, m.Take[key])
		}
	}
	return &m, nil
}

// Sends implements profile.Words.
func (m *Move) Sends() []string { return profile.Variables(m.Body) }

// Takes implements profile.Words.
func (m *Move) Takes() []string { return slices.Sorted(maps.Keys(m.Take)) }

// NeedsAddress implements profile.Words.
func (m *Move) NeedsAddress() bool { return true }
