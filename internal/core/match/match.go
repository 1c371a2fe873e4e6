// Package match proposes which found device is which entry of the plan: by what
// is certain first, as one assignment that is the best over all, with reasons.
package match

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/plan"
)

// Reasons, by what is certain first.
const (
	ByMAC     = "mac"
	BySerial  = "serial"
	ByLabel   = "label" // scanned
	ByPort    = "port"  // of a switch
	ByName    = "name"
	ByAddress = "address"
	ByOrder   = "order"
	ByArrival = "arrival" // it was plugged in when it was awaited
	ByHand    = "hand"
)

// Reasons lists all that proposals have, by what is certain first.
var Reasons = []string{ByMAC, BySerial, ByPort, ByName, ByAddress, ByOrder}

// How sure each sign makes a match, in percent.
var sure = map[string]int{ByMAC: 99, BySerial: 99, ByPort: 93, ByName: 88, ByAddress: 85}

// Proposal says that a device should be an entry, why, and how sure that is.
type Proposal struct {
	Tag     string      `json:"tag"`
	MAC     address.MAC `json:"mac"`
	Serial  string      `json:"serial,omitempty"`
	Profile string      `json:"profile"`
	By      string      `json:"by"`
	Sure    int         `json:"sure"` // percent
	Why     string      `json:"why"`
	// Part says that the counts do not agree: some entry or box stays without,
	// and nobody knows whether it is the right one.
	Part bool `json:"part,omitempty"`
	// Guess says that only the order decided among several identical boxes.
	Guess bool `json:"guess,omitempty"`
}

// Open is an entry or a group that could not be decided, and what would decide it.
type Open struct {
	Profile string `json:"profile"`
	Tag     string `json:"tag,omitempty"`
	Why     string `json:"why"`
	Decide  string `json:"decide,omitempty"`
}

// Result is everything that can be said.
type Result struct {
	Proposals []Proposal    `json:"proposals"`
	Open      []Open        `json:"open"`
	Missing   []string      `json:"missing"` // entries for which no box is proposed
	Spare     []address.MAC `json:"spare"`   // boxes for which no entry is proposed
}

// Segment is what matching looks at: the whole plan, every device that is there,
// and which of them are matched already.
type Segment struct {
	Entries []plan.Entry
	Found   []*device.Found
	Matched map[address.MAC]string // tags by box
}

// Propose matches the entries and devices that are not matched yet, except
// entries that are not wired. It never crosses profiles.
func Propose(s Segment) Result {
	p := &proposer{ports: newPorts(s), usedMAC: map[address.MAC]bool{}, usedTag: map[string]bool{},
		Result: Result{Proposals: []Proposal{}, Open: []Open{}, Missing: []string{}, Spare: []address.MAC{}}}
	done := map[string]bool{}
	for _, tag := range s.Matched {
		done[tag] = true
	}
	for _, e := range s.Entries {
		if !done[e.Tag] && !e.NotWired && !hangs(e) {
			p.entries = append(p.entries, e)
		}
	}
	for _, f := range s.Found {
		if s.Matched[f.MAC] == "" {
			p.found = append(p.found, f)
		}
	}
	p.boxes = newBoxes(p.found)
	p.exact = make([]bool, len(p.entries))
	for i, e := range p.entries {
		p.exact[i] = p.names(e)
	}
	p.named()
	p.assign()
	p.ordered()
	proposed, taken := map[string]bool{}, map[address.MAC]bool{}
	for _, x := range p.Proposals {
		proposed[x.Tag], taken[x.MAC] = true, true
	}
	for _, e := range p.entries {
		if !proposed[e.Tag] {
			p.Missing = append(p.Missing, e.Tag)
		}
	}
	for _, f := range p.found {
		if !taken[f.MAC] {
			p.Spare = append(p.Spare, f.MAC)
		}
	}
	return p.Result
}

type proposer struct {
	Result
	entries []plan.Entry
	exact   []bool // by entry: it names one box that can be told from others
	found   []*device.Found
	boxes   *boxes
	ports   *ports
	usedMAC map[address.MAC]bool
	usedTag map[string]bool
}

// onlyOne is how sure a match by order is, in percent, where there is no other box
// that it could be.
const onlyOne = 90

func (p *proposer) add(e plan.Entry, f *device.Found, by string, sure int, why string, part bool) {
	p.usedMAC[f.MAC], p.usedTag[e.Tag] = true, true
	p.Proposals = append(p.Proposals, Proposal{e.Tag, f.MAC, f.Value(fact.Serial), e.Profile, by, sure, why, part,
		by == ByOrder && sure < onlyOne})
}

func exactKey(e plan.Entry) string {
	if !e.MAC.IsZero() {
		return "MAC " + e.MAC.String()
	}
	return "serial " + e.Serial
}

// names reports whether an entry names one box that can be told from others: by its MAC, or by
// its serial, unless none that tells it is there and a box of the model tells none at all. Some
// tell theirs only to who is signed in, and a run compares it then.
func (p *proposer) names(e plan.Entry) bool {
	if !e.MAC.IsZero() || e.Serial == "" {
		return !e.MAC.IsZero()
	}
	return len(p.boxes.named(e)) > 0 || !p.boxes.silent[e.Profile]
}

// mayBe reports whether a device may be of an entry's profile.
func mayBe(e plan.Entry, f *device.Found) bool {
	return f.Profile == e.Profile || slices.Contains(f.Maybe, e.Profile)
}

