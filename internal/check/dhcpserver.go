package check

import (
	"context"
	"slices"

	"redstart/internal/core/result"
	"redstart/internal/lan/lease"
)

// dhcpServer looks, for a model that hands out addresses until it is set, whether it still
// does.
var dhcpServer = &Check{
	Wants: func(s Subject) []Want {
		if !s.Profile.Factory.Gives {
			return nil
		}
		return one("DHCP server", "off")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		servers, err := lease.Others(ctx, v.bench)
		switch {
		case err != nil:
			return result.Look{}, err
		case slices.ContainsFunc(servers, func(s lease.Server) bool { return s.MAC == v.MAC }):
			return result.Saw("it offers addresses", false), nil
		}
		return result.Saw("off", true), nil
	},
}
