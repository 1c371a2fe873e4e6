package web

import (
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"slices"

	"redstart/internal/core/profile"
	"redstart/internal/driver/overhttp"
)

// Section says how the device's web server is reached.
type Section struct {
	Over string `yaml:"scheme"` // http or https
	At   uint16 `yaml:"port"`   // 0: the scheme's usual one
	Auth string `yaml:"auth"`   // "", basic or digest (RFC 7617, RFC 7616); others are written as moves
}

var _ profile.HasPage = Section{}

// Scheme is http or https; "" when the profile says nothing of it.
func (s Section) Scheme() string { return s.Over }

// Port is where the server listens; 0 when the device has none.
func (s Section) Port() uint16 { return s.place().At() }

func (s Section) place() overhttp.Place {
	return overhttp.Place{Scheme: s.Over, Port: s.At, Auth: s.Auth}
}

// Move is one request and what to expect of the answer. At most one of Form, JSON,
// XML, Text and Parts is its body.
type Move struct {
	Request string            `yaml:"request"` // "METHOD /path"
	Headers map[string]string `yaml:"headers"` // of the request; an empty one is left out
	Form    map[string]string `yaml:"form"`    // application/x-www-form-urlencoded
	JSON    any               `yaml:"json"`    // application/json
	XML     string            `yaml:"xml"`     // application/xml; values are escaped in it
	Text    string            `yaml:"text"`    // text/plain
	Parts   map[string]string `yaml:"parts"`   // multipart/form-data (RFC 7578)
	// besides parts: files of the site, by the key of the setting that names each
	Files   map[string]string `yaml:"files"`
	Follow  bool              `yaml:"follow"`  // redirects to the same device are followed
	Expect  []int             `yaml:"expect"`  // statuses that mean success; none: any 2xx
	Refused []int             `yaml:"refused"` // statuses that mean: the login is refused
	Take    map[string]string `yaml:"take"`    // facts to take from the answer
	Why     string            `yaml:"why"`     // where a failing answer gives its reason

	sends []string // worked out when it was read; nil before
}

// Driver is the web driver.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "web" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"request"} }

// Shows implements profile.Driver.
func (Driver) Shows() string { return "certificate" }

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	if err := part.Into(&s); err != nil {
		return nil, err
	}
	if s.Over == "" && s != (Section{}) {
		return nil, fmt.Errorf("scheme is missing; it is http or https")
	}
	return s, s.place().Check()
}

var (
	requestForm = regexp.MustCompile(`^(GET|POST|PUT|PATCH|DELETE) /\S*$`)
	headerForm  = regexp.MustCompile(`^[!#$%&'*+.^_|~0-9A-Za-z-]+$`) // RFC 9110, 5.6.2
)

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, section profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	m.sends = m.Sends()
	return &m, m.check(section)
}

func (m *Move) check(section profile.Section) error {
	bodies := 0
	for _, given := range []bool{m.Form != nil, m.JSON != nil, m.XML != "", m.Text != "", m.Parts != nil ||
		m.Files != nil} {
		if given {
			bodies++
		}
	}
	switch {
	case section.Port() == 0:
		return fmt.Errorf("a web request needs scheme http or https under talk, web")
	case !requestForm.MatchString(m.Request):
		return fmt.Errorf("request must be GET, POST, PUT, PATCH or DELETE and a path, like: GET /path")
	case bodies > 1:
		return fmt.Errorf("give one of form, json, xml, text and parts, not both")
	}
	for _, name := range slices.Sorted(maps.Keys(m.Headers)) {
		if !headerForm.MatchString(name) {
			return fmt.Errorf("headers: %q is no name of a header", name)
		}
		if name := http.CanonicalHeaderKey(name); name == "Host" || name == "Content-Length" ||
			name == "Transfer-Encoding" {
			return fmt.Errorf("headers: %s is not yours to set", name)
		}
	}
	for _, part := range slices.Sorted(maps.Keys(m.Files)) {
		if m.Files[part] == "" {
			return fmt.Errorf("files, %s: the key of a setting of the type file follows", part)
		}
	}
	for _, status := range append(slices.Clone(m.Expect), m.Refused...) {
		if status < 100 || status > 599 {
			return fmt.Errorf("expect and refused are HTTP statuses from 100 to 599, not %d", status)
		}
	}
	if m.Why != "" {
		if err := checkTake(m.Why); err != nil {
			return fmt.Errorf("why: %w", err)
		}
	}
	for _, fact := range m.Takes() {
		if err := checkTake(m.Take[fact]); err != nil {
			return fmt.Errorf("take %s: %w", fact, err)
		}
	}
	return nil
}

// Sends implements profile.Words.
func (m *Move) Sends() []string {
	if m.sends != nil {
		return m.sends
	}
	return profile.Variables(fmt.Sprint(m.Request, m.Headers, m.Form, m.JSON, m.XML, m.Text, m.Parts))
}

// Uploads implements profile.Uploader.
func (m *Move) Uploads() []string { return slices.Sorted(maps.Values(m.Files)) }

// Takes implements profile.Words.
func (m *Move) Takes() []string { return slices.Sorted(maps.Keys(m.Take)) }

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }
