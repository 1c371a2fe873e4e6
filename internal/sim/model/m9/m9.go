// Package m9 simulates the Brindlecap M9 machine controller, which waits for DHCP and speaks
// EtherNet/IP.
package m9

import (
	_ "embed"
	"hash/crc32"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/wire/enip"
)

//go:embed plan.csv
var plan []byte

// Model is the machine controller.
var Model = box.Model{
	Maker: "Brindlecap Controls", Name: "M9", Firmware: "12.1", Class: "brindlecap-m9", Port: 80,
	Handler:   box.FrontPage("Brindlecap M9", "#844", "Ramp controller. Not configured."),
	Datagrams: []box.Datagram{{Port: enip.Port, Answer: identity}},
}

func identity(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if !enip.IsRequest(payload) {
		return
	}
	i := enip.Identity{
		Address: b.Running().Address.Addr(), Vendor: 0x0ff1, Type: 14, Code: 9, RevMajor: 12, RevMinor: 1,
		Serial: crc32.ChecksumIEEE([]byte(b.Serial)), Product: b.Model.Name, State: 3,
	}
	reply(i.Answer(), netip.AddrPort{})
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0e, 0x42, 0x4d}, Serial: "BCM9-%06d", Away: 4 * time.Second,
	Factory: box.Always(box.Settings{}),
	Short:   "RAMP", Kind: "machine controller", Profile: "brindlecap-m9", Plan: plan,
	Stands: box.Each(13, "BERTH1-RAMP-01", "BERTH1-RAMP-02"),
}
