package vxlan_test

import (
	"bytes"
	"net"
	"testing"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"

	"redstart/internal/core/address"
	"redstart/internal/lan"
	"redstart/internal/lan/vxlan"
	"redstart/internal/wire/ethernet"
)

var (
	here  = address.MAC{2, 0, 0, 0, 0, 1}
	there = address.MAC{2, 0, 0, 0, 0, 2}
)

func frame(text string) []byte {
	return ethernet.Frame{Destination: there, Source: here, Type: 0x88b5, Payload: []byte(text)}.Append(nil)
}

func TestFramesGoBothWaysThroughATunnel(t *testing.T) {
	server, err := vxlan.Listen("127.0.0.1:0", there)
	if err != nil {
		t.Fatal(err)
	}
	defer server.Close()
	client, err := vxlan.Dial(server.Addr().String(), here)
	if err != nil {
		t.Fatal(err)
	}
	if err := server.Send(frame("to nobody yet")); err != nil {
		t.Error(err)
	}
	for _, hop := range []struct {
		from, to lan.Port
		text     string
	}{{client, server, "ask"}, {server, client, "answer"}, {client, server, "again"}} {
		if err := hop.from.Send(frame(hop.text)); err != nil {
			t.Fatal(err)
		}
		got, err := hop.to.Receive()
		if err != nil || !bytes.Equal(got, frame(hop.text)) {
			t.Errorf("%s: % x, %v", hop.text, got, err)
		}
	}
	client.Close()
	if _, err := client.Receive(); err != lan.ErrClosed {
		t.Errorf("receiving after Close: %v", err)
	}
	if err := client.Send(frame("x")); err != lan.ErrClosed {
		t.Errorf("sending after Close: %v", err)
	}
}

// RFC 7348, 5: eight bytes of header with the I flag, then the frame.
func TestAnIndependentDecoderReadsTheTunnel(t *testing.T) {
	listener, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	client, err := vxlan.Dial(listener.LocalAddr().String(), here)
	if err != nil {
		t.Fatal(err)
	}
	defer client.Close()
	if err := client.Send(frame("hello")); err != nil {
		t.Fatal(err)
	}
	raw := make([]byte, 2048)
	n, from, err := listener.ReadFromUDPAddrPort(raw)
	if err != nil {
		t.Fatal(err)
	}
	packet := gopacket.NewPacket(raw[:n], layers.LayerTypeVXLAN, gopacket.Default)
	v, ok := packet.Layer(layers.LayerTypeVXLAN).(*layers.VXLAN)
	if !ok || !v.ValidIDFlag || v.VNI != 40 {
		t.Fatalf("%+v", v)
	}
	inner, ok := packet.Layer(layers.LayerTypeEthernet).(*layers.Ethernet)
	if !ok || !bytes.Equal(inner.SrcMAC, here[:]) || !bytes.Equal(inner.DstMAC, there[:]) {
		t.Errorf("%+v", inner)
	}
	// What is no VXLAN of this network is thrown away; what follows is read.
	for _, bad := range [][]byte{{}, {8, 0, 0, 0}, append([]byte{8, 0, 0, 0, 0, 0, 99, 0}, frame("other network")...),
		append([]byte{0, 0, 0, 0, 0, 0, 40, 0}, frame("no flag")...), raw[:n]} {
		if _, err := listener.WriteToUDPAddrPort(bad, from); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := client.Receive(); err != nil || !bytes.Equal(got, frame("hello")) {
		t.Errorf("% x, %v", got, err)
	}
}

func TestOnlyLoopback(t *testing.T) {
	for _, at := range []string{"0.0.0.0:4789", "192.0.2.1:4789", "[::1]:4789", "127.0.0.1", "here:1"} {
		if p, err := vxlan.Listen(at, here); err == nil {
			p.Close()
			t.Errorf("listening at %s was allowed", at)
		}
		if p, err := vxlan.Dial(at, here); err == nil {
			p.Close()
			t.Errorf("dialling %s was allowed", at)
		}
	}
}
