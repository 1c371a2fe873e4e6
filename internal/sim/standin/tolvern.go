package standin

import (
	"net/netip"

	"redstart/internal/sim/box"
)

const doorMaker, doorColour = "Tolvern Doorworks", "#357"

// Tolvern Doorworks: no password until first use, which their page says.
var (
	D1 = box.Model{Maker: doorMaker, Name: "D1", Firmware: "7.2", Port: 80, Handler: page("Tolvern D1: first use", doorColour, "Choose six digits to begin.")}
	M7 = box.Model{Maker: doorMaker, Name: "M7", Firmware: "7.2", Port: 80, Handler: page("Tolvern M7: first use", doorColour, "Choose six digits to begin.")}
	V2 = box.Model{Maker: doorMaker, Name: "V2", Firmware: "4.0", Port: 443, TLS: true, Handler: page("Tolvern V2: first use", doorColour, "Register the voice server to begin.")}
)

// Factory states of the intercom family.
var (
	D1Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.41/24")}
	M7Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.40/24")}
	V2Factory = box.Settings{Address: netip.MustParsePrefix("192.168.81.2/24")}
)