// named sorts out the entries that name a box which cannot be theirs.
func (p *proposer) named() {
	holder := map[address.MAC]string{}
	for i, e := range p.entries {
		if !p.exact[i] {
			continue
		}
		list := p.boxes.named(e)
		switch {
		case len(list) == 0:
			p.leave(e, "the box that the plan names by "+exactKey(e)+" is not on the segment",
				"plug it in, or mend the plan")
		case list[0].Profile != "" && !mayBe(e, list[0]):
			p.leave(e, fmt.Sprintf("%s is a %s, but the plan says %s", exactKey(e), list[0].Profile, e.Profile),
				"mend the plan")
		case holder[list[0].MAC] != "":
			p.leave(e, "another entry, "+holder[list[0].MAC]+", names the same box", "mend the plan")
		default:
			holder[list[0].MAC] = e.Tag
		}
	}
}

func (p *proposer) leave(e plan.Entry, why, decide string) {
	p.usedTag[e.Tag] = true // never by anything less: the plan names one exact box
	p.Open = append(p.Open, Open{e.Profile, e.Tag, why, decide})
}

// sign is one reason to match an entry with a device.
type sign struct{ by, why string }

// signs lists the reasons to match an entry with a device, the surest first. exact says that
// the entry names this one.
func (p *proposer) signs(e plan.Entry, exact bool, f *device.Found, claimed map[address.MAC]bool) (list []sign) {
	if exact {
		if f.Profile != "" && !mayBe(e, f) {
			return nil
		}
		if !e.MAC.IsZero() {
			return []sign{{ByMAC, "the plan gives this MAC"}}
		}
		return []sign{{BySerial, "the plan gives this serial"}}
	}
	if claimed[f.MAC] || !mayBe(e, f) {
		return nil
	}
	if p.ports.only(e) == f {
		list = append(list, sign{ByPort, "it hangs on the planned switch port " + e.SwitchPort})
	}
	if e.Name != "" && f.State != device.Factory && slices.ContainsFunc(f.Present(fact.Name), func(n string) bool {
		return strings.EqualFold(n, e.Name)
	}) {
		list = append(list, sign{ByName, "it has the planned name already"})
	}
	if e.Address.IsValid() && f.AddressNow() == e.Address {
		list = append(list, sign{ByAddress, "it has the planned address already"})
	}
	return list
}

// assign makes the best assignment over all signs. Where another is just as
// good, the entries in question are left open.
func (p *proposer) assign() {
	claimed := map[address.MAC]bool{}
	for i, e := range p.entries {
		if p.exact[i] && !p.usedTag[e.Tag] {
			for _, f := range p.boxes.named(e) {
				claimed[f.MAC] = true
			}
		}
	}
	var left []plan.Entry
	reasons := map[[2]int][]sign{}
	var edges []edge
	for i, e := range p.entries {
		if p.usedTag[e.Tag] {
			continue
		}
		n := len(left)
		left = append(left, e)
		list := p.boxes.named(e)
		if !p.exact[i] {
			list = p.boxes.likely(e, p.ports)
		}
		for _, f := range list {
			if signs := p.signs(e, p.exact[i], f, claimed); signs != nil {
				j := p.boxes.order[f.MAC]
				reasons[[2]int{n, j}] = signs
				edges = append(edges, edge{n, j, together(signs)})
			}
		}
	}
	for _, a := range best(edges) { // in the order of the entries
		e, f, list := left[a.row], p.found[a.column], reasons[[2]int{a.row, a.column}]
		if a.tied {
			p.usedTag[e.Tag], p.usedMAC[f.MAC] = true, true
			p.Open = append(p.Open, Open{e.Profile, e.Tag, "several boxes fit equally: " + list[0].why,
				"scan its label, make one blink, or match by hand"})
			continue
		}
		var why []string
		for _, s := range list {
			why = append(why, s.why)
		}
		p.add(e, f, list[0].by, min(99, together(list)), strings.Join(why, "; "), false)
	}
}

// together adds independent signs up, in percent.
func together(list []sign) int {
	doubt := 1.0
	for _, s := range list {
		doubt *= 1 - float64(sure[s.by])/100
	}
	return int((1-doubt)*1000+0.5) / 10
}

// ordered pairs what is left within each profile, entries in the order of the
// plan, devices by serial and then MAC. Where the counts do not agree, the pairs
// are only a part that a person may accept.
func (p *proposer) ordered() {
	tags := map[string][]plan.Entry{}
	for _, e := range p.entries {
		if !p.usedTag[e.Tag] {
			tags[e.Profile] = append(tags[e.Profile], e)
		}
	}
	boxes := map[string][]*device.Found{}
	for _, f := range p.found {
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
		if len(have) == 0 {
			p.Open = append(p.Open, Open{Profile: id, Why: fmt.Sprintf("%d without a box: none of this model is left",
				len(want)), Decide: "plug them in and find again"})
			continue
		}
		serials := make(map[*device.Found]string, len(have))
		for _, f := range have {
			serials[f] = f.Value(fact.Serial)
		}
		slices.SortFunc(have, func(a, b *device.Found) int {
			return cmp.Or(cmp.Compare(serials[a], serials[b]), slices.Compare(a.MAC[:], b.MAC[:]))
		})
		part := len(want) != len(have)
		if part {
			p.Open = append(p.Open, Open{Profile: id, Why: fmt.Sprintf("%d entries but %d devices", len(want),
				len(have)),
				Decide: "scan labels, name switch ports or serials in the plan, match by hand, or take the part that is proposed by order"})
		}
		for i, e := range want[:min(len(want), len(have))] {
			sure, why := 60, fmt.Sprintf("number %d of %d by serial and MAC; the counts agree", i+1, len(want))
			switch {
			case part:
				sure, why = 30, fmt.Sprintf("number %d by serial and MAC; the counts do not agree", i+1)
			case len(want) == 1:
				sure, why = onlyOne, "the only one of its model"
			}
			p.add(e, have[i], ByOrder, sure, why, part)
		}
	}
}
