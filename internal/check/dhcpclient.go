package check

import (
	"cmp"
	"context"
	"slices"

	"redstart/internal/core/fact"
	"redstart/internal/core/result"
	"redstart/internal/core/value"
)

// dhcpClient looks whether the device still asks for an address: one that does may have
// another after its next start.
var dhcpClient = &Check{
	Wants: func(s Subject) []Want {
		if !slices.Contains(s.Profile.ReadsBack(), fact.DHCPClient) {
			return nil
		}
		return one("DHCP client", "off")
	},
	Look: func(ctx context.Context, v *Visit, _ Want) (result.Look, error) {
		r, err := v.read(ctx)
		if err != nil {
			return result.Look{}, err
		}
		if !r.read.Good {
			return result.Unseen(cmp.Or(r.read.Said, "not read")), nil
		}
		switch on, ok := value.YesNo(r.facts[fact.DHCPClient]); {
		case !ok:
			return result.Saw(cmp.Or(r.facts[fact.DHCPClient], "not said"), false), nil
		case on == "yes":
			return result.Saw("on", false), nil
		}
		return result.Look{Taken: true, Good: true, Said: "off", By: r.read.By}, nil
	},
}
