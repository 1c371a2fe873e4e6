// Package r2 simulates the Tidewell R2 BACnet router: between IP and two trunks, on which
// controllers answer.
package r2

import (
	_ "embed"
	"fmt"
	"net/netip"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/forms"
	"strconv"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/ip"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only routers have.
type Own struct {
	IP             string // network number of the IP side
	A, ASpeed, AAt string // trunk A: network number, bit/s, own address
	B, BSpeed      string // trunk B
	Description    string // of its device object
}

// Factory is the state in which every router leaves the factory.
var Factory = box.Settings{Name: "r2", Address: netip.MustParsePrefix("192.168.90.10/24"),
	Own: Own{IP: "1", A: "2001", ASpeed: "38400", AAt: "1", B: "2002", BSpeed: "38400"}}

// Those of the ticket hall and of the workshop. The controllers on their trunks answer
// BACnet behind them, where the trunk has their speed; each has two readers.
var (
	hall = with(40001,
		Bus{Trunk: 'a', Speed: "38400", Address: 11, Instance: 40011, Name: "reader-1", Model: "DR1",
			Serial: "BDR-000411"},
		Bus{Trunk: 'a', Speed: "38400", Address: 12, Instance: 40012, Name: "reader-2", Model: "DR1",
			Serial: "BDR-000412"},
		Bus{Trunk: 'a', Speed: "38400", Address: 13, Instance: 40013, Name: "reader-3", Model: "DR1",
			Serial: "BDR-000417"},
		Bus{Trunk: 'b', Speed: "38400", Address: 11, Instance: 40021, Name: "reader-4", Model: "DR1",
			Serial: "BDR-000433"},
		Bus{Trunk: 'b', Speed: "38400", Address: 12, Instance: 40022, Name: "reader-5", Model: "DR1",
			Serial: "BDR-000434"},
	)
	shop = with(40002,
		Bus{Trunk: 'a', Speed: "76800", Address: 11, Instance: 40031, Name: "reader-6", Model: "DR1",
			Serial: "BDR-000440"})
)

var (
	number = forms.Between(1, 65534)
	speed  = forms.OneOf("9600", "19200", "38400", "57600", "76800", "115200")
)

var site = forms.Site{
	Title: "Tidewell R2", Colour: "#468", Text: "BACnet router.", First: "Register to begin.", Fresh: "registration",
	User: "tide", Passwords: secret.Rules{Min: 8, Max: 20, Classes: 2}, Recovery: true,
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 20, Case: "lower"}, forms.Kept),
		forms.Own("/trunks", forms.Kept,
			forms.Field[Own]{Name: "ip-network", At: func(o *Own) *string { return &o.IP }, Check: number},
			forms.Field[Own]{Name: "a-network", At: func(o *Own) *string { return &o.A }, Check: number},
			forms.Field[Own]{Name: "a-speed", At: func(o *Own) *string { return &o.ASpeed }, Check: speed},
			forms.Field[Own]{Name: "a-address", At: func(o *Own) *string {
				return &o.AAt
			}, Check: forms.Between(0, 127)},
			forms.Field[Own]{Name: "b-network", At: func(o *Own) *string {
				return &o.B
			}, Check: forms.OrNothing(number)},
			forms.Field[Own]{Name: "b-speed", At: func(o *Own) *string { return &o.BSpeed }, Check: speed}),
		forms.Network(forms.Restarts),
	},
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: shop, Prefix: [3]byte{0x02, 0x54, 0x52}, Serial: "TR2-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "RTR", Kind: "gateway", Profile: "tidewell-r2", Plan: plan,
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["ip-network"], row["trunk-a-network"] = "40", fmt.Sprint(4000+number)
		row["trunk-a-speed"] = "76800"
	},
	Stands: []box.Stand{{Tag: "HALL-RTR-01", Port: 15, Model: &hall}, {Tag: "SHOP-RTR-01", Port: 16, Model: &shop}},
}

const vendor = 0x0ff2 // our made-up ASHRAE vendor identifier

// Bus is one controller on a trunk of a router.
type Bus struct {
	Trunk    byte // a or b; 0: the router itself
	Speed    string
	Address  byte // MS/TP
	Instance uint32
	Name     string
	Model    string
	Serial   string
}

// on tells the network of the trunk that it hangs on, if that has its speed.
func (d Bus) on(own Own) (network uint16, answers bool) {
	number, speed := own.A, own.ASpeed
	if d.Trunk == 'b' {
		number, speed = own.B, own.BSpeed
	}
	n, err := strconv.ParseUint(number, 10, 16)
	return uint16(n), err == nil && speed == d.Speed
}

// with is a router with what hangs on its trunks.
func with(instance uint32, bus ...Bus) box.Model {
	answer := func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
		if r, err := bacnet.ParseRequest(payload); err == nil && r.To.Network == 0 && own(r, instance) {
			reply(confirmed(b, r), netip.AddrPort{})
			return
		}
		if m, err := bacnet.Parse(payload); err == nil {
			route(b, instance, bus, m, reply)
		}
	}
	return box.Model{Maker: "Tidewell Gateways", Name: "R2", Firmware: "2.0", Port: 80, Handler: site.Handler,
		Datagrams: []box.Datagram{{Port: bacnet.Port, Answer: answer}}}
}

// route answers a message for the router itself and for what is behind it.
func route(b *box.Box, instance uint32, bus []Bus, m bacnet.Message, reply box.Reply) {
	everybody := netip.AddrPortFrom(ip.Broadcast, bacnet.Port)
	own := b.Running().Own.(Own)
	switch m.Kind {
	case bacnet.KindWhoIsRouter:
		var networks []uint16
		for _, text := range []string{own.A, own.B} {
			if n, err := strconv.ParseUint(text, 10, 16); err == nil {
				networks = append(networks, uint16(n))
			}
		}
		reply(bacnet.Message{Kind: bacnet.KindIAmRouter, Networks: networks}.Frame(true), everybody)
	case bacnet.KindWhoIs:
		if m.To == bacnet.Everywhere || m.To.Network == 0 {
			reply(bacnet.Message{Kind: bacnet.KindIAm, Instance: instance, Vendor: vendor}.Frame(true), everybody)
		}
		for _, d := range bus {
			if n, there := d.on(own); there && (m.To == bacnet.Everywhere || m.To == bacnet.Station{Network: n}) {
				reply(bacnet.Message{Kind: bacnet.KindIAm, From: d.station(n), Instance: d.Instance,
					Vendor: vendor}.Frame(true), everybody)
			}
		}
	case bacnet.KindRead:
		self := Bus{Instance: instance, Name: b.Running().Name, Model: b.Model.Name, Serial: b.Serial}
		for _, d := range append(bus[:len(bus):len(bus)], self) {
			n, there := d.on(own)
			if d.Trunk == 0 {
				n, there = 0, true
			}
			if !there || d.station(n) != m.To || d.Instance != m.Instance {
				continue
			}
			text := map[uint32]string{bacnet.ObjectName: d.Name, bacnet.ModelName: d.Model,
				bacnet.SerialNumber: d.Serial,
				bacnet.VendorName:   b.Model.Maker, bacnet.FirmwareRevision: b.Model.Firmware}[m.Property]
			reply(bacnet.Message{Kind: bacnet.KindValue, From: m.To, Invoke: m.Invoke, Instance: m.Instance,
				Property: m.Property, Text: text}.Frame(false), netip.AddrPort{})
		}
	}
}

func (d Bus) station(network uint16) bacnet.Station {
	if network == 0 {
		return bacnet.Station{}
	}
	return bacnet.Station{Network: network, Address: string([]byte{d.Address})}
}
