// Package lookonly is a port around a port that lets nothing out but questions:
// no conversation can be opened over it, nothing can be set, and no address can
// be handed out.
package lookonly

import (
	"redstart/internal/core/problem"
	"redstart/internal/lan"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/enip"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
	"redstart/internal/wire/mdns"
	"redstart/internal/wire/ndp"
	"redstart/internal/wire/snmp"
	"redstart/internal/wire/ssdp"
	"redstart/internal/wire/wsd"
)

// ErrRefused is what Send gives for a frame that is no question.
var ErrRefused = problem.New(problem.Conflict, "this service only looks; it sends nothing that could change a device",
	"start it without --look-only to set devices")

type port struct{ lan.Port }

// On wraps a port, which then belongs to the wrapper.
func On(inner lan.Port) lan.Port { return port{inner} }

// Send implements lan.Port.
func (p port) Send(frame []byte) error {
	if !Question(frame) {
		return ErrRefused
	}
	return p.Port.Send(frame)
}

// Question reports whether a frame only asks, or answers who we are ourselves.
func Question(frame []byte) bool {
	f, err := ethernet.Parse(frame)
	if err != nil {
		return false
	}
	switch f.Type {
	case ethernet.TypeARP:
		p, err := arp.Parse(f.Payload)
		return err == nil && !p.IsAnnouncement()
	case ethernet.TypePROFINET:
		p, err := dcp.Parse(f.Payload)
		return err == nil && p.ServiceType == dcp.TypeRequest && (p.ServiceID == dcp.Identify || p.ServiceID == dcp.Get)
	}
	p, err := ip.Parse(f)
	if err != nil {
		return false
	}
	if _, err := ndp.Parse(p); err == nil {
		return true
	}
	d, ok := p.UDP()
	return ok && asks(d)
}

func asks(d ip.Datagram) bool {
	switch d.Destination.Port() {
	case mdns.Group.Port():
		return mdns.IsQuestion(d.Payload)
	case wsd.Group.Port():
		_, ok := wsd.IsProbe(d.Payload)
		return ok
	case ssdp.Group.Port():
		return ssdp.IsSearch(d.Payload)
	case enip.Port:
		return enip.IsRequest(d.Payload)
	case bacnet.Port:
		m, err := bacnet.Parse(d.Payload)
		return err == nil && (m.Kind == bacnet.KindWhoIs || m.Kind == bacnet.KindWhoIsRouter ||
			m.Kind == bacnet.KindRead)
	case snmp.Port:
		m, err := snmp.Parse(d.Payload)
		return err == nil && m.Kind != snmp.KindResponse
	}
	return false
}
