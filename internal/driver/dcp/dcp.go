// Package dcp is the DCP driver: it asks and sets PROFINET stations, which need no
// address for it (IEC 61158-6-10).
package dcp

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/driver"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

const (
	tries    = 6
	tryEvery = 400 * time.Millisecond
)

// session is one conversation with one station.
type session struct{ driver.Peer }

// Open implements driver.Driver.
func (Driver) Open(peer driver.Peer) driver.Session { return session{peer} }

// Close implements driver.Session.
func (session) Close() {}

// Ready implements driver.Session.
func (s session) Ready(ctx context.Context) error {
	_, err := s.Do(ctx, Move{DCP: "identify"}, nil)
	return err
}

// Do implements driver.Session.
func (s session) Do(ctx context.Context, words profile.Words, vars map[string]string) (map[string]string, error) {
	m, ok := words.(Move)
	if !ok {
		return nil, fmt.Errorf("%w: this is no DCP move", driver.ErrNotSent)
	}
	keep := uint16(dcp.Temporary)
	if m.Keep {
		keep = dcp.Permanent
	}
	xid := rand.Uint32()
	switch m.DCP {
	case "identify":
		p, err := s.exchange(ctx, dcp.GetRequest(xid))
		if err != nil {
			return nil, err
		}
		return p.Station(), nil
	case "set-name":
		return nil, s.set(ctx, dcp.SetRequest(xid, dcp.NameBlock(vars["name"], keep)))
	case "set-address":
		at, gateway, err := addressing(vars)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", driver.ErrNotSent, err)
		}
		return nil, s.set(ctx, dcp.SetRequest(xid, dcp.AddressBlock(at, gateway, keep)))
	case "signal":
		return nil, s.set(ctx, dcp.SetRequest(xid, dcp.SignalBlock()))
	}
	return nil, fmt.Errorf("%w: there is no DCP move %q", driver.ErrNotSent, m.DCP)
}

func addressing(vars map[string]string) (at netip.Prefix, gateway netip.Addr, err error) {
	a, err := address.ParseIPv4(vars["address"])
	if err != nil {
		return at, gateway, err
	}
	bits, err := strconv.Atoi(vars["bits"])
	if err != nil {
		return at, gateway, err
	}
	if gateway, err = address.ParseIPv4(vars["gateway"]); err != nil {
		return at, gateway, err
	}
	if gateway.IsUnspecified() {
		gateway = netip.Addr{}
	}
	return netip.PrefixFrom(a, bits), gateway, nil
}

func (s session) set(ctx context.Context, request *dcp.PDU) error {
	p, err := s.exchange(ctx, request)
	if err != nil {
		return err
	}
	if err := p.SetError(); err != nil {
		return fmt.Errorf("%w: %w", driver.ErrValue, err)
	}
	return nil
}

// exchange sends a request until the device answers it. Requests are safe to
// repeat: they say what should be, not what should change.
func (s session) exchange(ctx context.Context, request *dcp.PDU) (*dcp.PDU, error) {
	listener := s.Bench.ListenTo(s.MAC, 16, func(f ethernet.Frame) bool { return f.Type == ethernet.TypePROFINET })
	defer listener.Close()
	again := time.NewTicker(tryEvery)
	defer again.Stop()
	for range tries {
		if err := s.Bench.Send(request.Frame(s.Bench.MAC(), s.MAC)); err != nil {
			return nil, err
		}
		for waiting := true; waiting; {
			select {
			case f := <-listener.Frames():
				p, err := dcp.Parse(f.Payload)
				if err == nil && p.Xid == request.Xid && p.ServiceID == request.ServiceID &&
					p.ServiceType != dcp.TypeRequest {
					return p, nil
				}
			case <-again.C:
				waiting = false
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
	}
	return nil, fmt.Errorf("%w: the device does not answer over DCP", driver.ErrNoAnswer)
}
