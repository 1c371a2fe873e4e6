// Package device puts sightings together into found devices. A sighting is one
// thing that one protocol told about one MAC at one time.
package device

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
)

// Keys of facts. A profile's recognition rules may name any of them.
const (
	Address  = "address"
	Name     = "name"
	Model    = "model"
	Vendor   = "vendor"
	Serial   = "serial"
	Firmware = "firmware"
	Title    = "title"
)

// Limits on what one MAC may make us remember.
const (
	maxFacts = 64
	maxValue = 200
)

// Sighting is what one protocol told about one MAC at one time.
type Sighting struct {
	MAC      address.MAC
	Protocol string // arp, dcp, web, traffic
	At       time.Time
	Facts    map[string]string // key to value; may be empty: the MAC was seen
}

// Fact is one value with where it comes from.
type Fact struct {
	Key      string    `json:"key"`
	Value    string    `json:"value"`
	Protocol string    `json:"protocol"`
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
}

// Found is all sightings of one MAC put together.
type Found struct {
	MAC     address.MAC `json:"mac"`
	Profile string      `json:"profile,omitempty"` // the best fitting one
	Sure    int         `json:"sure"`              // percent
	Why     []string    `json:"why,omitempty"`     // the facts that decided it
	First   time.Time   `json:"first"`
	Last    time.Time   `json:"last"`
	Facts   []Fact      `json:"facts"`
}

// Add merges a sighting and reports whether it told anything new.
func (f *Found) Add(s Sighting) (news bool) {
	if f.First.IsZero() {
		f.MAC, f.First, news = s.MAC, s.At, true
	}
	f.Last = later(f.Last, s.At)
	for key, value := range s.Facts {
		value = clean(value)
		if value == "" {
			continue
		}
		i := slices.IndexFunc(f.Facts, func(x Fact) bool {
			return x.Key == key && x.Value == value && x.Protocol == s.Protocol
		})
		if i >= 0 {
			f.Facts[i].Last = later(f.Facts[i].Last, s.At)
			continue
		}
		if len(f.Facts) == maxFacts {
			oldest := slices.MinFunc(f.Facts, func(a, b Fact) int { return a.Last.Compare(b.Last) })
			f.Facts = slices.DeleteFunc(f.Facts, func(x Fact) bool { return x == oldest })
		}
		f.Facts = append(f.Facts, Fact{key, value, s.Protocol, s.At, s.At})
		news = true
	}
	slices.SortFunc(f.Facts, func(a, b Fact) int {
		return cmp.Or(cmp.Compare(a.Key, b.Key), a.First.Compare(b.First), cmp.Compare(a.Value, b.Value), cmp.Compare(a.Protocol, b.Protocol))
	})
	return news
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// clean makes a hostile value printable and short.
func clean(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r == '\uFFFD' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
	if r := []rune(s); len(r) > maxValue {
		s = string(r[:maxValue])
	}
	return strings.TrimSpace(s)
}

// Values lists every value of a key, "mac" included, latest first.
func (f *Found) Values(key string) []string {
	if key == "mac" {
		return []string{f.MAC.String()}
	}
	var facts []Fact
	for _, x := range f.Facts {
		if x.Key == key {
			facts = append(facts, x)
		}
	}
	slices.SortStableFunc(facts, func(a, b Fact) int { return b.Last.Compare(a.Last) })
	var list []string
	for _, x := range facts {
		if !slices.Contains(list, x.Value) {
			list = append(list, x.Value)
		}
	}
	return list
}

// Value gives the latest value of a key; "" when there is none.
func (f *Found) Value(key string) string {
	if v := f.Values(key); len(v) > 0 {
		return v[0]
	}
	return ""
}

// Addresses lists the IPv4 addresses of the device, latest first.
func (f *Found) Addresses() []netip.Addr {
	var list []netip.Addr
	for _, v := range f.Values(Address) {
		if a, err := netip.ParseAddr(v); err == nil && a.Is4() && !a.IsUnspecified() {
			list = append(list, a)
		}
	}
	return list
}

// Recognise chooses the best fitting profile; it leaves Profile empty when
// none fits better than by chance.
func (f *Found) Recognise(profiles profile.Set) {
	f.Profile, f.Sure, f.Why = "", 0, nil
	for _, p := range profiles.Sorted() {
		if sure, why := p.Sure(f.Values); sure > f.Sure && sure >= 50 {
			f.Profile, f.Sure, f.Why = p.ID, sure, why
		}
	}
}

// Finding is something about the segment that a person should know.
type Finding struct {
	Kind    string        `json:"kind"` // shared-address, unknown-device
	Address string        `json:"address,omitempty"`
	MACs    []address.MAC `json:"macs"`
	Text    string        `json:"text"`
}

// Findings reports addresses that several devices hold and devices that no
// profile fits. Only each device's present address counts.
func Findings(all []*Found) []Finding {
	holders := map[netip.Addr][]address.MAC{}
	var unknown []address.MAC
	for _, f := range all {
		if a := f.Addresses(); len(a) > 0 {
			holders[a[0]] = append(holders[a[0]], f.MAC)
		}
		if f.Profile == "" {
			unknown = append(unknown, f.MAC)
		}
	}
	var list []Finding
	for a, macs := range holders {
		if len(macs) > 1 {
			list = append(list, Finding{"shared-address", a.String(), macs,
				fmt.Sprintf("%d devices share the address %s", len(macs), a)})
		}
	}
	slices.SortFunc(list, func(a, b Finding) int { return strings.Compare(a.Address, b.Address) })
	if len(unknown) > 0 {
		text := fmt.Sprintf("%d devices fit no profile", len(unknown))
		if len(unknown) == 1 {
			text = "one device fits no profile"
		}
		list = append(list, Finding{"unknown-device", "", unknown, text})
	}
	return list
}
