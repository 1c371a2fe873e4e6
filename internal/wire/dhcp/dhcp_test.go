package dhcp_test

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/dhcp"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

var (
	us     = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}
	client = address.MAC{0x0e, 0x42, 0x44, 0, 0, 9}
)

func datagram(t testing.TB, raw []byte) (ethernet.Frame, ip.Datagram) {
	t.Helper()
	f, err := ethernet.Parse(raw)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ip.Parse(f)
	if err != nil {
		t.Fatal(err)
	}
	d, ok := p.UDP()
	if !ok {
		t.Fatal("not a datagram")
	}
	return f, d
}

// The fixed part written out from RFC 2131, Table 1: op, htype, hlen, hops, xid,
// secs, flags, four addresses, chaddr.
func TestADiscoverByteByByte(t *testing.T) {
	_, d := datagram(t, dhcp.Ask(client, 0x01020304))
	want := bytesof.Hex(t,
		"01 01 06 00 01020304 0000 8000 00000000 00000000 00000000 00000000 0e4244000009 00000000000000000000")
	if !bytes.Equal(d.Payload[:44], want) || !bytes.Equal(d.Payload[236:243], bytesof.Hex(t, "63825363 35 01 01")) {
		t.Errorf("%x", d.Payload)
	}
	if d.Source != netip.MustParseAddrPort("0.0.0.0:68") ||
		d.Destination != netip.MustParseAddrPort("255.255.255.255:67") || len(d.Payload) < 300 {
		t.Errorf("%s to %s, %d bytes", d.Source, d.Destination, len(d.Payload))
	}
}

func TestTheExchange(t *testing.T) {
	lease := dhcp.Lease{Address: netip.MustParsePrefix("10.40.9.200/22"), Gateway: netip.MustParseAddr("10.40.8.1"),
		DNS: []netip.Addr{netip.MustParseAddr("10.40.8.2")},
		NTP: []netip.Addr{netip.MustParseAddr("10.40.8.5")}, Domain: "skerry-point.example", Name: "hall-acc-01",
		Time: time.Hour, Server: netip.MustParseAddr("10.40.8.20")}
	_, d := datagram(t, dhcp.Renew(client, lease.Address.Addr(), lease.Server, "d2", "BRINDLECAP"))
	ask, err := dhcp.Parse(d.Payload)
	if err != nil || ask.Kind != dhcp.Request || ask.Client != client || ask.Requested != lease.Address.Addr() ||
		ask.Server != lease.Server || ask.Host != "d2" || ask.Class != "BRINDLECAP" {
		t.Fatalf("%+v, %v", ask, err)
	}
	f, d := datagram(t, ask.Answer(dhcp.ACK, us, lease))
	if f.Destination != client || d.Destination.Addr() != ip.Broadcast {
		t.Errorf("the answer goes to %s, %s", f.Destination, d.Destination)
	}
	got, err := dhcp.Parse(d.Payload)
	if err != nil || got.Kind != dhcp.ACK || got.Yours != lease.Address.Addr() || got.Server != lease.Server ||
		got.Client != client || got.Host != "hall-acc-01" {
		t.Errorf("%+v, %v", got, err)
	}
	// Options 1, 51, 3 and 42 as RFC 2132 writes them.
	for _, option := range []string{"01 04 fffffc00", "33 04 00000e10", "03 04 0a280801", "2a 04 0a280805"} {
		if !bytes.Contains(d.Payload, bytesof.Hex(t, option)) {
			t.Errorf("option %s is not in %x", option, d.Payload)
		}
	}
	_, d = datagram(t, ask.Answer(dhcp.NAK, us, lease))
	if got, err := dhcp.Parse(d.Payload); err != nil || got.Kind != dhcp.NAK || got.Yours.IsValid() {
		t.Errorf("%+v, %v", got, err)
	}
}

func FuzzParse(f *testing.F) {
	for _, raw := range [][]byte{dhcp.Ask(client, 1), dhcp.Renew(client, netip.MustParseAddr("10.40.8.9"), netip.Addr{},
		"h", "c")} {
		_, d := datagram(f, raw)
		f.Add(d.Payload)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		m, err := dhcp.Parse(b)
		if err != nil {
			return
		}
		if m.Client.IsGroup() || m.Client.IsZero() {
			t.Errorf("a client %q", m.Client)
		}
		m.Answer(dhcp.Offer, us, dhcp.Lease{Address: netip.MustParsePrefix("10.0.0.9/24"),
			Server: netip.MustParseAddr("10.0.0.1")})
	})
}
