// Package fs5 simulates the Fennmark FS5 desk switch: until it is set it hands one address to
// whoever hangs on it; its first password is taken for eight minutes after its button was
// pressed; what is set is lost at a power cut until it is saved.
package fs5

import (
	_ "embed"
	"net/netip"
	"strings"
	"time"

	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/forms"
	"redstart/internal/sim/stranger"
)

//go:embed plan.csv
var plan []byte

// Factory is the state in which every desk switch leaves the factory.
var Factory = box.Settings{Name: "fs5", Address: netip.MustParsePrefix("192.168.88.1/24")}

// Window is how long the first password is taken once the button was pressed.
const Window = 8 * time.Minute

var site = forms.Site{
	Title: "Fennmark FS5", Colour: "#a63", Text: "Desk switch, five ports.",
	First:     "Desk switch, five ports. Press the button, then set a password.",
	Passwords: secret.Rules{Min: 8, Max: 24, Classes: 3, Refuse: []string{"admin"}},
	MayFirst:  pressed,
	About: func(b *box.Box) [][2]string {
		state := "closed"
		switch {
		case b.Running().Password != "":
			state = "set"
		case pressed(b):
			state = "open"
		}
		return [][2]string{{"setup", state}}
	},
	Pages: []forms.Page{
		forms.Name(naming.Rules{Max: 48, Case: "lower", Extra: "."}, forms.Unsaved),
		forms.Network(forms.Moves),
	},
}

// pressed reports whether the button was pressed lately.
func pressed(b *box.Box) bool {
	position, since := b.Position()
	return position == "pressed" && time.Since(since) < b.Scaled(Window)
}

// hand presses the button: for so long that it is as from the factory, if the light says that
// somebody set it up before.
func hand(b *box.Box, instruction string) bool {
	if !strings.Contains(instruction, "button") {
		return false
	}
	if b.Running().Password != "" {
		b.Change(func(s *box.Settings) { *s = Factory })
		b.Store(func(s *box.Settings) { *s = Factory })
	}
	b.Move("pressed")
	return true
}

// Model is the desk switch.
var Model = box.Model{
	Maker: "Fennmark Networks", Name: "FS5", Firmware: "1.2.0", Port: 80, Handler: site.Handler, Hand: hand,
	Pool: netip.MustParsePrefix("192.168.88.2/24"),
}

// Stock is what the site has of it. A visitor's laptop was plugged in when the first was
// unpacked.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x46, 0x35}, Serial: "FN5-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory), Short: "DESK", Kind: "switch", Profile: "fennmark-fs5", Plan: plan,
	Stands: []box.Stand{{Tag: "HALL-DESK-01", Guest: stranger.LaptopMAC}, {Tag: "SHOP-DESK-01"}},
}
