package bacnet

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/wire/bacnet"
)

// Driver talks to devices over BACnet/IP.
type Driver struct{}

// Name implements profile.Driver.
func (Driver) Name() string { return "bacnet" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"bacnet"} }

// Shows implements profile.Driver: BACnet/IP shows nothing to be known again by.
func (Driver) Shows() string { return "" }

// Section says where the device speaks BACnet/IP.
type Section struct {
	At uint16 `yaml:"port"` // for UDP; 0: the usual one
}

// Port implements profile.Section: it has no port for TCP.
func (Section) Port() uint16 { return 0 }

func (s Section) udp() uint16 {
	if s.At != 0 {
		return s.At
	}
	return bacnet.Port
}

// Section implements profile.Driver.
func (Driver) Section(part profile.Part) (profile.Section, error) {
	var s Section
	return s, part.Into(&s)
}

var _ profile.AsksNobody = Driver{}

// AsksNobody says that BACnet/IP asks nobody for a login.
func (Driver) AsksNobody(profile.Section) bool { return true }

// What a move can do.
const (
	read          = "read"
	write         = "write"
	reinitialize  = "reinitialize"  // ReinitializeDevice (16.4)
	communication = "communication" // DeviceCommunicationControl (16.1)
)

// Move reads or writes one property, or has the device restart, or be silent.
type Move struct {
	Request string `yaml:"bacnet"`
	// Object is "device", or TYPE/INSTANCE in numbers; "": the device.
	Object   string `yaml:"object"`
	Property string `yaml:"property"` // by name or number
	As       string `yaml:"as"`       // of a write: the type; "": text
	Value    string `yaml:"value"`    // of a write, with {variables}
	Priority int    `yaml:"priority"` // of a write: 1 to 16; 0: none
	Take     string `yaml:"take"`     // of a read: the fact
	// To is the station behind the device that is meant, as network/address; "": itself.
	To string `yaml:"to"`
	// State is what the device is to do: coldstart or warmstart; enable, disable or
	// disable-initiation, for so many minutes.
	State    string `yaml:"state"`
	Minutes  uint16 `yaml:"minutes"`
	Password string `yaml:"device-password"` // with {variables}

	object   bacnet.Object
	property uint32
}

// properties are those that people name (21, BACnetPropertyIdentifier).
var properties = map[string]uint32{
	"object-name": bacnet.ObjectName, "description": 28, "location": 58, "model-name": bacnet.ModelName,
	"vendor-name": bacnet.VendorName, "firmware-revision": bacnet.FirmwareRevision,
	"application-software-version": 12, "serial-number": bacnet.SerialNumber, "object-identifier": 75,
	"system-status": 112, "present-value": 85, "units": 117, "apdu-timeout": 11, "max-master": 64,
	"utc-offset": 119, "daylight-savings-status": 24,
}

// states are what a device can be told (21, BACnetReinitializedStateOfDevice; 16.1.1.1.2).
var states = map[string]map[string]uint32{
	reinitialize:  {"coldstart": 0, "warmstart": 1},
	communication: {"enable": 0, "disable": 1, "disable-initiation": 2},
}

var objectForm = regexp.MustCompile(`^(\d{1,4})/(\d{1,7})$`)

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	m := &Move{}
	if err := part.Into(m); err != nil {
		return nil, err
	}
	if err := m.named(); err != nil {
		return nil, err
	}
	asked := states[m.Request]
	_, known := asked[m.State]
	switch {
	case asked != nil && !known:
		return nil, fmt.Errorf("bacnet: %s: state is one of %s", m.Request,
			strings.Join(slices.Sorted(maps.Keys(asked)), ", "))
	case asked != nil && (m.Property != "" || m.Value != "" || m.Take != "" || m.Object != ""):
		return nil, fmt.Errorf("bacnet: %s has a state and no property", m.Request)
	case asked != nil:
	case m.Request != read && m.Request != write:
		return nil, fmt.Errorf("bacnet must be read, write, reinitialize or communication, not %q", m.Request)
	case m.Property == "" || m.State != "" || m.Password != "" || m.Minutes != 0:
		return nil, fmt.Errorf("bacnet: %s is about a property; state, minutes and device-password belong to reinitialize and communication", m.Request)
	case m.Request == read && (m.Take == "" || m.Value != "" || m.As != "" || m.Priority != 0):
		return nil, fmt.Errorf("bacnet: read takes a fact, and has no value")
	case m.Request == write && m.Take != "":
		return nil, fmt.Errorf("bacnet: take belongs to read")
	case m.Priority < 0 || m.Priority > 16:
		return nil, fmt.Errorf("bacnet: priority is 1 to 16")
	}
	if m.As == "" {
		m.As = bacnet.TypeText
	}
	if m.Request == write && len(profile.Variables(m.Value)) == 0 {
		if _, err := bacnet.AppendValue(nil, m.As, m.Value); err != nil {
			return nil, fmt.Errorf("bacnet: value: %w", err)
		}
	}
	if _, err := bacnet.AppendValue(nil, m.As, "1"); err != nil {
		return nil, fmt.Errorf("bacnet: as: %w; there are null, boolean, unsigned, signed, real, text, enumerated", err)
	}
	return m, nil
}

// named reads which object and property are meant.
func (m *Move) named() error {
	m.object = bacnet.Object{Type: bacnet.Device, Instance: bacnet.AnyDevice}
	if fit := objectForm.FindStringSubmatch(m.Object); fit != nil {
		kind, _ := strconv.ParseUint(fit[1], 10, 16) // four digits
		instance, _ := strconv.ParseUint(fit[2], 10, 32)
		if kind > 1023 || instance > bacnet.AnyDevice {
			return fmt.Errorf("bacnet: an object's type is at most 1023, its instance at most %d", bacnet.AnyDevice)
		}
		m.object = bacnet.Object{Type: uint16(kind), Instance: uint32(instance)}
	} else if m.Object != "" && m.Object != "device" {
		return fmt.Errorf("bacnet: object is device, or TYPE/INSTANCE in numbers, not %q", m.Object)
	}
	if m.Property == "" {
		return nil
	}
	n, known := properties[m.Property]
	if !known {
		number, err := strconv.ParseUint(m.Property, 10, 22)
		if err != nil {
			return fmt.Errorf("bacnet: property is a number, or one of %s", strings.Join(slices.Sorted(maps.Keys(properties)), ", "))
		}
		n = uint32(number)
	}
	m.property = n
	return nil
}

// Sends implements profile.Words.
func (m *Move) Sends() []string { return profile.Variables(m.Value + m.Password + m.To) }

// Takes implements profile.Words.
func (m *Move) Takes() []string {
	if m.Take == "" {
		return nil
	}
	return []string{m.Take}
}

// NeedsAddress implements profile.Words.
func (*Move) NeedsAddress() bool { return true }
