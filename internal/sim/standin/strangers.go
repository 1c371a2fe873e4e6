package standin

import (
	"net/netip"

	"redstart/internal/sim/box"
	"redstart/internal/wire/mdns"
)

// Things that belong to others and are to be left alone: a visitor's laptop, a
// printer, the terminal's own servers.
var (
	Laptop = box.Model{Maker: "?", Name: "laptop", Class: "laptop", Datagrams: []box.Datagram{{Port: mdns.Group.Port(), Group: mdns.Group.Addr(),
		Answer: func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
			if mdns.IsQuestion(payload) {
				reply(mdns.Announce(b.Running().Name, "_workstation._tcp", b.Running().Name, 9, b.Running().Address.Addr(), nil), mdns.Group)
			}
		}}}}
	Printer = box.Model{Maker: "?", Name: "printer", Port: 80, Handler: page("Office printer", "#555", "Ready.")}
	Server  = box.Model{Maker: "?", Name: "server", Services: []box.Service{box.Greets(22, "SSH-2.0-server")}}
)
