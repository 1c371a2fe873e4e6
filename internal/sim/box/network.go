package box

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"strconv"
	"strings"
)

// errNetwork is what a device says to an address that is none.
var errNetwork = errors.New("address, mask or gateway is wrong")

// Network reads an address, a mask or the length of a prefix, and a gateway, as a person
// types them. No gateway is 0.0.0.0 or nothing.
func Network(address, mask, gateway string) (netip.Prefix, netip.Addr, error) {
	a, err := netip.ParseAddr(address)
	if err != nil || !a.Is4() {
		return netip.Prefix{}, netip.Addr{}, errNetwork
	}
	bits, err := strconv.Atoi(mask)
	if err != nil {
		var size int
		if bits, size = net.IPMask(net.ParseIP(mask).To4()).Size(); size != 32 {
			return netip.Prefix{}, netip.Addr{}, errNetwork
		}
	}
	if bits < 8 || bits > 30 {
		return netip.Prefix{}, netip.Addr{}, errNetwork
	}
	var via netip.Addr
	if gateway = strings.TrimSpace(gateway); gateway != "" {
		if via, err = netip.ParseAddr(gateway); err != nil {
			return netip.Prefix{}, netip.Addr{}, errNetwork
		}
	}
	return netip.PrefixFrom(a, bits), via, nil
}

// Dial opens a TCP connection from the device to another host on its segment.
func (b *Box) Dial(ctx context.Context, _, to string) (net.Conn, error) {
	at, err := netip.ParseAddrPort(to)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	live := b.live
	b.mu.Unlock()
	if live == nil || live.host == nil {
		return nil, net.ErrClosed
	}
	return live.host.Dial(ctx, at)
}
