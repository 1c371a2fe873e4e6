package enip_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/drivertest"
	"redstart/internal/driver/enip"
	"redstart/internal/sim/box"
	simulated "redstart/internal/sim/enip"
	"redstart/internal/wire/cip"
)

const heron = `redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: 192.168.99.3/24}
user: keeper
restart: {takes: 1s, at-most: 5s}
talk:
  enip: {}
order:
  - {act: name}
  - {act: address}
acts:
  identify: [{enip: get 1/1/7, fields: [{as: short-string, take: model}]}]
  password: [{enip: set 0x64/1/1, fields: [{as: string, value: "{password}"}]}]
  name: [{enip: set 0xF5/1/6, fields: [{as: string, value: "{name}"}]}]
  address: [{enip: set 0xF5/1/5, fields: [{as: address, value: "{address}"}]}]
  read:
    - {enip: get 0xF5/1/6, fields: [{as: string, take: name}]}
    - {enip: get 0xF5/1/5, fields: [{as: address, take: address}]}
`

// lamp is an object that takes what it is told.
type lamp struct{ took []string }

func (l *lamp) At(p cip.Path) (simulated.Attribute, bool) {
	take := func(b []byte) byte {
		l.took = append(l.took, string(b))
		return simulated.Done
	}
	switch p {
	case cip.Path{Class: cip.TCPIP, Instance: 1, Attribute: 6}:
		return simulated.Attribute{Value: simulated.Of(cip.String, drivertest.Name), Set: take}, true
	case cip.Path{Class: cip.TCPIP, Instance: 1, Attribute: 5}:
		return simulated.Attribute{Value: simulated.Of(cip.Address, "192.168.99.3"), Set: take}, true
	case cip.Path{Class: 0x64, Instance: 1, Attribute: 1}:
		return simulated.Attribute{Set: take}, true
	case cip.Path{Class: 1, Instance: 1, Attribute: 7}:
		return simulated.Attribute{Value: simulated.Of(cip.ShortString, "H")}, true
	}
	return simulated.Attribute{}, false
}

func (l *lamp) Reset(cip.Path, []byte) byte { return simulated.Done }

// The EtherNet/IP driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	drivertest.Run(t, drivertest.Case{
		Profile: heron, Box: box.Model{Maker: "Heron", Name: "H"},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
		Serve:   func(_ *box.Box, c net.Conn) { simulated.Serve(c, &lamp{}) },
	})
}

// What is written goes out as its type, a value that does not fit is not sent, and what the
// device refuses is told in plain words.
func TestAttributes(t *testing.T) {
	l := &lamp{}
	s := enip.Driver{}.Open(driver.Peer{Section: enip.Section{}, Dial: func(context.Context, uint16) (net.Conn, error) {
		ours, theirs := net.Pipe()
		go simulated.Serve(theirs, l) // it ends with the session
		return ours, nil
	}})
	defer s.Close()
	do := func(words string, vars map[string]string) (map[string]string, error) {
		t.Helper()
		text := strings.Replace(heron, "{enip: get 1/1/7, fields: [{as: short-string, take: model}]}", words, 1)
		p, err := profile.Parse([]byte(text), []profile.Driver{enip.Driver{}})
		if err != nil {
			return nil, err
		}
		return s.Do(t.Context(), p.Acts[profile.Identify][0].Words, vars)
	}
	if facts, err := do(`{enip: get 0xF5/1/5, fields: [{as: address, take: model, words: {192.168.99.3: home}}]}`,
		nil); err != nil || facts["model"] != "home" {
		t.Errorf("%v, %v", facts, err)
	}
	for words, says := range map[string]string{
		`{enip: get 0xF5/1/9, fields: [{as: string, take: model}]}`:                          "no such attribute",
		`{enip: get 0xF5/1/5, fields: [{as: string, take: model}]}`:                          "has no model: field 1",
		`{enip: get 0xF5/1/6, fields: [{as: udint}, {as: udint}, {as: udint, take: model}]}`: "field 3",
		`{enip: get 0xF5/1, fields: [{as: string}]}`:                                         "class, instance and attribute",
		`{enip: get 0xF5/1/6}`:                                   "fields are missing",
		`{enip: get 0xF5/1/6, fields: [{as: word}]}`:             "as is one of",
		`{enip: get 0xF5/1/6, fields: [{as: uint, value: "1"}]}`: "a value belongs to set",
		`{enip: set 0xF5/1/6, fields: [{as: uint, take: name}]}`: "belong to get",
		`{enip: get 0x10000/1/6, fields: [{as: uint}]}`:          "0xFFFF",
		`{enip: reset 1/1/1}`:                                    "reset with class and instance",
	} {
		if _, err := do(words, nil); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", words, err)
		}
	}
	write := func(as, value string) error {
		p, err := profile.Parse([]byte(strings.Replace(heron, `{as: string, value: "{name}"}`, `{as: `+as+`, value: "{name}"}`,
			1)), []profile.Driver{enip.Driver{}})
		if err == nil {
			_, err = s.Do(t.Context(), p.Acts[profile.Name][0].Words, map[string]string{"name": value})
		}
		return err
	}
	if err := write("string", "abc"); err != nil || !slices.Equal(l.took, []string{"\x03\x00abc\x00"}) {
		t.Errorf("%q, %v", l.took, err)
	}
	if err := write("uint", "70000"); !errors.Is(err, driver.ErrNotSent) || len(l.took) != 1 {
		t.Errorf("%q, %v", l.took, err)
	}
}
