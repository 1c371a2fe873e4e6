// Package dhcp is the driver for boxes that take an address over DHCP (RFC 2131) and
// from nobody else: it gives one box the address that is planned for it.
package dhcp

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/lease"
	"redstart/internal/wire/dhcp"
)

const (
	leaseTime = 12 * time.Hour
	// waitTime is how long the box may take until it asks: the slowest ask once a
	// minute or so, and are offered an address before they ask for it.
	waitTime = 3 * time.Minute
)

// Move gives the box its planned address.
type Move struct {
	DHCP string `yaml:"dhcp"` // give
}

// Driver is the DHCP driver.
type Driver struct{ driver.Plain }

// Name implements profile.Driver.
func (Driver) Name() string { return "dhcp" }

// Keys implements profile.Driver.
func (Driver) Keys() []string { return []string{"dhcp"} }

// Move implements profile.Driver.
func (Driver) Move(part profile.Part, _ profile.Section) (profile.Words, error) {
	var m Move
	if err := part.Into(&m); err != nil {
		return nil, err
	}
	if m.DHCP != "give" {
		return nil, fmt.Errorf("dhcp must be give, not %q", m.DHCP)
	}
	return m, nil
}

// Sends implements profile.Words.
func (Move) Sends() []string { return []string{"address", "bits", "gateway", "name"} }

// Takes implements profile.Words.
func (Move) Takes() []string { return nil }

// NeedsAddress implements profile.Words.
func (Move) NeedsAddress() bool { return false }

// session is one box that is waited for.
type session struct{ driver.Peer }

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session { return session{peer} }

// Close implements driver.Session.
func (session) Close() {}

// Ready implements driver.Session: the box comes by itself.
func (session) Ready(context.Context) error { return nil }

// Do implements driver.Session: it waits until the box asks, and gives it its address.
func (s session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	if _, ok := words.(Move); !ok {
		return nil, fmt.Errorf("%w: this is no DHCP move", driver.ErrNotSent)
	}
	given, err := s.grant(vars)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	from, giveBack, err := s.Bench.Borrow(ctx, bench.Peer{MAC: s.MAC, Address: given.Lease.Address.Addr(),
		Bits: given.Lease.Address.Bits(), Avoid: s.Avoid})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
	}
	defer giveBack()
	given.Lease.Server = from
	waiting, cancel := context.WithTimeout(ctx, waitTime)
	defer cancel()
	var refused error
	err = lease.Serve(waiting, s.Bench, []lease.Grant{given}, s.OtherServers, s.Avoid,
		func(_ lease.Grant, err error) { refused = err })
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case errors.Is(err, context.DeadlineExceeded):
		return nil, fmt.Errorf("%w: it did not ask for an address within %s", driver.ErrNoAnswer, waitTime)
	}
	if errors.Is(refused, lease.ErrUnseen) {
		refused = nil // the run waits until it is there
	}
	return nil, errors.Join(err, refused)
}

func (s session) grant(vars map[string]string) (lease.Grant, error) {
	at, err := address.ParseIPv4(vars["address"])
	if err != nil {
		return lease.Grant{}, err
	}
	bits, err := strconv.Atoi(vars["bits"])
	if err != nil {
		return lease.Grant{}, err
	}
	gateway, err := address.ParseIPv4(vars["gateway"])
	if err != nil {
		return lease.Grant{}, err
	}
	if gateway.IsUnspecified() {
		gateway = netip.Addr{}
	}
	return lease.Grant{MAC: s.MAC, Lease: dhcp.Lease{Address: netip.PrefixFrom(at, bits), Gateway: gateway,
		Name: vars["name"], Time: leaseTime}}, nil
}
