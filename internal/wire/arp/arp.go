// Package arp encodes and decodes ARP for IPv4 over Ethernet (RFC 826) and
// makes the probes and announcements of RFC 5227.
package arp

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/wire/ethernet"
)

// Operations (RFC 826).
const (
	Request = 1
	Reply   = 2
)

const size = 28

// ErrMalformed says that the bytes are not ARP for IPv4 over Ethernet.
var ErrMalformed = errors.New("arp: not an ARP packet for IPv4 over Ethernet")

// Packet is one ARP packet.
type Packet struct {
	Operation uint16
	SenderMAC address.MAC
	SenderIP  netip.Addr
	TargetMAC address.MAC
	TargetIP  netip.Addr
}

// Parse decodes the payload of a frame; bytes after the packet are padding.
func Parse(b []byte) (Packet, error) {
	if len(b) < size || binary.BigEndian.Uint16(b) != 1 || binary.BigEndian.Uint16(b[2:]) != ethernet.TypeIPv4 ||
		b[4] != 6 || b[5] != 4 {
		return Packet{}, ErrMalformed
	}
	p := Packet{
		Operation: binary.BigEndian.Uint16(b[6:]),
		SenderMAC: address.MACFrom(b[8:]),
		SenderIP:  netip.AddrFrom4([4]byte(b[14:18])),
		TargetMAC: address.MACFrom(b[18:]),
		TargetIP:  netip.AddrFrom4([4]byte(b[24:28])),
	}
	if p.Operation != Request && p.Operation != Reply {
		return Packet{}, ErrMalformed
	}
	return p, nil
}

// Append encodes the packet after b. Both addresses must be IPv4.
func (p Packet) Append(b []byte) []byte {
	b = binary.BigEndian.AppendUint16(b, 1)
	b = binary.BigEndian.AppendUint16(b, ethernet.TypeIPv4)
	b = append(b, 6, 4)
	b = binary.BigEndian.AppendUint16(b, p.Operation)
	b = append(b, p.SenderMAC[:]...)
	b = append(b, p.SenderIP.AsSlice()...)
	b = append(b, p.TargetMAC[:]...)
	return append(b, p.TargetIP.AsSlice()...)
}

// IsAnnouncement reports whether the sender tells its own address unasked
// (RFC 5227, 3).
func (p Packet) IsAnnouncement() bool {
	return p.SenderIP == p.TargetIP && !p.SenderIP.IsUnspecified()
}

// Answer is the reply of who has the address that a request asks for (RFC 826).
func (p Packet) Answer(holder address.MAC) []byte {
	return Packet{Operation: Reply, SenderMAC: holder, SenderIP: p.TargetIP, TargetMAC: p.SenderMAC,
		TargetIP: p.SenderIP}.Frame(p.SenderMAC)
}

// Frame wraps the packet for the wire.
func (p Packet) Frame(to address.MAC) []byte {
	return ethernet.Frame{Destination: to, Source: p.SenderMAC, Type: ethernet.TypeARP,
		Payload: p.Append(nil)}.Append(nil)
}

// Ask makes the frame of an ordinary request (RFC 826): who has target, asked by the host that has
// source.
func Ask(from, to address.MAC, source, target netip.Addr) []byte {
	return Packet{Operation: Request, SenderMAC: from, SenderIP: source, TargetIP: target}.Frame(to)
}

// IsProbe reports whether the sender wants to know if an address is free that it may take
// (RFC 5227, 2.1.1).
func (p Packet) IsProbe() bool { return p.Operation == Request && p.SenderIP.IsUnspecified() }

// Probe makes the frame of an ARP probe (RFC 5227, 2.1.1): who has target, asked by a host that
// claims no address and may take that one. A host that has it is made to doubt: DHCP clients give
// it up when they hear two within ten seconds (2.4).
func Probe(from, to address.MAC, target netip.Addr) []byte {
	return Packet{Operation: Request, SenderMAC: from, SenderIP: netip.IPv4Unspecified(), TargetIP: target}.Frame(to)
}

// Announcement makes the frame of an ARP announcement (RFC 5227, 2.3).
func Announcement(from address.MAC, ip netip.Addr) []byte {
	return Packet{Operation: Request, SenderMAC: from, SenderIP: ip, TargetIP: ip}.Frame(address.Broadcast)
}
