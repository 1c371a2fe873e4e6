package check

import (
	"context"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/result"
)

// HeldBy is the name of the check of who holds the planned address.
const HeldBy = "address held by"

// holders looks who answers for the planned address: the device, and nobody else
// (RFC 5227).
var holders = &Check{
	Anywhere: true,
	Wants:    func(s Subject) []Want { return one(HeldBy, s.MAC.String()) },
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		held, err := v.holders(ctx)
		if err != nil {
			return result.Look{}, err
		}
		by := macs(held)
		return result.Saw(by, by == w.Expected), nil
	},
}

func macs(list []address.MAC) string {
	if len(list) == 0 {
		return "nobody"
	}
	var text []string
	for _, m := range list {
		text = append(text, m.String())
	}
	slices.Sort(text)
	return strings.Join(text, ", ")
}
