package plan

import (
	"fmt"
	"net/netip"

	"redstart/internal/core/address"
)

// site checks what the site says of itself.
func (c *checker) site() {
	s := c.Site
	if s.Contact == "" {
		c.find("contact-missing", "", "contact", "the site has no contact: who is asked when something is unclear?",
			nil)
	}
	if s.Zone == "" {
		c.find("zone-missing", "", "zone", "the site has no time zone, which clocks and cameras need", nil)
	}
	if _, err := fill(s.Naming, map[string]string{"site": "", "area": "", "floor": "", "place": "", "kind": "", "n": "",
		"tag": ""}); err != nil {
		c.find("naming-pattern", "", "naming", err.Error(), nil)
	}
	for i, n := range s.Subnets {
		for _, other := range s.Subnets[:i] {
			if n.Prefix.Overlaps(other.Prefix) {
				c.find("subnet-overlap", "", subnetField(n),
					fmt.Sprintf("%s overlaps %s (%s)", n.Prefix, other.Prefix, other.Name), nil)
			}
			if n.VLAN != 0 && n.VLAN == other.VLAN {
				c.find("vlan-twice", "", subnetField(n), fmt.Sprintf("has the VLAN id %d, as %q has", n.VLAN,
					other.Name), nil)
			}
		}
		c.servers(n)
		c.ranges(n)
	}
	for a, model := range c.sortedFactory() {
		if n := s.SubnetOf(a); n.Prefix.IsValid() {
			c.find("factory-inside", "", subnetField(n),
				fmt.Sprintf("%s, the factory address of %s, lies in %s; it is never given out", a, model, n.Prefix),
				nil)
		}
	}
}

// sortedFactory goes through the first factory address of each profile.
func (c *checker) sortedFactory() func(yield func(netip.Addr, string) bool) {
	return func(yield func(netip.Addr, string) bool) {
		for _, p := range c.Profiles.Sorted() {
			if a := p.Factory.Address; !a.None() && !yield(a.From, p.Model) {
				return
			}
		}
	}
}

func subnetField(n Subnet) string { return "subnet " + n.Name }

func (c *checker) servers(n Subnet) {
	hosts := address.Hosts(n.Prefix)
	if !n.Gateway.IsValid() {
		c.find("gateway-missing", "", subnetField(n), "has no gateway: its devices reach nobody outside it", nil)
	}
	if len(n.NTP) == 0 {
		c.find("time-missing", "", subnetField(n), "has no time server: its devices' clocks will drift", nil)
	}
	for _, s := range n.servers() {
		switch {
		case s.what == "gateway":
			if !hosts.Contains(s.at) {
				c.find("gateway-outside", "", subnetField(n),
					fmt.Sprintf("the gateway %s is not a host address of %s", s.at, n.Prefix), nil)
			}
		case !hosts.Contains(s.at) && !n.Gateway.IsValid():
			c.find("server-reach", "", subnetField(n),
				fmt.Sprintf("the %s %s is outside %s, and there is no gateway to reach it", s.what, s.at, n.Prefix),
				nil)
		}
	}
}

func (c *checker) ranges(n Subnet) {
	within := func(r address.Range) bool { return n.Prefix.Contains(r.From) && n.Prefix.Contains(r.To) }
	for _, k := range n.KeptFree {
		if !within(k.Range) {
			c.find("kept-outside", "", subnetField(n), fmt.Sprintf("the kept-free range %s is outside %s", k.Range,
				n.Prefix), nil)
		}
	}
	for i, r := range n.Ranges {
		if !within(r.Range) {
			c.find("range-outside", "", subnetField(n), fmt.Sprintf("the range %s for %s is outside %s", r.Range,
				article(r.Kind), n.Prefix), nil)
		}
		for _, other := range n.Ranges[:i] {
			if other.Kind != r.Kind && (other.Range.Contains(r.Range.From) || r.Range.Contains(other.Range.From)) {
				c.find("range-overlap", "", subnetField(n), fmt.Sprintf("the range %s for %s overlaps %s for %s",
					r.Range, article(r.Kind), other.Range, article(other.Kind)), nil)
			}
		}
	}
}
