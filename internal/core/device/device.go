// Package device is what is known of the boxes on a segment: sightings put
// together by MAC address, each fact with where it comes from.
package device

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/fact"
	"redstart/internal/core/value"
)

// NoAddress is the value of Address that says that the device has none.
const NoAddress = "none"

// ByRun is the protocol of what a run itself saw and set.
const ByRun = "run"

// Limits on what one MAC may make us remember.
const (
	maxFacts = 96  // of the device itself
	maxParts = 512 // facts of everything behind it
	maxValue = 200
)

// Sighting is what one protocol told about one MAC at one time.
type Sighting struct {
	MAC      address.MAC
	Part     string // what hangs behind the device: a bus address, a port; "" for itself
	Protocol string
	At       time.Time
	Facts    map[string]string // key to value; may be empty: the MAC was seen
}

// Fact is one value with where it comes from.
type Fact struct {
	Part     string    `json:"part,omitempty"`
	Key      string    `json:"key"`
	Value    string    `json:"value"`
	Protocol string    `json:"protocol"`
	First    time.Time `json:"first"`
	Last     time.Time `json:"last"`
}

func (f Fact) same(other Fact) bool {
	return f.Part == other.Part && f.Key == other.Key && f.Value == other.Value && f.Protocol == other.Protocol
}

// Found is all sightings of one MAC put together.
type Found struct {
	MAC      address.MAC `json:"mac"`
	Profile  string      `json:"profile,omitempty"` // the best fitting one
	Chosen   bool        `json:"chosen,omitempty"`  // a person chose the profile
	Maybe    []string    `json:"maybe,omitempty"`   // profiles that fit equally; Profile is then empty
	Sure     int         `json:"sure"`              // percent
	Why      []string    `json:"why,omitempty"`     // the facts that decided it
	State    string      `json:"state,omitempty"`   // Factory, Set, or "" when nothing tells
	StateWhy string      `json:"stateWhy,omitempty"`
	First    time.Time   `json:"first"`
	Last     time.Time   `json:"last"`
	Facts    []Fact      `json:"facts"`

	settled *settled // what Settle worked out; nil while it may change
}

// settled is what is asked of a device again and again.
type settled struct {
	at             netip.Addr
	seen           time.Time
	serials, names []string // of now, the latter
	contradictions []Contradiction
}

// Settle works out once what is asked of a device again and again. It is for devices that many
// read and nobody changes; a clone can be changed again.
func (f *Found) Settle() *Found {
	f.settled = nil
	var s settled
	s.at, s.seen = f.Where()
	s.serials, s.names, s.contradictions = f.Values(fact.Serial), f.Present(fact.Name), f.Contradictions()
	f.settled = &s
	return f
}

// Clone copies a device, so that the copy may be handed on while it changes.
func (f *Found) Clone() *Found {
	c := *f
	c.settled = nil
	c.Facts, c.Why, c.Maybe = slices.Clone(f.Facts), slices.Clone(f.Why), slices.Clone(f.Maybe)
	return &c
}

// changes reports whether a device has one value of a key at a time.
func changes(key string) bool {
	k, known := fact.Of(key)
	return known && !k.Several
}

// Add merges a sighting and reports whether it told anything new. What was true
// once and is true again is new as well: a device that was reset has its factory
// address back.
func (f *Found) Add(s Sighting) (news bool) {
	if f.First.IsZero() {
		f.MAC, f.First, news = s.MAC, s.At, true
	}
	f.Last = later(f.Last, s.At)
	f.settled = nil
	part, waited := clean(s.Part), f.Waits()
	for key, value := range s.Facts {
		if value = clean(value); value == "" {
			continue
		}
		before := f.latest(part, key, s.Protocol)
		news = f.keep(Fact{part, key, value, s.Protocol, s.At, s.At}) || news
		if changes(key) {
			news = news || f.latest(part, key, s.Protocol) != before
		}
	}
	f.sort()
	return news || f.Waits() != waited
}

