// Package w1 simulates the Tidewell W1 radio gateway, which says nothing but at power-up.
package w1

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// strange is its state on this site: it was used elsewhere before, and has kept an address
// that nobody here knows.
var strange = box.Settings{Name: "mast-7", Address: netip.MustParsePrefix("172.23.7.9/28")}

// Model is the radio gateway.
var Model = box.Model{
	Maker: "Tidewell Gateways", Name: "W1", Firmware: "0.9", Port: 443, TLS: true,
	Handler: box.FrontPage("Tidewell W1", "#468", "Radio gateway."),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x02, 0x54, 0x57}, Serial: "TW1-%06d", Away: 4 * time.Second,
	Factory: box.Always(strange),
	Short:   "RAD", Kind: "radio gateway", Profile: "tidewell-w1", Plan: plan,
	Stands: []box.Stand{{Tag: "YARD-RAD-01", Boot: 4 * time.Second}},
}
