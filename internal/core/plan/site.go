// Package plan is the list of devices that should exist on a site: its values,
// how they are written quickly, and how they are checked as a whole.
package plan

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
)

// Site is one job.
type Site struct {
	Key      string `json:"key"` // short, for addresses and commands: small letters, digits, dashes
	Name     string `json:"name"`
	Contact  string `json:"contact"`
	Notes    string `json:"notes"`
	Zone     string `json:"zone"`     // IANA time zone
	Language string `json:"language"` // of documents, as in BCP 47: en, nb
	Naming   string `json:"naming"`   // pattern that device names are made from; "" means {tag}
	// Register are the columns of the register that is handed over, by key; none: the usual ones.
	Register []string `json:"register,omitempty"`
	// Package are the documents in the package that is handed over, by name; none: all of them.
	Package  []string   `json:"package,omitempty"`
	Subnets  []Subnet   `json:"subnets"`
	Policies []Policy   `json:"policies"`
	Roles    []PortRole `json:"roles"` // of switches' ports
}

// Subnet is a planned IPv4 prefix. The zero value means that none is set.
type Subnet struct {
	Name     string       `json:"name"`
	Prefix   netip.Prefix `json:"prefix"`
	VLAN     int          `json:"vlan"` // IEEE 802.1Q identifier, 1 to 4094; 0: untagged
	Gateway  netip.Addr   `json:"gateway"`
	DNS      []netip.Addr `json:"dns"`
	NTP      []netip.Addr `json:"ntp"`
	Domain   string       `json:"domain"`
	Log      []netip.Addr `json:"log"`  // where devices send their messages (RFC 5424)
	Traps    []netip.Addr `json:"snmp"` // where devices send their SNMP notifications (RFC 3416)
	KeptFree []Kept       `json:"keptFree"`
	Ranges   []KindRange  `json:"ranges"`
}

// Kept is a range that no entry may use, with the reason.
type Kept struct {
	Range  address.Range `json:"range"`
	Reason string        `json:"reason"`
}

// KindRange is where devices of a kind get their addresses.
type KindRange struct {
	Kind  string        `json:"kind"`
	Range address.Range `json:"range"`
}

// Modes of a policy.
const (
	OneEach = "each"  // one generated password per device
	OneKind = "kind"  // one generated password for all devices of a kind
	Given   = "given" // a password that a person gave
)

// What a policy does with the user of a login.
const (
	KeepUser   = "keep"
	RenameUser = "rename"
	AddUser    = "add"
)

// Policy says how logins are made for a site, a kind or a profile. The most
// particular one counts: profile, then kind, then site.
type Policy struct {
	For      string `json:"for"`    // "", "kind:camera" or "profile:ovalis-c20"
	Mode     string `json:"mode"`   // each, kind or given
	Length   int    `json:"length"` // of generated passwords, in characters; 0: the usual
	Given    string `json:"given"`  // what stands for the given password, which is in the vault
	Users    string `json:"users"`  // keep, rename or add
	User     string `json:"user"`   // the new name, unless kept
	Recovery string `json:"recovery"`
	// Turn counts how often the password that a kind shares was made anew.
	Turn int `json:"turn,omitempty"`
}

