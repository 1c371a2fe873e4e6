// Package lldp encodes and decodes LLDP data units (IEEE 802.1AB-2016, 8 and 9).
package lldp

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"net/netip"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/wire/ethernet"
)

// NearestBridge is the group address that no bridge forwards (IEEE 802.1AB-2016, 7.1).
var NearestBridge = address.MAC{0x01, 0x80, 0xc2, 0, 0, 0x0e}

// TLV types (IEEE 802.1AB-2016, Table 8-1).
const (
	typeEnd = iota
	typeChassisID
	typePortID
	typeTTL
	typePortDescription
	typeSystemName
	typeSystemDescription
	typeCapabilities
	typeManagement
)

// Subtypes of chassis and port ID (Tables 8-2 and 8-3).
const (
	chassisMAC     = 4
	chassisAddress = 5
	portMAC        = 3
	portName       = 5
)

// Capability bits (Table 8-4).
var capabilities = []string{"other", "repeater", "bridge", "access point", "router", "telephone", "cable modem",
	"station"}

// maxTLVs bounds what one frame may make us read.
const maxTLVs = 64

// ErrMalformed says that the bytes are no LLDP data unit.
var ErrMalformed = errors.New("lldp: not a data unit")

// Unit is one data unit.
type Unit struct {
	Chassis      string // a MAC, an address or a name
	Port         string // the sender's port that the frame left by
	TTL          uint16 // seconds; 0: the sender goes away
	PortText     string
	System       string
	Description  string
	Capabilities []string // those that are enabled
	Management   []netip.Addr
}

// Parse decodes the payload of a frame.
func Parse(b []byte) (Unit, error) {
	var u Unit
	seen := 0
	for n := 0; n < maxTLVs && len(b) >= 2; n++ {
		head := binary.BigEndian.Uint16(b)
		kind, size := int(head>>9), int(head&0x1ff)
		if size > len(b)-2 {
			return Unit{}, ErrMalformed
		}
		v := b[2 : 2+size]
		b = b[2+size:]
		if n < 3 && kind != n+1 { // 8.2: chassis, port, TTL come first, in this order
			return Unit{}, ErrMalformed
		}
		switch kind {
		case typeEnd:
			if seen < 3 {
				return Unit{}, ErrMalformed
			}
			return u, nil
		case typeChassisID:
			if size < 2 {
				return Unit{}, ErrMalformed
			}
			u.Chassis = id(v, chassisMAC, chassisAddress)
		case typePortID:
			if size < 2 {
				return Unit{}, ErrMalformed
			}
			u.Port = id(v, portMAC, 4)
		case typeTTL:
			if size < 2 {
				return Unit{}, ErrMalformed
			}
			u.TTL = binary.BigEndian.Uint16(v)
		case typePortDescription:
			u.PortText = string(v)
		case typeSystemName:
			u.System = string(v)
		case typeSystemDescription:
			u.Description = string(v)
		case typeCapabilities:
			if size < 4 {
				return Unit{}, ErrMalformed
			}
			enabled := binary.BigEndian.Uint16(v[2:])
			for bit, name := range capabilities {
				if enabled&(1<<bit) != 0 {
					u.Capabilities = append(u.Capabilities, name)
				}
			}
		case typeManagement:
			if a, ok := management(v); ok {
				u.Management = append(u.Management, a)
			}
		}
		seen++
	}
	return Unit{}, ErrMalformed
}

// id prints a chassis or port ID.
func id(v []byte, mac, network byte) string {
	switch sub, body := v[0], v[1:]; {
	case sub == mac && len(body) == 6:
		return address.MACFrom(body).String()
	case sub == network && len(body) == 5 && body[0] == 1: // IANA address family 1: IPv4
		return netip.AddrFrom4([4]byte(body[1:])).String()
	case sub == mac, sub == network:
		return hex.EncodeToString(body)
	default:
		return strings.TrimRight(string(body), "\x00")
	}
}

func management(v []byte) (netip.Addr, bool) {
	if len(v) < 6 || int(v[0]) > len(v)-1 {
		return netip.Addr{}, false
	}
	a := v[1 : 1+int(v[0])]
	if len(a) == 5 && a[0] == 1 {
		return netip.AddrFrom4([4]byte(a[1:])), true
	}
	return netip.Addr{}, false
}

// Append encodes the unit after b: chassis as MAC, port by name.
func (u Unit) Append(b []byte, chassis address.MAC) []byte {
	tlv := func(kind int, parts ...[]byte) {
		size := 0
		for _, p := range parts {
			size += len(p)
		}
		b = binary.BigEndian.AppendUint16(b, uint16(kind<<9|size))
		for _, p := range parts {
			b = append(b, p...)
		}
	}
	tlv(typeChassisID, []byte{chassisMAC}, chassis[:])
	tlv(typePortID, []byte{portName}, []byte(u.Port))
	tlv(typeTTL, binary.BigEndian.AppendUint16(nil, u.TTL))
	for kind, text := range []string{typePortDescription: u.PortText, typeSystemName: u.System,
		typeSystemDescription: u.Description} {
		if text != "" {
			tlv(kind, []byte(text))
		}
	}
	if u.Capabilities != nil {
		var bits uint16
		for bit, name := range capabilities {
			for _, has := range u.Capabilities {
				if has == name {
					bits |= 1 << bit
				}
			}
		}
		tlv(typeCapabilities, binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, bits), bits))
	}
	for _, a := range u.Management {
		four := a.As4()
		// Address, then interface numbering 2 (ifIndex) 1, no object identifier.
		tlv(typeManagement, []byte{5, 1}, four[:], []byte{2, 0, 0, 0, 1, 0})
	}
	tlv(typeEnd)
	return b
}

// Frame wraps the unit for the wire.
func (u Unit) Frame(from address.MAC) []byte {
	return ethernet.Frame{Destination: NearestBridge, Source: from, Type: ethernet.TypeLLDP,
		Payload: u.Append(nil, from)}.Append(nil)
}
