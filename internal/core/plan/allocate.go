package plan

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
)

// Ways of giving out addresses to a selection.
const (
	Missing = "missing" // only to entries that have none
	Compact = "compact" // anew, ascending, without gaps
	Spread  = "spread"  // anew, ascending, every so many addresses
	Move    = "move"    // into another subnet, keeping host numbers
)

// Allocation says which entries get addresses, and how.
type Allocation struct {
	Tags   []string `json:"tags"` // in this order; none: all, in the order of the plan
	Way    string   `json:"way"`
	Step   int      `json:"step,omitempty"`   // spread: from one address to the next
	From   string   `json:"from,omitempty"`   // compact, spread: the first address; "": where ranges begin
	Subnet string   `json:"subnet,omitempty"` // move: where to
	Order  string   `json:"order,omitempty"`  // "": as given; tag: by tag; kind: by kind, then tag
}

// Allocate makes the patches that give out addresses. Entries whose devices
// are configured keep theirs and are listed in kept.
func (p Plan) Allocate(a Allocation) (patches []Patch, kept []string, err error) {
	refuse := func(cause, next string) ([]Patch, []string, error) {
		return nil, nil, problem.New(problem.Usage, cause, next).About("addresses")
	}
	chosen, err := p.choose(a)
	if err != nil {
		return nil, nil, err
	}
	var open []Entry
	for _, e := range chosen {
		switch {
		case a.Way == Missing && e.Address.IsValid():
		case p.Known.Locked[e.Tag] && e.Address.IsValid():
			kept = append(kept, e.Tag)
		default:
			open = append(open, e)
		}
	}
	pool := p.pool()
	for _, e := range open {
		delete(pool.taken, e.Address)
	}
	give := func(e Entry, addr netip.Addr) {
		pool.taken[addr] = true
		if addr != e.Address {
			patches = append(patches, Patch{Tag: e.Tag, Set: map[string]string{"address": addr.String()}})
		}
	}
	switch a.Way {
	case Missing, Compact, Spread:
		step := 1
		if a.Way == Spread {
			if step = a.Step; step < 2 || step > 1024 {
				return refuse("to spread needs a step from 2 to 1024", "give 10 for every tenth address")
			}
		}
		from := netip.Addr{}
		if a.From != "" {
			if from, err = address.ParseIPv4(a.From); err != nil {
				return refuse(err.Error(), "")
			}
		}
		for _, e := range open {
			addr, err := pool.stepped(e, step, &from, a.From != "")
			if err != nil {
				return nil, nil, problem.New(problem.Conflict, err.Error(),
					"widen the range, or take fewer entries").About(e.Tag)
			}
			give(e, addr)
		}
	case Move:
		to, ok := p.Site.Subnet(a.Subnet)
		if !ok {
			return refuse(fmt.Sprintf("there is no subnet named %q", a.Subnet), "")
		}
		for _, e := range open {
			addr, err := pool.moved(e, to)
			if err != nil {
				return nil, nil, problem.New(problem.Conflict, err.Error(),
					"give it an address by hand, then move the others").About(e.Tag)
			}
			give(e, addr)
		}
		byTag := p.index()
		for i := range patches {
			if e := p.Entries[byTag[patches[i].Tag]]; e.Subnet != "" {
				patches[i].Set["subnet"] = to.Name
			}
		}
	default:
		return refuse(fmt.Sprintf("there is no way %q of giving out addresses", a.Way),
			"choose missing, compact, spread or move")
	}
	return patches, kept, nil
}

func (p Plan) choose(a Allocation) ([]Entry, error) {
	chosen := slices.Clone(p.Entries)
	if len(a.Tags) > 0 {
		byTag := p.index()
		chosen = nil
		for _, tag := range a.Tags {
			i, ok := byTag[tag]
			if !ok {
				return nil, problem.New(problem.Missing, "there is no such entry in the plan", "").About(tag)
			}
			chosen = append(chosen, p.Entries[i])
		}
	}
	switch a.Order {
	case "":
	case "tag":
		slices.SortStableFunc(chosen, func(a, b Entry) int { return cmp.Compare(a.Tag, b.Tag) })
	case "kind":
		slices.SortStableFunc(chosen, func(a, b Entry) int {
			return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Tag, b.Tag))
		})
	default:
		return nil, problem.New(problem.Usage, fmt.Sprintf("there is no order %q", a.Order),
			"choose tag or kind, or leave it out").About("addresses")
	}
	return chosen, nil
}

// stepped takes the next free address that lies a step after the one before.
func (q *pool) stepped(e Entry, step int, from *netip.Addr, given bool) (netip.Addr, error) {
	if step == 1 && !given {
		return q.next(e)
	}
	if !from.IsValid() {
		a, err := q.next(e)
		if err == nil {
			*from = address.FromNumber(address.Number(a) + uint32(step))
		}
		return a, err
	}
	n := q.site.SubnetOf(*from)
	for a := *from; n.Prefix.IsValid() && n.Prefix.Contains(a); a = address.FromNumber(address.Number(a) +
		uint32(step)) {
		if code, _ := q.reserved(n, a); code == "" && !q.taken[a] && n.otherKinds(a, e.Kind) == "" {
			*from = address.FromNumber(address.Number(a) + uint32(step))
			return a, nil
		}
	}
	return netip.Addr{}, fmt.Errorf("no free address is left from %s on", *from)
}

// moved gives the address with the same host number in another subnet.
func (q *pool) moved(e Entry, to Subnet) (netip.Addr, error) {
	from := q.site.SubnetOf(e.Address)
	if !from.Prefix.IsValid() {
		return netip.Addr{}, fmt.Errorf("it has no address in a subnet of the site, so it has no host number to keep")
	}
	host := address.Number(e.Address) - address.Number(address.Network(from.Prefix))
	a := address.FromNumber(address.Number(address.Network(to.Prefix)) + host)
	if !address.Hosts(to.Prefix).Contains(a) {
		return netip.Addr{}, fmt.Errorf("its host number %d does not fit into %s", host, to.Prefix)
	}
	if _, why := q.reserved(to, a); why != "" {
		return netip.Addr{}, fmt.Errorf("%s %s", a, why)
	}
	if q.taken[a] {
		return netip.Addr{}, fmt.Errorf("%s is taken", a)
	}
	return a, nil
}

// Reserve gives the site with a range kept free, with the reason.
func (s Site) Reserve(r address.Range, reason string) (Site, error) {
	for i, n := range s.Subnets {
		if n.Prefix.Contains(r.From) && n.Prefix.Contains(r.To) {
			s.Subnets = slices.Clone(s.Subnets)
			s.Subnets[i].KeptFree = append(slices.Clone(n.KeptFree), Kept{r, reason})
			return s, nil
		}
	}
	return s, problem.New(problem.Usage, fmt.Sprintf("the range %s is outside every subnet of the site", r),
		"").About("addresses")
}
