// Package d2 simulates the Brindlecap D2 door controller, which waits for DHCP.
package d2

import (
	_ "embed"
	"time"

	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// Model is the door controller.
var Model = box.Model{
	Maker: "Brindlecap Controls", Name: "D2", Firmware: "3.3", Class: "brindlecap-d2", Port: 80,
	Handler: box.FrontPage("Brindlecap D2", "#844", "Two doors. Not configured."),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0e, 0x42, 0x44}, Serial: "BCD2-%06d", Away: 4 * time.Second,
	Factory: box.Always(box.Settings{}),
	Short:   "ACC", Kind: "door controller", Profile: "brindlecap-d2", Plan: plan,
	Stands: box.Each(7,
		"BERTH1-ACC-01", "BERTH2-ACC-01", "HALL-ACC-01", "HALL-ACC-02", "YARD-ACC-01", "SHOP-ACC-01"),
}
