// Package check holds what verification looks at, one file for each check: when it
// applies, what is expected, and how it looks. docs/adding.md tells how one is added.
package check

import (
	"context"
	"time"

	"redstart/internal/core/result"
)

// Check is one fact about a device that is looked at afresh.
type Check struct {
	// Wants lists what is expected: none where the check does not apply, several where
	// it is about several things, such as ports.
	Wants func(Subject) []Want
	// Look looks. Its error is ours, the records' or the segment's; what the device does
	// wrong is part of the result.
	Look func(context.Context, *Visit, Want) (result.Look, error)
	// Anywhere says that it can be looked at also when the device is not at its planned
	// address.
	Anywhere bool
}

// Want is one thing that should be so.
type Want struct {
	Name     string // of the check, as it is shown
	Expected string
	Key      string // what it is about, where the check is about several things
}

// All are the checks in the order in which they are looked at and shown. A new one is one
// file and a line here.
var All = []*Check{holders, factoryAddress, matched, echo, ports, newLogin, password, factoryLogin, wrongPassword, serial, facts, firmware, dhcpClient, dhcpServer, clock,
	settings, byHand, secrets, conditions, networks, parts,
	servers, kept}

// Run looks at everything that applies to a device.
func Run(ctx context.Context, v *Visit, restart string) ([]result.Check, error) {
	if err := v.begin(ctx, restart); err != nil {
		return nil, err
	}
	list := []result.Check{}
	for _, c := range All {
		for _, w := range c.Wants(v.Subject) {
			l, err := v.look(ctx, c, w)
			if err != nil {
				return nil, err
			}
			list = append(list, result.Of(w.Name, w.Expected, l, time.Now().UTC()))
		}
	}
	return list, ctx.Err()
}

// look takes one look, if the device is where it can be looked at.
func (v *Visit) look(ctx context.Context, c *Check, w Want) (result.Look, error) {
	if !c.Anywhere {
		switch here, err := v.here(ctx); {
		case err != nil:
			return result.Look{}, err
		case !here:
			return result.Unseen("it is not at its planned address"), nil
		}
	}
	return c.Look(ctx, v, w)
}

// one is the list of a check that is about one thing.
func one(name, expected string) []Want { return []Want{{Name: name, Expected: expected}} }
