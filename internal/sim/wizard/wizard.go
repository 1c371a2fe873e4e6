// Package wizard is how the boxes of Clepsydra Timeworks are set: everything is asked,
// one question after another, then whether to apply it and, apart from that, whether to
// keep it. What is not kept is lost at the next power cut.
package wizard

import (
	"crypto/sha256"
	"fmt"
	"net"
	"net/netip"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
	"redstart/internal/sim/box"
	"redstart/internal/sim/console"
)

// The factory login of every box.
const (
	User            = "clock"
	FactoryPassword = "tick"
)

// MayEnter says whether a login is taken, and notes it.
func MayEnter(b *box.Box, user, password string) bool {
	good := user == User && password == b.Running().Password
	b.Tried(user, password, good)
	return good
}

// OverSSH is the service that offers a dialogue over SSH.
func OverSSH(banner string, talk func(*box.Box, *console.Terminal)) box.Service {
	return box.Service{Port: 22, Serve: func(b *box.Box, c net.Conn) {
		console.SSH{
			Banner: banner,
			Key:    console.NewKey(sha256.Sum256([]byte(b.Serial))),
			Login:  func(user, password string) bool { return MayEnter(b, user, password) },
			Shell:  func(_ string, t *console.Terminal) { talk(b, t) },
		}.Serve(c)
	}}
}

// Question is one line of the wizard.
type Question struct {
	Asks  string
	Has   string // what the box has; an empty answer leaves it
	Takes func(answer string, s *box.Settings) error
}

// Wizard is what a model asks.
type Wizard struct {
	Names     naming.Rules
	Passwords secret.Rules
	More      func(box.Settings) []Question // besides name and addresses
}

func (w Wizard) questions(s box.Settings) []Question {
	return append([]Question{
		{"Name", s.Name, func(a string, s *box.Settings) error { s.Name = a; return w.Names.Check(a) }},
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
	}, w.More(s)...)
}

// Zone checks the name of a time zone.
func Zone(name string) error {
	if _, err := time.LoadLocation(name); err != nil || name == "Local" {
		return fmt.Errorf("no such zone")
	}
	return nil
}

// Address checks an address, or none, which becomes "".
func Address(text string) (string, error) {
	if text == "none" {
		return "", nil
	}
	_, err := address.ParseIPv4(text)
	return text, err
}

// OrNone prints an address that may be missing.
func OrNone(address string) string {
	if address == "" {
		return "none"
	}
	return address
}

// Run asks everything once.
func (w Wizard) Run(b *box.Box, t *console.Terminal) {
	s := b.Running()
	was := s
	t.Say("Clepsydra %s %s, serial %s, started %d times\n", b.Model.Name, b.Model.Firmware, b.Serial, b.Starts())
	for _, q := range w.questions(s) {
		next, ok := ask(t, q, s)
		if !ok {
			return
		}
		s = next
	}
	if !w.askPassword(b, t, &s) || !yes(t, "Apply? ") {
		t.Say("Nothing was changed. Bye\n")
		return
	}
	for i, q := range w.questions(s) {
		if w.questions(was)[i].Has != q.Has {
			b.Witness("write", q.Asks+" "+q.Has)
		}
	}
	if s.Password != was.Password {
		b.Witness("write", "password "+s.Password)
	}
	moved := s.Address != was.Address || s.Gateway != was.Gateway
	b.Change(func(r *box.Settings) { r.Name, r.Password, r.Own = s.Name, s.Password, s.Own })
	keep, err := t.Ask("Keep? ")
	switch {
	case err != nil:
		return // whoever was there went
	case keep != "y" && keep != "yes":
		t.Say("Applied until the power goes. Bye\n")
		if moved {
			b.Change(func(r *box.Settings) { r.Address, r.Gateway = s.Address, s.Gateway })
			b.Readdress()
		}
		return
	}
	b.Store(func(kept *box.Settings) { *kept = s })
	if moved {
		t.Say("Kept; it restarts. Bye\n")
		b.RestartShortly()
		return
	}
	t.Say("Applied and kept. Bye\n")
}

// ask asks one question until the answer can be taken; false when whoever is there went.
func ask(t *console.Terminal, q Question, s box.Settings) (box.Settings, bool) {
	for {
		answer, err := t.Ask("%s [%s]: ", q.Asks, q.Has)
		if err != nil {
			return s, false
		}
		if answer == "" {
			return s, true
		}
		next := s
		if err := q.Takes(answer, &next); err != nil {
			t.Say("! %s\n", err)
			continue
		}
		return next, true
	}
}

// askPassword asks for a new password; false when whoever is there went.
func (w Wizard) askPassword(b *box.Box, t *console.Terminal, s *box.Settings) bool {
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
		switch err := w.Passwords.Check(first); {
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
