package dcp_test

import (
	"redstart/internal/core/naming"

	"testing"

	"redstart/internal/driver/drivertest"
	"redstart/internal/sim/box"
	"redstart/internal/sim/station"
)

const spoken = `redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: none}
restart: {takes: 1s, at-most: 5s}
order:
  - {act: name}
  - {act: address}
acts:
  identify: [{dcp: identify}]
  password: [{dcp: set-name}]
  name: [{dcp: set-name}]
  address: [{dcp: set-address}]
  read: [{dcp: identify}]
`

// The DCP driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	drivertest.Run(t, drivertest.Case{
		Profile: spoken, Box: box.Model{Maker: "Heron", Name: "H",
			Frame: station.With(naming.Rules{Max: 48, Case: "lower"})}, Factory: box.Settings{Name: drivertest.Name},
	})
}
