package skerry

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/sim/box"
	"redstart/internal/sim/model/k3"
	"redstart/internal/sim/model/p12"
	"redstart/internal/sim/model/t1"
	"redstart/internal/sim/standin"
)

// Other is a stand-in that Redstart finds and matches, and does not set yet.
type Other struct {
	*box.Box
	Tag string // of the entry that it truly is; "" for what the plan does not hold
	// Port of the managed switch that it hangs on; 0 for behind a field switch.
	Port int
}

// other is how an Other is made.
type other struct {
	tag     string
	model   box.Model
	prefix  [3]byte
	serial  string
	factory box.Settings
	port    int
}

// core is the managed switch at whose port 24 Redstart is plugged in.
const (
	coreTag  = "HALL-CORE-01"
	corePort = 24
)

// The five controllers on the trunks of the ticket hall's router. Their reader
// buses answer BACnet behind it.
var trunks = []standin.Bus{
	{Network: 2001, Address: 11, Instance: 40011, Name: "reader-1", Model: "DR1", Serial: "BDR-000411"},
	{Network: 2001, Address: 12, Instance: 40012, Name: "reader-2", Model: "DR1", Serial: "BDR-000412"},
	{Network: 2001, Address: 13, Instance: 40013, Name: "reader-3", Model: "DR1", Serial: "BDR-000417"},
	{Network: 2002, Address: 11, Instance: 40021, Name: "reader-4", Model: "DR1", Serial: "BDR-000433"},
	{Network: 2002, Address: 12, Instance: 40022, Name: "reader-5", Model: "DR1", Serial: "BDR-000434"},
}

// others are the rest of the terminal: of the planned devices one clock, one
// intercom and one power controller have not arrived.
func (s *Site) others() []other {
	at := func(name, prefix string) box.Settings {
		return box.Settings{Name: name, Address: netip.MustParsePrefix(prefix), Gateway: netip.MustParseAddr("10.40.8.1")}
	}
	list := []other{
		{coreTag, standin.FS24(corePort, s.hanging), [3]byte{0x06, 0x46, 0x32}, "FN24-%06d", at("hall-core-01", "10.40.9.29/22"), 0},
		{"HALL-REC-01", standin.R16, [3]byte{0x0a, 0x4f, 0x52}, "OVR16-%06d", standin.R16Factory, 18},
		{"HALL-REC-02", standin.R16, [3]byte{0x0a, 0x4f, 0x52}, "OVR16-%06d", standin.R16SixOnly, 19},
		{"HALL-VOX-01", standin.V2, [3]byte{0x0a, 0x54, 0x56}, "TV2-%06d", standin.V2Factory, 17},
		{"HALL-RTR-01", standin.R2(40001, trunks...), [3]byte{0x02, 0x54, 0x52}, "TR2-%06d", standin.R2Factory, 15},
		{"SHOP-RTR-01", standin.R2(40002), [3]byte{0x02, 0x54, 0x52}, "TR2-%06d", standin.R2Factory, 16},
		{"YARD-RAD-01", standin.W1, [3]byte{0x02, 0x54, 0x57}, "TW1-%06d", standin.W1Strange, 0},
		{"HALL-TIME-01", t1.Model, t1.Stock.Prefix, t1.Stock.Serial, t1.Factory, 20},
		{"HALL-PWR-01", p12.Model, p12.Stock.Prefix, p12.Stock.Serial, p12.Factory, 21},
		{"BERTH1-PWR-01", p12.Model, p12.Stock.Prefix, p12.Stock.Serial, p12.Factory, 22},
		{"", standin.FS5, [3]byte{0x06, 0x46, 0x35}, "FN5-%06d", standin.FS5Factory, 0},
		{"", standin.FS5, [3]byte{0x06, 0x46, 0x35}, "FN5-%06d", standin.FS5Factory, 0},
		{"", standin.Laptop, [3]byte{}, "%d", box.Settings{Name: "marta-laptop"}, 0},
		{"", standin.Printer, [3]byte{0x12, 0x31, 0x07}, "%d", at("printer", "10.40.9.100/22"), 0},
		{"", standin.Server, [3]byte{0x12, 0x31, 0x08}, "%d", at("old-phone-box", "10.40.9.150/22"), 0},
		{"", standin.Server, [3]byte{0x12, 0x31, 0x09}, "%d", at("ntp-1", "10.40.8.5/22"), 0},
		{"", standin.Server, [3]byte{0x12, 0x31, 0x0a}, "%d", at("ntp-old", "10.40.8.5/22"), 0},
	}
	for i, tag := range []string{"BERTH1-ACC-01", "BERTH2-ACC-01", "HALL-ACC-01", "HALL-ACC-02", "YARD-ACC-01", "SHOP-ACC-01"} {
		list = append(list, other{tag, standin.D2, [3]byte{0x0e, 0x42, 0x44}, "BCD2-%06d", box.Settings{}, 7 + i})
	}
	for i, tag := range []string{"BERTH1-RAMP-01", "BERTH1-RAMP-02"} {
		list = append(list, other{tag, standin.M9, [3]byte{0x0e, 0x42, 0x4d}, "BCM9-%06d", box.Settings{}, 13 + i})
	}
	for _, tag := range []string{"HALL-AP-01", "YARD-AP-01", "BERTH1-AP-01", "BERTH2-AP-01"} {
		list = append(list, other{tag, standin.AP2, [3]byte{0x06, 0x46, 0x41}, "FAP-%06d", box.Settings{}, 0})
	}
	for _, tag := range []string{"HALL-MON-01", "YARD-MON-01", "SHOP-MON-01"} {
		list = append(list, other{tag, standin.M7, [3]byte{0x0a, 0x54, 0x4d}, "TM7-%06d", standin.M7Factory, 0})
	}
	for _, tag := range []string{"BERTH1-DOOR-01", "BERTH1-DOOR-02", "BERTH2-DOOR-01", "BERTH2-DOOR-02", "YARD-GATE-01", "HALL-DOOR-01", "SHOP-DOOR-01"} {
		list = append(list, other{tag, standin.D1, [3]byte{0x0a, 0x54, 0x44}, "TD1-%06d", standin.D1Factory, 0})
	}
	for _, tag := range []string{"HALL-CLK-01", "HALL-CLK-02", "HALL-CLK-03", "BERTH1-CLK-01", "BERTH2-CLK-01", "YARD-CLK-01", "SHOP-CLK-01"} {
		list = append(list, other{tag, k3.Model, k3.Stock.Prefix, k3.Stock.Serial, k3.Factory, 0})
	}
	return list
}

