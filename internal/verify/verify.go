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
	"time"

	"redstart/internal/check"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/lan/bench"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Records are what verification keeps of a site.
type Records interface {
	Checks(ctx context.Context, tag string) ([]result.Check, error)
	SetChecks(ctx context.Context, tag string, mac address.MAC, list []result.Check, to, reason, who string) error
	ToldHostID(ctx context.Context, mac address.MAC, id string, at stamp.Time) error
	Sight(ctx context.Context, recognise func(*device.Found), seen ...device.Sighting) error
}

// Boxes are what is kept of boxes, whatever the site.
type Boxes interface {
	check.Boxes
	DeviceState(context.Context, address.MAC) (store.DeviceState, error)
	Servers(context.Context, address.MAC) (map[string]string, error)
}

// Secrets are those of a site, by what stands for them.
type Secrets interface {
	Secret(ctx context.Context, token string) (secret string, ok bool, err error)
}

// Logins are those of boxes, tried as often as a family allows.
type Logins interface {
	Try(mac address.MAC, accounts profile.Accounts, by string) *vault.Tries
}

// Verifier looks at devices.
type Verifier struct {
	Bench    *bench.Bench
	Records  Records
	Boxes    Boxes
	Secrets  Secrets
	Logins   Logins
	Profiles profile.Set
	Log      *slog.Logger
}

// Look is a box to look at, and for which entries: its own, those that hang behind it, or
// both.
type Look struct {
	Box   store.Entry
	Own   bool
	Parts []store.Entry
}

// Entries are those that are looked at, its own first.
func (l Look) Entries() (list []store.Entry) {
	if l.Own {
		list = append(list, l.Box)
	}
	return append(list, l.Parts...)
}

// At looks at one box afresh, stores the checks of each entry and the state that they lead
// to, and gives them by tag.
func (v *Verifier) At(ctx context.Context, r plan.Resolver, l Look, restart string,
	avoid func(netip.Addr) bool, who string) (lists map[string][]result.Check, err error) {
	lists = map[string][]result.Check{}
	err = shield.Do(v.Log, l.Box.Device.String(), func() error {
		return v.at(ctx, r, l, restart, avoid, who, lists)
	})
	return lists, err
}

func (v *Verifier) at(ctx context.Context, r plan.Resolver, l Look, restart string, avoid func(netip.Addr) bool,
	who string, lists map[string][]result.Check) error {
	visit, err := v.visit(ctx, r, l.Box, avoid, who)
	if err != nil {
		return err
	}
	defer visit.Close()
	if l.Own {
		if lists[l.Box.Tag], err = v.entry(ctx, visit, l.Box, restart, who); err != nil {
			return err
		}
	}
	for _, e := range l.Parts {
		list, err := visit.Of(ctx, v.part(r, e.Entry))
		if err == nil {
			list, err = v.carried(ctx, e.Tag, list)
		}
		if err != nil {
			return err
		}
		to, reason := judged(e, list)
		if err := v.Records.SetChecks(ctx, e.Tag, e.Device, list, to, reason, who); err != nil {
			return err
		}
		lists[e.Tag] = list
	}
	return v.sighted(ctx, visit, l.Box)
}

// judged says what state checks lead to. One that nobody says to be set stays as it is
// unless all is as planned.
func judged(e store.Entry, list []result.Check) (to, reason string) {
	to = state.Configured
	if e.State == state.Matched || e.State == state.Planned {
		to = e.State // nobody says that it was set; what was seen is told all the same
	}
	if result.Verified(list) {
		to = state.Verified
	}
	if failing := result.Failing(list); len(failing) > 0 {
		to, reason = state.Attention, fmt.Sprintf("verify, %s: expected %s, observed %s", failing[0].Name,
			failing[0].Expected, failing[0].Observed)
	}
	return to, reason
}

// part is what should be so of an entry that hangs behind another.
func (v *Verifier) part(r plan.Resolver, e plan.Entry) check.Part {
	row, _ := r.PartRow(e)
	p := check.Part{Tag: e.Tag, Name: e.Part, Serial: e.Serial, PartRow: row}
	if of := v.Profiles[e.Profile]; of != nil {
		p.Model = of.Model
	}
	return p
}

