// Package ndp encodes and decodes the few ICMPv6 messages that find neighbours:
// echo (RFC 4443, 4) and neighbour discovery (RFC 4861, 4).
package ndp

import (
	"encoding/binary"
	"errors"
	"net/netip"

	"redstart/internal/core/address"
	"redstart/internal/wire/ip"
)

// Message types (RFC 4443, 2.1; RFC 4861, 4).
const (
	EchoRequest   = 128
	EchoReply     = 129
	RouterAdvert  = 134
	Solicitation  = 135
	Advertisement = 136
)

const (
	optionSource  = 1
	optionTarget  = 2
	hopLimit      = 255  // RFC 4861, 7.1: anything else crossed a router
	flagSolicited = 0x60 // solicited, override
)

// AllNodes is the group of every IPv6 node on the link (RFC 4291, 2.7.1).
var AllNodes = netip.MustParseAddr("ff02::1")

// ErrMalformed says that the packet is no such message.
var ErrMalformed = errors.New("ndp: not a neighbour message")

// Message is one decoded message.
type Message struct {
	Type   byte
	Target netip.Addr  // of neighbour messages
	Link   address.MAC // what the sender says its MAC, or the target's, is
}

// Parse decodes the ICMPv6 message of a packet. Neighbour messages that crossed
// a router are refused.
func Parse(p ip.Packet) (Message, error) {
	b := p.Payload
	if p.Protocol != ip.ProtocolICMPv6 || len(b) < 8 {
		return Message{}, ErrMalformed
	}
	m := Message{Type: b[0]}
	var options []byte
	switch m.Type {
	case EchoRequest, EchoReply:
		return m, nil
	case RouterAdvert:
		if len(b) < 16 {
			return Message{}, ErrMalformed
		}
		options = b[16:]
	case Solicitation, Advertisement:
		if len(b) < 24 {
			return Message{}, ErrMalformed
		}
		m.Target, options = netip.AddrFrom16([16]byte(b[8:24])), b[24:]
	default:
		return Message{}, ErrMalformed
	}
	if p.TTL != hopLimit {
		return Message{}, ErrMalformed
	}
	for len(options) >= 8 {
		n := int(options[1]) * 8
		if n == 0 || n > len(options) {
			return Message{}, ErrMalformed
		}
		if options[0] == optionSource || options[0] == optionTarget {
			m.Link = address.MACFrom(options[2:])
		}
		options = options[n:]
	}
	return m, nil
}

func frame(from, to address.MAC, source, destination netip.Addr, body []byte) []byte {
	p := ip.Packet{Source: source, Destination: destination, Protocol: ip.ProtocolICMPv6, TTL: hopLimit}
	binary.BigEndian.PutUint16(body[2:], p.Checksum(body))
	p.Payload = body
	return p.Frame(from, to)
}

// Echo asks every node of the link to answer.
func Echo(from address.MAC, source netip.Addr, id, sequence uint16) []byte {
	body := []byte{EchoRequest, 0, 0, 0}
	body = binary.BigEndian.AppendUint16(body, id)
	body = binary.BigEndian.AppendUint16(body, sequence)
	return frame(from, ip.GroupMAC(AllNodes), source, AllNodes, body)
}

// Advertise answers a solicitation for our address.
func Advertise(from, to address.MAC, ours, asker netip.Addr) []byte {
	body := append([]byte{Advertisement, 0, 0, 0, flagSolicited, 0, 0, 0}, ours.AsSlice()...)
	body = append(append(body, optionTarget, 1), from[:]...)
	return frame(from, to, ours, asker, body)
}

// Probe asks whether anybody has the address that we want (RFC 4862, 5.4).
func Probe(from address.MAC, wanted netip.Addr) []byte {
	group := SolicitedNode(wanted)
	body := append([]byte{Solicitation, 0, 0, 0, 0, 0, 0, 0}, wanted.AsSlice()...)
	return frame(from, ip.GroupMAC(group), netip.IPv6Unspecified(), group, body)
}

// SolicitedNode gives the group at which an address is asked for (RFC 4291, 2.7.1).
func SolicitedNode(a netip.Addr) netip.Addr {
	b := a.As16()
	return netip.AddrFrom16([16]byte{0xff, 0x02, 11: 1, 12: 0xff, 13: b[13], 14: b[14], 15: b[15]})
}