// latest is what a protocol told last of a key.
func (f *Found) latest(part, key, protocol string) string {
	var last Fact
	for _, x := range f.Facts {
		if x.Part == part && x.Key == key && x.Protocol == protocol && x.Last.After(last.Last) {
			last = x
		}
	}
	return last.Value
}

// Merge adds everything that is known of the same MAC elsewhere. Merging is
// the same in any order and any number of times.
func (f *Found) Merge(other *Found) {
	if f.First.IsZero() {
		f.MAC, f.First = other.MAC, other.First
	} else if !other.First.IsZero() && other.First.Before(f.First) {
		f.First = other.First
	}
	if other.Chosen {
		f.Profile, f.Chosen = other.Profile, true
	}
	f.Last, f.settled = later(f.Last, other.Last), nil
	for _, x := range other.Facts {
		f.keep(x)
	}
	f.sort()
}

// keep adds a fact or lengthens the time over which it was told.
func (f *Found) keep(x Fact) (news bool) {
	if i := slices.IndexFunc(f.Facts, x.same); i >= 0 {
		f.Facts[i].Last = later(f.Facts[i].Last, x.Last)
		if x.First.Before(f.Facts[i].First) {
			f.Facts[i].First = x.First
		}
		return false
	}
	own := func(y Fact) bool { return (y.Part == "") == (x.Part == "") }
	count, oldest := 0, -1
	for i, y := range f.Facts {
		if own(y) {
			count++
			if oldest < 0 || y.Last.Before(f.Facts[oldest].Last) {
				oldest = i
			}
		}
	}
	limit := maxFacts
	if x.Part != "" {
		limit = maxParts
	}
	if count >= limit {
		f.Facts = slices.Delete(f.Facts, oldest, oldest+1)
	}
	f.Facts = append(f.Facts, x)
	return true
}

func (f *Found) sort() {
	slices.SortFunc(f.Facts, func(a, b Fact) int {
		return cmp.Or(cmp.Compare(a.Part, b.Part), cmp.Compare(a.Key, b.Key), a.First.Compare(b.First),
			cmp.Compare(a.Value, b.Value), cmp.Compare(a.Protocol, b.Protocol))
	})
}

func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}

// clean makes a hostile value printable and short.
func clean(s string) string {
	s = value.Printable(s)
	if r := []rune(s); len(r) > maxValue {
		s = string(r[:maxValue])
	}
	return strings.TrimSpace(s)
}

// Values lists every value of a key, "mac" included, latest first.
func (f *Found) Values(key string) []string { return f.ValuesOf("", key) }

