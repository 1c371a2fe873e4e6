// Package dcp carries out a profile's DCP moves.
package dcp

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strconv"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/wire/dcp"
	"redstart/internal/wire/ethernet"
)

const (
	tries    = 6
	tryEvery = 400 * time.Millisecond
)

// ErrSilent says that the device did not answer.
var ErrSilent = errors.New("the device does not answer over DCP")

// Do carries out one move with the device at mac and returns what it told.
func Do(ctx context.Context, b *bench.Bench, mac address.MAC, m profile.Move, vars map[string]string) (map[string]string, error) {
	keep := uint16(dcp.Temporary)
	if m.Keep {
		keep = dcp.Permanent
	}
	xid := rand.Uint32()
	switch m.DCP {
	case "identify":
		p, err := exchange(ctx, b, mac, dcp.GetRequest(xid))
		if err != nil {
			return nil, err
		}
		return p.Station(), nil
	case "set-name":
		return nil, set(ctx, b, mac, dcp.SetRequest(xid, dcp.NameBlock(vars["name"], keep)))
	case "set-address":
		at, gateway, err := addressing(vars)
		if err != nil {
			return nil, err
		}
		return nil, set(ctx, b, mac, dcp.SetRequest(xid, dcp.AddressBlock(at, gateway, keep)))
	case "signal":
		return nil, set(ctx, b, mac, dcp.SetRequest(xid, dcp.SignalBlock()))
	}
	return nil, fmt.Errorf("there is no DCP move %q", m.DCP)
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

func set(ctx context.Context, b *bench.Bench, mac address.MAC, request *dcp.PDU) error {
	p, err := exchange(ctx, b, mac, request)
	if err != nil {
		return err
	}
	if err := p.SetError(); err != nil {
		return fmt.Errorf("the device refused: %w", err)
	}
	return nil
}

// exchange sends a request until the device answers it. Requests are safe to
// repeat: they say what should be, not what should change.
func exchange(ctx context.Context, b *bench.Bench, mac address.MAC, request *dcp.PDU) (*dcp.PDU, error) {
	ear := b.ListenTo(mac, 16, func(f ethernet.Frame) bool { return f.Type == ethernet.TypePROFINET })
	defer ear.Close()
	again := time.NewTicker(tryEvery)
	defer again.Stop()
	for range tries {
		if err := b.Send(request.Frame(b.MAC(), mac)); err != nil {
			return nil, err
		}
		for waiting := true; waiting; {
			select {
			case f := <-ear.Frames():
				p, err := dcp.Parse(f.Payload)
				if err == nil && p.Xid == request.Xid && p.ServiceID == request.ServiceID && p.ServiceType != dcp.TypeRequest {
					return p, nil
				}
			case <-again.C:
				waiting = false
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
	}
	return nil, ErrSilent
}
