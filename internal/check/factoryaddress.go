package check

import (
	"context"
	"errors"
	"net/netip"
	"slices"
	"sync"

	"redstart/internal/core/address"
	"redstart/internal/core/result"
	"redstart/internal/lan/bench"
)

// FactoryAddress is the name of the check that the factory address was given up.
const FactoryAddress = "factory address"

// factoryAddress looks whether the device gave its factory address up: one that keeps it beside the planned
// one is in the way of the next fresh box.
var factoryAddress = &Check{
	Wants: func(s Subject) []Want {
		if len(s.elsewhere()) == 0 {
			return nil
		}
		return one(FactoryAddress, "given up")
	},
	Anywhere: true,
	Look: func(ctx context.Context, v *Visit, w Want) (result.Look, error) {
		if held, err := v.holders(ctx); err != nil || !slices.Contains(held, v.MAC) {
			return result.Unseen("it is not at its planned address"), err
		}
		return v.once(w.Name, func() (result.Look, error) { return v.gaveUp(ctx, w.Expected) })
	},
}

// gaveUp asks who holds its factory addresses, all at the same time: some families have a range.
func (v *Visit) gaveUp(ctx context.Context, good string) (result.Look, error) {
	list := v.elsewhere()
	still, errs := make([]bool, len(list)), make([]error, len(list))
	var all sync.WaitGroup
	for i, a := range list {
		all.Go(func() {
			var held []address.MAC
			held, errs[i] = v.bench.Holders(ctx, bench.Peer{MAC: v.MAC, Address: a, Bits: v.Profile.Factory.Address.Bits,
				Avoid: v.avoid})
			still[i] = slices.Contains(held, v.MAC)
		})
	}
	all.Wait()
	if at := slices.Index(still, true); at >= 0 {
		return result.Saw("it is still at "+list[at].String()+" too", false), nil
	}
	return result.Saw(good, true), errors.Join(errs...)
}

// mostFactory bounds at how many factory addresses a device is looked for.
const mostFactory = 16

// elsewhere are the factory addresses that it should not have any more.
func (s Subject) elsewhere() []netip.Addr {
	list := slices.DeleteFunc(s.Profile.Factory.Address.List(), func(a netip.Addr) bool { return a == s.Address })
	return list[:min(len(list), mostFactory)]
}
