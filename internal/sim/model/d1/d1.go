// Package d1 simulates the Tolvern D1 door station: its password is six digits and is set
// at first use; it rings at a main station, shows a camera, and wants the station file of
// the whole system.
package d1

import (
	_ "embed"
	"fmt"
	"net/netip"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
	"redstart/internal/sim/picture"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only door stations have.
type Own struct {
	Room, Floor string
	RingsAt     string // address of its main station
	Stream      string // of the camera that it shows
	User, Login string // at that camera
	Stations    string // the station file
}

// Factory is the state in which every door station leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.41/24"), Own: Own{Floor: "0"}}

var site = forms.Site{
	Title: "Tolvern D1", Colour: "#357", Text: "Door station.", First: "Choose six digits to begin.", User: "door",
	Passwords: secret.Rules{Min: 6, Max: 6, Digits: true}, Recovery: true,
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 15, Case: "upper"}, forms.Kept),
		picture.On(forms.Own("/calls", forms.Kept,
			forms.Field[Own]{Name: "room", At: func(o *Own) *string { return &o.Room }, Check: forms.Between(1, 9999)},
			forms.Field[Own]{Name: "floor", At: func(o *Own) *string { return &o.Floor }, Check: forms.Between(-9, 99)},
			forms.Field[Own]{Name: "rings-at", At: func(o *Own) *string { return &o.RingsAt }, Check: forms.AnAddress},
			forms.Field[Own]{Name: "stream", At: func(o *Own) *string { return &o.Stream }},
			forms.Field[Own]{Name: "stream-user", At: func(o *Own) *string { return &o.User }},
			forms.Field[Own]{Name: "stream-login", At: func(o *Own) *string { return &o.Login }, Hidden: true},
		), func(b *box.Box) (ringsAt, stream, user, password string) {
			own := b.Running().Own.(Own)
			return own.RingsAt, own.Stream, own.User, own.Login
		}),
		forms.Own("/stations", forms.Kept,
			forms.Field[Own]{Name: "stations", At: func(o *Own) *string { return &o.Stations }, Digest: true}),
		forms.Network(forms.Restarts),
	},
}

// Model is the door station.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "D1", Firmware: "7.2", Port: 80, Handler: site.Handler,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x44}, Serial: "TD1-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "DOOR", Kind: "intercom", Profile: "tolvern-d1", Plan: plan,
	Stands: append(box.Each(0,
		"BERTH1-DOOR-01", "BERTH1-DOOR-02", "BERTH2-DOOR-01", "BERTH2-DOOR-02", "YARD-GATE-01", "HALL-DOOR-01",
		"SHOP-DOOR-01",
	), box.Stand{Tag: "YARD-GATE-02", Missing: true}),
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["room"], row["rings-at"] = fmt.Sprint(200+number), "BERTH1-MON-01"
		row["shows"] = "BERTH1-CAM-01"
	},
}
