// Package m7 simulates the Tolvern M7 monitor: no password until first use, which its page says.
package m7

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every monitor leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.40/24")}

// Model is the monitor.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "M7", Firmware: "7.2", Port: 80,
	Handler: box.FrontPage("Tolvern M7: first use", "#357", "Choose six digits to begin."),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x4d}, Serial: "TM7-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "MON", Kind: "monitor", Profile: "tolvern-m7", Plan: plan,
	Stands: box.Each(0, "HALL-MON-01", "YARD-MON-01", "SHOP-MON-01"),
}