func (v *Verifier) visit(ctx context.Context, r plan.Resolver, e store.Entry, avoid func(netip.Addr) bool,
	who string) (*check.Visit, error) {
	p := v.Profiles[e.Profile]
	switch {
	case p == nil:
		return nil, problem.New(problem.Conflict, "its profile "+e.Profile+" is gone",
			"put the profile back").About(e.Tag)
	case !e.Address.IsValid():
		return nil, problem.New(problem.Conflict, "it has no planned address",
			"plan one: redstart plan set "+e.Tag+" address=next").About(e.Tag)
	}
	servers, err := v.Boxes.Servers(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	was, err := v.Boxes.DeviceState(ctx, e.Device)
	if err != nil {
		return nil, err
	}
	if e.HandAt.After(was.ChangedAt.Time) {
		was.ChangedAt, was.Written = e.HandAt, time.Time{} // a person wrote to it until then
		if !was.RestartedAt.After(e.HandAt.Time) {
			was.RestartedAt, was.Evidence = stamp.Time{}, ""
		}
	}
	var behind []check.Part
	for _, part := range r.PartsOf(e.Tag) {
		if part.Part != "" && !part.NotWired {
			behind = append(behind, v.part(r, part))
		}
	}
	return check.With(check.Subject{
		MAC: e.Device, PlannedMAC: e.MAC, Serial: cmp.Or(e.Serial, was.Serial), Servers: servers, Address: e.Address,
		Given: procedure.For(r, e.Entry, p), Profile: p, State: was, Hanging: r.Hanging(e.Tag), Parts: behind,
		Secret: v.Secrets.Secret,
	}, v.Bench, v.Boxes, v.Logins.Try(e.Device, p.Accounts, "verification by "+who), avoid), nil
}

// entry looks at the box itself, and stores what it saw.
func (v *Verifier) entry(ctx context.Context, visit *check.Visit, e store.Entry, restart, who string) ([]result.Check,
	error) {
	list, err := check.Run(ctx, visit, restart)
	if err == nil {
		list, err = v.carried(ctx, e.Tag, list)
	}
	if err != nil {
		return nil, err
	}
	to, reason := judged(e, list)
	// First, since it refuses when the entry is another box by now.
	return list, v.Records.SetChecks(ctx, e.Tag, e.Device, list, to, reason, who)
}

// carried puts what persons said of an entry into new checks of it.
func (v *Verifier) carried(ctx context.Context, tag string, list []result.Check) ([]result.Check, error) {
	earlier, err := v.Records.Checks(ctx, tag)
	return result.Carried(earlier, list), err
}

// sighted keeps what the box told of itself and of what hangs behind it.
func (v *Verifier) sighted(ctx context.Context, visit *check.Visit, e store.Entry) error {
	p := v.Profiles[e.Profile]
	facts, at := visit.Reading()
	if id := facts[fact.HostID]; id != "" {
		if err := v.Records.ToldHostID(ctx, e.Device, id, stamp.Time{Time: at}); err != nil {
			return err
		}
	}
	var heard []device.Sighting
	if facts[fact.Serial] != "" || facts[fact.Name] != "" {
		own := device.Sighting{MAC: e.Device, Protocol: p.Over(profile.Read), At: at, Facts: map[string]string{}}
		for _, key := range []string{fact.Address, fact.Name, fact.Serial, fact.Firmware} {
			own.Facts[key] = facts[key]
		}
		heard = append(heard, own)
	}
	if p.TellsParts() {
		rows, _ := p.Parts.Rows(facts[fact.Parts]) // what is no table tells of nothing
		for _, row := range rows {
			heard = append(heard, device.Sighting{MAC: e.Device, Part: row.Name, Protocol: p.Over(profile.Read), At: at,
				Facts: row.Facts})
		}
	}
	return v.Records.Sight(ctx, func(f *device.Found) { f.Recognise(v.Profiles) }, heard...)
}
