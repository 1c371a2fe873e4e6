package plan

import (
	"fmt"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
)

// pool knows which addresses of a site are taken or may not be used.
type pool struct {
	site    Site
	factory map[netip.Addr]string // factory and service addresses to the model
	servers map[hosted]string     // what the hosts of each subnet are
	taken   map[netip.Addr]bool
	cursor  map[string]uint32 // where the search for the next free address goes on
}

// hosted is an address in a subnet.
type hosted struct {
	subnet string
	at     netip.Addr
}

func (p Plan) pool() *pool {
	q := &pool{site: p.Site, factory: map[netip.Addr]string{}, servers: map[hosted]string{},
		taken: make(map[netip.Addr]bool, len(p.Entries)), cursor: map[string]uint32{}}
	for _, n := range p.Site.Subnets {
		for _, s := range slices.Backward(n.servers()) { // the first of several is named
			q.servers[hosted{n.Name, s.at}] = s.what
		}
	}
	for _, f := range p.Profiles.Sorted() {
		for _, a := range f.Factory.Address.List() {
			q.factory[a] = "factory address of " + f.Model
		}
		for _, a := range f.Factory.Service.List() {
			q.factory[a] = "service address of " + f.Model
		}
	}
	for a := range p.Known.Asked {
		q.taken[a] = true
	}
	for _, e := range p.Entries {
		if e.Address.IsValid() {
			q.taken[e.Address] = true
		}
		for _, a := range p.furtherPorts(e) {
			q.taken[a] = true
		}
	}
	return q
}

// furtherPorts gives the addresses of an entry's ports after the first.
func (p Plan) furtherPorts(e Entry) []netip.Addr {
	prof := p.Profiles[e.Profile]
	if prof == nil || len(e.Settings) == 0 {
		return nil
	}
	var list []netip.Addr
	for _, s := range prof.Settings {
		if s.Type != profile.SecondPort || e.Settings[s.Key] == "" {
			continue
		}
		if port, err := netip.ParsePrefix(e.Settings[s.Key]); err == nil {
			list = append(list, port.Addr())
		}
	}
	return list
}

// reserved says why an address of a subnet may not be given to a device, with
// the name of the finding; "" when it may.
func (q *pool) reserved(n Subnet, a netip.Addr) (code, why string) {
	switch a {
	case address.Network(n.Prefix):
		return "address-network", fmt.Sprintf("is the network address of %s", n.Prefix)
	case address.LastOf(n.Prefix):
		return "address-broadcast", fmt.Sprintf("is the broadcast address of %s", n.Prefix)
	}
	if what := q.servers[hosted{n.Name, a}]; what != "" {
		return "address-server", "is the " + what + "'s"
	}
	for _, k := range n.KeptFree {
		if k.Range.Contains(a) {
			why := "is kept free"
			if k.Reason != "" {
				why += ": " + k.Reason
			}
			return "address-kept", why
		}
	}
	if model := q.factory[a]; model != "" {
		return "address-factory", "is the " + model
	}
	return "", ""
}

// home gives the subnet from which an entry without an address gets one.
func (q *pool) home(e Entry) (Subnet, error) {
	if e.Subnet != "" {
		n, ok := q.site.Subnet(e.Subnet)
		if !ok {
			return n, fmt.Errorf("there is no subnet named %q", e.Subnet)
		}
		return n, nil
	}
	for _, n := range q.site.Subnets {
		for _, r := range n.Ranges {
			if r.Kind == e.Kind {
				return n, nil
			}
		}
	}
	if len(q.site.Subnets) == 0 {
		return Subnet{}, fmt.Errorf("the site has no subnet")
	}
	return q.site.Subnets[0], nil
}

// rangesFor gives where devices of a kind get their addresses in a subnet.
func (n Subnet) rangesFor(kind string) []address.Range {
	var list []address.Range
	for _, r := range n.Ranges {
		if r.Kind == kind {
			list = append(list, r.Range)
		}
	}
	if list == nil {
		list = append(list, address.Hosts(n.Prefix))
	}
	return list
}

// otherKinds reports whether an address lies in a range for another kind.
func (n Subnet) otherKinds(a netip.Addr, kind string) string {
	other := ""
	for _, r := range n.Ranges {
		if !r.Range.Contains(a) {
			continue
		}
		if r.Kind == kind {
			return ""
		}
		other = r.Kind
	}
	return other
}

// next takes the next free address for an entry: in the ranges for its kind,
// or else outside the ranges for others.
func (q *pool) next(e Entry) (netip.Addr, error) {
	n, err := q.home(e)
	if err != nil {
		return netip.Addr{}, err
	}
	for i, r := range n.rangesFor(e.Kind) {
		key := fmt.Sprint(n.Name, "\x00", e.Kind, "\x00", i)
		at := max(q.cursor[key], address.Number(r.From))
		for ; at <= address.Number(r.To); at++ {
			a := address.FromNumber(at)
			if q.taken[a] || !n.Prefix.Contains(a) || n.otherKinds(a, e.Kind) != "" {
				continue
			}
			if code, _ := q.reserved(n, a); code == "" {
				q.taken[a], q.cursor[key] = true, at+1
				return a, nil
			}
		}
		q.cursor[key] = at
	}
	where := n.Prefix.String()
	if len(n.Ranges) > 0 {
		where += " for " + article(e.Kind)
	}
	return netip.Addr{}, fmt.Errorf("no free address is left in %s", where)
}
