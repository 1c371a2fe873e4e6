package dhcp_test

import (
	"context"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/driver/all"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/segment"
	"redstart/internal/sim/box"
)

const heron = `redstart: profile/1
id: heron
maker: Heron
model: H
kind: lamp
recognise: [{fact: model, is: h, sure: 90}]
factory: {address: none, dhcp: true}
restart: {takes: 1s, at-most: 5s}
talk: {web: {scheme: http}}
order: [{act: address, then: moves}]
acts:
  address: [{dhcp: give}]
  read: [{request: GET /, take: {model: json /m, name: json /n, cidr: json /a, gateway: json /g}}]
`

var planned = map[string]string{"address": "10.40.9.7", "bits": "22", "gateway": "10.40.8.1", "name": "h-1"}

// waiting is a box that waits for an address, and a client of it.
func waiting(t *testing.T, class string) (*box.Box, *driver.Client) {
	t.Helper()
	p, err := profile.Parse([]byte(heron), all.Words())
	if err != nil {
		t.Fatal(err)
	}
	if p.NeedsAddress(profile.Address) || p.TellsWithoutAddress() {
		t.Error("giving an address needs one, or tells something")
	}
	wire, mac := &segment.Segment{}, address.MAC{0x06, 1, 2, 3, 4, 5}
	b := box.New(box.Spec{MAC: mac, Every: time.Second}, box.Model{Maker: "Heron", Name: "H", Class: class},
		wire.Attach(mac, 256))
	ctx, stop := context.WithCancel(context.Background())
	down := make(chan struct{})
	go func() { defer close(down); b.Run(ctx) }()
	ours := bench.New(wire.Attach(address.MAC{2, 0x52, 0x53, 0, 0, 1}, 1024))
	t.Cleanup(func() { ours.Close(); stop(); <-down })
	client := driver.New(ours, driver.Target{MAC: mac, Profile: p})
	t.Cleanup(client.Close)
	return b, client
}

func TestABoxIsGivenItsPlannedAddress(t *testing.T) {
	t.Parallel()
	b, client := waiting(t, "heron")
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if _, err := client.Do(ctx, profile.Address, planned); err != nil {
		t.Fatal(err)
	}
	for b.Running().Address != netip.MustParsePrefix("10.40.9.7/22") && ctx.Err() == nil {
		time.Sleep(10 * time.Millisecond) // the box takes it in
	}
	if s := b.Running(); s.Address.String() != "10.40.9.7/22" || s.Gateway.String() != "10.40.8.1" {
		t.Errorf("it has %+v", s)
	}
}

func TestABoxThatNeverAsks(t *testing.T) {
	t.Parallel()
	_, client := waiting(t, "")
	ctx, cancel := context.WithCancel(context.Background())
	time.AfterFunc(3*time.Second, cancel)
	if _, err := client.Do(ctx, profile.Address, planned); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
	if _, err := client.Do(t.Context(), profile.Address, map[string]string{"address": "here"}); !errors.Is(err,
		driver.ErrNotSent) || !strings.Contains(err.Error(), "here") {
		t.Errorf("%v", err)
	}
}
