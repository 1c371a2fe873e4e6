package planning

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/handover"
	"redstart/internal/store"
)

// CheckAsked says which of the columns and documents that a site asks for are none.
func CheckAsked(data plan.Site) error {
	for _, key := range data.Register {
		if !slices.ContainsFunc(handover.Columns, func(c handover.Column) bool { return c.Key == key }) {
			return problem.New(problem.Usage, fmt.Sprintf("a register has no column %q", key), "choose some of: "+handover.ColumnKeys())
		}
	}
	for _, name := range data.Package {
		if !slices.Contains(handover.PartNames(), name) {
			return problem.New(problem.Usage, fmt.Sprintf("a package has no document %q", name),
				"choose some of: "+strings.Join(handover.PartNames(), ", "))
		}
	}
	return nil
}

// SetData stores the site's own data after checking it. Policies stay as they are.
func (s *Site) SetData(ctx context.Context, data plan.Site, who string) (plan.Site, error) {
	return s.change(ctx, "site data changed", who, func(old plan.Site) (plan.Site, error) {
		data.Policies = old.Policies
		if data.Key == "" {
			data.Key = old.Key
		}
		return data, nil
	})
}

// change changes the site's own data.
func (s *Site) change(ctx context.Context, what, who string, do func(plan.Site) (plan.Site, error)) (plan.Site, error) {
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	old, err := s.store.Data(ctx)
	if err != nil {
		return old, err
	}
	data, err := do(old)
	if err != nil {
		return old, err
	}
	if err := data.Check(); err != nil {
		return old, problem.New(problem.Usage, err.Error(), "").About("site")
	}
	if err := CheckAsked(data); err != nil {
		return old, err
	}
	if data.Key != old.Key {
		if _, err := s.all.Store.At(ctx, data.Key); problem.KindOf(err) != problem.Missing {
			return old, problem.New(problem.Conflict, "there is a site with this key already",
				"choose another key").About(data.Key).Because(err)
		}
	}
	if _, err := s.Apply(ctx, who, what, store.Changes{Edits: []store.Edit{{Site: &data, WasSite: &old}}}); err != nil {
		return old, err
	}
	if data.Key != old.Key {
		s.all.Hub.Publish("", "sites", struct{}{})
	}
	s.all.Hub.Publish(old.Key, "site", data)
	return data, nil
}

// Map tells what each address of a subnet is; no name means the first subnet.
func (s *Site) Map(ctx context.Context, subnet string) (plan.Map, error) {
	p, _, err := s.Plan(ctx)
	if err != nil {
		return plan.Map{}, err
	}
	for _, n := range p.Site.Subnets {
		if n.Name == subnet || subnet == "" {
			return p.Map(n), nil
		}
	}
	return plan.Map{}, problem.New(problem.Missing, "the site has no such subnet",
		"make one: redstart site subnet NAME --prefix 10.40.8.0/22").About(subnet)
}

// Reckon reckons a prefix, or an address in a subnet of a site.
func (s *Planning) Reckon(ctx context.Context, of, key string) (api.Reckoning, error) {
	prefix, err := netip.ParsePrefix(of)
	at := prefix.Addr()
	var p plan.Plan
	if key != "" {
		site, err := s.open(ctx, key)
		if err != nil {
			return api.Reckoning{}, err
		}
		if p, _, err = site.Plan(ctx); err != nil {
			return api.Reckoning{}, err
		}
	}
	if err != nil {
		if at, err = address.ParseIPv4(of); err != nil {
			return api.Reckoning{}, problem.New(problem.Usage,
				fmt.Sprintf("%q is neither a prefix like 10.40.8.0/22 nor an IPv4 address", of), "")
		}
		if prefix = p.Site.SubnetOf(at).Prefix; !prefix.IsValid() {
			return api.Reckoning{}, problem.New(problem.Usage, fmt.Sprintf("%s is in no subnet of the site", at),
				"give it with its prefix length, like "+at.String()+"/24")
		}
	}
	if !at.Is4() || prefix.Bits() < 1 {
		return api.Reckoning{}, problem.New(problem.Usage, "only IPv4 prefixes from /1 to /32 are reckoned", "")
	}
	hosts := address.Hosts(prefix)
	r := api.Reckoning{Prefix: prefix.Masked(), Mask: address.Mask(prefix), Network: address.Network(prefix),
		Broadcast: address.LastOf(prefix), First: hosts.From, Last: hosts.To, Hosts: hosts.Size(), Left: hosts.Size()}
	n := p.Site.SubnetOf(at)
	if n.Prefix != r.Prefix {
		return r, nil
	}
	m := p.Map(n)
	r.Subnet, r.Left, r.Is = n.Name, m.Free, plan.Free
	if i := slices.IndexFunc(m.Cells, func(c plan.Cell) bool { return c.Address == at }); i >= 0 {
		r.Is, r.Text = m.Cells[i].Is, m.Cells[i].Text
	}
	return r, nil
}
