// Package v2 simulates the Tolvern V2 voice server.
package v2

import (
	_ "embed"
	"net/netip"
	"time"

	"redstart/internal/sim/box"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every voice server leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.2/24")}

// Model is the voice server.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "V2", Firmware: "4.0", Port: 443, TLS: true,
	Handler: box.FrontPage("Tolvern V2: first use", "#357", "Register the voice server to begin."),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x56}, Serial: "TV2-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "VOX", Kind: "voice server", Profile: "tolvern-v2", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-VOX-01", Port: 17, Named: "mac", Speaks: true}},
}
