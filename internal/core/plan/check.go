package plan

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
)

// checker goes once over a plan.
type checker struct {
	Plan
	pool  *pool
	byTag map[string]int
	first map[once]string // the tag that used each first
	// nextFree is from where on a number is looked for that nobody has, by setting and least number.
	nextFree map[once]int64
	zones    map[string]bool
	living   map[netip.Addr][]Living
	ports    map[netip.Addr]bool // first ports
	found    []Finding
}

// once is a value that only one entry may have.
type once struct{ code, scope, value string }

// Check checks the plan as a whole. Findings about the site come first, those
// about entries in the order of entries.
func (p Plan) Check() []Finding {
	c := &checker{Plan: p, pool: p.pool(), byTag: make(map[string]int, len(p.Entries)), first: map[once]string{}, nextFree: map[once]int64{},
		zones: map[string]bool{}, living: map[netip.Addr][]Living{}, ports: map[netip.Addr]bool{}}
	for i, e := range p.Entries {
		c.ports[e.Address] = true
		if _, twice := c.byTag[e.Tag]; !twice {
			c.byTag[e.Tag] = i
		}
	}
	for _, l := range p.Known.Living {
		c.living[l.Address] = append(c.living[l.Address], l)
	}
	c.site()
	c.policies()
	circle := c.circles()
	for i, e := range p.Entries {
		c.entry(i, e)
		if circle[e.Tag] != "" {
			c.find("after-circle", e.Tag, "after", "comes after itself: "+circle[e.Tag], nil)
		}
	}
	c.portRoles()
	c.sparse()
	return c.found
}

func (c *checker) find(code, tag, field, reason string, mend *Mend) {
	c.found = append(c.found, Finding{Code: code, Level: levels[code], Tag: tag, Field: field, Reason: reason,
		Mend: mend})
}

// entry checks one entry for itself and against those before it.
func (c *checker) entry(i int, e Entry) {
	if e.Tag == "" || len([]rune(e.Tag)) > 64 || strings.ContainsAny(e.Tag, "\"\\\x00\n\r\t/?#%, ;") {
		c.find("tag-form", e.Tag, "tag",
			"a tag has 1 to 64 characters, without spaces, slashes, quotes, commas or line breaks", nil)
	}
	p := c.Profiles[e.Profile]
	switch {
	case p == nil:
		c.noProfile(e)
	case e.Kind != p.Kind:
		c.find("kind-other", e.Tag, "kind", fmt.Sprintf("the profile %s is for %s, not for %s", p.ID, article(p.Kind),
			article(e.Kind)), &Mend{"kind", p.Kind, true})
	}
	if p != nil && !p.Sets() && !p.Hangs() {
		c.found = append(c.found, Finding{Code: "not-set-yet", Level: Hint, Profile: p.ID, Field: "profile",
			Reason: ""})
	}
	if c.behind(e); e.Behind == "" || e.Address.IsValid() {
		c.address(e)
	}
	if p != nil {
		if !p.Hangs() {
			c.name(e, p)
		}
		c.settings(e, p)
	}
	c.unique("mac-twice", e.Tag, "mac", "", e.MAC.String(), nil)
	c.unique("serial-twice", e.Tag, "serial", "", e.Serial, nil)
	c.box(e)
	c.switchPort(e)
	for _, tag := range e.After {
		if _, there := c.byTag[tag]; !there {
			rest := slices.DeleteFunc(slices.Clone(e.After), func(t string) bool { return t == tag })
			c.find("after-missing", e.Tag, "after", fmt.Sprintf("comes after %s, which is not in the plan", tag),
				&Mend{"after", strings.Join(rest, " "), false})
		}
	}
}

// box checks that an entry is matched with the box that it names.
func (c *checker) box(e Entry) {
	b, matched := c.Known.Boxes[e.Tag]
	if !matched {
		return
	}
	if !e.MAC.IsZero() && e.MAC != b.MAC {
		c.find("mac-other", e.Tag, "mac", fmt.Sprintf("the plan says %s, but it is matched with %s", e.MAC, b.MAC), nil)
	}
	if e.Serial != "" && b.Serial != "" && !strings.EqualFold(e.Serial, b.Serial) {
		c.find("serial-other", e.Tag, "serial", fmt.Sprintf("the plan says %s, but the matched box tells %s", e.Serial,
			b.Serial), nil)
	}
}

// unique reports a value that another entry has already; scope narrows where
// it must be unique. It tells whether the value was new.
func (c *checker) unique(code, tag, field, scope, value string, mend func() *Mend) bool {
	if value == "" {
		return true
	}
	key := once{code, scope, strings.ToLower(value)}
	other, used := c.first[key]
	if !used {
		c.first[key] = tag
		return true
	}
	var m *Mend
	if mend != nil {
		m = mend()
	}
	c.find(code, tag, field, fmt.Sprintf("%s is already used by %s", value, other), m)
	return false
}

// behind checks what an entry without a MAC of its own hangs behind.
func (c *checker) behind(e Entry) {
	at, found := c.byTag[e.Behind]
	switch {
	case e.Behind == "" && c.Profiles[e.Profile] != nil && c.Profiles[e.Profile].Hangs():
		c.find("behind", e.Tag, "behind", fmt.Sprintf("a %s hangs behind %s; say behind which",
			c.Profiles[e.Profile].Model, article(strings.Join(c.Profiles[e.Profile].Behind, " or "))), nil)
	case e.Behind == "" && e.Part != "":
		c.find("behind", e.Tag, "behind", "a part is named, but not what it hangs behind", nil)
	case e.Behind == "":
	case !found:
		c.find("behind", e.Tag, "behind", fmt.Sprintf("there is no entry %s", e.Behind), nil)
	case e.Behind == e.Tag:
		c.find("behind", e.Tag, "behind", "it cannot hang behind itself", nil)
	case c.Entries[at].Behind != "":
		c.find("behind", e.Tag, "behind", fmt.Sprintf("%s hangs behind %s itself", e.Behind, c.Entries[at].Behind), nil)
	case !e.MAC.IsZero():
		c.find("behind", e.Tag, "mac", "what hangs behind another has no MAC of its own", &Mend{"mac", "", false})
	default:
		c.unique("behind", e.Tag, "part", e.Behind, e.Part, nil)
		c.part(e, c.Entries[at])
	}
}

// switchPort checks where an entry is to be plugged in.
func (c *checker) switchPort(e Entry) {
	if e.SwitchPort == "" {
		return
	}
	tag, port, ok := strings.Cut(e.SwitchPort, "/")
	at, found := c.byTag[tag]
	switch {
	case !ok || port == "":
		c.find("switch-port", e.Tag, "switch-port", "write it as TAG/port", nil)
	case !found:
		c.find("switch-port", e.Tag, "switch-port", fmt.Sprintf("there is no entry %s", tag), nil)
	case c.Entries[at].Kind != "switch":
		c.find("switch-port", e.Tag, "switch-port", fmt.Sprintf("%s is %s, not a switch", tag,
			article(c.Entries[at].Kind)), nil)
	default:
		c.unique("switch-port", e.Tag, "switch-port", "", e.SwitchPort, nil)
	}
}

// freeAddress is the mend that takes the next free address.
func (c *checker) freeAddress(e Entry, safe bool) *Mend {
	if c.Known.Locked[e.Tag] {
		return nil // its device is configured: a person decides
	}
	a, err := c.pool.next(e)
	if err != nil {
		return nil
	}
	return &Mend{"address", a.String(), safe}
}

