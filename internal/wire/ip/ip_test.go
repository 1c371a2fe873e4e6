package ip_test

import (
	"bytes"
	"net/netip"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/wire/bytesof"
	"redstart/internal/wire/ethernet"
	"redstart/internal/wire/ip"
)

var (
	us   = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}
	them = address.MAC{0x0a, 0x4f, 0x56, 0, 0, 9}
)

// Written out from RFC 791, 3.1 and RFC 768; both checksums reckoned by another program.
const hello4 = `0a4f56000009 025253000001 0800
	45 00 0021 0000 4000 40 11 1654 0a280814 0a280815
	0fa0 bac0 000d cd28 68656c6c6f 00000000000000000000000000`

func TestADatagramByteByByte(t *testing.T) {
	d := ip.Datagram{Source: netip.MustParseAddrPort("10.40.8.20:4000"),
		Destination: netip.MustParseAddrPort("10.40.8.21:47808"), Payload: []byte("hello")}
	got := d.Frame(us, them)
	if want := bytesof.Hex(t, hello4); !bytes.Equal(got, want) {
		t.Fatalf("\ngot  %x\nwant %x", got, want)
	}
	f, err := ethernet.Parse(got)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ip.Parse(f)
	if err != nil {
		t.Fatal(err)
	}
	back, ok := p.UDP()
	if !ok || back.Source != d.Source || back.Destination != d.Destination || string(back.Payload) != "hello" ||
		back.TTL != 64 {
		t.Errorf("%+v, %v", back, ok)
	}
}

func TestSixAndGroups(t *testing.T) {
	p := ip.Packet{Source: netip.MustParseAddr("fe80::1"), Destination: netip.MustParseAddr("ff02::fb"), Protocol: 17,
		TTL: 255, Payload: []byte{1, 2, 3, 4}}
	f, err := ethernet.Parse(p.Frame(us, ip.GroupMAC(p.Destination)))
	if err != nil || f.Type != ethernet.TypeIPv6 || f.Destination != (address.MAC{0x33, 0x33, 0, 0, 0, 0xfb}) {
		t.Fatalf("%+v, %v", f, err)
	}
	back, err := ip.Parse(f)
	if err != nil || back.Source != p.Source || back.TTL != 255 || !bytes.Equal(back.Payload, p.Payload) {
		t.Errorf("%+v, %v", back, err)
	}
	for a, want := range map[string]string{"239.255.255.250": "01:00:5e:7f:ff:fa", "224.0.0.251": "01:00:5e:00:00:fb",
		"255.255.255.255": "ff:ff:ff:ff:ff:ff"} {
		if got := ip.GroupMAC(netip.MustParseAddr(a)); got.String() != want {
			t.Errorf("%s is at %s, want %s", a, got, want)
		}
	}
	if _, err := ip.Parse(ethernet.Frame{Type: ethernet.TypeIPv4,
		Payload: bytesof.Hex(t, "4500 001c 0001 2000 40 11 0000 0a280814 0a280815 0000 0000 0000 0000")}); err == nil {
		t.Error("a fragment was taken for a whole packet")
	}
}

func FuzzParse(f *testing.F) {
	f.Add(uint16(ethernet.TypeIPv4), bytesof.Hex(f, hello4)[14:])
	f.Add(uint16(ethernet.TypeIPv6),
		bytesof.Hex(f,
			"60000000 0004 11 ff fe800000000000000000000000000001 ff0200000000000000000000000000fb 01020304"))
	f.Add(uint16(ethernet.TypeIPv4), []byte{0x4f})
	f.Fuzz(func(t *testing.T, kind uint16, b []byte) {
		p, err := ip.Parse(ethernet.Frame{Type: kind, Payload: b})
		if err != nil {
			return
		}
		if len(p.Payload) > len(b) {
			t.Error("more came out than went in")
		}
		if d, ok := p.UDP(); ok && len(d.Payload) > len(p.Payload)-8 {
			t.Error("a datagram is longer than its packet")
		}
	})
}
