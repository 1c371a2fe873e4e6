package standin

import (
	"net/netip"

	"redstart/internal/sim/box"
	"redstart/internal/wire/mdns"
)

// announce answers DNS-SD with what the device is.
var announce = box.Datagram{Port: mdns.Group.Port(), Group: mdns.Group.Addr(), Answer: func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if mdns.IsQuestion(payload) {
		s := b.Running()
		reply(mdns.Announce(b.Model.Maker+" "+b.Model.Name, "_ssh._tcp", s.Name, 22, s.Address.Addr(),
			map[string]string{"model": b.Model.Name, "serial": b.Serial, "firmware": b.Model.Firmware}), mdns.Group)
	}
}}

const timeMaker = "Clepsydra Timeworks"

// Clepsydra Timeworks: a shell with a wizard, and multicast DNS.
var (
	K3 = box.Model{Maker: timeMaker, Name: "K3", Firmware: "1.9", Banner: "SSH-2.0-clepsydra_K3", Datagrams: []box.Datagram{announce}}
	T1 = box.Model{Maker: timeMaker, Name: "T1", Firmware: "2.4", Banner: "SSH-2.0-clepsydra_T1", Datagrams: []box.Datagram{announce}}
)

// K3Factory is the state in which every clock leaves the factory.
var K3Factory = box.Settings{Name: "k3", Address: netip.MustParsePrefix("192.168.99.3/24")}
