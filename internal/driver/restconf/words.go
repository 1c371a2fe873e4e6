package restconf

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/overhttp"
)

// Section says how the device's RESTCONF server is reached.
type Section struct {
	Over string `yaml:"scheme"` // "" is https, which RFC 8040, 2.1, asks for
	At   uint16 `yaml:"port"`   // 0: the scheme's usual one
	Root string `yaml:"root"`   // "": the device is asked for it (RFC 8040, 3.1)
}

// Port is where the server listens.
func (s Section) Port() uint16 { return s.place().At() }

func (s Section) place() overhttp.Place {
	return overhttp.Place{Scheme: cmp.Or(s.Over, "https"), Port: s.At, Auth: "basic"}
}

// Move is one request to a resource of the API (RFC 8040, 3.3), with JSON (RFC 7951).
type Move struct {
	Request string            `yaml:"restconf"` // "METHOD data/module:path" or "POST operations/module:name"
	Body    map[string]any    `yaml:"body"`
	Take    map[string]string `yaml:"take"` // facts, by JSON pointer into the answer
}

// Driver is the RESTCONF driver.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "restconf" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"restconf"} }

// Shows implements profile.Driver.
func (Driver) Shows() string { return "certificate" }

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	if err := part.Into(&s); err != nil {
		return nil, err
	}
	if s.Root != "" && !strings.HasPrefix(s.Root, "/") {
		return nil, fmt.Errorf("root must begin with /, not %q", s.Root)
	}
	return s, s.place().Check()
}

var requestForm = regexp.MustCompile(`^(?:(GET|PUT|PATCH|POST|DELETE) data/\S+|POST operations/\S+)$`)

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if !requestForm.MatchString(m.Request) {
		return nil, fmt.Errorf("restconf is GET, PUT, PATCH, POST or DELETE and a path, like: PATCH data/ietf-system:system, or POST operations/module:name; not %q",
			m.Request)
	}
	if m.Body != nil && (m.method() == "GET" || m.method() == "DELETE") {
		return nil, fmt.Errorf("%s has no body", m.method())
	}
	for _, key := range m.Takes() {
		if err := driver.CheckPointer(m.Take[key]); err != nil {
			return nil, fmt.Errorf("take %s: %q: %w", key, m.Take[key], err)
		}
	}
	return &m, nil
}

func (m *Move) method() string {
	method, _, _ := strings.Cut(m.Request, " ")
	return method
}

// Sends implements profile.Words.
func (m *Move) Sends() []string { return profile.Variables(fmt.Sprint(m.Request, m.Body)) }

// Takes implements profile.Words.
func (m *Move) Takes() []string { return slices.Sorted(maps.Keys(m.Take)) }

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }
