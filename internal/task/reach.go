package task

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/problem"
	"redstart/internal/lan/watch"
)

// reach finds the device by its MAC: at its new address, where it was seen last, at a
// factory address, or on the segment without an address.
var reach = &Task{
	Name: Reach,
	Text: func(Of) string { return "find it by its MAC" },
	Do: func(ctx context.Context, b *Box, _ Step) (string, error) {
		ctx, cancel := context.WithTimeout(ctx, time.Duration(b.p.Restart.AtMost))
		defer cancel()
		switch err := b.whereNow(ctx); {
		case errors.Is(err, watch.ErrAbsent):
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

// whereNow looks where the device is, for as long as the context lets it.
func (b *Box) whereNow(ctx context.Context) error {
	known, err := b.Store.Device(ctx, b.d.MAC)
	if err != nil {
		return err
	}
	candidates := slices.Concat([]netip.Addr{b.want()}, b.p.Factory.Address.List(), known.Addresses())
	if at := b.sibling(ctx); at.IsValid() {
		candidates = append(candidates, at)
	}
	slices.SortFunc(candidates, netip.Addr.Compare)
	w := watch.New(b.Bench, b.d.MAC)
	defer w.Close()
	at, err := w.Find(ctx, slices.Compact(candidates), b.p.TellsWithoutAddress())
	if err == nil {
		b.here, b.at = true, at
	}
	return err
}
