// Package ethernet encodes and decodes the header of an Ethernet II frame
// (IEEE 802.3-2018, 3.2), with at most one VLAN tag skipped (IEEE 802.1Q-2018, 9.6).
package ethernet

import (
	"encoding/binary"
	"errors"

	"redstart/internal/core/address"
)

// EtherTypes in use here (IEEE 802 Numbers, EtherType registry).
const (
	TypeIPv4     = 0x0800
	TypeIPv6     = 0x86dd
	TypeLLDP     = 0x88cc
	TypeARP      = 0x0806
	TypeVLAN     = 0x8100
	TypePROFINET = 0x8892
)

const (
	headerLen = 14
	minFrame  = 60 // without the check sequence
)

// ErrShort says that the frame ends inside its header.
var ErrShort = errors.New("ethernet: frame too short")

// Frame is a decoded frame; Payload aliases the bytes it was parsed from and
// may carry padding.
type Frame struct {
	Destination, Source address.MAC
	Type                uint16
	Payload             []byte
}

// Parse decodes a frame.
func Parse(b []byte) (Frame, error) {
	if len(b) < headerLen {
		return Frame{}, ErrShort
	}
	f := Frame{address.MACFrom(b[0:]), address.MACFrom(b[6:]), binary.BigEndian.Uint16(b[12:]), b[headerLen:]}
	if f.Type == TypeVLAN {
		if len(f.Payload) < 4 {
			return Frame{}, ErrShort
		}
		f.Type, f.Payload = binary.BigEndian.Uint16(f.Payload[2:]), f.Payload[4:]
	}
	return f, nil
}

// Append encodes the frame after b, padded to the least length of a frame.
func (f Frame) Append(b []byte) []byte {
	start := len(b)
	b = append(b, f.Destination[:]...)
	b = append(b, f.Source[:]...)
	b = binary.BigEndian.AppendUint16(b, f.Type)
	b = append(b, f.Payload...)
	for len(b)-start < minFrame {
		b = append(b, 0)
	}
	return b
}
