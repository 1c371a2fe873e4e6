package standin

import (
	"net/netip"

	"redstart/internal/sim/box"
	"redstart/internal/wire/ssdp"
)

// R16 is the recorder of Ovalis Optics; it announces itself over SSDP.
var R16 = box.Model{Maker: "Ovalis Optics", Name: "R16", Firmware: "5.0.1", Port: 443, TLS: true, Handler: page("Ovalis R16", "#7a4", "Sixteen channels."),
	Datagrams: []box.Datagram{{Port: ssdp.Group.Port(), Group: ssdp.Group.Addr(), Answer: func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
		if ssdp.IsSearch(payload) {
			at := b.Running().Address.Addr().String()
			reply(ssdp.Message{Server: "unix/5.1 UPnP/2.0 Ovalis-R16/5.0.1", Unique: "uuid:" + b.Serial + "::upnp:rootdevice", Location: "http://" + at + "/about.xml"}.Answer(), netip.AddrPort{})
		}
	}}}}

// Factory states of the recorder; the second has only its IPv6 link-local
// address left, since somebody switched IPv4 off.
var (
	R16Factory = box.Settings{Name: "r16", Address: netip.MustParsePrefix("192.168.77.16/24")}
	R16SixOnly = box.Settings{Name: "r16", Address: netip.MustParsePrefix("fe80::4f52:16/64")}
)
