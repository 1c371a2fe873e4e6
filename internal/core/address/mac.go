// Package address holds the small values that name a place on a network: MAC
// addresses, address ranges and the arithmetic of IPv4 prefixes.
package address

import (
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"strings"
)

// MAC is a 48-bit Ethernet address (IEEE 802-2014, 8.2). The zero value means
// "no MAC known".
type MAC [6]byte

// Broadcast is the address of every station on the segment.
var Broadcast = MAC{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// ParseMAC reads a MAC in the usual spellings: six pairs of hexadecimal digits
// divided by colons, dashes or dots, or not divided at all. The empty string
// gives the zero MAC.
func ParseMAC(s string) (MAC, error) {
	var m MAC
	if strings.TrimSpace(s) == "" {
		return m, nil
	}
	digits := strings.NewReplacer(":", "", "-", "", ".", "", " ", "").Replace(s)
	b, err := hex.DecodeString(digits)
	if err != nil || len(b) != len(m) {
		return MAC{},
			fmt.Errorf("%q is not a MAC address: write six pairs of hexadecimal digits, like 02:4f:56:00:00:1a", s)
	}
	copy(m[:], b)
	if m.IsGroup() {
		return MAC{}, fmt.Errorf("%q is a group address; a device has an individual one", s)
	}
	return m, nil
}

// MACFrom copies the first six bytes of b; it gives the zero MAC when b is shorter.
func MACFrom(b []byte) (m MAC) {
	if len(b) >= len(m) {
		copy(m[:], b)
	}
	return m
}

// String prints lower-case pairs with colons; the zero MAC prints as "".
func (m MAC) String() string {
	if m.IsZero() {
		return ""
	}
	return fmt.Sprintf("%02x:%02x:%02x:%02x:%02x:%02x", m[0], m[1], m[2], m[3], m[4], m[5])
}

// IsZero reports whether no MAC is known.
func (m MAC) IsZero() bool { return m == MAC{} }

// IsGroup reports whether m is a multicast or broadcast address (I/G bit set).
func (m MAC) IsGroup() bool { return m[0]&1 == 1 }

// MarshalText implements encoding.TextMarshaler.
func (m MAC) MarshalText() ([]byte, error) { return []byte(m.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (m *MAC) UnmarshalText(b []byte) (err error) {
	*m, err = ParseMAC(string(b))
	return err
}

// Value stores the MAC as its text.
func (m MAC) Value() (driver.Value, error) { return m.String(), nil }

// Scan reads what Value stored.
func (m *MAC) Scan(v any) error {
	s, ok := v.(string)
	if !ok {
		return fmt.Errorf("a MAC is stored as text, not as %T", v)
	}
	return m.UnmarshalText([]byte(s))
}
