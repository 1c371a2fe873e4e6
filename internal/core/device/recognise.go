package device

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/core/fact"
	"redstart/internal/core/profile"
)

// States in which a device may be.
const (
	Factory = "factory"
	Set     = "set"
)

// leastSure is where a fit begins to be more than chance, in percent.
const leastSure = 50

// Recognise chooses the best fitting profile, unless a person chose one. It
// leaves Profile empty when none fits better than by chance, and when several
// fit equally: then Maybe lists them.
func (f *Found) Recognise(profiles profile.Set) {
	if p := profiles[f.Profile]; f.Chosen && p != nil {
		f.Sure, f.Why, f.Maybe = 99, []string{"a person"}, nil
		f.judge(p)
		return
	}
	f.Profile, f.Chosen, f.Maybe, f.Sure, f.Why = "", false, nil, 0, nil
	for _, p := range profiles.Sorted() {
		switch sure, why := p.Sure(f.Values); {
		case sure < leastSure || sure < f.Sure:
		case sure == f.Sure:
			f.Maybe = append(f.Maybe, p.ID)
		default:
			f.Profile, f.Sure, f.Why, f.Maybe = p.ID, sure, why, []string{p.ID}
		}
	}
	if len(f.Maybe) > 1 {
		f.Profile = ""
	} else {
		f.Maybe = nil
	}
	f.judge(profiles[f.Profile])
}

// judge tells a fresh device from one that was set, as far as its facts do.
func (f *Found) judge(p *profile.Profile) {
	told := f.Value(fact.State)
	var addresses []netip.Addr
	if at, _ := f.Where(); at.IsValid() {
		addresses = append(addresses, at)
	}
	set := f.setByRun()
	switch {
	case !set.IsZero() && (p == nil || !f.freshSince(p, set)):
		f.State, f.StateWhy = Set, "a run set it"
	case told == Factory || told == Set:
		f.State, f.StateWhy = told, "it says so itself"
	case p == nil:
		f.State, f.StateWhy = "", ""
	case p.Fresh(f.Present) != "":
		f.State, f.StateWhy = Factory, "its "+p.Fresh(f.Present)+" says so"
	case f.Waits() && p.Factory.DHCP:
		f.State, f.StateWhy = Factory, "it waits for an address, as from the factory"
	case len(addresses) > 0 && p.Factory.Address.None():
		f.State, f.StateWhy = Set, fmt.Sprintf("it has the address %s, and from the factory it has none", addresses[0])
		if p.Factory.DHCP {
			f.State, f.StateWhy = "", ""
		}
	case len(addresses) > 0 && p.Factory.Address.Contains(addresses[0]):
		f.State, f.StateWhy = Factory, "it has its factory address"
	case len(addresses) > 0:
		f.State, f.StateWhy = Set, "its address is not the factory's"
	case p.Factory.Address.None() && !p.Factory.DHCP && f.Value(fact.Address6) == "":
		f.State, f.StateWhy = Factory, "it has no address yet"
	default:
		f.State, f.StateWhy = "", ""
	}
}

// setByRun tells when a run last set the device; the zero time when none did.
func (f *Found) setByRun() (at time.Time) {
	for _, x := range f.Facts {
		if x.Part == "" && x.Key == fact.State && x.Protocol == ByRun {
			at = later(at, x.Last)
		}
	}
	return at
}

// freshSince reports whether anything told after a moment that the device is as
// from the factory: it may have been reset.
func (f *Found) freshSince(p *profile.Profile, set time.Time) bool {
	newer := func(key string, fits func(value string) bool) bool {
		return slices.ContainsFunc(f.lately(func(x Fact) bool {
			return x.Part == "" && x.Key == key
		}), func(x Fact) bool {
			return x.Protocol != ByRun && x.Last.After(set) && fits(x.Value)
		})
	}
	for _, r := range p.Factory.Signs {
		if newer(r.Fact, r.Fits) {
			return true
		}
	}
	at, seen := f.Where()
	return newer(fact.State, func(v string) bool { return v == Factory }) ||
		p.Factory.DHCP && f.Waits() && newer(fact.Asks, func(string) bool { return true }) ||
		seen.After(set) && at.IsValid() && p.Factory.Address.Contains(at) ||
		seen.After(set) && !at.IsValid() && p.Factory.Address.None()
}
