// Package m7 simulates the Tolvern M7 monitor: password and recovery mail are set at first
// use; unless its DHCP client is switched off, the next restart takes its address away; it
// wants the station file of the whole system.
package m7

import (
	_ "embed"
	"fmt"
	"net/netip"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only monitors have.
type Own struct {
	Room     string
	Voice    string // address of the voice server; "" for none
	Main     string // address of the main station; "" for one that is it
	DHCP     string // on or off
	Stations string // the station file
}

// Factory is the state in which every monitor leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.40/24"), Own: Own{DHCP: "on"}}

var site = forms.Site{
	Title: "Tolvern M7", Colour: "#357", Text: "Monitor.", First: "Choose a password to begin.", User: "desk",
	Passwords: secret.Rules{Min: 8, Max: 12, Classes: 3}, Recovery: true,
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 15, Case: "upper"}, forms.Kept),
		forms.Own("/calls", forms.Kept,
			forms.Field[Own]{Name: "room", At: func(o *Own) *string { return &o.Room }, Check: forms.Between(1, 9999)},
			forms.Field[Own]{Name: "voice", At: func(o *Own) *string { return &o.Voice },
				Check: forms.OrNothing(forms.AnAddress)},
			forms.Field[Own]{Name: "main", At: func(o *Own) *string { return &o.Main },
				Check: forms.OrNothing(forms.AnAddress)}),
		forms.Own("/stations", forms.Kept,
			forms.Field[Own]{Name: "stations", At: func(o *Own) *string { return &o.Stations }, Digest: true}),
		forms.NetworkDHCP(forms.Restarts, func(o *Own) *string { return &o.DHCP }),
	},
}

// Model is the monitor.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "M7", Firmware: "7.2", Port: 80, Handler: site.Handler,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x4d}, Serial: "TM7-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "MON", Kind: "monitor", Profile: "tolvern-m7", Plan: plan,
	Stands: box.Each(0, "HALL-MON-01", "YARD-MON-01", "SHOP-MON-01"),
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["room"] = fmt.Sprint(100 + number)
	},
}
