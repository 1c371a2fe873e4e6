package device

import (
	"cmp"
	"net/netip"
	"slices"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
)

// Seen is what one survey saw of a device, short enough to keep for each survey.
type Seen struct {
	MAC     address.MAC `json:"mac"`
	Address netip.Addr  `json:"address"`
	Name    string      `json:"name"`
	Profile string      `json:"profile"`
}

// Glance shortens a device.
func (f *Found) Glance() Seen {
	return Seen{MAC: f.MAC, Address: f.AddressNow(), Name: f.Value(fact.Name), Profile: f.Profile}
}

// Kinds of change between two surveys.
const (
	Came    = "new"
	Went    = "gone"
	Moved   = "moved"
	Renamed = "renamed"
)

// Change is what became different about one device.
type Change struct {
	Kind string      `json:"kind"`
	MAC  address.MAC `json:"mac"`
	From string      `json:"from,omitempty"`
	To   string      `json:"to,omitempty"`
}

// Changes compares two surveys.
func Changes(before, after []Seen) []Change {
	old := map[address.MAC]Seen{}
	for _, s := range before {
		old[s.MAC] = s
	}
	list := []Change{}
	for _, s := range after {
		was, known := old[s.MAC]
		delete(old, s.MAC)
		if !known {
			list = append(list, Change{Came, s.MAC, "", place(s.Address)})
			continue
		}
		if was.Address != s.Address {
			list = append(list, Change{Moved, s.MAC, place(was.Address), place(s.Address)})
		}
		if was.Name != s.Name {
			list = append(list, Change{Renamed, s.MAC, was.Name, s.Name})
		}
	}
	for mac, s := range old {
		list = append(list, Change{Went, mac, place(s.Address), ""})
	}
	slices.SortFunc(list, func(a, b Change) int {
		return cmp.Or(slices.Compare(a.MAC[:], b.MAC[:]), cmp.Compare(a.Kind, b.Kind))
	})
	return list
}

func place(a netip.Addr) string {
	if !a.IsValid() {
		return "no address"
	}
	return a.String()
}
