package box

import (
	"net/netip"

	"redstart/internal/wire/mdns"
)

// Announces answers DNS-SD (RFC 6763) with what the device is and one service of it.
func Announces(kind string, port uint16) Datagram {
	return Datagram{Port: mdns.Group.Port(), Group: mdns.Group.Addr(),
		Answer: func(b *Box, _ netip.AddrPort, payload []byte, reply Reply) {
			if mdns.IsQuestion(payload) {
				s := b.Running()
				reply(mdns.Announce(b.Model.Maker+" "+b.Model.Name, kind, s.Name, port, s.Address.Addr(),
					map[string]string{"model": b.Model.Name, "serial": b.Serial, "firmware": b.Model.Firmware}),
					mdns.Group)
			}
		}}
}
