// Package d1 simulates the Tolvern D1 door station: no password until first use, which its page
// says.
package d1

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every door station leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.41/24")}

// Model is the door station.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "D1", Firmware: "7.2", Port: 80,
	Handler: box.FrontPage("Tolvern D1: first use", "#357", "Choose six digits to begin."),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x44}, Serial: "TD1-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "DOOR", Kind: "intercom", Profile: "tolvern-d1", Plan: plan,
	Stands: append(box.Each(0,
		"BERTH1-DOOR-01", "BERTH1-DOOR-02", "BERTH2-DOOR-01", "BERTH2-DOOR-02", "YARD-GATE-01", "HALL-DOOR-01",
		"SHOP-DOOR-01",
	), box.Stand{Tag: "YARD-GATE-02", Missing: true}),
}
