// Package k3 simulates the Clepsydra K3 clock: a wizard over SSH that asks for
// everything, one question after another, then whether to apply it and, apart from
// that, whether to keep it. What is not kept is lost at the next power cut.
package k3

import (
	"crypto/sha256"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
)

// The factory login.
const (
	User            = "clock"
	FactoryPassword = "tick"
)

// Own are the settings that only clocks have.
type Own struct {
	Server string // address of the time server; "" for none
	Zone   string
	Face   string // 12 or 24
}

// Factory is the state in which every clock leaves the factory.
var Factory = box.Settings{Name: "K3", Address: netip.MustParsePrefix("192.168.99.3/24"), Password: FactoryPassword, Own: Own{Zone: "Etc/UTC", Face: "24"}}

var (
	passwords = secret.Rules{Min: 6, Max: 12}
	names     = naming.Rules{Max: 12, Case: "upper"}
)

// Model is the clock.
var Model = box.Model{
	Maker: "Clepsydra Timeworks", Name: "K3", Firmware: "1.9",
	Services:  []box.Service{{Port: 22, Serve: serve}},
	Datagrams: []box.Datagram{box.Announces("_ssh._tcp", 22)},
}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x06, 0x43, 0x4b}, Serial: "CK3-%06d", Away: 4 * time.Second, Factory: box.Always(Factory),
	Short: "CLK", Kind: "clock", Profile: "clepsydra-k3",
	Row: func(row map[string]string, _ *box.Box, _ int, _ bool) { row["time-zone"] = "Europe/Oslo" },
}

func serve(b *box.Box, c net.Conn) {
	console.SSH{
		Banner: "SSH-2.0-clepsydra_K3",
		Key:    console.NewKey(sha256.Sum256([]byte(b.Serial))),
		Login: func(user, password string) bool {
			good := user == User && password == b.Running().Password
			b.Tried(user, password, good)
			return good
		},
		Talk: func(_ string, t *console.Terminal) { wizard(b, t) },
	}.Serve(c)
}

// question is one line of the wizard.
type question struct {
	asks  string
	has   string
	takes func(answer string, s *box.Settings) error
}

// questions are all of them, with what the clock has.
func questions(s box.Settings) []question {
	own, _ := s.Own.(Own)
	return []question{
		{"Name", s.Name, func(a string, s *box.Settings) error { s.Name = a; return names.Check(a) }},
		{"Address", s.Address.Addr().String(), func(a string, s *box.Settings) error {
			at, err := address.ParseIPv4(a)
			s.Address = netip.PrefixFrom(at, s.Address.Bits())
			return err
		}},
		{"Mask", box.Mask(s.Address), func(a string, s *box.Settings) error {
			bits, err := address.MaskBits(a)
			s.Address = netip.PrefixFrom(s.Address.Addr(), bits)
			return err
		}},
		{"Gateway", box.AddrText(s.Gateway), func(a string, s *box.Settings) (err error) {
			s.Gateway, err = address.ParseIPv4(a)
			return err
		}},
		{"Time server", orNone(own.Server), func(a string, s *box.Settings) error {
			if _, err := address.ParseIPv4(a); err != nil && a != "none" {
				return err
			}
			own := s.Own.(Own)
			own.Server = strings.TrimPrefix(a, "none")
			s.Own = own
			return nil
		}},
		{"Time zone", own.Zone, func(a string, s *box.Settings) error {
			if _, err := time.LoadLocation(a); err != nil || a == "Local" {
				return fmt.Errorf("no such zone")
			}
			own := s.Own.(Own)
			own.Zone = a
			s.Own = own
			return nil
		}},
		{"Face, 12 or 24", own.Face, func(a string, s *box.Settings) error {
			if a != "12" && a != "24" {
				return fmt.Errorf("12 or 24")
			}
			own := s.Own.(Own)
			own.Face = a
			s.Own = own
			return nil
		}},
	}
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

// wizard asks everything once.
func wizard(b *box.Box, t *console.Terminal) {
	s := b.Running()
	was := s
	t.Say("Clepsydra K3 %s, serial %s, started %d times\n", b.Model.Firmware, b.Serial, b.Starts())
	for _, q := range questions(s) {
		for {
			answer, err := t.Ask("%s [%s]: ", q.asks, q.has)
			if err != nil {
				return
			}
			if answer == "" {
				break // as it is
			}
			next := s
			if err := q.takes(answer, &next); err != nil {
				t.Say("! %s\n", err)
				continue
			}
			s = next
			break
		}
	}
	if !askPassword(b, t, &s) || !yes(t, "Apply? ") {
		t.Say("Nothing was changed. Bye\n")
		return
	}
	for i, q := range questions(s) {
		if old := questions(was)[i].has; old != q.has {
			b.Witness("write", q.asks+" "+q.has)
		}
	}
	if s.Password != was.Password {
		b.Witness("write", "password "+s.Password)
	}
	moved := s.Address != was.Address || s.Gateway != was.Gateway
	if !yes(t, "Keep? ") {
		b.Change(func(r *box.Settings) { *r = s })
		t.Say("Applied until the power goes. Bye\n")
		if moved {
			b.Readdress()
		}
		return
	}
	b.Witness("write", "kept")
	b.Store(func(kept *box.Settings) { *kept = s })
	if moved {
		t.Say("Kept; it restarts. Bye\n")
		b.RestartShortly()
		return
	}
	b.Change(func(r *box.Settings) { *r = s })
	t.Say("Applied and kept. Bye\n")
}

// askPassword asks for a new password; false when whoever is there went.
func askPassword(b *box.Box, t *console.Terminal, s *box.Settings) bool {
	for {
		first, err := t.Secret("New password [as it is]: ")
		if err != nil {
			return false
		}
		if first == "" {
			return true
		}
		second, err := t.Secret("Once more: ")
		if err != nil {
			return false
		}
		switch err := passwords.Check(first); {
		case first != second:
			t.Say("! they differ\n")
		case b.Has().RefusesPassword:
			t.Say("! this password is not allowed\n")
		case err != nil:
			t.Say("! %s\n", err)
		default:
			s.Password = first
			return true
		}
	}
}

func yes(t *console.Terminal, question string) bool {
	answer, err := t.Ask("%s", question)
	return err == nil && (answer == "y" || answer == "yes")
}
