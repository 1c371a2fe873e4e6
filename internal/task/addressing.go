package task

import (
	"context"
	"fmt"

	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
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
			b.idle = s.stage.Then != profile.Stays
			return "it has an address already, " + b.at.String(), nil
		}
		if err := b.showFree(ctx); err != nil {
			return "", err
		}
		return b.act(ctx, s)
	},
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