func (c *checker) address(e Entry) {
	if e.Subnet != "" {
		if _, ok := c.Site.Subnet(e.Subnet); !ok {
			c.find("subnet-unknown", e.Tag, "subnet", fmt.Sprintf("there is no subnet named %q", e.Subnet),
				&Mend{"subnet", "", false})
			e.Subnet = ""
		}
	}
	a := e.Address
	if !a.IsValid() {
		c.find("address-missing", e.Tag, "address", "no address is given", c.freeAddress(e, true))
		return
	}
	n := c.Site.SubnetOf(a)
	switch {
	case !n.Prefix.IsValid():
		c.find("address-outside", e.Tag, "address", fmt.Sprintf("%s is outside %s", a, c.prefixes()),
			c.freeAddress(e, false))
		return
	case e.Subnet != "" && n.Name != e.Subnet:
		c.find("subnet-other", e.Tag, "subnet", fmt.Sprintf("%s is in the subnet %q, not in %q", a, n.Name, e.Subnet),
			&Mend{"subnet", n.Name, false})
	}
	if code, why := c.pool.reserved(n, a); code != "" {
		c.find(code, e.Tag, "address", a.String()+" "+why, c.freeAddress(e, false))
		return
	}
	if !c.unique("address-twice", e.Tag, "address", "", a.String(), func() *Mend { return c.freeAddress(e, false) }) {
		return
	}
	inside := slices.ContainsFunc(n.rangesFor(e.Kind), func(r address.Range) bool { return r.Contains(a) })
	if other := n.otherKinds(a, e.Kind); other != "" || !inside {
		reason := fmt.Sprintf("%s is outside the range for %s", a, article(e.Kind))
		if other != "" {
			reason = fmt.Sprintf("%s is in the range for %s", a, article(other))
		}
		c.find("address-range", e.Tag, "address", reason, c.freeAddress(e, false))
	}
	for _, l := range c.living[a] {
		_, matched := c.Known.Boxes[e.Tag]
		may := l.MAC == e.MAC || l.Tag == "" && !matched && (l.Profile == e.Profile && l.Profile != "" ||
			slices.ContainsFunc(l.Names, func(n string) bool {
				return e.Name != "" && strings.EqualFold(n, e.Name)
			}))
		if l.Tag != e.Tag && !may { // it is not, and may not well be, the entry's own box
			who := l.MAC.String()
			if l.Tag != "" {
				who += " (" + l.Tag + ")"
			}
			c.find("address-living", e.Tag, "address", fmt.Sprintf("%s is held now by %s", a, who), nil)
		}
	}
}

func (c *checker) prefixes() string {
	var list []string
	for _, n := range c.Site.Subnets {
		list = append(list, n.Prefix.String())
	}
	if list == nil {
		return "the site: it has no subnet yet"
	}
	return "the subnet " + strings.Join(list, " or ")
}

func (c *checker) name(e Entry, p *profile.Profile) {
	if err := p.Name.Check(e.Name); err != nil {
		var mend *Mend
		auto := c.Site.NameFor(e, p)
		if p.Name.Check(auto) == nil && !c.Known.Locked[e.Tag] {
			mend = &Mend{"name", auto, true}
		}
		c.find("name-refused", e.Tag, "name", err.Error(), mend)
		return
	}
	c.unique("name-twice", e.Tag, "name", "", e.Name, func() *Mend {
		auto := c.Site.NameFor(e, p)
		if auto == e.Name || c.Known.Locked[e.Tag] {
			return nil
		}
		return &Mend{"name", auto, false}
	})
	if e.Description == "" {
		return
	}
	if auto := c.Site.NameFor(e, p); e.Name != auto && p.Name.FromTag(e.Description) == auto {
		c.find("name-description", e.Tag, "description",
			fmt.Sprintf("holds %q, while the device name is %q; devices are found by their name", e.Description,
				e.Name), &Mend{"name", auto, false})
	}
}

// mostShown bounds how many entries of a circle are named.
const mostShown = 6

// circles finds entries that come after themselves, and says along which way.
func (c *checker) circles() map[string]string {
	const (
		unseen = iota
		open
		done
	)
	state := make([]int, len(c.Entries))
	found := map[string]string{}
	// An explicit stack: hostile plans must not exhaust the program's own.
	type step struct{ entry, next int }
	for start := range c.Entries {
		if state[start] != unseen {
			continue
		}
		way := []step{{start, 0}}
		state[start] = open
		for len(way) > 0 {
			top := &way[len(way)-1]
			after := c.Before(c.Entries[top.entry])
			if top.next == len(after) {
				state[top.entry] = done
				way = way[:len(way)-1]
				continue
			}
			tag := after[top.next]
			top.next++
			i, there := c.byTag[tag]
			switch {
			case !there:
			case state[i] == unseen:
				state[i] = open
				way = append(way, step{i, 0})
			case state[i] == open:
				from := slices.IndexFunc(way, func(s step) bool { return s.entry == i })
				text := ""
				for n, s := range way[from:] {
					if n == mostShown {
						text += "… after "
						break
					}
					text += c.Entries[s.entry].Tag + " after "
				}
				for _, s := range way[from:] {
					found[c.Entries[s.entry].Tag] = text + tag
				}
			}
		}
	}
	return found
}

