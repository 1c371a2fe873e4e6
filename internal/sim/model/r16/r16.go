// Package r16 simulates the Ovalis R16 recorder, which announces itself over SSDP.
package r16

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/wire/ssdp"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every recorder leaves the factory. sixOnly is one whose
// IPv4 somebody switched off: only its IPv6 link-local address is left.
var (
	Factory = box.Settings{Name: "r16", Address: netip.MustParsePrefix("192.168.77.16/24")}
	sixOnly = box.Settings{Name: "r16", Address: netip.MustParsePrefix("fe80::4f52:16/64")}
)

// Model is the recorder.
var Model = box.Model{
	Maker: "Ovalis Optics", Name: "R16", Firmware: "5.0.1", Port: 443, TLS: true,
	Handler:   box.FrontPage("Ovalis R16", "#7a4", "Sixteen channels."),
	Datagrams: []box.Datagram{{Port: ssdp.Group.Port(), Group: ssdp.Group.Addr(), Answer: announce}},
}

func announce(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if !ssdp.IsSearch(payload) {
		return
	}
	reply(ssdp.Message{
		Server: "unix/5.1 UPnP/2.0 Ovalis-R16/5.0.1", Unique: "uuid:" + b.Serial + "::upnp:rootdevice",
		Location: "http://" + b.Running().Address.Addr().String() + "/about.xml",
	}.Answer(), netip.AddrPort{})
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x4f, 0x52}, Serial: "OVR16-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "REC", Kind: "recorder", Profile: "ovalis-r16", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-REC-01", Port: 18}, {Tag: "HALL-REC-02", Port: 19, Named: "mac",
		Factory: &sixOnly}},
}
