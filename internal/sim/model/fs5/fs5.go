// Package fs5 simulates the Fennmark FS5 desk switch: it hands an address to whoever sets it
// up, until it is.
package fs5

import (
	"net/netip"
	"time"

	"redstart/internal/sim/box"
	"redstart/internal/sim/stranger"
)

// Factory is the state in which every desk switch leaves the factory.
var Factory = box.Settings{Name: "fs5", Address: netip.MustParsePrefix("192.168.88.1/24")}

// Model is the desk switch.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "FS5", Firmware: "1.2.0", Port: 80,
	Handler: box.FrontPage("Fennmark FS5: first use", "#a63", "Desk switch, five ports. Set a password to begin."),
	Pool:    netip.MustParsePrefix("192.168.88.2/24"),
}

// Stock is what the site has of it: two that nobody planned. A visitor's laptop was plugged
// in when the first was unpacked.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x35}, Serial: "FN5-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Stands:  []box.Stand{{Guest: stranger.LaptopMAC}, {}},
}
