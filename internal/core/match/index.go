package match

import (
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
)

// boxes finds devices by what an entry can say of one, so that proposing looks at
// each entry and each device once. Lists are in the order in which devices were given.
type boxes struct {
	order     map[address.MAC]int
	list      []*device.Found
	bySerial  map[string][]*device.Found
	byName    map[string][]*device.Found // names of now
	byAddress map[netip.Addr][]*device.Found
	// silent are the profiles of which some device tells no serial.
	silent map[string]bool
}

func newBoxes(found []*device.Found) *boxes {
	b := &boxes{order: make(map[address.MAC]int, len(found)), list: found, bySerial: map[string][]*device.Found{},
		byName: map[string][]*device.Found{}, byAddress: map[netip.Addr][]*device.Found{}, silent: map[string]bool{}}
	for i, f := range found {
		b.order[f.MAC] = i
		for _, s := range folded(f.Values(fact.Serial)) {
			b.bySerial[s] = append(b.bySerial[s], f)
		}
		for _, s := range folded(f.Present(fact.Name)) {
			b.byName[s] = append(b.byName[s], f)
		}
		if a := f.AddressNow(); a.IsValid() {
			b.byAddress[a] = append(b.byAddress[a], f)
		}
		if len(f.Values(fact.Serial)) == 0 {
			for _, id := range append([]string{f.Profile}, f.Maybe...) {
				b.silent[id] = true
			}
		}
	}
	return b
}

// named lists the devices that an entry names by MAC or serial.
func (b *boxes) named(e plan.Entry) []*device.Found {
	if !e.MAC.IsZero() {
		if i, here := b.order[e.MAC]; here {
			return b.list[i : i+1]
		}
		return nil
	}
	if e.Serial == "" {
		return nil
	}
	return b.bySerial[fold(e.Serial)]
}

// likely lists the devices that some sign less than that could make an entry's.
func (b *boxes) likely(e plan.Entry, p *ports) []*device.Found {
	var list []*device.Found
	if f := p.only(e); f != nil {
		list = append(list, f)
	}
	if e.Name != "" {
		list = append(list, b.byName[fold(e.Name)]...)
	}
	if e.Address.IsValid() {
		list = append(list, b.byAddress[e.Address]...)
	}
	list = slices.DeleteFunc(list, func(f *device.Found) bool { // one behind a port may be matched already
		_, open := b.order[f.MAC]
		return !open
	})
	slices.SortFunc(list, func(x, y *device.Found) int { return b.order[x.MAC] - b.order[y.MAC] })
	return slices.Compact(list)
}

// tags finds entries by what a switch has or is named by, the first of the plan first.
type tags struct {
	entries []plan.Entry
	first   map[string]int
}

func newTags(entries []plan.Entry) *tags {
	t := &tags{entries, make(map[string]int, len(entries))}
	for i, e := range entries {
		if !e.MAC.IsZero() {
			t.note("mac "+e.MAC.String(), i)
		} else if e.Serial != "" {
			t.note("serial "+fold(e.Serial), i)
		}
		if e.Name != "" {
			t.note("name "+e.Profile+" "+fold(e.Name), i)
		}
		if e.Address.IsValid() {
			t.note("address "+e.Profile+" "+e.Address.String(), i)
		}
	}
	return t
}

func (t *tags) note(key string, i int) {
	if _, known := t.first[key]; !known {
		t.first[key] = i
	}
}

// of tells which entry a device is by what the plan names or it has already; "" for none.
func (t *tags) of(f *device.Found) string {
	keys := []string{"mac " + f.MAC.String(), "name " + f.Profile + " " + fold(f.Value(fact.Name))}
	for _, s := range folded(f.Values(fact.Serial)) {
		keys = append(keys, "serial "+s)
	}
	for _, a := range f.Addresses() {
		keys = append(keys, "address "+f.Profile+" "+a.String())
	}
	least := len(t.entries)
	for _, k := range keys {
		if i, known := t.first[k]; known {
			least = min(least, i)
		}
	}
	if least == len(t.entries) {
		return ""
	}
	return t.entries[least].Tag
}

// fold makes texts the same that differ in case alone.
func fold(s string) string { return strings.ToLower(strings.ToUpper(s)) }

func folded(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = fold(s)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
