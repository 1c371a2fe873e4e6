// Package m9 simulates the Brindlecap M9 machine controller: it waits for DHCP, and an address
// from there lasts until its next start; it is set by its EtherNet/IP objects, without a login;
// a button held for ten seconds gives it a service address until its next start.
package m9

import (
	_ "embed"
	"fmt"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/naming"
	"redstart/internal/sim/box"
	simulated "redstart/internal/sim/enip"
	"redstart/internal/wire/cip"
	"redstart/internal/wire/enip"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only machine controllers have.
type Own struct {
	Control  string // configuration control: 2 is DHCP, 0 a fixed address
	DNS      string
	DNS2     string
	Domain   string
	Role     string // 0 alone, 1 primary, 2 secondary
	Partner  string // address
	Instance string // of the BACnet device object
}

// Factory is the state in which every machine controller leaves the factory.
var Factory = box.Settings{Own: Own{Control: "2", Role: "0", Instance: "4194303"}}

// Service is the address that the button gives.
var Service = netip.MustParsePrefix("192.168.91.91/24")

// vendorClass is the maker's own object (Volume 1, 5-1: 64h to C7h are the makers').
const vendorClass = 0x6c

var names = naming.Rules{Max: 16, Case: "upper"}

// Model is the machine controller.
var Model = box.Model{
	Maker: "Brindlecap Controls", Name: "M9", Firmware: "12.001", Class: "brindlecap-m9", Port: 80,
	Handler:   box.FrontPage("Brindlecap M9", "#844", "Ramp controller."),
	Services:  []box.Service{{Port: enip.Port, Serve: func(b *box.Box, c net.Conn) { simulated.Serve(c, objects{b, c}) }}},
	Datagrams: []box.Datagram{{Port: enip.Port, Answer: identity}},
	Hand:      hand,
}

func serialOf(b *box.Box) uint32 {
	n, _ := strconv.ParseUint(b.Serial[len(b.Serial)-8:], 16, 32) // serials of the stock are hexadecimal
	return uint32(n)
}

func ownOf(b *box.Box) Own {
	own, _ := b.Running().Own.(Own)
	return own
}

// status is the word of the identity object: bit 2 says that it was set (Volume 1, 5A-2.4).
func status(b *box.Box) uint16 {
	if ownOf(b).Control == "0" {
		return 4
	}
	return 0
}

func identity(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
	if !enip.IsRequest(payload) {
		return
	}
	i := enip.Identity{
		Address: b.Running().Address.Addr(), Vendor: 0x0ff1, Type: 14, Code: 9, RevMajor: 12, RevMinor: 1,
		Status: status(b), Serial: serialOf(b), Product: b.Model.Name, State: 3,
	}
	reply(i.Answer(), netip.AddrPort{})
}

// hand holds the button: a service address until the next start, never the final one.
func hand(b *box.Box, instruction string) bool {
	if !strings.Contains(instruction, "button") {
		return false
	}
	b.Change(func(s *box.Settings) { s.Address = Service })
	b.Readdress()
	return true
}

// objects are what it tells and takes over EtherNet/IP.
type objects struct {
	*box.Box
	conn net.Conn
}

// keep alters running and saved settings; what is in force of the interface changes with the
// next start (Volume 2, 5-4.3.2).
func (o objects) keep(what string, now bool, f func(*box.Settings, *Own)) byte {
	o.Witness("write", what)
	apply := func(s *box.Settings) {
		own, _ := s.Own.(Own)
		f(s, &own)
		s.Own = own
	}
	if now {
		o.Change(apply)
	}
	o.Store(apply)
	return simulated.Done
}

// At implements enip.Object.
func (o objects) At(p cip.Path) (simulated.Attribute, bool) {
	if p.Instance != 1 {
		return simulated.Attribute{}, false
	}
	s, own, saved := o.Running(), ownOf(o.Box), o.Saved()
	kept, _ := saved.Own.(Own)
	value := func(pairs ...string) simulated.Attribute { return simulated.Attribute{Value: simulated.Of(pairs...)} }
	text := func(as, has string, take func(string) byte) simulated.Attribute {
		a := value(as, has)
		a.Set = func(b []byte) byte {
			list, ok := simulated.Fields(b, as)
			if !ok {
				return simulated.BadValue
			}
			return take(list[0])
		}
		return a
	}
	switch p.Class<<8 | p.Attribute {
	case cip.Identity<<8 | 1:
		return value(cip.UInt, fmt.Sprint(0x0ff1)), true
	case cip.Identity<<8 | 4:
		return simulated.Attribute{Value: []byte{12, 1}}, true
	case cip.Identity<<8 | 5:
		return value(cip.UInt, fmt.Sprint(status(o.Box))), true
	case cip.Identity<<8 | 6:
		return value(cip.Hex, fmt.Sprintf("%08X", serialOf(o.Box))), true
	case cip.Identity<<8 | 7:
		return value(cip.ShortString, o.Model.Name), true
	case cip.Identity<<8 | 8:
		return value(cip.USInt, "3"), true
	case cip.TCPIP<<8 | 1:
		return value(cip.DWord, "1"), true
	case cip.TCPIP<<8 | 3:
		return text(cip.DWord, own.Control, func(v string) byte {
			if v != "0" && v != "2" || v == "0" && !saved.Address.IsValid() {
				return simulated.BadValue // there is no configuration that could be fixed
			}
			return o.keep("control "+v, true, func(_ *box.Settings, own *Own) { own.Control = v })
		}), true
	case cip.TCPIP<<8 | 5:
		a := value(cip.Address, addr(s.Address.Addr()), cip.Address, mask(s.Address), cip.Address, addr(s.Gateway),
			cip.Address, own.DNS, cip.Address, own.DNS2, cip.String, own.Domain)
		a.Set = o.takeInterface
		return a, true
	case cip.TCPIP<<8 | 6:
		return text(cip.String, s.Name, func(v string) byte {
			if names.Check(v) != nil {
				return simulated.BadValue
			}
			return o.keep("name "+v, true, func(s *box.Settings, _ *Own) { s.Name = v })
		}), true
	case vendorClass<<8 | 1:
		return text(cip.USInt, own.Role, func(v string) byte {
			if n, _ := strconv.Atoi(v); n > 2 {
				return simulated.BadValue
			}
			return o.keep("role "+v, true, func(_ *box.Settings, own *Own) { own.Role = v })
		}), true
	case vendorClass<<8 | 2:
		return text(cip.Address, own.Partner, func(v string) byte {
			return o.keep("partner "+v, true, func(_ *box.Settings, own *Own) { own.Partner = v })
		}), true
	case vendorClass<<8 | 3:
		return text(cip.UDInt, kept.Instance, func(v string) byte {
			if n, _ := strconv.Atoi(v); n > 4194302 { // ASHRAE 135, 12.11
				return simulated.BadValue
			}
			return o.keep("instance "+v, true, func(_ *box.Settings, own *Own) { own.Instance = v })
		}), true
	case vendorClass<<8 | 9:
		return value(cip.ShortString, o.Uptime()), true
	}
	return simulated.Attribute{}, false
}

// takeInterface takes the interface configuration: address, mask, gateway, two name servers
// and a domain.
func (o objects) takeInterface(b []byte) byte {
	list, ok := simulated.Fields(b, cip.Address, cip.Address, cip.Address, cip.Address, cip.Address, cip.String)
	if !ok {
		return simulated.BadValue
	}
	at, via, err := box.Network(list[0], list[1], list[2])
	if err != nil {
		return simulated.BadValue
	}
	return o.keep("interface "+at.String(), false, func(s *box.Settings, own *Own) {
		s.Address, s.Gateway, own.DNS, own.DNS2, own.Domain = at, via, list[3], list[4], list[5]
	})
}

// Reset implements enip.Object: type 0 starts it anew (Volume 1, 5A-2.6).
func (o objects) Reset(p cip.Path, data []byte) byte {
	if p.Class != cip.Identity || len(data) > 0 && data[0] != 0 {
		return simulated.NoService
	}
	o.Witness("write", "restart")
	o.RestartShortly()
	return simulated.Done
}

func addr(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

func mask(p netip.Prefix) string {
	if !p.IsValid() {
		return ""
	}
	return address.Mask(p)
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0e, 0x42, 0x4d}, Serial: "B9%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "RAMP", Kind: "machine controller", Profile: "brindlecap-m9", Plan: plan,
	Stands: box.Each(13, "BERTH1-RAMP-01", "BERTH1-RAMP-02"),
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["device-instance"] = fmt.Sprint(40100 + number)
	},
}
