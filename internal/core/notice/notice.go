// Package notice works out what a person should know about a segment before
// anything is set on it.
package notice

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
)

// Kinds of notice.
const (
	SharedAddress  = "shared-address"
	PlanConflict   = "plan-conflict"
	DHCPServers    = "dhcp-servers"
	FreshServer    = "dhcp-server-factory"
	UnknownDevice  = "unknown-device"
	SeveralFit     = "several-profiles-fit"
	ServiceAddress = "service-address"
	WrongSubnet    = "wrong-subnet"
	SameName       = "same-name"
	Contradiction  = "contradiction"
)

// Notice is one thing that a person should know.
type Notice struct {
	Kind    string        `json:"kind"`
	Address string        `json:"address,omitempty"`
	Tag     string        `json:"tag,omitempty"`
	MACs    []address.MAC `json:"macs"`
	Text    string        `json:"text"`
	Next    string        `json:"next,omitempty"`
	// Quiet says that it is good to know, and nobody has to do anything.
	Quiet bool `json:"quiet,omitempty"`
}

// Segment is what notices are drawn from.
type Segment struct {
	Found    []*device.Found // those that are there now
	Entries  []plan.Entry
	Matched  map[address.MAC]string // tags by box
	Subnets  []plan.Subnet
	Profiles profile.Set
}

// All lists every notice, the most pressing kinds first.
func All(s Segment) []Notice {
	list := []Notice{}
	for _, part := range []func(Segment) []Notice{planConflicts, servers, shared, sameNames, serviceAddresses,
		wrongSubnets, contradictions, undecided, unknown} {
		list = append(list, part(s)...)
	}
	return list
}

func present(f *device.Found) netip.Addr { return f.AddressNow() }

// planConflicts are boxes that hold an address which the plan gives to another.
func planConflicts(s Segment) (list []Notice) {
	planned := map[netip.Addr]plan.Entry{}
	for _, e := range s.Entries {
		if e.Address.IsValid() {
			planned[e.Address] = e
		}
	}
	taken := make(map[string]bool, len(s.Matched))
	for _, tag := range s.Matched {
		taken[tag] = true
	}
	for _, f := range s.Found {
		e, ok := planned[present(f)]
		if !ok || s.Matched[f.MAC] == e.Tag || f.MAC == e.MAC || s.Matched[f.MAC] == "" && !taken[e.Tag] &&
			(f.Profile == e.Profile || named(f, e)) {
			continue // it is, or may well be, the entry's own box
		}
		who := "the box " + f.MAC.String()
		if tag := s.Matched[f.MAC]; tag != "" {
			who = tag
		}
		list = append(list, Notice{PlanConflict, e.Address.String(), e.Tag, []address.MAC{f.MAC},
			fmt.Sprintf("%s has the address %s, which the plan gives to %s", who, e.Address, e.Tag),
			"unplug it, give it another address, or give the entry another one", false})
	}
	return list
}

// named reports whether a box goes by the name that an entry is to have.
func named(f *device.Found, e plan.Entry) bool {
	return e.Name != "" && slices.ContainsFunc(f.Present(fact.Name), func(n string) bool {
		return strings.EqualFold(n, e.Name)
	})
}

func servers(s Segment) (list []Notice) {
	var macs []address.MAC
	var fresh *device.Found
	for _, f := range s.Found {
		if f.Value(fact.Gives) == "dhcp" {
			macs = append(macs, f.MAC)
			if f.State == device.Factory {
				fresh = f
			}
		}
	}
	if len(macs) > 1 {
		list = append(list, Notice{DHCPServers, "", "", macs,
			fmt.Sprintf("%d devices hand out addresses over DHCP", len(macs)),
			"leave one, or none while addresses are given out from here", false})
	}
	if fresh != nil {
		list = append(list, Notice{FreshServer, "", "", []address.MAC{fresh.MAC},
			"a device in its factory state hands out addresses over DHCP",
			"set it up first, or unplug it: boxes take wrong addresses from it", false})
	}
	return list
}

