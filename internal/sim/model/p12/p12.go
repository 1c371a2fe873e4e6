// Package p12 simulates the Pellgate P12 power controller: a menu of numbers over SSH.
// The session dies when it takes its address, and once it has the stronger key exchange
// an old client cannot connect, and it shows a new host key from its next start on.
package p12

import (
	"crypto/sha256"
	_ "embed"
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

//go:embed plan.csv
var plan []byte

// The factory login.
const (
	User            = "power"
	FactoryPassword = "pellgate"
)

// Own are the settings that only power controllers have.
type Own struct {
	User   string
	Rack   string
	Speed  string // of its console, in bits a second
	Strong bool   // only the stronger key exchange
}

// Factory is the state in which every power controller leaves the factory.
var Factory = box.Settings{Name: "p12", Address: netip.MustParsePrefix("192.168.120.8/24"), Password: FactoryPassword,
	Own: Own{User: User, Speed: "115200"}}

var (
	passwords = secret.Rules{Min: 8, Max: 20, Classes: 3, Special: "!#", Refuse: []string{"pellgate", "power"}}
	names     = naming.Rules{Max: 31, Case: "lower", Extra: "_"}
	speeds    = []string{"9600", "57600", "115200"}
)

// Model is the power controller.
var Model = box.Model{Maker: "Pellgate Power", Name: "P12", Firmware: "8.8",
	Services: []box.Service{{Port: 22, Serve: serve}}}

// Stock is what the site has of it.
var Stock = box.Stock{
	Model: Model, Prefix: [3]byte{0x0a, 0x50, 0x50}, Serial: "P12-%06d", Away: 4 * time.Second,
	Factory: box.Always(Factory),
	Short:   "PWR", Kind: "power controller", Profile: "pellgate-p12",
	Row: func(row map[string]string, _ *box.Box, number int, _ bool) {
		row["rack"] = fmt.Sprintf("R%d-U10", number)
	},
	Plan: plan, Stands: box.Each(21, "HALL-PWR-01", "BERTH1-PWR-01"),
}

// Key exchanges of an old client, and the stronger ones.
var (
	weak   = []string{"curve25519-sha256", "diffie-hellman-group14-sha256"}
	strong = []string{"mlkem768x25519-sha256"}
)

func serve(b *box.Box, c net.Conn) {
	own := b.AtStart().Own.(Own)
	exchanges, key := weak, b.Serial
	if own.Strong {
		exchanges, key = strong, b.Serial+", stronger"
	}
	console.SSH{
		Banner: "SSH-2.0-pellgate_P12", Exchanges: exchanges, Key: console.NewKey(sha256.Sum256([]byte(key))),
		Login: func(user, password string) bool {
			s := b.Running()
			good := user == s.Own.(Own).User && password == s.Password
			b.Tried(user, password, good)
			return good
		},
		Shell: func(_ string, t *console.Terminal) { menu(b, t) },
	}.Serve(c)
}

const choices = `
 1 Show
 2 Who may come in
 3 Network
 4 Name
 5 Cabinet
 6 Key exchange
 7 Restart
 0 Leave
Choice: `

func menu(b *box.Box, t *console.Terminal) {
	t.Say("Pellgate P12\n")
	for {
		choice, err := t.Ask(choices)
		if err != nil {
			return
		}
		switch choice {
		case "1":
			show(b, t)
		case "2":
			people(b, t)
		case "3":
			network(b, t)
		case "4":
			one(b, t, "Name", func(s *box.Settings, v string) error { s.Name = v; return names.Check(v) })
		case "5":
			one(b, t, "Rack", func(s *box.Settings, v string) error {
				return change(s, func(o *Own) { o.Rack = v }, len(v) <= 16)
			})
			one(b, t, "Console speed", func(s *box.Settings, v string) error {
				return change(s, func(o *Own) { o.Speed = v }, strings.Contains(strings.Join(speeds, " "), v))
			})
		case "6":
			one(b, t, "1 usual, 2 stronger", func(s *box.Settings, v string) error {
				return change(s, func(o *Own) { o.Strong = v == "2" }, v == "1" || v == "2")
			})
		case "7":
			b.Witness("write", "restart")
			t.Say("It restarts.\n")
			b.RestartShortly()
			return
		case "0":
			return
		default:
			t.Say("! there is no %s\n", choice)
		}
	}
}

func show(b *box.Box, t *console.Terminal) {
	s := b.Running()
	own := s.Own.(Own)
	exchange := "usual"
	if own.Strong {
		exchange = "stronger"
	}
	for _, line := range [][2]string{
		{"Model", b.Model.Name}, {"Version", b.Model.Firmware}, {"Serial", b.Serial},
		{"Starts", fmt.Sprint(b.Starts())}, {"User", own.User}, {"Name", s.Name},
		{"Address", s.Address.String()}, {"Gateway", box.AddrText(s.Gateway)}, {"Rack", own.Rack},
		{"Console speed", own.Speed}, {"Key exchange", exchange},
	} {
		t.Say("%-14s %s\n", line[0]+":", line[1])
	}
}

// one asks for one thing and takes it at once, for good.
func one(b *box.Box, t *console.Terminal, asks string, takes func(*box.Settings, string) error) {
	answer, err := t.Ask("%s: ", asks)
	if err != nil {
		return
	}
	next := b.Running()
	if err := takes(&next, answer); err != nil {
		t.Say("! %s\n", err)
		return
	}
	b.Witness("write", asks+" "+answer)
	keep(b, next)
	t.Say("Taken.\n")
}

func keep(b *box.Box, next box.Settings) {
	b.Change(func(s *box.Settings) { *s = next })
	b.Save()
}

func change(s *box.Settings, by func(*Own), good bool) error {
	if !good {
		return fmt.Errorf("not this")
	}
	own := s.Own.(Own)
	by(&own)
	s.Own = own
	return nil
}

// people renames the one user and gives it a password.
func people(b *box.Box, t *console.Terminal) {
	user, err := t.Ask("User: ")
	if err != nil {
		return
	}
	first, err := t.Secret("New password: ")
	if err != nil {
		return
	}
	second, err := t.Secret("Once more: ")
	if err != nil {
		return
	}
	switch err := passwords.Check(first); {
	case user == "":
		t.Say("! no user\n")
	case first != second:
		t.Say("! they differ\n")
	case b.Has().RefusesPassword:
		t.Say("! this password is not allowed\n")
	case err != nil:
		t.Say("! %s\n", err)
	default:
		b.Witness("write", "password "+first)
		next := b.Running()
		next.Password = first
		_ = change(&next, func(o *Own) { o.User = user }, true) // it is
		keep(b, next)
		t.Say("Taken.\n")
	}
}

// network takes an address at once: whoever set it hears no more.
func network(b *box.Box, t *console.Terminal) {
	ask := func(what string) (netip.Addr, bool) {
		answer, err := t.Ask("%s: ", what)
		if err != nil {
			return netip.Addr{}, false
		}
		a, err := address.ParseIPv4(answer)
		if err != nil {
			t.Say("! %s\n", err)
		}
		return a, err == nil
	}
	at, ok := ask("Address")
	if !ok {
		return
	}
	mask, ok := ask("Mask")
	if !ok {
		return
	}
	gateway, ok := ask("Gateway")
	if !ok {
		return
	}
	bits, err := address.MaskBits(mask.String())
	if err != nil {
		t.Say("! %s\n", err)
		return
	}
	b.Witness("write", "address "+at.String())
	next := b.Running()
	next.Address, next.Gateway = netip.PrefixFrom(at, bits), gateway
	keep(b, next)
	b.Readdress()
}