// policies checks how logins are made, once for each profile in use.
func (c *checker) policies() {
	used, kinds := map[string]bool{}, map[string]bool{}
	for _, p := range c.Used() {
		used[p.ID], kinds[p.Kind] = true, true
	}
	for _, policy := range c.Site.Policies {
		what, name, _ := strings.Cut(policy.For, ":")
		if what == "kind" && !kinds[name] || what == "profile" && !used[name] {
			c.find("policy-nobody", "", "policy "+policy.For, "no entry is of the "+what+" "+name, nil)
		}
	}
	for _, p := range c.Profiles.Sorted() {
		if !used[p.ID] || p.User == "" {
			continue
		}
		policy := c.Site.PolicyFor(p)
		about := func(code, reason string) {
			c.found = append(c.found, Finding{Code: code, Level: levels[code], Profile: p.ID,
				Field: "policy " + policy.For, Reason: reason})
		}
		switch policy.Mode {
		case OneKind:
			if err := c.SharedRules(p.Kind).Possible(); err != nil {
				about("policy-impossible", fmt.Sprintf("no password fits every %s: %s", p.Kind, err))
			}
		case Given:
			if c.Known.Refused != nil {
				if err := c.Known.Refused(policy, p); err != nil {
					about("policy-refused", fmt.Sprintf("the %s refuses the given password: %s", p.Model, err))
				}
			}
		}
		if policy.Users == RenameUser && !p.Accounts.Rename || policy.Users == AddUser && !p.Accounts.Add {
			about("policy-user", fmt.Sprintf("the %s keeps its user %q; it can only be given another password", p.Model,
				p.User))
		}
		switch {
		case p.Accounts.Recovery && policy.Recovery == "":
			about("policy-recovery", fmt.Sprintf("the %s takes a mail address for a lost password; none is given",
				p.Model))
		case !p.Accounts.Recovery && policy.Recovery != "" && policy.For != "":
			about("policy-recovery", fmt.Sprintf("the %s takes no mail address for a lost password", p.Model))
		}
	}
}

// sparse puts findings that repeat for every entry of a profile into one.
func (c *checker) sparse() {
	count := map[string]int{}
	for _, f := range c.found {
		if f.Code == "not-set-yet" {
			count[f.Profile]++
		}
	}
	c.found = slices.DeleteFunc(c.found, func(f Finding) bool {
		if f.Code != "not-set-yet" {
			return false
		}
		n := count[f.Profile]
		count[f.Profile] = 0
		return n == 0
	})
	for i := range c.found {
		if f := &c.found[i]; f.Code == "not-set-yet" {
			f.Reason = "the profile " + f.Profile +
				" does not say how to set the model; its entries can be planned and found"
		}
	}
}

// near is how many letters a mistyped profile may be off to be recognised.
const near = 2

func (c *checker) noProfile(e Entry) {
	reason := fmt.Sprintf("there is no profile %q", e.Profile)
	if e.Profile == "" {
		c.find("profile-missing", e.Tag, "profile", "no profile is given", nil)
		return
	}
	for _, p := range c.Profiles.Sorted() {
		if distance(p.ID, strings.ToLower(e.Profile)) <= near {
			c.find("profile-missing", e.Tag, "profile", reason+"; is "+p.ID+" meant?", &Mend{"profile", p.ID, false})
			return
		}
	}
	c.find("profile-missing", e.Tag, "profile", reason+"; choose another, or write one", nil)
}

// distance counts the letters to add, take away or change to make one word
// another (Levenshtein).
func distance(a, b string) int {
	if len(b) > 100 {
		return len(b)
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		last := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			change := last
			if a[i-1] != b[j-1] {
				change++
			}
			last = row[j]
			row[j] = min(change, row[j]+1, row[j-1]+1)
		}
	}
	return row[len(b)]
}
