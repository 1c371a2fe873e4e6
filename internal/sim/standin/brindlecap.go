package standin

import (
	"hash/crc32"
	"net/netip"

	"redstart/internal/sim/box"
	"redstart/internal/wire/enip"
)

const controlMaker = "Brindlecap Controls"

// Brindlecap Controls: these two wait for DHCP; the machine controller speaks
// EtherNet/IP as well.
var (
	D2 = box.Model{Maker: controlMaker, Name: "D2", Firmware: "3.3", Class: "brindlecap-d2", Port: 80, Handler: page("Brindlecap D2", "#844", "Two doors. Not configured.")}
	M9 = box.Model{Maker: controlMaker, Name: "M9", Firmware: "12.1", Class: "brindlecap-m9", Port: 80, Handler: page("Brindlecap M9", "#844", "Ramp controller. Not configured."),
		Datagrams: []box.Datagram{{Port: enip.Port, Answer: identity}}}
)

func identity(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if enip.IsRequest(payload) {
		i := enip.Identity{Address: b.Running().Address.Addr(), Vendor: 0x0ff1, Type: 14, Code: 9, RevMajor: 12, RevMinor: 1,
			Serial: crc32.ChecksumIEEE([]byte(b.Serial)), Product: b.Model.Name, State: 3}
		reply(i.Answer(), netip.AddrPort{})
	}
}
