package fs24

import (
	"io"

	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
)

// atConsole asks for the address at the serial line, where nobody is asked for a login.
func atConsole(b *box.Box, line io.ReadWriter) {
	t := console.New(line, true)
	if _, err := t.Key(); err != nil {
		return
	}
	s := b.Running()
	t.Say("\nFennmark FS24 %s, MAC %s\n", b.Model.Firmware, b.MAC)
	var answers [3]string
	for i, asked := range [][2]string{
		{"Address", box.AddrText(s.Address.Addr())}, {"Mask", box.Mask(s.Address)}, {"Gateway", box.AddrText(s.Gateway)},
	} {
		answer, err := t.Ask("%s [%s]: ", asked[0], asked[1])
		if err != nil {
			return
		}
		if answers[i] = answer; answer == "" {
			answers[i] = asked[1]
		}
	}
	prefix, gateway, err := box.Network(answers[0], answers[1], answers[2])
	if err != nil {
		t.Say("! %s\n", err)
		return
	}
	if sure, err := t.Ask("Set and save it? "); err != nil || sure != "y" {
		t.Say("Nothing was set.\n")
		return
	}
	b.Witness("write", "console "+prefix.String()+" "+box.AddrText(gateway))
	moved := s.Address != prefix
	set := func(s *box.Settings) { s.Address, s.Gateway = prefix, gateway }
	b.Change(set)
	b.Store(set)
	t.Say("Saved.\n")
	if moved {
		b.Readdress()
	}
}
