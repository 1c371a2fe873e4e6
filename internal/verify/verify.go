// Package verify looks at devices afresh and compares what they say with the
// plan. It remembers nothing of the run that set them but when they were last
// written to.
package verify

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/netip"

	"redstart/internal/check"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/lan/bench"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Verifier looks at devices.
type Verifier struct {
	Bench    *bench.Bench
	Store    *store.Site
	Vault    *vault.Vault
	Profiles profile.Set
	Log      *slog.Logger
}

// Entry verifies one matched entry of the plan, and stores the checks and the
// state they lead to.
func (v *Verifier) Entry(ctx context.Context, r plan.Resolver, e store.Entry, restart string,
	avoid func(netip.Addr) bool, who string) (list []result.Check, err error) {
	err = shield.Do(v.Log, e.Device.String(), func() error {
		list, err = v.entry(ctx, r, e, restart, avoid, who)
		return err
	})
	return list, err
}

func (v *Verifier) entry(ctx context.Context, r plan.Resolver, e store.Entry, restart string,
	avoid func(netip.Addr) bool, who string) ([]result.Check, error) {
	p := v.Profiles[e.Profile]
	switch {
	case p == nil:
		return nil, problem.New(problem.Conflict, "its profile "+e.Profile+" is gone",
			"put the profile back").About(e.Tag)
	case !e.Address.IsValid():
		return nil, problem.New(problem.Conflict, "it has no planned address",
			"plan one: redstart plan set "+e.Tag+" address=next").About(e.Tag)
	}
	servers, err := v.Store.Servers(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	was, err := v.Store.DeviceState(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	if e.HandAt.After(was.ChangedAt.Time) {
		was.ChangedAt = e.HandAt // a person wrote to it until then
	}
	visit := check.With(check.Subject{
		MAC: e.Device, PlannedMAC: e.MAC, Serial: cmp.Or(e.Serial, was.Serial), Servers: servers, Address: e.Address,
		Given: procedure.For(r, e.Entry, p), Profile: p, State: was, Hanging: r.Hanging(e.Tag),
	}, v.Bench, v.Store, v.Vault.Try(e.Device, p.Accounts, "verification by "+who), avoid)
	defer visit.Close()
	list, err := check.Run(ctx, visit, restart)
	if err != nil {
		return nil, err
	}
	state, reason := store.Configured, ""
	if e.State == store.Matched {
		state = store.Matched // nobody says that it was set; what was seen is told all the same
	}
	if result.Verified(list) {
		state = store.Verified
	}
	if failing := result.Failing(list); len(failing) > 0 {
		state, reason = store.Attention, fmt.Sprintf("verify, %s: expected %s, observed %s", failing[0].Name,
			failing[0].Expected, failing[0].Observed)
	}
	// First, since it refuses when the entry is another box by now.
	if err := v.Store.SetChecks(ctx, e.Tag, e.Device, list, state, reason, who); err != nil {
		return list, err
	}
	facts, at := visit.Told()
	if id := facts[fact.HostID]; id != "" {
		if err := v.Store.ToldHostID(ctx, e.Device, id, store.Stamp{Time: at}); err != nil {
			return list, err
		}
	}
	if facts[fact.Serial] == "" && facts[fact.Name] == "" {
		return list, nil
	}
	heard := device.Sighting{MAC: e.Device, Protocol: p.Over(profile.Read), At: at, Facts: map[string]string{}}
	for _, key := range []string{fact.Address, fact.Name, fact.Serial, fact.Firmware} {
		heard.Facts[key] = facts[key]
	}
	return list, v.Store.Sight(ctx, heard, func(f *device.Found) { f.Recognise(v.Profiles) })
}
