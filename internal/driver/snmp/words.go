package snmp

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/gosnmp/gosnmp"

	"redstart/internal/core/profile"
	"redstart/internal/wire/snmp"
)

// Driver talks to agents over SNMP.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "snmp" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"snmp"} }

// Shows implements profile.Driver: an agent shows nothing to be known again by.
func (Driver) Shows() string { return "" }

// Section says which version an agent speaks, and how it is let in.
type Section struct {
	At      uint16 `yaml:"port"`    // 0: the usual one
	Version string `yaml:"version"` // 1, 2c or 3; "": 2c
	// Read and Write are the communities of the versions 1 and 2c (RFC 1901, 2), with
	// {variables}; not given: public.
	Read  string `yaml:"read"`
	Write string `yaml:"write"`
	// Auth and Privacy are the protocols of version 3 (RFC 3414, RFC 3826, RFC 7860); its user
	// and both passphrases are the login. Without privacy nothing is enciphered.
	Auth    string `yaml:"auth"`
	Privacy string `yaml:"privacy"`
}

// Port implements profile.Section: it has no port for TCP.
func (Section) Port() uint16 { return 0 }

func (s Section) agent() uint16 {
	if s.At != 0 {
		return s.At
	}
	return snmp.Port
}

var (
	versions = map[string]gosnmp.SnmpVersion{"1": gosnmp.Version1, "": gosnmp.Version2c, "2c": gosnmp.Version2c,
		"3": gosnmp.Version3}
	auths = map[string]gosnmp.SnmpV3AuthProtocol{"": gosnmp.NoAuth, "md5": gosnmp.MD5, "sha": gosnmp.SHA,
		"sha224": gosnmp.SHA224, "sha256": gosnmp.SHA256, "sha384": gosnmp.SHA384, "sha512": gosnmp.SHA512}
	privacies = map[string]gosnmp.SnmpV3PrivProtocol{"": gosnmp.NoPriv, "des": gosnmp.DES, "aes": gosnmp.AES,
		"aes192": gosnmp.AES192, "aes256": gosnmp.AES256}
)

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	if err := part.Into(&s); err != nil {
		return nil, err
	}
	_, version := versions[s.Version]
	_, auth := auths[s.Auth]
	_, privacy := privacies[s.Privacy]
	switch {
	case !version:
		return nil, fmt.Errorf("version is 1, 2c or 3")
	case !auth:
		return nil, fmt.Errorf("auth is one of md5, sha, sha224, sha256, sha384, sha512")
	case !privacy:
		return nil, fmt.Errorf("privacy is one of des, aes, aes192, aes256")
	case s.Version == "3" && s.Auth == "":
		return nil, fmt.Errorf("version 3 needs auth: who may set something must prove who he is")
	case s.Version != "3" && s.Auth+s.Privacy != "":
		return nil, fmt.Errorf("auth and privacy belong to version 3")
	case s.Version == "3" && s.Read+s.Write != "":
		return nil, fmt.Errorf("read and write are communities of the versions 1 and 2c")
	}
	return s, nil
}

var _ profile.AsksNobody = Driver{}

// AsksNobody reports whether an agent asks for no login: a community is none.
func (Driver) AsksNobody(section profile.Section) bool {
	s, ok := section.(Section)
	return ok && s.Version != "3"
}

// Move reads or sets objects: "get" with what is taken from which, or "set".
type Move struct {
	Request string            `yaml:"snmp"`
	Take    map[string]string `yaml:"take"` // object by the fact
	Set     []Setting         `yaml:"set"`

	community string // with {variables}; version 3 has none
}

// Setting is one object that is set.
type Setting struct {
	Object string `yaml:"object"`
	As     string `yaml:"as"` // its type; "": text
	Value  string `yaml:"value"`
}

// objects are those of the system group that people name (RFC 3418, 2).
var objects = map[string]string{"name": snmp.SysName, "contact": ".1.3.6.1.2.1.1.4.0",
	"location": ".1.3.6.1.2.1.1.6.0", "description": snmp.SysDescr}

var oidForm = regexp.MustCompile(`^\.?1(\.\d{1,10}){2,60}$`)

// objectOf gives the identifier of an object, with a leading dot.
func objectOf(text string) (string, error) {
	if oid := objects[text]; oid != "" {
		return oid, nil
	}
	if !oidForm.MatchString(text) {
		return "", fmt.Errorf("an object is %s, or an identifier like 1.3.6.1.2.1.1.5.0; %q is none",
			strings.Join(slices.Sorted(maps.Keys(objects)), ", "), text)
	}
	return "." + strings.TrimPrefix(text, "."), nil
}

// types of values (RFC 2578, 7.1).
var types = map[string]gosnmp.Asn1BER{"": gosnmp.OctetString, "text": gosnmp.OctetString, "number": gosnmp.Integer,
	"unsigned": gosnmp.Gauge32, "address": gosnmp.IPAddress, "object": gosnmp.ObjectIdentifier}

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, section profile.Section) (profile.Words, error) {
	m := &Move{}
	if err := part.Into(m); err != nil {
		return nil, err
	}
	s, _ := section.(Section)
	switch {
	case m.Request == "get" && len(m.Take) > 0 && m.Set == nil:
		m.community = orPublic(s.Read)
		for _, object := range m.Take {
			if _, err := objectOf(object); err != nil {
				return nil, err
			}
		}
	case m.Request == "set" && len(m.Set) > 0 && m.Take == nil:
		m.community = orPublic(s.Write)
		for _, one := range m.Set {
			if _, err := objectOf(one.Object); err != nil {
				return nil, err
			}
			if _, known := types[one.As]; !known {
				return nil, fmt.Errorf("as is one of text, number, unsigned, address, object; not %q", one.As)
			}
		}
	default:
		return nil, fmt.Errorf("snmp is get, with take, or set, with set: a list of objects")
	}
	if s.Version == "3" {
		m.community = ""
	}
	if len(m.Take) > mostObjects || len(m.Set) > mostObjects {
		return nil, fmt.Errorf("at most %d objects in one message", mostObjects)
	}
	return m, nil
}

// mostObjects is how many are read or set in one message, all or none (RFC 3416, 4.2.5).
const mostObjects = 20

func orPublic(community string) string {
	if community == "" {
		return snmp.Community
	}
	return community
}

// Sends implements profile.Words.
func (m *Move) Sends() []string {
	all := m.community
	for _, one := range m.Set {
		all += one.Value
	}
	return profile.Variables(all)
}

// Takes implements profile.Words.
func (m *Move) Takes() []string { return slices.Sorted(maps.Keys(m.Take)) }

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }
