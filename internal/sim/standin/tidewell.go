package standin

import (
	"net/netip"

	"redstart/internal/sim/box"
	"redstart/internal/wire/bacnet"
	"redstart/internal/wire/ip"
)

const gatewayMaker = "Tidewell Gateways"

// W1 is the radio gateway; it says nothing but at power-up.
var W1 = box.Model{Maker: gatewayMaker, Name: "W1", Firmware: "0.9", Port: 443, TLS: true, Handler: page("Tidewell W1", "#468", "Radio gateway.")}

// Factory states of the gateways; the radio gateway on this site was used
// elsewhere before, and has kept an address that nobody here knows.
var (
	R2Factory = box.Settings{Name: "r2", Address: netip.MustParsePrefix("192.168.90.10/24")}
	W1Strange = box.Settings{Name: "mast-7", Address: netip.MustParsePrefix("172.23.7.9/28")}
)

const tidewellID = 0x0ff2 // our made-up ASHRAE vendor identifier

// Bus is one controller on a trunk of a router.
type Bus struct {
	Network  uint16
	Address  byte // MS/TP
	Instance uint32
	Name     string
	Model    string
	Serial   string
}

// R2 is a BACnet router between IP and two trunks, with what hangs on them.
func R2(instance uint32, bus ...Bus) box.Model {
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
			reply(bacnet.Message{Kind: bacnet.KindIAm, Instance: instance, Vendor: tidewellID}.Frame(true), everybody)
			for _, d := range bus {
				if m.To == bacnet.Everywhere {
					reply(bacnet.Message{Kind: bacnet.KindIAm, From: d.station(), Instance: d.Instance, Vendor: tidewellID}.Frame(true), everybody)
				}
			}
		case bacnet.KindRead:
			for _, d := range append(bus, own) {
				if d.station() == m.To && d.Instance == m.Instance {
					text := map[uint32]string{bacnet.ObjectName: d.Name, bacnet.ModelName: d.Model, bacnet.SerialNumber: d.Serial,
						bacnet.VendorName: b.Model.Maker, bacnet.FirmwareRevision: b.Model.Firmware}[m.Property]
					reply(bacnet.Message{Kind: bacnet.KindValue, From: m.To, Invoke: m.Invoke, Instance: m.Instance, Property: m.Property, Text: text}.Frame(false), netip.AddrPort{})
				}
			}
		}
	}
	return box.Model{Maker: gatewayMaker, Name: "R2", Firmware: "2.0", Port: 80, Handler: page("Tidewell R2: registration", "#468", "Register to begin."),
		Datagrams: []box.Datagram{{Port: bacnet.Port, Answer: answer}}}
}

func (d Bus) station() bacnet.Station {
	if d.Network == 0 {
		return bacnet.Station{}
	}
	return bacnet.Station{Network: d.Network, Address: string([]byte{d.Address})}
}
