// Package plan is the list of devices that should exist: its values, how it is
// read from a file, how it is completed, and how it is checked as a whole.
package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
)

// Subnet is a planned IPv4 prefix. The zero value means that none is set.
type Subnet struct {
	Prefix   netip.Prefix `json:"prefix"`
	Gateway  netip.Addr   `json:"gateway"`
	NTP      netip.Addr   `json:"ntp"`
	KeptFree []Kept       `json:"keptFree"`
}

// Kept is a range that no entry may use, with the reason.
type Kept struct {
	Range  address.Range `json:"range"`
	Reason string        `json:"reason"`
}

// Site is one job.
type Site struct {
	Name   string `json:"name"`
	Zone   string `json:"zone"` // IANA time zone
	Subnet Subnet `json:"subnet"`
}

// Check says what is wrong with the site's own data; nil when nothing is.
func (s Site) Check() error {
	n := s.Subnet
	switch {
	case strings.TrimSpace(s.Name) == "":
		return fmt.Errorf("the site needs a name")
	case !n.Prefix.IsValid() || !n.Prefix.Addr().Is4() || n.Prefix.Bits() < 8 || n.Prefix.Bits() > 30:
		return fmt.Errorf("the subnet must be an IPv4 prefix from /8 to /30, like 10.40.8.0/22")
	case n.Prefix != n.Prefix.Masked():
		return fmt.Errorf("the subnet %s has host bits set; its network is %s", n.Prefix, n.Prefix.Masked())
	case n.Gateway.IsValid() && !address.Hosts(n.Prefix).Contains(n.Gateway):
		return fmt.Errorf("the gateway %s is outside the subnet %s", n.Gateway, n.Prefix)
	}
	for _, k := range n.KeptFree {
		if !n.Prefix.Contains(k.Range.From) || !n.Prefix.Contains(k.Range.To) {
			return fmt.Errorf("the kept-free range %s is outside the subnet %s", k.Range, n.Prefix)
		}
	}
	return nil
}

// Entry is one device that should exist. The zero MAC, the empty serial and
// the invalid address mean "not given".
type Entry struct {
	Tag     string      `json:"tag"`
	Kind    string      `json:"kind"`
	Profile string      `json:"profile"`
	Place   string      `json:"place"`
	Address netip.Addr  `json:"address"`
	Name    string      `json:"name"`
	MAC     address.MAC `json:"mac"`
	Serial  string      `json:"serial"`
}

// reserved says why an address may not be given to a device; "" when it may.
func (s Subnet) reserved(a netip.Addr, profiles profile.Set) string {
	switch {
	case !s.Prefix.Contains(a):
		return fmt.Sprintf("is outside the subnet %s", s.Prefix)
	case a == address.Network(s.Prefix):
		return fmt.Sprintf("is the network address of %s", s.Prefix)
	case a == address.LastOf(s.Prefix):
		return fmt.Sprintf("is the broadcast address of %s", s.Prefix)
	case a == s.Gateway:
		return "is the gateway's"
	case a == s.NTP:
		return "is the time server's"
	}
	for _, k := range s.KeptFree {
		if k.Range.Contains(a) {
			return strings.TrimSpace("is kept free " + k.Reason)
		}
	}
	for _, p := range profiles.Sorted() {
		if p.Factory.Address.Contains(a) {
			return "is the factory address of " + p.Model
		}
	}
	return ""
}

// nextFree gives the lowest usable address of the subnet after those taken;
// the zero Addr when none is left.
func (s Subnet) nextFree(taken map[netip.Addr]bool, profiles profile.Set) netip.Addr {
	hosts := address.Hosts(s.Prefix)
	for n := address.Number(hosts.From); n <= address.Number(hosts.To); n++ {
		a := address.FromNumber(n)
		if !taken[a] && s.reserved(a, profiles) == "" {
			return a
		}
	}
	return netip.Addr{}
}

// Level says what a finding means for the run.
type Level string

const (
	Stops   Level = "stops"   // the entry cannot be commissioned
	Warning Level = "warning" // it can, but look at it
)

// Finding is one thing that is wrong with the plan.
type Finding struct {
	Level  Level  `json:"level"`
	Tag    string `json:"tag"`
	Field  string `json:"field"`
	Reason string `json:"reason"`
}

// Check checks the plan as a whole. The findings come in the order of entries.
func Check(site Site, entries []Entry, profiles profile.Set) []Finding {
	var found []Finding
	first := map[string]string{} // field and value to the tag that used it first
	for _, e := range entries {
		for _, c := range checkEntry(site, e, profiles) {
			found = append(found, Finding{Stops, e.Tag, c.field, c.reason})
		}
		for _, u := range e.unique() {
			key := u.field + "\x00" + strings.ToLower(u.value)
			if u.value == "" {
				continue
			}
			if other, used := first[key]; used {
				found = append(found, Finding{Stops, e.Tag, u.field, fmt.Sprintf("%s is already used by %s", u.value, other)})
				continue
			}
			first[key] = e.Tag
		}
	}
	return found
}

type complaint struct{ field, reason string }

// checkEntry checks an entry for itself, without looking at the others.
func checkEntry(site Site, e Entry, profiles profile.Set) []complaint {
	var list []complaint
	if e.Tag == "" || len(e.Tag) > 64 || strings.ContainsAny(e.Tag, "\"\\\x00\n\r\t/?#%") {
		list = append(list, complaint{"tag", "a tag has 1 to 64 characters, without slashes, quotes or line breaks"})
	}
	p := profiles[e.Profile]
	if p == nil {
		list = append(list, complaint{"profile", fmt.Sprintf("there is no profile %q; there are %s", e.Profile, strings.Join(ids(profiles), ", "))})
	} else if e.Kind != p.Kind {
		list = append(list, complaint{"kind", fmt.Sprintf("the profile %s is for a %s, not for a %s", p.ID, p.Kind, e.Kind)})
	}
	switch {
	case !e.Address.IsValid():
		list = append(list, complaint{"address", "no address is given"})
	case site.Subnet.Prefix.IsValid():
		if why := site.Subnet.reserved(e.Address, profiles); why != "" {
			list = append(list, complaint{"address", e.Address.String() + " " + why})
		}
	}
	if p != nil {
		if err := p.Name.Check(e.Name); err != nil {
			list = append(list, complaint{"name", err.Error()})
		}
	}
	return list
}

// unique lists the values that no two entries of a site may share.
func (e Entry) unique() []struct{ field, value string } {
	addr := ""
	if e.Address.IsValid() {
		addr = e.Address.String()
	}
	return []struct{ field, value string }{
		{"tag", e.Tag}, {"address", addr}, {"name", e.Name}, {"mac", e.MAC.String()}, {"serial", e.Serial},
	}
}

func ids(profiles profile.Set) []string {
	var list []string
	for id := range profiles {
		list = append(list, id)
	}
	slices.Sort(list)
	return list
}

// Needs tells which addresses the plan needs for itself: those of entries, the
// gateway, the time server and what is kept free.
func Needs(site Site, entries []Entry) func(netip.Addr) bool {
	planned := map[netip.Addr]bool{site.Subnet.Gateway: true, site.Subnet.NTP: true}
	for _, e := range entries {
		planned[e.Address] = true
	}
	return func(a netip.Addr) bool {
		return planned[a] || slices.ContainsFunc(site.Subnet.KeptFree, func(k Kept) bool { return k.Range.Contains(a) })
	}
}
