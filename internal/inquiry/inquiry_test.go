package inquiry_test

import (
	"context"
	"errors"
	"net/http"
	"net/netip"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
	"redstart/internal/inquiry"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/box"
	"redstart/internal/wire/snmp"
	"redstart/profiles"
)

const hostile = `redstart: profile/1
id: hostile
maker: Nobody
model: H
kind: switch
about: Says too much.
recognise:
  - {fact: mac, begins: "02:", sure: 60}
ask: [http, ssh, snmp, onvif]
factory:
  address: 10.0.0.9/24
user: u
restart: {takes: 1s, at-most: 2s}
ports: [22, 80, 81]
`

// power runs a box until the test ends, and waits until it is up.
func power(t *testing.T, wire *segment.Segment, mac address.MAC, model box.Model) {
	t.Helper()
	b := box.New(box.Spec{MAC: mac, Serial: "1", Factory: box.Settings{Address: netip.MustParsePrefix("10.0.0.9/24")}},
		model, wire.Attach(mac, 128))
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		b.Run(ctx)
	}()
	t.Cleanup(func() {
		stop()
		<-ended
	})
	tick := time.NewTicker(5 * time.Millisecond)
	defer tick.Stop()
	for b.Starts() == 0 {
		<-tick.C
	}
}

// A box that talks without end, answers in circles and hides ports is asked to
// the end all the same, and told of in few words.
func TestABoxThatSaysTooMuch(t *testing.T) {
	p, err := profiles.Parse([]byte(hostile))
	if err != nil {
		t.Fatal(err)
	}
	wire, mac := &segment.Segment{}, address.MAC{2, 6, 6, 6, 6, 6}
	asked := 0
	power(t, wire, mac, box.Model{Maker: "Nobody", Name: "H", Port: 80,
		Services: []box.Service{box.Greets(22, strings.Repeat("SSH-2.0-", 200))},
		Handler: func(*box.Box) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path != "/" {
					http.Error(w, "<not><xml", http.StatusOK)
					return
				}
				w.Header().Set("Server", "chatty/1")
				_, _ = w.Write([]byte("<title>One\n  two</title>"))
				for range 1000 {
					if _, err := w.Write([]byte(strings.Repeat("blah ", 1000))); err != nil {
						return // nobody listens any more
					}
				}
			})
		},
		Datagrams: []box.Datagram{{Port: snmp.Port, Answer: func(_ *box.Box, _ netip.AddrPort, payload []byte,
			reply box.Reply) {
			m, err := snmp.Parse(payload)
			if err != nil {
				return
			}
			asked++
			answer := snmp.Message{Kind: snmp.KindResponse, ID: m.ID, Community: m.Community, Values: m.Values}
			if m.Kind == snmp.KindBulk { // the same object over and over
				answer.Values = slices.Repeat([]snmp.Value{{OID: m.Values[0].OID + ".1", Number: 1}}, 20)
			}
			if raw, err := answer.Append(); err == nil {
				reply(raw, netip.AddrPort{})
			}
		}}}})
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	defer b.Close()
	f := &device.Found{}
	f.Add(device.Sighting{MAC: mac, Protocol: "arp", At: time.Now(), Facts: map[string]string{"address": "10.0.0.9"}})
	f.Recognise(profile.Set{"hostile": p})
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	told, err := inquiry.Inquirer{Bench: b, Profiles: profile.Set{"hostile": p}}.Ask(ctx, f)
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range told {
		if s.MAC != mac {
			t.Errorf("%+v", s)
		}
		f.Add(s)
	}
	if f.Value(fact.Title) != "One two" || f.Value(fact.Server) != "chatty/1" ||
		!strings.HasPrefix(f.Value(fact.Banner), "SSH-2.0-") || len(f.Value(fact.Banner)) > 255 {
		t.Errorf("%+v", f.Facts)
	}
	if open := f.Values(fact.Open); slices.Contains(open, "81/tcp") || !slices.Contains(open, "22/tcp") ||
		!slices.Contains(open, "80/tcp") {
		t.Errorf("open: %v", open)
	}
	if len(told) > 30 || asked > 60 {
		t.Errorf("%d sightings after %d SNMP questions", len(told), asked)
	}
}

