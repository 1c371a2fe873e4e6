// Package stranger simulates what belongs to others and is to be left alone: a visitor's
// laptop, a printer, the terminal's own servers.
package stranger

import (
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/sim/box"
	"redstart/internal/wire/mdns"
)

// LaptopMAC is the visitor's.
var LaptopMAC = address.MAC{0x02, 0x9a, 0x01, 0x5c, 0x20, 0x77}

// Models of what is not ours.
var (
	Laptop = box.Model{
		Maker: "?", Name: "laptop", Class: "laptop",
		Datagrams: []box.Datagram{{Port: mdns.Group.Port(), Group: mdns.Group.Addr(), Answer: workstation}},
	}
	Printer = box.Model{Maker: "?", Name: "printer", Port: 80,
		Handler: box.FrontPage("Office printer", "#555", "Ready.")}
	Server = box.Model{Maker: "?", Name: "server", Services: []box.Service{box.Greets(22, "SSH-2.0-server")}}
)

// Stock are all that stand at the terminal. Two servers have one address.
var Stock = []box.Stock{
	{Model: Laptop, Serial: "%d", Away: away, Factory: box.Always(box.Settings{Name: "marta-laptop"}),
		Stands: []box.Stand{{MAC: LaptopMAC}}},
	at(Printer, 0x07, "printer", "10.40.9.100/22"),
	at(Server, 0x08, "old-phone-box", "10.40.9.150/22"),
	at(Server, 0x09, "ntp-1", "10.40.8.5/22"),
	at(Server, 0x0a, "ntp-old", "10.40.8.5/22"),
}

const away = 4 * time.Second

func at(m box.Model, prefix byte, name, address string) box.Stock {
	s := box.Settings{Name: name, Address: netip.MustParsePrefix(address), Gateway: netip.MustParseAddr("10.40.8.1")}
	return box.Stock{Model: m, Prefix: [3]byte{0x12, 0x31, prefix}, Serial: "%d", Away: away, Factory: box.Always(s),
		Stands: []box.Stand{{}}}
}

func workstation(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if mdns.IsQuestion(payload) {
		s := b.Running()
		reply(mdns.Announce(s.Name, "_workstation._tcp", s.Name, 9, s.Address.Addr(), nil), mdns.Group)
	}
}
