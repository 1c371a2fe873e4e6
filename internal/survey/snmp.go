package survey

import (
	"iter"
	"net/netip"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/wire/ip"
	"redstart/internal/wire/snmp"
)

// snmpPort is where answers come to.
const snmpPort = 40161

// snmpProber asks every agent that answers to everybody for its description,
// name and object ID (RFC 3418, 2). Others are asked alone, where their profile
// wants it.
var snmpProber = prober{
	protocol: "snmp",
	stage:    sourced,
	is: over(snmp.Port, func(b []byte) bool {
		m, err := snmp.Parse(b)
		return err == nil && (m.Kind == snmp.KindGet || m.Kind == snmp.KindNext || m.Kind == snmp.KindBulk)
	}),
	ask: func(p *pass) iter.Seq[[]byte] {
		question := snmp.Ask(p.xid&0x7fffffff, snmp.SysDescr, snmp.SysName, snmp.SysObjectID)
		return p.overUDP(snmpPort, netip.AddrPortFrom(ip.Broadcast, snmp.Port), 0, question)
	},
	read: func(h *heard) []device.Sighting {
		if !h.isUDP || h.udp.Source.Port() != snmp.Port || h.udp.Destination.Port() != snmpPort {
			return nil
		}
		m, err := snmp.Parse(h.udp.Payload)
		if err != nil || m.Kind != snmp.KindResponse {
			return nil
		}
		s := h.told()
		for _, v := range m.Values {
			if key := map[string]string{snmp.SysDescr: fact.Description, snmp.SysName: fact.Name,
				snmp.SysObjectID: fact.ObjectID}[v.OID]; key != "" && v.Text != "" {
				s.Facts[key] = v.Text
			}
		}
		return []device.Sighting{s}
	},
}
