package task

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/lan/watch"
)

// reach finds the device by its MAC: at its new address, where it was seen last, at a
// factory address, or on the segment without an address.
var reach = &Task{
	Name: Reach,
	Text: func(Of) string { return "find it by its MAC" },
	Do: func(ctx context.Context, b *Box, _ Step) (string, error) {
		looking, cancel := context.WithTimeout(ctx, time.Duration(b.p.Restart.AtMost))
		defer cancel()
		switch err := b.whereNow(looking); {
		case errors.Is(err, watch.ErrAbsent):
			known, err2 := b.Records.Device(ctx, b.d.MAC)
			if err2 != nil {
				return "", err2
			}
			if six := overIPv6(known); six != "" {
				return "", problem.New(problem.Device, "it answers no question over IPv4, but was heard over IPv6: "+six+
					"; its IPv4 is switched off, or its address is one that nobody knows",
					"reset it to its factory state, then commission it again").About(b.d.MAC.String())
			}
			return "", problem.New(problem.Device, err.Error(),
				"check its cable and power, then commission it again").About(b.d.MAC.String())
		case err != nil:
			return "", err
		case !b.at.IsValid():
			return "no address yet", nil
		}
		return b.at.String(), nil
	},
}

// overIPv6 says where and when a device was heard last of which no IPv4 address is known; ""
// for one that has one, or that was not heard so.
func overIPv6(known *device.Found) string {
	if known.AddressNow().IsValid() {
		return ""
	}
	for _, x := range known.Facts {
		if x.Key == fact.Address6 && x.Last.Equal(known.Last) {
			return x.Value + " at " + x.Last.Local().Format(time.TimeOnly)
		}
	}
	return ""
}

// whereNow looks where the device is, for as long as the context lets it.
func (b *Box) whereNow(ctx context.Context) error {
	known, err := b.Records.Device(ctx, b.d.MAC)
	if err != nil {
		return err
	}
	candidates := slices.Concat([]netip.Addr{b.want()}, b.p.Factory.Address.List(), known.Addresses())
	if at := b.sibling(ctx); at.IsValid() {
		candidates = append(candidates, at)
	}
	slices.SortFunc(candidates, netip.Addr.Compare)
	w := watch.New(b.Bench, b.d.MAC, b.Avoid)
	defer w.Close()
	at, err := w.Find(ctx, slices.Compact(candidates), b.p.TellsWithoutAddress())
	if err == nil {
		b.here, b.at = true, at
	}
	return err
}
