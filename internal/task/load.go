package task

import (
	"context"
	"fmt"
	"net/netip"

	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
)

// load gives the device a sibling's configuration: what must differ is set afterwards.
var load = &Task{
	Name: string(profile.Load),
	Text: func(o Of) string {
		return itself(o, "load the configuration "+o.Given.Settings[profile.Configuration]+
			" of a sibling, whose address and name it has until both are set")
	},
	Do: func(ctx context.Context, b *Box, s Step) (string, error) {
		of, err := b.Records.FileNamed(ctx, b.d.Given.Settings[profile.Configuration])
		if err != nil {
			return "", err
		}
		if of.Profile != "" && of.Profile != b.p.ID {
			return "", problem.New(problem.Device, fmt.Sprintf("the configuration %s is of a %s, not of a %s", of.Name,
				of.Profile, b.p.ID), "name one of the same model").About(b.d.Tag)
		}
		return b.act(ctx, s)
	},
}

// sibling is the address that the device of the planned configuration had; invalid where none
// is planned, or nothing is known of it.
func (b *Box) sibling(ctx context.Context) netip.Addr {
	name := b.d.Given.Settings[profile.Configuration]
	if name == "" {
		return netip.Addr{}
	}
	f, err := b.Records.FileNamed(ctx, name)
	if err != nil {
		return netip.Addr{} // it says so itself when it is loaded
	}
	at, _ := netip.ParseAddr(f.Held) // "" for one that a person brought
	return at
}
