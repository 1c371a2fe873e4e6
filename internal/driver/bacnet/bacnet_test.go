package bacnet_test

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"

	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/bacnet"
	"redstart/internal/driver/drivertest"
	"redstart/internal/sim/box"
	wire "redstart/internal/wire/bacnet"
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
  bacnet: {}
order:
  - {act: name}
  - {act: address}
acts:
  identify: [{bacnet: read, property: model-name, take: model}]
  password: [{bacnet: write, property: description, value: "{password}"}]
  name: [{bacnet: write, property: object-name, value: "{name}", priority: 8}]
  address: [{bacnet: write, property: "400", value: "{address}"}]
  read: [{bacnet: read, property: object-name, take: name}, {bacnet: read, property: "400", take: address}]
`

// lamp answers requests: it tells its name, takes what it is told, and knows a password.
type lamp struct {
	mu   sync.Mutex
	took []wire.Request
}

func (l *lamp) answer(payload []byte) []byte {
	r, err := wire.ParseRequest(payload)
	if err != nil {
		return nil
	}
	l.mu.Lock()
	l.took = append(l.took, r)
	l.mu.Unlock()
	switch {
	case r.Service == wire.ReadProperty && r.Property == 999:
		return wire.Reply{Kind: wire.Failed, Class: 2, Code: 32}.Frame(r, nil)
	case r.Service == wire.ReadProperty:
		value, _ := wire.AppendValue(nil, wire.TypeText, drivertest.Name) // it is short
		return wire.Reply{Kind: wire.WithValue}.Frame(r, value)
	case r.Service == wire.ReinitializeDevice && r.Password != "tern":
		return wire.Reply{Kind: wire.Failed, Class: 4, Code: wire.PasswordFailure}.Frame(r, nil)
	case r.Service == wire.DeviceCommunicationControl:
		return wire.Reply{Kind: wire.Refused, Code: 9}.Frame(r, nil)
	}
	return wire.Reply{Kind: wire.Done}.Frame(r, nil)
}

// The BACnet driver passes what every driver must.
func TestWhatEveryDriverMust(t *testing.T) {
	t.Parallel()
	l := &lamp{}
	drivertest.Run(t, drivertest.Case{
		Profile: heron,
		Box: box.Model{Maker: "Heron", Name: "H", Datagrams: []box.Datagram{{Port: wire.Port,
			Answer: func(_ *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
				if answer := l.answer(payload); answer != nil {
					reply(answer, netip.AddrPort{})
				}
			}}}},
		Factory: box.Settings{Name: drivertest.Name, Address: netip.MustParsePrefix("192.168.99.3/24")},
	})
}

// What is written goes out with its type and priority, to the device or to what is behind it;
// what is refused is told in plain words, and words that make no sense are found when the
// profile is read.
func TestMoves(t *testing.T) {
	t.Parallel()
	l := &lamp{}
	do := func(move string, vars map[string]string) (map[string]string, error) {
		t.Helper()
		text := strings.Replace(heron, `{bacnet: write, property: object-name, value: "{name}", priority: 8}`, move, 1)
		p, err := profile.Parse([]byte(text), []profile.Driver{bacnet.Driver{}})
		if err != nil {
			return nil, err
		}
		s := bacnet.Driver{}.Open(driver.Peer{Section: p.Section("bacnet"),
			Datagrams: func(context.Context, uint16) (net.Conn, error) {
				ours, theirs := net.Pipe()
				go func() { // it ends with the session
					buffer := make([]byte, 1600)
					for {
						n, err := theirs.Read(buffer)
						if err != nil {
							return
						}
						if answer := l.answer(buffer[:n]); answer != nil {
							_, _ = theirs.Write(answer) // whoever asked may be gone
						}
					}
				}()
				return ours, nil
			}})
		defer s.Close()
		return s.Do(t.Context(), p.Acts[profile.Name][0].Words, vars)
	}
	for move, want := range map[string]wire.Request{
		`{bacnet: write, property: object-name, value: "{name}", priority: 8}`: {Service: wire.WriteProperty,
			Object: wire.Object{Type: wire.Device, Instance: wire.AnyDevice}, Property: wire.ObjectName,
			Value: []byte("\x75\x06\x00hall1"), Priority: 8},
		`{bacnet: write, object: 2/1, property: present-value, as: real, value: "180", to: "4001/11"}`: {
			Service: wire.WriteProperty, To: wire.Station{Network: 4001, Address: "\x0b"},
			Object: wire.Object{Type: 2, Instance: 1}, Property: 85, Value: []byte{0x44, 0x43, 0x34, 0, 0}},
		`{bacnet: reinitialize, state: warmstart, device-password: tern}`: {Service: wire.ReinitializeDevice, State: 1,
			Password: "tern"},
	} {
		if _, err := do(move, map[string]string{"name": "hall1"}); err != nil {
			t.Errorf("%s: %v", move, err)
		}
		got := l.took[len(l.took)-1]
		got.Invoke = 0
		if string(got.Frame()) != string(want.Frame()) {
			t.Errorf("%s:\n%+v, not\n%+v", move, got, want)
		}
	}
	if _, err := do("{bacnet: reinitialize, state: coldstart, device-password: wrong}", nil); !errors.Is(err,
		driver.ErrLogin) || strings.Contains(err.Error(), "wrong") {
		t.Errorf("%v", err)
	}
	for move, says := range map[string]string{
		`{bacnet: communication, state: disable, minutes: 5}`: "reject reason 9",
		`{bacnet: read, property: "999", take: name}`:         "no such property",
		`{bacnet: wave}`:                     "read, write, reinitialize or communication",
		`{bacnet: reinitialize, state: nap}`: "coldstart, warmstart",
		`{bacnet: reinitialize, state: coldstart, property: location}`:                                 "no property",
		`{bacnet: read, property: colour, take: name}`:                                                 "or one of",
		`{bacnet: read, property: location}`:                                                           "read takes a fact",
		`{bacnet: write, property: location, take: name}`:                                              "belongs to read",
		`{bacnet: write, object: lamp, property: location, value: x}`:                                  "TYPE/INSTANCE",
		`{bacnet: write, object: 2000/1, property: location, value: x}`:                                "at most 1023",
		`{bacnet: write, property: location, as: blob, value: x}`:                                      "no type",
		`{bacnet: write, property: units, as: unsigned, value: x}`:                                     "no number",
		`{bacnet: write, property: location, value: x, priority: 17}`:                                  "1 to 16",
		`{bacnet: write, property: location, value: "{name}", to: "0/1"}`:                              "no station",
		`{bacnet: reinitialize, state: warmstart, device-password: "` + strings.Repeat("x", 21) + `"}`: "at most 20",
	} {
		if _, err := do(move, map[string]string{"name": "hall1"}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", move, err)
		}
	}
}