// shared are addresses that several boxes hold. Only each box's present one
// counts. That fresh boxes share theirs is a fact of life, and said in one breath.
func shared(s Segment) (list []Notice) {
	holders := map[netip.Addr][]address.MAC{}
	for _, f := range s.Found {
		if a := present(f); a.IsValid() {
			holders[a] = append(holders[a], f.MAC)
		}
	}
	factory := func(a netip.Addr) bool {
		for _, p := range s.Profiles {
			if p.Factory.Address.Contains(a) {
				return true
			}
		}
		return false
	}
	var fresh []netip.Addr
	for a, macs := range holders {
		switch {
		case len(macs) < 2:
		case factory(a):
			fresh = append(fresh, a)
		default:
			list = append(list, Notice{SharedAddress, a.String(), "", macs,
				fmt.Sprintf("%d devices share the address %s", len(macs), a), "give one of them another address",
				false})
		}
	}
	slices.SortFunc(list, func(a, b Notice) int { return strings.Compare(a.Address, b.Address) })
	if len(fresh) == 0 {
		return list
	}
	slices.SortFunc(fresh, netip.Addr.Compare)
	all := Notice{Kind: SharedAddress, Quiet: true, Address: fresh[0].String(),
		Next: "nothing to do: they are set one by one, by their MACs"}
	var counts []string
	for _, a := range fresh {
		all.MACs = append(all.MACs, holders[a]...)
		counts = append(counts, fmt.Sprintf("%s (%d)", a, len(holders[a])))
	}
	all.Text = fmt.Sprintf("%d devices share the address %s", len(all.MACs), fresh[0])
	if len(fresh) > 1 {
		all.Address = ""
		all.Text = fmt.Sprintf("%d devices share %d factory addresses: %s", len(all.MACs), len(fresh),
			strings.Join(counts, ", "))
	}
	return append(list, all)
}

// sameNames are names that several boxes answer to, unless they are as they
// left the factory.
func sameNames(s Segment) (list []Notice) {
	holders := map[string][]address.MAC{}
	for _, f := range s.Found {
		if name := strings.ToLower(f.Value(fact.Name)); name != "" && f.State != device.Factory {
			holders[name] = append(holders[name], f.MAC)
		}
	}
	for name, macs := range holders {
		if len(macs) > 1 {
			list = append(list, Notice{SameName, "", "", macs,
				fmt.Sprintf("%d devices have the name %s", len(macs), name),
				"others find only one of them by it; rename the rest", false})
		}
	}
	slices.SortFunc(list, func(a, b Notice) int { return strings.Compare(a.Text, b.Text) })
	return list
}

func serviceAddresses(s Segment) (list []Notice) {
	sorted := s.Profiles.Sorted()
	for _, f := range s.Found {
		a := present(f)
		for _, p := range sorted {
			if a.IsValid() && p.Factory.Service.Contains(a) {
				list = append(list, Notice{ServiceAddress, a.String(), s.Matched[f.MAC], []address.MAC{f.MAC},
					fmt.Sprintf("a device answers at %s, the service address of %s", a, p.ID),
					"it is for maintenance only; leave its service mode before it is set up", false})
				break
			}
		}
	}
	return list
}

// wrongSubnets are boxes whose address is neither planned nor a factory one.
func wrongSubnets(s Segment) (list []Notice) {
	if len(s.Subnets) == 0 {
		return nil
	}
	for _, f := range s.Found {
		a, p := present(f), s.Profiles[f.Profile]
		if !a.IsValid() || p != nil && (p.Factory.Address.Contains(a) || p.Factory.Service.Contains(a)) {
			continue
		}
		if slices.ContainsFunc(s.Subnets, func(n plan.Subnet) bool { return n.Prefix.Contains(a) }) {
			continue
		}
		list = append(list, Notice{WrongSubnet, a.String(), s.Matched[f.MAC], []address.MAC{f.MAC},
			fmt.Sprintf("%s is in no planned subnet, and is not the factory address of what has it", a),
			"it was set before, or took its address from a DHCP server", true})
	}
	slices.SortFunc(list, func(a, b Notice) int { return strings.Compare(a.Address, b.Address) })
	return list
}

func contradictions(s Segment) (list []Notice) {
	for _, f := range s.Found {
		for _, c := range f.Contradictions() {
			var told []string
			for _, x := range c.Facts {
				told = append(told, fmt.Sprintf("%s over %s", x.Value, x.Protocol))
			}
			list = append(list, Notice{Contradiction, "", s.Matched[f.MAC], []address.MAC{f.MAC},
				fmt.Sprintf("a device tells its %s differently: %s", c.Key, strings.Join(told, ", ")),
				"look at the device itself", false})
		}
	}
	return list
}

// undecided are boxes that several profiles fit equally.
func undecided(s Segment) (list []Notice) {
	for _, f := range s.Found {
		if len(f.Maybe) > 1 {
			list = append(list, Notice{SeveralFit, "", "", []address.MAC{f.MAC},
				"one device may be a " + strings.Join(f.Maybe, " or a ") + ", equally",
				"compare its label, and say which: redstart find choose MAC PROFILE", false})
		}
	}
	return list
}

func unknown(s Segment) []Notice {
	var macs []address.MAC
	for _, f := range s.Found {
		if f.Profile == "" && len(f.Maybe) == 0 {
			macs = append(macs, f.MAC)
		}
	}
	slices.SortFunc(macs, func(a, b address.MAC) int { return cmp.Compare(a.String(), b.String()) })
	if len(macs) == 0 {
		return nil
	}
	text := fmt.Sprintf("%d devices fit no profile", len(macs))
	if len(macs) == 1 {
		text = "one device fits no profile"
	}
	return []Notice{{UnknownDevice, "", "", macs, text, "they are left alone", true}}
}
