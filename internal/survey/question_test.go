package survey

import (
	"net/netip"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
	"redstart/internal/wire/snmp"
)

// snmpTo makes a datagram to an agent.
func snmpTo(t *testing.T, m snmp.Message) []byte {
	t.Helper()
	m.ID, m.Community = 1, snmp.Community
	payload, err := m.Append()
	if err != nil {
		t.Fatal(err)
	}
	return ip.Datagram{Source: netip.MustParseAddrPort("10.0.0.1:50000"), Destination: netip.AddrPortFrom(
		netip.MustParseAddr("10.0.0.2"), snmp.Port), Payload: payload}.Frame(us, them)
}

func TestOnlyQuestionsGetOut(t *testing.T) {
	at := netip.MustParseAddr("192.168.77.20")
	for what, c := range map[string]struct {
		frame []byte
		out   bool
	}{
		"ARP probe":         {arp.Probe(us, address.Broadcast, at), true},
		"ARP announcement":  {arp.Announcement(us, at), false},
		"DCP identify":      {dcp.IdentifyAll(1, 1).Frame(us, dcp.IdentifyMulticast), true},
		"DCP get":           {dcp.GetRequest(1).Frame(us, them), true},
		"DCP set name":      {dcp.SetRequest(1, dcp.NameBlock("x", dcp.Permanent)).Frame(us, them), false},
		"DCP signal":        {dcp.SetRequest(1, dcp.SignalBlock()).Frame(us, them), false},
		"SNMP get":          {snmpTo(t, snmp.Message{Kind: snmp.KindGet, Values: []snmp.Value{{OID: snmp.SysName}}}), true},
		"SNMP set":          {snmpTo(t, snmp.Message{Kind: snmp.KindSet, Values: []snmp.Value{{OID: snmp.SysName, Text: "x"}}}), false},
		"DHCP discover":     {dhcp.Ask(us, 1), false},
		"something unknown": {ethernet.Frame{Destination: them, Source: us, Type: 0x1234}.Append(nil), false},
		"nothing":           {nil, false},
	} {
		if got := Question(c.frame); got != c.out {
			t.Errorf("%s: %v", what, got)
		}
	}
}

// What a prober asks without writing is known as a question, by itself: else a survey of a service
// that only looks would end with it.
func TestEveryProberKnowsItsQuestions(t *testing.T) {
	p := &pass{from: us, six: netip.MustParseAddr("fe80::1"), xid: 7, sweep: []netip.Addr{netip.MustParseAddr("10.0.0.1")},
		sources: []netip.Addr{netip.MustParseAddr("10.0.0.2")}, nets: []netip.Prefix{netip.MustParsePrefix("10.0.0.0/24")}}
	for _, prober := range probers {
		if prober.ask == nil {
			continue
		}
		for frame := range prober.ask(p) {
			if got := Question(frame); got == prober.writes {
				t.Errorf("%s: it writes: %t, and a question of its own gets out: %t", prober.protocol, prober.writes, got)
			}
		}
	}
}