// ValuesOf lists every value of a key of a part, latest first.
func (f *Found) ValuesOf(part, key string) []string {
	if f.settled != nil && key == fact.Serial && part == "" {
		return slices.Clone(f.settled.serials)
	}
	if key == "mac" && part == "" {
		return []string{f.MAC.String()}
	}
	var facts []Fact
	for _, x := range f.Facts {
		if x.Part == part && x.Key == key {
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

// Present lists what each protocol told last of a key of the device itself: what
// it told before is history.
func (f *Found) Present(key string) (list []string) {
	if f.settled != nil && key == fact.Name {
		return slices.Clone(f.settled.names)
	}
	for _, x := range f.lately(func(x Fact) bool { return x.Part == "" && x.Key == key }) {
		if !slices.Contains(list, x.Value) {
			list = append(list, x.Value)
		}
	}
	return list
}

// Neighbours lists what a switch knows of its ports, as each protocol read it
// last: MACs by part.
func (f *Found) Neighbours() map[string][]string {
	by := map[string][]string{}
	for _, x := range f.lately(func(x Fact) bool { return x.Key == fact.Behind }) {
		if !slices.Contains(by[x.Part], x.Value) {
			by[x.Part] = append(by[x.Part], x.Value)
		}
	}
	return by
}

// lately gives those of the chosen facts that their protocol told last.
func (f *Found) lately(chosen func(Fact) bool) (list []Fact) {
	last := map[string]time.Time{}
	for _, x := range f.Facts {
		if chosen(x) {
			last[x.Protocol] = later(last[x.Protocol], x.Last)
		}
	}
	for _, x := range f.Facts {
		if chosen(x) && x.Last.Equal(last[x.Protocol]) {
			list = append(list, x)
		}
	}
	return list
}

// Parts lists what hangs behind the device.
func (f *Found) Parts() []string {
	var list []string
	for _, x := range f.Facts {
		if x.Part != "" && !slices.Contains(list, x.Part) {
			list = append(list, x.Part)
		}
	}
	return list
}

// Protocols lists how the device was heard.
func (f *Found) Protocols() []string {
	var list []string
	for _, x := range f.Facts {
		if !slices.Contains(list, x.Protocol) {
			list = append(list, x.Protocol)
		}
	}
	slices.Sort(list)
	return list
}

// Addresses lists the IPv4 addresses of the device, latest first.
func (f *Found) Addresses() []netip.Addr {
	var list []netip.Addr
	for _, v := range f.Values(fact.Address) {
		if a, err := netip.ParseAddr(v); err == nil && a.Is4() && !a.IsUnspecified() {
			list = append(list, a)
		}
	}
	return list
}

// Where tells the IPv4 address that the device had when it was last told, and when
// that was; the address is invalid when it was told that it has none.
func (f *Found) Where() (at netip.Addr, seen time.Time) {
	if f.settled != nil {
		return f.settled.at, f.settled.seen
	}
	for _, x := range f.Facts {
		if x.Part != "" || x.Key != fact.Address || x.Last.Before(seen) {
			continue
		}
		a, err := netip.ParseAddr(x.Value)
		switch {
		case x.Value == NoAddress && x.Last.After(seen):
			at, seen = netip.Addr{}, x.Last
		case err == nil && a.Is4() && !a.IsUnspecified():
			at, seen = a, x.Last
		}
	}
	return at, seen
}

// AddressNow gives the address that the device was last told to have; invalid when
// none was ever told, or that it has none.
func (f *Found) AddressNow() netip.Addr {
	at, _ := f.Where()
	return at
}

// Waits reports whether the device's last word about its address is that it
// asks for one.
func (f *Found) Waits() bool {
	var asked, had time.Time
	for _, x := range f.Facts {
		switch {
		case x.Part != "":
		case x.Key == fact.Asks:
			asked = later(asked, x.Last)
		case x.Key == fact.Address && x.Value != NoAddress:
			had = later(had, x.Last)
		}
	}
	return !asked.IsZero() && !had.After(asked)
}

// Contradiction is a key about which protocols disagree at the same time.
type Contradiction struct {
	Key   string `json:"key"`
	Facts []Fact `json:"facts"`
}

// Contradictions lists what protocols tell differently about the device itself.
// A value that was told no more when another began has merely changed.
func (f *Found) Contradictions() []Contradiction {
	if f.settled != nil {
		return slices.Clone(f.settled.contradictions)
	}
	var list []Contradiction
	for _, key := range fact.Keys(func(k fact.Kind) bool { return k.Compared }) {
		latest := map[string]Fact{}
		for _, x := range f.Facts {
			if x.Part == "" && x.Key == key && !x.Last.Before(latest[x.Protocol].Last) {
				latest[x.Protocol] = x
			}
		}
		var facts []Fact
		for _, x := range latest {
			for _, y := range latest {
				if !sameValue(key, x.Value, y.Value) && !x.Last.Before(y.First) && !y.Last.Before(x.First) {
					facts = append(facts, x)
					break
				}
			}
		}
		if len(facts) > 0 {
			slices.SortFunc(facts, func(a, b Fact) int { return cmp.Compare(a.Protocol, b.Protocol) })
			list = append(list, Contradiction{key, facts})
		}
	}
	return list
}

// sameValue compares loosely: a name may carry its domain, a vendor its model.
func sameValue(key, a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	switch key {
	case fact.Name:
		a, _, _ = strings.Cut(a, ".")
		b, _, _ = strings.Cut(b, ".")
	case fact.Vendor, fact.Model:
		return strings.Contains(a, b) || strings.Contains(b, a)
	}
	return a == b
}