var (
	siteKey    = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,39}$`)
	languages  = regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
	domainForm = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?\.)*[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)
)

// KeyFrom makes a key from a site's name.
func KeyFrom(name string) string {
	key := strings.Trim(regexp.MustCompile(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(name), "-"), "-")
	if len(key) > 40 {
		key = strings.Trim(key[:40], "-")
	}
	return key
}

// Check says what cannot be understood in the site's own data; nil when all
// can. Whether it makes sense as a whole is for Plan.Check.
func (s Site) Check() error {
	switch {
	case strings.TrimSpace(s.Name) == "":
		return fmt.Errorf("the site needs a name")
	case !siteKey.MatchString(s.Key):
		return fmt.Errorf("the site's key %q must be small letters, digits and dashes, at most 40", s.Key)
	case s.Zone != "" && !profile.IsZone(s.Zone):
		return fmt.Errorf("%q is not a time zone like Europe/Oslo", s.Zone)
	case s.Language != "" && !languages.MatchString(s.Language):
		return fmt.Errorf("%q is not a language like en or nb", s.Language)
	case len(s.Register) > 40:
		return fmt.Errorf("a register has at most 40 columns")
	case len(s.Package) > 40:
		return fmt.Errorf("a package has at most 40 documents")
	case len(s.Subnets) > 100:
		return fmt.Errorf("a site has at most 100 subnets")
	}
	names := map[string]bool{}
	for _, n := range s.Subnets {
		if err := n.check(); err != nil {
			return err
		}
		if names[n.Name] {
			return fmt.Errorf("two subnets are named %q", n.Name)
		}
		names[n.Name] = true
	}
	if err := s.checkRoles(); err != nil {
		return err
	}
	return s.checkPolicies()
}

func (n Subnet) check() error {
	switch {
	case !n.Prefix.IsValid() || !n.Prefix.Addr().Is4() || n.Prefix.Bits() < 8 || n.Prefix.Bits() > 30:
		return fmt.Errorf("subnet %q: the prefix must be an IPv4 prefix from /8 to /30, like 10.40.8.0/22", n.Name)
	case n.Prefix.Addr().IsLoopback(), n.Prefix.Addr().IsMulticast(), n.Prefix.Addr().IsLinkLocalUnicast(),
		n.Prefix.Addr().As4()[0] == 0, n.Prefix.Addr().As4()[0] >= 240:
		return fmt.Errorf("subnet %q: %s is no prefix for devices: it is loopback, link-local, multicast or reserved (RFC 6890)", n.Name, n.Prefix)
	case n.Prefix != n.Prefix.Masked():
		return fmt.Errorf("the subnet %s has host bits set; its network is %s", n.Prefix, n.Prefix.Masked())
	case n.VLAN < 0 || n.VLAN > 4094:
		return fmt.Errorf("subnet %q: a VLAN id is 1 to 4094", n.Name)
	case n.Domain != "" && (len(n.Domain) > 253 || !domainForm.MatchString(n.Domain)):
		return fmt.Errorf("subnet %q: %q is not a domain name", n.Name, n.Domain)
	}
	return nil
}

func (s Site) checkPolicies() error {
	seen := map[string]bool{}
	for _, p := range s.Policies {
		what, name, _ := strings.Cut(p.For, ":")
		switch {
		case p.For != "" && (what != "kind" && what != "profile" || name == ""):
			return fmt.Errorf("a policy is for the site, for kind:NAME or for profile:NAME, not for %q", p.For)
		case !slices.Contains([]string{OneEach, OneKind, Given}, p.Mode):
			return fmt.Errorf("a policy's mode is each, kind or given, not %q", p.Mode)
		case !slices.Contains([]string{"", KeepUser, RenameUser, AddUser}, p.Users):
			return fmt.Errorf("a policy's users is keep, rename or add, not %q", p.Users)
		case (p.Users == RenameUser || p.Users == AddUser) && p.User == "":
			return fmt.Errorf("a policy that renames or adds a user needs its name")
		case p.Length < 0 || p.Length > 64:
			return fmt.Errorf("a policy's length is 1 to 64 characters, or 0 for the usual")
		case p.Mode == Given && p.Given == "":
			return fmt.Errorf("a policy with a given password needs one")
		case (profile.Setting{Type: profile.Mail}).Check(p.Recovery) != nil:
			return fmt.Errorf("%q is not a mail address like duty@example.org", p.Recovery)
		case seen[p.For]:
			return fmt.Errorf("there are two policies for %q", p.For)
		}
		seen[p.For] = true
	}
	return nil
}

// PolicyFor gives the policy that counts for a profile: one password each and
// the user kept, where nothing is said.
func (s Site) PolicyFor(p *profile.Profile) Policy {
	best := Policy{Mode: OneEach, Users: KeepUser}
	for _, name := range []string{"", "kind:" + p.Kind, "profile:" + p.ID} {
		if i := slices.IndexFunc(s.Policies, func(c Policy) bool { return c.For == name }); i >= 0 {
			best = s.Policies[i]
		}
	}
	return best
}

// Stamp says for one kind how the policy makes a password, so that one that was
// made otherwise, or for an earlier policy, is known by it.
func (c Policy) Stamp(kind string) string {
	switch c.Mode {
	case OneKind:
		return fmt.Sprintf("%s %d %d %s", OneKind, c.Length, c.Turn, kind)
	case Given:
		return Given + " " + c.Given
	}
	return fmt.Sprintf("%s %d", OneEach, c.Length)
}

// LoginName gives the user that a device of the profile will have.
func (c Policy) LoginName(p *profile.Profile) string {
	if (c.Users == RenameUser || c.Users == AddUser) && p.User != "" {
		return c.User
	}
	return p.User
}

// SubnetOf gives the subnet that holds an address; the zero Subnet when none does.
func (s Site) SubnetOf(a netip.Addr) Subnet {
	for _, n := range s.Subnets {
		if n.Prefix.IsValid() && n.Prefix.Contains(a) {
			return n
		}
	}
	return Subnet{}
}

// Subnet finds a subnet by its name.
func (s Site) Subnet(name string) (Subnet, bool) {
	for _, n := range s.Subnets {
		if n.Name == name {
			return n, true
		}
	}
	return Subnet{}, false
}

// servers lists the subnet's own hosts with what they are, gateway first.
func (n Subnet) servers() []struct {
	what string
	at   netip.Addr
} {
	var list []struct {
		what string
		at   netip.Addr
	}
	add := func(what string, addrs ...netip.Addr) {
		for _, a := range addrs {
			if a.IsValid() {
				list = append(list, struct {
					what string
					at   netip.Addr
				}{what, a})
			}
		}
	}
	add("gateway", n.Gateway)
	add("DNS server", n.DNS...)
	add("time server", n.NTP...)
	add("log server", n.Log...)
	add("SNMP manager", n.Traps...)
	return list
}

// Plan is a site with its entries and what is known beside them: all that
// checking and writing a plan needs.
type Plan struct {
	Site     Site
	Entries  []Entry
	Profiles profile.Set
	Known    Known
}

// Known is what a plan is checked against besides itself. The zero value knows nothing.
type Known struct {
	Files  map[string]string   // SHA-256 of the files of the site, by name; nil: not looked at
	Logins map[string]string   // which login opens the device of an entry, by tag
	Locked map[string]bool     // tags of entries whose devices are configured
	Living []Living            // devices on the segment
	Boxes  map[string]Box      // by tag: what is matched
	Asked  map[netip.Addr]bool // addresses that are asked for besides: none is given out
	// Refused says why the given password of a policy is refused by a profile; nil when it is not.
	Refused func(Policy, *profile.Profile) error
}

// Box is what an entry is matched with.
type Box struct {
	MAC    address.MAC
	Serial string // as it told itself; "" when it did not
}

// Living is a device that holds an address now.
type Living struct {
	Address netip.Addr
	MAC     address.MAC
	Tag     string // the entry that it is matched with; "" for none
	Profile string // "" when it is not recognised
	Names   []string
}

// Needs tells which addresses the plan needs for itself: those of entries and
// servers, and what is kept free.
func (p Plan) Needs() func(netip.Addr) bool {
	planned := map[netip.Addr]bool{}
	var kept []Kept
	for _, n := range p.Site.Subnets {
		for _, s := range n.servers() {
			planned[s.at] = true
		}
		kept = append(kept, n.KeptFree...)
	}
	for _, e := range p.Entries {
		planned[e.Address] = true
	}
	return func(a netip.Addr) bool {
		return planned[a] || slices.ContainsFunc(kept, func(k Kept) bool { return k.Range.Contains(a) })
	}
}

// Used lists the profiles that entries have, by id.
func (p Plan) Used() []*profile.Profile {
	used := map[string]bool{}
	for _, e := range p.Entries {
		used[e.Profile] = true
	}
	return slices.DeleteFunc(p.Profiles.Sorted(), func(q *profile.Profile) bool { return !used[q.ID] })
}

// SharedRules are the rules for the one password that all devices of a kind share.
func (p Plan) SharedRules(kind string) secret.Rules {
	var rules []secret.Rules
	for _, q := range p.Used() {
		if q.Kind == kind && p.Site.PolicyFor(q).Mode == OneKind {
			rules = append(rules, q.Password)
		}
	}
	return secret.Merge(rules...)
}

// Words says the subnet in one line.
func (n Subnet) Words() string {
	text := n.Prefix.String()
	if n.VLAN != 0 {
		text += fmt.Sprintf(", VLAN %d", n.VLAN)
	}
	list := func(what string, addrs ...netip.Addr) {
		var parts []string
		for _, a := range addrs {
			if a.IsValid() {
				parts = append(parts, a.String())
			}
		}
		if parts != nil {
			text += ", " + what + " " + strings.Join(parts, " ")
		}
	}
	list("gateway", n.Gateway)
	list("DNS", n.DNS...)
	list("NTP", n.NTP...)
	if n.Domain != "" {
		text += ", domain " + n.Domain
	}
	list("log", n.Log...)
	list("SNMP", n.Traps...)
	for _, k := range n.KeptFree {
		text += ", kept " + strings.TrimSpace(k.Range.String()+" "+k.Reason)
	}
	for _, r := range n.Ranges {
		text += fmt.Sprintf(", %s %s", r.Kind, r.Range)
	}
	return text
}

// Words says the policy in one line.
func (c Policy) Words() string {
	text := "site"
	if c.For != "" {
		text = c.For
	}
	text += map[string]string{OneEach: ": one password per device", OneKind: ": one password per kind",
		Given: ": a given password"}[c.Mode]
	if c.Length > 0 {
		text += fmt.Sprintf(" of %d characters", c.Length)
	}
	if c.Users == RenameUser || c.Users == AddUser {
		text += fmt.Sprintf(", %s user %s", c.Users, c.User)
	}
	if c.Recovery != "" {
		text += ", recovery " + c.Recovery
	}
	return text
}
