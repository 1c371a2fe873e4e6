package jobs

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/lan/lease"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/wire/dhcp"
	"redstart/internal/works"
)

const (
	leaseTime  = 12 * time.Hour
	usualWait  = 3 * time.Minute
	longestAsk = time.Hour
)

// Askers lists the boxes on the segment that wait for an address.
func (s *Site) Askers(ctx context.Context) ([]api.Asker, error) {
	seg, err := s.Devices(ctx)
	if err != nil {
		return nil, err
	}
	list := []api.Asker{}
	for _, d := range seg.Devices {
		if d.Here && d.Waits {
			list = append(list, api.Asker{MAC: d.MAC, Host: d.Value(fact.Host), Class: d.Value(fact.Class),
				Profile: d.Profile, Tag: d.Tag, Last: d.Last})
		}
	}
	return list, nil
}

// HandOut answers exactly the chosen boxes over DHCP, until each has its planned
// address.
func (s *Site) HandOut(ctx context.Context, who string, in api.HandOut) (api.Work, error) {
	if err := s.segment.May(true); err != nil {
		return api.Work{}, err
	}
	p, all, err := s.plan.Bare(ctx)
	if err != nil {
		return api.Work{}, err
	}
	if err := in.Check(); err != nil {
		return api.Work{}, err
	}
	grants, err := s.grants(ctx, p, all, in.Tags)
	if err != nil {
		return api.Work{}, err
	}
	wait := usualWait
	if in.Seconds > 0 {
		wait = min(time.Duration(in.Seconds)*time.Second, longestAsk)
	}
	boxes := map[address.MAC]string{}
	for _, g := range grants {
		boxes[g.MAC] = g.Tag
	}
	first := api.Work{Site: s.store.Key, Kind: api.HandingOut, Who: who, Total: len(grants),
		Seconds: wait.Seconds(), Text: "looking for other DHCP servers"}
	return s.begin(first, works.Needs{Boxes: boxes, Alone: true}, nil, func(ctx context.Context, w *works.Work) error {
		ctx, cancel := w.Until(ctx)
		defer cancel()
		waiting, done := context.WithTimeout(ctx, wait)
		defer done()
		err := lease.Serve(waiting, s.segment.Bench(), grants, in.OtherServers, p.Needs(), func(g lease.Grant, failed error) {
			what := fmt.Sprintf("given %s over DHCP", g.Lease.Address.Addr())
			if errors.Is(failed, lease.ErrUnseen) {
				what += ", and does not answer there"
			} else if failed != nil {
				what = "not given an address over DHCP: " + failed.Error()
			}
			if failed != nil {
				s.all.Log.Warn("an address was not handed out", "tag", g.Tag, "error", failed)
			}
			err := s.store.AddNote(ctx, g.Tag, who, what)
			if err == nil && failed == nil {
				err = s.store.Sight(ctx, s.all.Plans.Recognise, device.Sighting{MAC: g.MAC, Protocol: "dhcp", At: time.Now().UTC(),
					Facts: map[string]string{fact.Address: g.Lease.Address.Addr().String()}})
			}
			if err != nil {
				s.all.Log.Error("a lease could not be noted", "tag", g.Tag, "error", err)
			}
			s.plan.EntryChanged(g.Tag)
			w.Progress(func(a *api.Work) {
				if a.Done++; failed != nil {
					a.Failed++
				}
				a.Text = fmt.Sprintf("%d of %d have their address", a.Done-a.Failed, a.Total)
				if failed != nil {
					a.Text += "; " + g.Tag + ": " + failed.Error()
				}
			})
		})
		if errors.Is(err, context.DeadlineExceeded) {
			a := w.Now()
			return problem.New(problem.Device, fmt.Sprintf("%d of %d did not ask in time", a.Total-a.Done, a.Total),
				"power-cycle them, so that they ask at once, and hand out again")
		}
		return err
	})
}

// grants works out which box gets what.
func (s *Site) grants(ctx context.Context, p plan.Plan, all []store.Entry, tags []string) ([]lease.Grant, error) {
	chosen, err := planning.Pick(all, tags)
	if err != nil {
		return nil, err
	}
	found, err := s.store.Devices(ctx)
	if err != nil {
		return nil, err
	}
	waits := map[address.MAC]bool{}
	var holders []netip.Addr
	for _, f := range found {
		waits[f.MAC] = f.Waits()
		holders = append(holders, f.Addresses()...)
	}
	needs := p.Needs()
	servers := map[netip.Prefix]netip.Addr{}
	var list []lease.Grant
	for _, e := range chosen {
		switch {
		case len(tags) == 0 && (e.Device.IsZero() || !waits[e.Device]):
			continue
		case e.Device.IsZero():
			return nil, problem.New(problem.Conflict, "no device is matched with it",
				"match it first: redstart match").About(e.Tag)
		case !e.Address.IsValid():
			return nil, problem.New(problem.Conflict, "the plan gives it no address",
				"give it one: redstart plan set "+e.Tag+" address=next").About(e.Tag)
		}
		n := p.Site.SubnetOf(e.Address)
		if !n.Prefix.IsValid() {
			return nil, problem.New(problem.Conflict, e.Address.String()+" is in no planned subnet",
				"mend the plan: redstart plan check").About(e.Tag)
		}
		if !servers[n.Prefix].IsValid() {
			server, err := freeServer(n.Prefix, func(a netip.Addr) bool {
				return needs(a) || slices.Contains(holders, a)
			})
			if err != nil {
				return nil, err
			}
			servers[n.Prefix] = server
		}
		list = append(list, lease.Grant{Tag: e.Tag, MAC: e.Device,
			Lease: dhcp.Lease{Address: netip.PrefixFrom(e.Address, n.Prefix.Bits()), Gateway: n.Gateway,
				DNS: n.DNS, NTP: n.NTP, Domain: n.Domain, Name: e.Name, Time: leaseTime, Server: servers[n.Prefix]}})
	}
	if len(list) == 0 {
		return nil, problem.New(problem.Conflict, "no matched box waits for an address",
			"match the boxes that do first: redstart match; they are listed by: redstart commission askers")
	}
	return list, nil
}

// freeServer chooses the address from which a subnet's leases are given.
func freeServer(n netip.Prefix, taken func(netip.Addr) bool) (netip.Addr, error) {
	hosts := address.Hosts(n)
	for at := address.Number(hosts.To); at >= address.Number(hosts.From); at-- {
		if a := address.FromNumber(at); !taken(a) {
			return a, nil
		}
	}
	return netip.Addr{}, problem.New(problem.Conflict, "no address of "+n.String()+" is free to give others from",
		"free one")
}
