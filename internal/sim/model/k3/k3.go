// Package k3 simulates the Clepsydra K3 clock, which is set by a wizard over SSH.
package k3

import (
	_ "embed"
	"fmt"
	"net/netip"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/wizard"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only clocks have.
type Own struct {
	Server string // address of the time server; "" for none
	Zone   string
	Face   string // 12 or 24
}

// Factory is the state in which every clock leaves the factory.
var Factory = box.Settings{Name: "K3", Address: netip.MustParsePrefix("192.168.99.3/24"),
	Password: wizard.FactoryPassword, Own: Own{Zone: "Etc/UTC", Face: "24"}}

var ask = wizard.Wizard{
	Names: naming.Rules{Max: 12, Case: "upper"}, Passwords: secret.Rules{Min: 6, Max: 12},
	More: func(s box.Settings) []wizard.Question {
		own := s.Own.(Own)
		return []wizard.Question{
			{Asks: "Time server", Has: wizard.OrNone(own.Server), Takes: func(a string, s *box.Settings) (err error) {
				own := s.Own.(Own)
				own.Server, err = wizard.Address(a)
				s.Own = own
				return err
			}},
			{Asks: "Time zone", Has: own.Zone, Takes: func(a string, s *box.Settings) error {
				own := s.Own.(Own)
				own.Zone = a
				s.Own = own
				return wizard.Zone(a)
			}},
			{Asks: "Face, 12 or 24", Has: own.Face, Takes: func(a string, s *box.Settings) error {
				if a != "12" && a != "24" {
					return fmt.Errorf("12 or 24")
				}
				own := s.Own.(Own)
				own.Face = a
				s.Own = own
				return nil
			}},
		}
	},
}

// Model is the clock.
var Model = box.Model{
	Maker: "Clepsydra Timeworks", Name: "K3", Firmware: "1.9",
	Services:  []box.Service{wizard.OverSSH("SSH-2.0-clepsydra_K3", ask.Run)},
	Datagrams: []box.Datagram{box.Announces("_ssh._tcp", 22)},
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x43, 0x4b}, Serial: "CK3-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "CLK", Kind: "clock", Profile: "clepsydra-k3",
	Row:  func(row map[string]string, _ *box.Box, _ int, _ bool) { row["time-zone"] = "Europe/Oslo" },
	Plan: plan, Stands: append(box.Each(0, "HALL-CLK-02", "HALL-CLK-03", "BERTH1-CLK-01", "BERTH2-CLK-01",
		"SHOP-CLK-01"),
		box.Stand{Tag: "HALL-CLK-01", Named: "serial"}, box.Stand{Tag: "YARD-CLK-01", Named: "serial"},
		box.Stand{Tag: "SHOP-CLK-02", Missing: true}),
}