// A box that answers nothing is an error, so that it is asked again; a stranger
// is not asked at all.
func TestSilenceAndStrangers(t *testing.T) {
	p, err := profiles.Parse([]byte(strings.Replace(hostile, "ask: [http, ssh, snmp, onvif]", "ask: [http]", 1)))
	if err != nil {
		t.Fatal(err)
	}
	wire, mac := &segment.Segment{}, address.MAC{2, 6, 6, 6, 6, 7}
	power(t, wire, mac, box.Model{Maker: "Nobody", Name: "H"})
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	defer b.Close()
	q := inquiry.Inquirer{Bench: b, Profiles: profile.Set{"hostile": p}}
	f := &device.Found{}
	f.Add(device.Sighting{MAC: mac, Protocol: "arp", At: time.Now(), Facts: map[string]string{"address": "10.0.0.9"}})
	sent := b.Sent.Load()
	if told, err := q.Ask(context.Background(), f); told != nil || err != nil || b.Sent.Load() != sent {
		t.Errorf("a stranger was asked: %+v, %v", told, err)
	}
	f.Recognise(profile.Set{"hostile": p})
	if told, err := q.Ask(context.Background(), f); len(told) != 0 || err == nil {
		t.Errorf("%+v, %v", told, err)
	}
}

// What did not come in time is worth another question, although something came;
// what was refused is not.
func TestWhatDidNotComeInTimeIsAnError(t *testing.T) {
	for asks, want := range map[string]bool{"[http, onvif]": true, "[http, https]": false} {
		p, err := profiles.Parse([]byte(strings.Replace(hostile, "ask: [http, ssh, snmp, onvif]", "ask: "+asks, 1)))
		if err != nil {
			t.Fatal(err)
		}
		wire, mac := &segment.Segment{}, address.MAC{2, 6, 6, 6, 6, 8}
		power(t, wire, mac, box.Model{Maker: "Nobody", Name: "H", Port: 80, Handler: func(*box.Box) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.Path != "/" {
					<-r.Context().Done()
				}
			})
		}})
		b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
		defer b.Close()
		f := &device.Found{}
		f.Add(device.Sighting{MAC: mac, Protocol: "arp", At: time.Now(),
			Facts: map[string]string{"address": "10.0.0.9"}})
		f.Recognise(profile.Set{"hostile": p})
		told, err := inquiry.Inquirer{Bench: b, Profiles: profile.Set{"hostile": p}}.Ask(context.Background(), f)
		if len(told) == 0 || (err != nil) != want {
			t.Errorf("%s: %+v, %v", asks, told, err)
		}
	}
}

// A switch whose tables did not come has told half, although it answered: what hangs where
// would be said of none of its ports otherwise.
func TestASwitchThatKeepsItsTables(t *testing.T) {
	t.Parallel()
	p, err := profiles.Parse([]byte(strings.Replace(hostile, "ask: [http, ssh, snmp, onvif]", "ask: [snmp]", 1)))
	if err != nil {
		t.Fatal(err)
	}
	wire, mac := &segment.Segment{}, address.MAC{2, 6, 6, 6, 6, 9}
	power(t, wire, mac, box.Model{Maker: "Nobody", Name: "H", Datagrams: []box.Datagram{{Port: snmp.Port,
		Answer: func(_ *box.Box, _ netip.AddrPort, payload []byte, reply box.Reply) {
			m, err := snmp.Parse(payload)
			if err != nil || m.Kind != snmp.KindGet {
				return
			}
			answer := snmp.Message{Kind: snmp.KindResponse, ID: m.ID, Community: m.Community,
				Values: []snmp.Value{{OID: snmp.SysName, Text: "core"}}}
			if raw, err := answer.Append(); err == nil {
				reply(raw, netip.AddrPort{})
			}
		}}}})
	b := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	defer b.Close()
	f := &device.Found{}
	f.Add(device.Sighting{MAC: mac, Protocol: "arp", At: time.Now(), Facts: map[string]string{"address": "10.0.0.9"}})
	f.Recognise(profile.Set{"hostile": p})
	told, err := inquiry.Inquirer{Bench: b, Profiles: profile.Set{"hostile": p}}.Ask(context.Background(), f)
	if len(told) == 0 || !errors.Is(err, os.ErrDeadlineExceeded) {
		t.Errorf("%+v, %v", told, err)
	}
}
