// Package dhcp encodes and decodes DHCP for IPv4 (RFC 2131, options of RFC
// 2132) as far as finding and giving out addresses needs it. The message format
// itself is a library's.
package dhcp

import (
	"errors"
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"

	"redstart/internal/core/address"
	"redstart/internal/wire/ip"
)

// Ports (RFC 2131, 4.1).
const (
	ServerPort = 67
	ClientPort = 68
)

const (
	leastSize = 300 // RFC 1542, 2.1: some relays and clients drop less
	maxSize   = 1500
)

// Message types (RFC 2132, 9.6).
const (
	Discover = "discover"
	Offer    = "offer"
	Request  = "request"
	Decline  = "decline"
	ACK      = "ack"
	NAK      = "nak"
	Release  = "release"
	Inform   = "inform"
)

var kinds = map[dhcpv4.MessageType]string{
	dhcpv4.MessageTypeDiscover: Discover, dhcpv4.MessageTypeOffer: Offer, dhcpv4.MessageTypeRequest: Request,
	dhcpv4.MessageTypeDecline: Decline,
	dhcpv4.MessageTypeAck:     ACK, dhcpv4.MessageTypeNak: NAK, dhcpv4.MessageTypeRelease: Release,
	dhcpv4.MessageTypeInform: Inform,
}

// ErrMalformed says that the bytes are no DHCP message over Ethernet.
var ErrMalformed = errors.New("dhcp: not a DHCP message over Ethernet")

// Message is one decoded message.
type Message struct {
	Kind      string
	Client    address.MAC
	Yours     netip.Addr // the address offered or given
	Current   netip.Addr // the address the client has and keeps
	Requested netip.Addr // option 50
	Server    netip.Addr // option 54
	Host      string     // option 12
	Class     string     // option 60
	raw       *dhcpv4.DHCPv4
}

// Parse decodes the payload of a datagram.
func Parse(b []byte) (Message, error) {
	if len(b) > maxSize {
		return Message{}, ErrMalformed
	}
	d, err := dhcpv4.FromBytes(b)
	if err != nil || len(d.ClientHWAddr) != 6 {
		return Message{}, ErrMalformed
	}
	kind, ok := kinds[d.MessageType()]
	client := address.MACFrom(d.ClientHWAddr)
	if !ok || client.IsZero() || client.IsGroup() {
		return Message{}, ErrMalformed
	}
	return Message{kind, client, addr(d.YourIPAddr), addr(d.ClientIPAddr), addr(d.RequestedIPAddress()),
		addr(d.ServerIdentifier()),
		d.HostName(), d.ClassIdentifier(), d}, nil
}

// Network gives prefix length and gateway of the address given (options 1 and 3).
func (m Message) Network() (bits int, gateway netip.Addr) {
	bits, _ = m.raw.SubnetMask().Size()
	if routers := m.raw.Router(); len(routers) > 0 {
		gateway = addr(routers[0])
	}
	return bits, gateway
}

// addr gives an address that is not "none".
func addr(b net.IP) netip.Addr {
	a, ok := netip.AddrFromSlice(b.To4())
	if !ok || a.IsUnspecified() {
		return netip.Addr{}
	}
	return a
}

// Ask makes the DISCOVER by which servers show themselves. The client that it
// names takes none of their offers.
func Ask(client address.MAC, xid uint32) []byte {
	d, err := dhcpv4.New(dhcpv4.WithHwAddr(client[:]), dhcpv4.WithMessageType(dhcpv4.MessageTypeDiscover),
		dhcpv4.WithBroadcast(true),
		dhcpv4.WithTransactionID(dhcpv4.TransactionID{byte(xid >> 24), byte(xid >> 16), byte(xid >> 8), byte(xid)}),
		dhcpv4.WithRequestedOptions(dhcpv4.OptionSubnetMask, dhcpv4.OptionRouter))
	if err != nil {
		return nil // only the random transaction ID could fail, and it is replaced
	}
	return datagram(client, address.Broadcast, netip.IPv4Unspecified(), ClientPort, ServerPort, ip.Broadcast, d)
}

