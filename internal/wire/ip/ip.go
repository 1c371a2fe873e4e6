// Package ip encodes and decodes UDP datagrams in IPv4 and IPv6 packets in
// Ethernet frames (RFC 791, RFC 768, RFC 8200), without fragments and options.
package ip

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/wire/ethernet"
)

// Protocol numbers (IANA, Assigned Internet Protocol Numbers).
const (
	ProtocolUDP    = 17
	ProtocolICMPv6 = 58
)

const (
	v4Header  = 20
	v6Header  = 40
	udpHeader = 8
	usualTTL  = 64
)

// ErrMalformed says that the bytes are no whole IP packet.
var ErrMalformed = errors.New("ip: not a whole packet")

// Broadcast is the limited broadcast address (RFC 919, 7).
var Broadcast = netip.AddrFrom4([4]byte{255, 255, 255, 255})

// Packet is one IP packet. Payload aliases the bytes it was parsed from.
type Packet struct {
	Source, Destination netip.Addr
	Protocol            byte
	TTL                 byte // hop limit in IPv6
	Payload             []byte
}

// Parse decodes the payload of a frame. Fragments are refused: nothing that
// finds devices needs them.
func Parse(f ethernet.Frame) (Packet, error) {
	switch f.Type {
	case ethernet.TypeIPv4:
		return parse4(f.Payload)
	case ethernet.TypeIPv6:
		return parse6(f.Payload)
	}
	return Packet{}, ErrMalformed
}

func parse4(b []byte) (Packet, error) {
	if len(b) < v4Header || b[0]>>4 != 4 {
		return Packet{}, ErrMalformed
	}
	header, total := int(b[0]&15)*4, int(binary.BigEndian.Uint16(b[2:]))
	fragment := binary.BigEndian.Uint16(b[6:]) & 0x3fff // more fragments, or an offset
	if header < v4Header || total < header || total > len(b) || fragment != 0 {
		return Packet{}, ErrMalformed
	}
	return Packet{netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20])), b[9], b[8], b[header:total]},
		nil
}

func parse6(b []byte) (Packet, error) {
	if len(b) < v6Header || b[0]>>4 != 6 {
		return Packet{}, ErrMalformed
	}
	n := int(binary.BigEndian.Uint16(b[4:]))
	if n > len(b)-v6Header {
		return Packet{}, ErrMalformed
	}
	return Packet{netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40])), b[6], b[7],
		b[v6Header : v6Header+n]}, nil
}

// Append encodes the packet after b. Both addresses must be of one family. The
// checksum of the payload is the caller's.
func (p Packet) Append(b []byte) []byte {
	ttl := p.TTL
	if ttl == 0 {
		ttl = usualTTL
	}
	if p.Source.Is4() {
		start := len(b)
		b = append(b, 0x45, 0)
		b = binary.BigEndian.AppendUint16(b, uint16(v4Header+len(p.Payload)))
		b = append(b, 0, 0, 0x40, 0, ttl, p.Protocol, 0, 0) // not to be fragmented
		b = append(b, p.Source.AsSlice()...)
		b = append(b, p.Destination.AsSlice()...)
		binary.BigEndian.PutUint16(b[start+10:], ^sum(0, b[start:]))
		return append(b, p.Payload...)
	}
	b = append(b, 0x60, 0, 0, 0)
	b = binary.BigEndian.AppendUint16(b, uint16(len(p.Payload)))
	b = append(b, p.Protocol, ttl)
	b = append(b, p.Source.AsSlice()...)
	b = append(b, p.Destination.AsSlice()...)
	return append(b, p.Payload...)
}

// Frame wraps the packet for the wire.
func (p Packet) Frame(from, to address.MAC) []byte {
	kind := uint16(ethernet.TypeIPv4)
	if p.Source.Is6() {
		kind = ethernet.TypeIPv6
	}
	return ethernet.Frame{Destination: to, Source: from, Type: kind, Payload: p.Append(nil)}.Append(nil)
}

// Checksum sums a payload with the packet's pseudo header (RFC 768; RFC 8200, 8.1).
func (p Packet) Checksum(payload []byte) uint16 {
	pseudo := append(p.Source.AsSlice(), p.Destination.AsSlice()...)
	pseudo = binary.BigEndian.AppendUint32(pseudo, uint32(len(payload)))
	pseudo = append(pseudo, 0, 0, 0, p.Protocol)
	return ^sum(uint32(sum(0, pseudo)), payload)
}

// sum adds 16-bit words in one's complement (RFC 1071).
func sum(start uint32, b []byte) uint16 {
	n := start
	for ; len(b) > 1; b = b[2:] {
		n += uint32(binary.BigEndian.Uint16(b))
	}
	if len(b) == 1 {
		n += uint32(b[0]) << 8
	}
	for n > 0xffff {
		n = n>>16 + n&0xffff
	}
	return uint16(n)
}

// Datagram is a UDP datagram (RFC 768).
type Datagram struct {
	Source, Destination netip.AddrPort
	TTL                 byte // 0: 64
	Payload             []byte
}

// UDP gives the datagram that a packet carries.
func (p Packet) UDP() (Datagram, bool) {
	b := p.Payload
	if p.Protocol != ProtocolUDP || len(b) < udpHeader {
		return Datagram{}, false
	}
	n := int(binary.BigEndian.Uint16(b[4:]))
	if n < udpHeader || n > len(b) {
		return Datagram{}, false
	}
	return Datagram{netip.AddrPortFrom(p.Source, binary.BigEndian.Uint16(b)),
		netip.AddrPortFrom(p.Destination, binary.BigEndian.Uint16(b[2:])), p.TTL, b[udpHeader:n]}, true
}

// Frame wraps the datagram for the wire.
func (d Datagram) Frame(from, to address.MAC) []byte {
	u := binary.BigEndian.AppendUint16(nil, d.Source.Port())
	u = binary.BigEndian.AppendUint16(u, d.Destination.Port())
	u = binary.BigEndian.AppendUint16(u, uint16(udpHeader+len(d.Payload)))
	u = append(append(u, 0, 0), d.Payload...)
	p := Packet{Source: d.Source.Addr(), Destination: d.Destination.Addr(), Protocol: ProtocolUDP, TTL: d.TTL}
	check := p.Checksum(u)
	if check == 0 {
		check = 0xffff // RFC 768: zero says that there is none
	}
	binary.BigEndian.PutUint16(u[6:], check)
	p.Payload = u
	return p.Frame(from, to)
}

// GroupMAC gives the Ethernet address of a multicast address (RFC 1112, 6.4;
// RFC 2464, 7), or of the broadcast address.
func GroupMAC(a netip.Addr) address.MAC {
	b := a.AsSlice()
	switch {
	case a == Broadcast:
		return address.Broadcast
	case a.Is4():
		return address.MAC{0x01, 0x00, 0x5e, b[1] & 0x7f, b[2], b[3]}
	}
	return address.MAC{0x33, 0x33, b[12], b[13], b[14], b[15]}
}
