// Package t1 simulates the Clepsydra T1 time server, which is set by a wizard that says
// nothing before a key is pressed.
package t1

import (
	_ "embed"
	"fmt"
	"io"
	"net/netip"
	"strconv"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
	"redstart/internal/sim/wizard"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only time servers have.
type Own struct {
	Fallback string // asked while no satellite is heard; "" for none
	Cable    string // to the antenna, in metres
	Zone     string
}

// Factory is the state in which every time server leaves the factory.
var Factory = box.Settings{Name: "T1", Address: netip.MustParsePrefix("192.168.99.1/24"),
	Password: wizard.FactoryPassword, Own: Own{Zone: "Etc/UTC", Cable: "10"}}

var ask = wizard.Wizard{
	Names: naming.Rules{Max: 12, Case: "upper"}, Passwords: secret.Rules{Min: 6, Max: 12},
	More: func(s box.Settings) []wizard.Question {
		own := s.Own.(Own)
		return []wizard.Question{
			{Asks: "Server without satellites", Has: wizard.OrNone(own.Fallback),
				Takes: func(a string, s *box.Settings) (err error) {
					own := s.Own.(Own)
					own.Fallback, err = wizard.Address(a)
					s.Own = own
					return err
				}},
			{Asks: "Antenna cable, metres", Has: own.Cable, Takes: func(a string, s *box.Settings) error {
				if n, err := strconv.Atoi(a); err != nil || n < 0 || n > 150 {
					return fmt.Errorf("0 to 150")
				}
				own := s.Own.(Own)
				own.Cable = a
				s.Own = own
				return nil
			}},
			{Asks: "Time zone", Has: own.Zone, Takes: func(a string, s *box.Settings) error {
				own := s.Own.(Own)
				own.Zone = a
				s.Own = own
				return wizard.Zone(a)
			}},
		}
	},
}

// Model is the time server.
var Model = box.Model{
	Maker: "Clepsydra Timeworks", Name: "T1", Firmware: "2.4",
	Services:  []box.Service{wizard.OverSSH("SSH-2.0-clepsydra_T1", overSSH)},
	Console:   atLine,
	Datagrams: []box.Datagram{box.Announces("_ssh._tcp", 22)},
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x43, 0x54}, Serial: "CT1-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "TIME", Kind: "time server", Profile: "clepsydra-t1",
	Plan: plan, Stands: []box.Stand{{Tag: "HALL-TIME-01", Port: 20}},
}

// atLine is the same at its serial line, where it asks for the login itself.
func atLine(b *box.Box, line io.ReadWriter) {
	t := console.New(line, true)
	if _, err := t.Key(); err != nil {
		return
	}
	user, err := t.Ask("\nUser: ")
	if err != nil {
		return
	}
	password, err := t.Secret("Password: ")
	if err != nil {
		return
	}
	if !wizard.MayEnter(b, user, password) {
		t.Say("No.\n")
		return
	}
	ask.Run(b, t)
}

// overSSH waits for a key, as at the line.
func overSSH(b *box.Box, t *console.Terminal) {
	if _, err := t.Key(); err == nil {
		ask.Run(b, t)
	}
}
