package arp_test

import (
	"bytes"
	"encoding/hex"
	"net/netip"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"redstart/internal/core/address"
	"redstart/internal/wire/arp"
	"redstart/internal/wire/ethernet"
)

var us = address.MAC{0x02, 0x52, 0x53, 0, 0, 1}

func TestProbeByteByByte(t *testing.T) {
	// RFC 5227, 2.1.1: sender protocol address and target hardware address all zero.
	want := "ffffffffffff" + "025253000001" + "0806" + "0001" + "0800" + "06" + "04" + "0001" + "025253000001" +
		"00000000" + "000000000000" + "c0a84d14"
	raw := arp.Probe(us, address.Broadcast, netip.MustParseAddr("192.168.77.20"))
	if got := hex.EncodeToString(raw[:42]); got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if !bytes.Equal(raw[42:], make([]byte, 18)) {
		t.Errorf("padding % x", raw[42:])
	}
}

func TestAnIndependentDecoderReadsOurFrames(t *testing.T) {
	ip := netip.MustParseAddr("10.40.8.30")
	for name, raw := range map[string][]byte{"probe": arp.Probe(us, address.Broadcast, ip),
		"announcement": arp.Announcement(us, ip)} {
		packet := gopacket.NewPacket(raw, layers.LayerTypeEthernet, gopacket.Default)
		if packet.ErrorLayer() != nil {
			t.Errorf("%s: %v", name, packet.ErrorLayer().Error())
			continue
		}
		a, ok := packet.Layer(layers.LayerTypeARP).(*layers.ARP)
		if !ok || a.Operation != layers.ARPRequest || !bytes.Equal(a.DstProtAddress, ip.AsSlice()) ||
			!bytes.Equal(a.SourceHwAddress, us[:]) {
			t.Errorf("%s is read as %+v", name, a)
		}
		if wantSender := name == "announcement"; bytes.Equal(a.SourceProtAddress, ip.AsSlice()) != wantSender {
			t.Errorf("%s: sender address %v", name, a.SourceProtAddress)
		}
	}
}

func TestWeReadAnIndependentEncodersFrame(t *testing.T) {
	buffer := gopacket.NewSerializeBuffer()
	err := gopacket.SerializeLayers(buffer, gopacket.SerializeOptions{FixLengths: true},
		&layers.Ethernet{SrcMAC: []byte{0x0a, 0x4f, 0x56, 0, 0, 1}, DstMAC: us[:],
			EthernetType: layers.EthernetTypeARP},
		&layers.ARP{AddrType: layers.LinkTypeEthernet, Protocol: layers.EthernetTypeIPv4, HwAddressSize: 6,
			ProtAddressSize: 4, Operation: layers.ARPReply,
			SourceHwAddress: []byte{0x0a, 0x4f, 0x56, 0, 0, 1}, SourceProtAddress: []byte{192, 168, 77, 20},
			DstHwAddress: us[:], DstProtAddress: []byte{0, 0, 0, 0}})
	if err != nil {
		t.Fatal(err)
	}
	f, err := ethernet.Parse(buffer.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	p, err := arp.Parse(f.Payload)
	if err != nil || p.Operation != arp.Reply || p.SenderIP.String() != "192.168.77.20" || p.SenderMAC != f.Source ||
		p.TargetMAC != us || p.IsAnnouncement() {
		t.Errorf("%+v, %v", p, err)
	}
}

func TestMalformedPacketsAreRefused(t *testing.T) {
	good := arp.Packet{Operation: arp.Request, SenderMAC: us, SenderIP: netip.MustParseAddr("10.0.0.1"),
		TargetIP: netip.MustParseAddr("10.0.0.1")}.Append(nil)
	if p, err := arp.Parse(good); err != nil || !p.IsAnnouncement() {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := arp.Parse(good[:27]); err == nil {
		t.Error("a short packet was read")
	}
	for _, at := range []int{0, 2, 4, 5, 7} {
		bad := bytes.Clone(good)
		bad[at] ^= 0x40
		if _, err := arp.Parse(bad); err == nil {
			t.Errorf("a packet with a wrong byte %d was read", at)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(arp.Packet{Operation: arp.Request, SenderMAC: us, SenderIP: netip.MustParseAddr("10.0.0.1"),
		TargetIP: netip.MustParseAddr("10.0.0.2")}.Append(nil))
	f.Add(arp.Packet{Operation: arp.Reply, SenderMAC: us, SenderIP: netip.MustParseAddr("192.168.77.20"), TargetMAC: us,
		TargetIP: netip.IPv4Unspecified()}.Append(nil))
	f.Add([]byte{0, 1, 8, 0, 6, 4, 0, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := arp.Parse(b)
		if err != nil {
			return
		}
		if again := p.Append(nil); !bytes.Equal(again, b[:28]) {
			t.Errorf("% x is written back as % x", b[:28], again)
		}
	})
}
