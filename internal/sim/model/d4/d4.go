// Package d4 simulates the Tolvern D4 door station with a keypad: as the D1, but its
// password has other rules, and the code of its keypad is never told again.
package d4

import (
	_ "embed"
	"fmt"
	"net/netip"
	"regexp"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
	"redstart/internal/sim/picture"
)

//go:embed plan.csv
var plan []byte

// Own are the settings that only door stations with a keypad have.
type Own struct {
	Room     string
	RingsAt  string // address of its main station
	Stream   string // of the camera that it shows
	User     string // at that camera
	Login    string
	Code     string // of the keypad
	Stations string // the station file
}

// Factory is the state in which each leaves the factory.
var Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.44/24"), Own: Own{Code: "0000"}}

var code = regexp.MustCompile(`^[0-9]{4,8}$`)

var site = forms.Site{
	Title: "Tolvern D4", Colour: "#357", Text: "Door station with a keypad.", First: "Choose a password to begin.",
	User: "door", Passwords: secret.Rules{Min: 8, Max: 12, Classes: 3, Refuse: []string{"tolvern"}}, Recovery: true,
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 15, Case: "upper"}, forms.Kept),
		picture.On(forms.Own("/calls", forms.Kept,
			forms.Field[Own]{Name: "room", At: func(o *Own) *string { return &o.Room }, Check: forms.Between(1, 9999)},
			forms.Field[Own]{Name: "rings-at", At: func(o *Own) *string { return &o.RingsAt }, Check: forms.AnAddress},
			forms.Field[Own]{Name: "stream", At: func(o *Own) *string { return &o.Stream }},
			forms.Field[Own]{Name: "stream-user", At: func(o *Own) *string { return &o.User }},
			forms.Field[Own]{Name: "stream-login", At: func(o *Own) *string { return &o.Login }, Hidden: true},
		), func(b *box.Box) (ringsAt, stream, user, password string) {
			own := b.Running().Own.(Own)
			return own.RingsAt, own.Stream, own.User, own.Login
		}),
		forms.Own("/keypad", forms.Kept,
			forms.Field[Own]{Name: "code", At: func(o *Own) *string { return &o.Code }, Hidden: true,
				Check: func(typed string) error {
					if !code.MatchString(typed) {
						return fmt.Errorf("it is four to eight digits")
					}
					return nil
				}}),
		forms.Own("/stations", forms.Kept,
			forms.Field[Own]{Name: "stations", At: func(o *Own) *string { return &o.Stations }, Digest: true}),
		forms.Network(forms.Restarts),
	},
}

// Model is the door station with a keypad.
var Model = box.Model{
	Maker: "Tolvern Doorworks", Name: "D4", Firmware: "7.4", Port: 80, Handler: site.Handler,
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x54, 0x45}, Serial: "TD4-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "PAD", Kind: "intercom", Profile: "tolvern-d4", Plan: plan,
	// The second came in the carton of a D1, whose label is on it.
	Stands: []box.Stand{{Tag: "HALL-PAD-01"}, {Tag: "SHOP-PAD-01", MAC: address.MAC{0x0a, 0x54, 0x44, 0x5e, 0xd1, 0xd4}}},
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["room"], row["rings-at"] = fmt.Sprint(400+number), "BERTH1-MON-01"
		row["shows"], row["keypad-code"] = "BERTH1-CAM-01", "47114711"
	},
}
