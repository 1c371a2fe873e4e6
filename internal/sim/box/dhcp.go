package box

import (
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

// beat is what a device does unasked, now and then.
func (b *Box) beat() {
	if b.Model.Class != "" && !b.Running().Address.IsValid() {
		b.Send(dhcp.Renew(b.MAC, netip.Addr{}, netip.Addr{}, b.Running().Name, b.Model.Class))
	}
	if b.Model.Beat != nil {
		b.Model.Beat(b)
	}
}

// dhcp plays the client of a device that waits for an address, and the server
// of one that hands its one address out; it reports whether the datagram was
// DHCP.
func (b *Box) dhcp(f ethernet.Frame, d ip.Datagram) bool {
	switch d.Destination.Port() {
	case dhcp.ClientPort:
		if m, err := dhcp.Parse(d.Payload); err == nil && b.Model.Class != "" && m.Client == b.MAC {
			b.take(m, f.Source)
		}
	case dhcp.ServerPort:
		if m, err := dhcp.Parse(d.Payload); err == nil && b.Model.Pool.IsValid() && b.Running() == b.Factory {
			b.handOut(f.Source, m)
		}
	default:
		return false
	}
	return true
}

// take is the client (RFC 2131, 4.4): it asks for what is offered first by a
// server that did not refuse it last, and uses what is given. A lease counts
// until the next power cut here.
func (b *Box) take(m dhcp.Message, server address.MAC) {
	if b.Running().Address.IsValid() {
		return
	}
	switch m.Kind {
	case dhcp.NAK:
		b.mu.Lock()
		b.refused = server
		b.mu.Unlock()
	case dhcp.Offer:
		b.mu.Lock()
		refused := b.refused == server
		b.mu.Unlock()
		if refused {
			return
		}
		b.Send(dhcp.Renew(b.MAC, m.Yours, m.Server, b.Running().Name, b.Model.Class))
	case dhcp.ACK:
		bits, gateway := m.Network()
		b.Change(func(s *Settings) { s.Address, s.Gateway = netip.PrefixFrom(m.Yours, bits), gateway })
		b.Readdress()
	}
}

// handOut is the server of small devices that hand one address to the computer
// of whoever sets them up: it is offered to everybody, and refused to all but
// the guest who has it.
func (b *Box) handOut(to address.MAC, m dhcp.Message) {
	lease := dhcp.Lease{Address: b.Model.Pool, Time: 10 * time.Minute, Server: b.Factory.Address.Addr()}
	switch {
	case m.Kind == dhcp.Discover:
		b.Send(m.Answer(dhcp.Offer, b.MAC, lease))
	case m.Kind == dhcp.Request && (m.Server == lease.Server || !m.Server.IsValid() &&
		m.Requested == b.Model.Pool.Addr()):
		kind := dhcp.ACK
		if to != b.Guest {
			kind = dhcp.NAK
		}
		b.Send(m.Answer(kind, b.MAC, lease))
	}
}