// Renew makes a client's REQUEST for an offered address, or for one it had.
func Renew(client address.MAC, wanted, server netip.Addr, host, class string) []byte {
	d, err := dhcpv4.New(dhcpv4.WithHwAddr(client[:]), dhcpv4.WithBroadcast(true),
		dhcpv4.WithMessageType(dhcpv4.MessageTypeDiscover))
	if err != nil {
		return nil
	}
	if wanted.IsValid() {
		d.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeRequest))
		d.UpdateOption(dhcpv4.OptRequestedIPAddress(wanted.AsSlice()))
	}
	if server.IsValid() {
		d.UpdateOption(dhcpv4.OptServerIdentifier(server.AsSlice()))
	}
	if host != "" {
		d.UpdateOption(dhcpv4.OptHostName(host))
	}
	if class != "" {
		d.UpdateOption(dhcpv4.OptClassIdentifier(class))
	}
	return datagram(client, address.Broadcast, netip.IPv4Unspecified(), ClientPort, ServerPort, ip.Broadcast, d)
}

// Lease is what a client is given.
type Lease struct {
	Address netip.Prefix
	Gateway netip.Addr
	DNS     []netip.Addr
	NTP     []netip.Addr
	Domain  string
	Name    string // of the client
	Time    time.Duration
	Server  netip.Addr // who gives it
}

// Answer makes the OFFER, ACK or NAK to a client's message. The frame goes to
// the client's MAC alone, even where RFC 2131 (4.1) allows a broadcast.
func (m Message) Answer(kind string, from address.MAC, l Lease) []byte {
	d, err := dhcpv4.NewReplyFromRequest(m.raw)
	if err != nil {
		return nil
	}
	d.UpdateOption(dhcpv4.OptServerIdentifier(l.Server.AsSlice()))
	to := ip.Broadcast
	switch kind {
	case NAK:
		d.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeNak))
		d.YourIPAddr = net.IPv4zero
	case Offer, ACK:
		d.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeOffer))
		if kind == ACK {
			d.UpdateOption(dhcpv4.OptMessageType(dhcpv4.MessageTypeAck))
		}
		d.YourIPAddr = l.Address.Addr().AsSlice()
		d.UpdateOption(dhcpv4.OptSubnetMask(net.CIDRMask(l.Address.Bits(), 32)))
		d.UpdateOption(dhcpv4.OptIPAddressLeaseTime(l.Time))
		if l.Gateway.IsValid() {
			d.UpdateOption(dhcpv4.OptRouter(l.Gateway.AsSlice()))
		}
		if len(l.DNS) > 0 {
			d.UpdateOption(dhcpv4.OptDNS(slices(l.DNS)...))
		}
		if len(l.NTP) > 0 {
			d.UpdateOption(dhcpv4.OptNTPServers(slices(l.NTP)...))
		}
		if l.Domain != "" {
			d.UpdateOption(dhcpv4.OptDomainName(l.Domain))
		}
		if l.Name != "" {
			d.UpdateOption(dhcpv4.OptHostName(l.Name))
		}
		if !d.IsBroadcast() {
			to = l.Address.Addr()
		}
	}
	if m.Current.IsValid() {
		to = m.Current
	}
	return datagram(from, m.Client, l.Server, ServerPort, ClientPort, to, d)
}

func slices(list []netip.Addr) []net.IP {
	var out []net.IP
	for _, a := range list {
		out = append(out, a.AsSlice())
	}
	return out
}

func datagram(from, to address.MAC, source netip.Addr, sourcePort, port uint16, destination netip.Addr,
	d *dhcpv4.DHCPv4) []byte {
	b := d.ToBytes()
	for len(b) < leastSize {
		b = append(b, 0)
	}
	return ip.Datagram{Source: netip.AddrPortFrom(source, sourcePort),
		Destination: netip.AddrPortFrom(destination, port), Payload: b}.Frame(from, to)
}
