// Package ap2 simulates the Fennmark AP2 access point, which answers DCP.
package ap2

import (
	_ "embed"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/sim/box"
	"redstart/internal/sim/station"
)

//go:embed plan.csv
var plan []byte

// Model is the access point.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "AP2", Firmware: "2.6.0", Port: 443, TLS: true,
	Handler: box.FrontPage("Fennmark AP2", "#a63", "Access point."),
	Frame:   station.With(naming.Rules{Max: 48, Case: "lower"}),
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x41}, Serial: "FAP-%06d", Away: 4 * time.Second,
	Factory: box.Always(box.Settings{}),
	Short:   "AP", Kind: "access point", Profile: "fennmark-ap2", Plan: plan,
	Stands: box.Each(0, "HALL-AP-01", "YARD-AP-01", "BERTH1-AP-01", "BERTH2-AP-01"),
}
