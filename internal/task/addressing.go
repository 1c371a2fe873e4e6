package task

import (
	"context"
	"fmt"
	"net/netip"

	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/driver"
	"redstart/internal/lan/bench"
)

// addressing gives the device its planned address, right after it was shown to be free.
var addressing = &Task{
	Name: string(profile.Address),
	Text: func(o Of) string {
		return itself(o, how(o.Profile)+o.Given.Address.String()+gatewayText(o.Given)+siteWideText(o))
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) {
		if b.at.IsValid() && b.p.Factory.DHCP && !b.p.NeedsAddress(profile.Address) {
			b.idle, b.lent = s.stage.Then != profile.Stays, true
			return "it has an address already, " + b.at.String(), nil
		}
		if err := b.showFree(ctx); err != nil {
			return "", err
		}
		how, err := b.act(ctx, s)
		b.lent = err == nil && lends(b.p)
		return how, err
	},
}

// whereLent looks where the device is, and lends it its address again if it lost that, as one does that is
// switched off before it was told to keep it: nothing can be asked of it otherwise.
func (b *Box) whereLent(ctx context.Context) error {
	lent := b.lent || lends(b.p) && b.journal[string(profile.Address)].Phase == state.Done
	if err := b.whereNow(ctx); err != nil || b.at.IsValid() || !lent {
		return err
	}
	if err := b.showFree(ctx); err != nil {
		return err
	}
	vars, err := b.variables(ctx)
	if err != nil {
		return err
	}
	client := driver.New(b.Bench, b.target(netip.Addr{}))
	defer client.Close()
	if _, err := client.Do(ctx, profile.Address, vars); err != nil {
		return err
	}
	b.at = b.want()
	return nil
}

// how tells in which way the device gets its address.
func how(p *profile.Profile) string {
	if lends(p) {
		return "answer it over DHCP with the address "
	}
	return "set the address "
}

// lends reports whether a device of a profile gets its address over DHCP.
func lends(p *profile.Profile) bool { return p.Factory.DHCP && !p.NeedsAddress(profile.Address) }

func gatewayText(v procedure.Values) string {
	if !v.Gateway.IsValid() {
		return ""
	}
	return ", gateway " + v.Gateway.String()
}

// showFree shows that nobody else holds the planned address, immediately
// before it is given out.
func (b *Box) showFree(ctx context.Context) error {
	holders, err := b.Bench.Free(ctx, bench.Peer{MAC: b.d.MAC, Address: b.want(), Avoid: b.Avoid})
	if err != nil {
		return err
	}
	for _, h := range holders {
		if h != b.d.MAC {
			return problem.New(problem.Device, fmt.Sprintf("the address %s is in use by %s", b.want(), h),
				"free the address or plan another, then commission it again").About(b.d.MAC.String())
		}
	}
	return nil
}