// hanging tells the managed switch what hangs where: all that is not on a port
// of its own is behind the field switches at ports 1 to 6.
func (s *Site) hanging() []standin.Hang {
	var list []standin.Hang
	for i, b := range s.Boxes {
		list = append(list, standin.Hang{MAC: b.MAC, Port: 1 + i%6})
	}
	for i, o := range s.Others {
		port := o.Port
		switch {
		case o.Tag == coreTag:
			continue
		case port == 0:
			port = 1 + i%6
		}
		list = append(list, standin.Hang{MAC: o.MAC, Port: port, Speaks: o.Tag == "HALL-VOX-01"})
	}
	return list
}

// guest is the visitor's laptop, which was plugged in when the desk switch was
// unpacked.
var guest = address.MAC{0x02, 0x9a, 0x01, 0x5c, 0x20, 0x77}

// askEvery is how often a box that waits for an address asks again.
const askEvery = 3 * time.Second

// makeOthers makes the rest of the terminal, not yet powered.
func (s *Site) makeOthers(o Options, random *rand.Rand, used map[string]bool) {
	for _, item := range s.others() {
		spec := box.Spec{Factory: item.factory, Away: scale(4*time.Second, o.Pace), Every: scale(askEvery, o.Pace)}
		spec.Serial = unused(used, func() string { return fmt.Sprintf(item.serial, random.IntN(1000000)) })
		mac := unused(used, func() string {
			if item.model.Name == standin.Laptop.Name {
				return string(guest[:])
			}
			return string(item.prefix[:]) + string([]byte{byte(random.UintN(256)), byte(random.UintN(256)), byte(random.UintN(256))})
		})
		spec.MAC = address.MACFrom([]byte(mac))
		spec.Boot = scale(time.Duration(random.IntN(300))*time.Millisecond, o.Pace)
		switch item.model.Name {
		case standin.FS5.Name:
			if !slices.ContainsFunc(s.Others, func(o Other) bool { return o.Guest == guest }) {
				spec.Guest = guest // of the first that was unpacked
			}
		case standin.W1.Name:
			spec.Boot = scale(4*time.Second, o.Pace) // it is heard then, or not at all
		}
		s.Others = append(s.Others, Other{s.plug(spec, item.model, o, len(s.Boxes)+len(s.Others)), item.tag, item.port})
	}
}
