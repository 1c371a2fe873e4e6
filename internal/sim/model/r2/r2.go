// Package r2 simulates the Tidewell R2 BACnet router: between IP and two trunks, on which
// controllers answer.
package r2

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/ip"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every router leaves the factory.
var Factory = box.Settings{Name: "r2", Address: netip.MustParsePrefix("192.168.90.10/24")}

// Those of the ticket hall and of the workshop. The five controllers on the first one's
// trunks answer BACnet behind it; each has two readers.
var (
	hall = with(40001,
		Bus{Network: 2001, Address: 11, Instance: 40011, Name: "reader-1", Model: "DR1", Serial: "BDR-000411"},
		Bus{Network: 2001, Address: 12, Instance: 40012, Name: "reader-2", Model: "DR1", Serial: "BDR-000412"},
		Bus{Network: 2001, Address: 13, Instance: 40013, Name: "reader-3", Model: "DR1", Serial: "BDR-000417"},
		Bus{Network: 2002, Address: 11, Instance: 40021, Name: "reader-4", Model: "DR1", Serial: "BDR-000433"},
		Bus{Network: 2002, Address: 12, Instance: 40022, Name: "reader-5", Model: "DR1", Serial: "BDR-000434"},
	)
	shop = with(40002)
)

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: shop, Prefix: [3]byte{0x02, 0x54, 0x52}, Serial: "TR2-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "RTR", Kind: "gateway", Profile: "tidewell-r2", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-RTR-01", Port: 15, Model: &hall}, {Tag: "SHOP-RTR-01", Port: 16, Model: &shop}},
}

const vendor = 0x0ff2 // our made-up ASHRAE vendor identifier

// Bus is one controller on a trunk of a router.
type Bus struct {
	Network  uint16
	Address  byte // MS/TP
	Instance uint32
	Name     string
	Model    string
	Serial   string
}

// with is a BACnet router between IP and two trunks, with what hangs on them.
func with(instance uint32, bus ...Bus) box.Model {
	answer := func(b *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
		m, err := bacnet.Parse(payload)
		if err != nil {
			return
		}
		everybody := netip.AddrPortFrom(ip.Broadcast, bacnet.Port)
		own := Bus{Instance: instance, Name: b.Running().Name, Model: b.Model.Name, Serial: b.Serial}
		switch m.Kind {
		case bacnet.KindWhoIsRouter:
			reply(bacnet.Message{Kind: bacnet.KindIAmRouter, Networks: []uint16{2001, 2002}}.Frame(true), everybody)
		case bacnet.KindWhoIs:
			reply(bacnet.Message{Kind: bacnet.KindIAm, Instance: instance, Vendor: vendor}.Frame(true), everybody)
			for _, d := range bus {
				if m.To == bacnet.Everywhere {
					reply(bacnet.Message{Kind: bacnet.KindIAm, From: d.station(), Instance: d.Instance,
						Vendor: vendor}.Frame(true), everybody)
				}
			}
		case bacnet.KindRead:
			for _, d := range append(bus, own) {
				if d.station() == m.To && d.Instance == m.Instance {
					text := map[uint32]string{bacnet.ObjectName: d.Name, bacnet.ModelName: d.Model,
						bacnet.SerialNumber: d.Serial,
						bacnet.VendorName:   b.Model.Maker, bacnet.FirmwareRevision: b.Model.Firmware}[m.Property]
					reply(bacnet.Message{Kind: bacnet.KindValue, From: m.To, Invoke: m.Invoke, Instance: m.Instance,
						Property: m.Property, Text: text}.Frame(false), netip.AddrPort{})
				}
			}
		}
	}
	return box.Model{Maker: "Tidewell Gateways", Name: "R2", Firmware: "2.0", Port: 80,
		Handler:   box.FrontPage("Tidewell R2: registration", "#468", "Register to begin."),
		Datagrams: []box.Datagram{{Port: bacnet.Port, Answer: answer}}}
}

func (d Bus) station() bacnet.Station {
	if d.Network == 0 {
		return bacnet.Station{}
	}
	return bacnet.Station{Network: d.Network, Address: string([]byte{d.Address})}
}
