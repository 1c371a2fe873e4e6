// Package match proposes which found device is which entry of the plan.
package match

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
)

// Reasons, by what is certain first.
const (
	ByMAC    = "mac"
	BySerial = "serial"
	ByOrder  = "order"
	ByHand   = "hand"
)

// Proposal says that a device should be an entry, why, and how sure that is.
type Proposal struct {
	Tag     string      `json:"tag"`
	MAC     address.MAC `json:"mac"`
	Serial  string      `json:"serial,omitempty"`
	Profile string      `json:"profile"`
	By      string      `json:"by"`
	Sure    int         `json:"sure"` // percent
	Why     string      `json:"why"`
}

// Open is an entry or a group that could not be decided, and what would decide it.
type Open struct {
	Profile string `json:"profile"`
	Tag     string `json:"tag,omitempty"`
	Why     string `json:"why"`
}

// Propose matches the given entries and devices, both not yet matched: by MAC,
// then by serial, then by order within a profile where the counts agree. It
// never crosses profiles.
func Propose(entries []plan.Entry, found []*device.Found) ([]Proposal, []Open) {
	p := &proposer{usedMAC: map[address.MAC]bool{}, usedTag: map[string]bool{}}
	p.exact(entries, found)
	p.ordered(entries, found)
	return p.proposals, p.open
}

type proposer struct {
	proposals []Proposal
	open      []Open
	usedMAC   map[address.MAC]bool
	usedTag   map[string]bool
}

func (p *proposer) add(e plan.Entry, f *device.Found, by string, sure int, why string) {
	p.usedMAC[f.MAC], p.usedTag[e.Tag] = true, true
	p.proposals = append(p.proposals, Proposal{e.Tag, f.MAC, f.Value(device.Serial), e.Profile, by, sure, why})
}

// exact decides the entries whose MAC or serial the plan gives.
func (p *proposer) exact(entries []plan.Entry, found []*device.Found) {
	for _, e := range entries {
		if e.MAC.IsZero() && e.Serial == "" {
			continue
		}
		p.usedTag[e.Tag] = true // never by order: the plan names one exact box
		i := slices.IndexFunc(found, func(f *device.Found) bool {
			if !e.MAC.IsZero() {
				return f.MAC == e.MAC
			}
			return slices.ContainsFunc(f.Values(device.Serial), func(s string) bool { return strings.EqualFold(s, e.Serial) })
		})
		switch {
		case i < 0:
			p.open = append(p.open, Open{e.Profile, e.Tag, "the box that the plan names by " + exactKey(e) + " is not on the segment"})
		case found[i].Profile != "" && found[i].Profile != e.Profile:
			p.open = append(p.open, Open{e.Profile, e.Tag, fmt.Sprintf("%s is a %s, but the plan says %s", exactKey(e), found[i].Profile, e.Profile)})
		case p.usedMAC[found[i].MAC]:
			p.open = append(p.open, Open{e.Profile, e.Tag, "another entry names the same box"})
		case !e.MAC.IsZero():
			p.add(e, found[i], ByMAC, 99, "the plan gives this MAC")
		default:
			p.add(e, found[i], BySerial, 99, "the plan gives this serial")
		}
	}
}

func exactKey(e plan.Entry) string {
	if !e.MAC.IsZero() {
		return "MAC " + e.MAC.String()
	}
	return "serial " + e.Serial
}

// ordered pairs what is left within each profile, entries in the order of the
// plan, devices by serial and then MAC, but only where the counts agree.
func (p *proposer) ordered(entries []plan.Entry, found []*device.Found) {
	tags := map[string][]plan.Entry{}
	for _, e := range entries {
		if !p.usedTag[e.Tag] {
			tags[e.Profile] = append(tags[e.Profile], e)
		}
	}
	boxes := map[string][]*device.Found{}
	for _, f := range found {
		if !p.usedMAC[f.MAC] && f.Profile != "" {
			boxes[f.Profile] = append(boxes[f.Profile], f)
		}
	}
	ids := make([]string, 0, len(tags))
	for id := range tags {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	for _, id := range ids {
		want, have := tags[id], boxes[id]
		if len(want) != len(have) {
			p.open = append(p.open, Open{Profile: id, Why: fmt.Sprintf("%d entries but %d devices; plug in, give serials in the plan, or match by hand", len(want), len(have))})
			continue
		}
		slices.SortFunc(have, func(a, b *device.Found) int {
			return cmp.Or(cmp.Compare(a.Value(device.Serial), b.Value(device.Serial)), slices.Compare(a.MAC[:], b.MAC[:]))
		})
		for i, e := range want {
			sure, why := 60, fmt.Sprintf("number %d of %d by serial and MAC; the counts agree", i+1, len(want))
			if len(want) == 1 {
				sure, why = 90, "the only one of its model"
			}
			p.add(e, have[i], ByOrder, sure, why)
		}
	}
}
