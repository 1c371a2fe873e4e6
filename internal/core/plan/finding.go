package plan

import "strings"

// Level says what a finding means for the run.
type Level string

const (
	Stops   Level = "stops"   // the entry cannot be commissioned
	Warning Level = "warning" // it can, but look at it
	Hint    Level = "hint"    // worth knowing
)

// Finding is one thing that is wrong with the plan.
type Finding struct {
	Code    string `json:"code"` // its name, one of Rules
	Level   Level  `json:"level"`
	Tag     string `json:"tag"`               // the entry; "" for the site
	Profile string `json:"profile,omitempty"` // all entries of this profile are concerned
	Field   string `json:"field"`
	Reason  string `json:"reason"`
	Mend    *Mend  `json:"mend,omitempty"`
}

// Name is the short name of the finding, in words.
func (f Finding) Name() string { return strings.ReplaceAll(f.Code, "-", " ") }

// Mend is a change of one field that takes a finding away. A safe one decides
// nothing that a person might have wanted otherwise.
type Mend struct {
	Field string `json:"field"`
	Value string `json:"value"`
	Safe  bool   `json:"safe"`
}

// Rule is one kind of finding.
type Rule struct {
	Code  string
	Level Level
	About string
}

// Rules are all kinds of findings, in the order in which docs/checks.md lists them.
var Rules = []Rule{
	{"contact-missing", Hint, "the site has no contact"},
	{"zone-missing", Hint, "the site has no time zone"},
	{"naming-pattern", Warning, "the pattern for device names cannot be filled"},
	{"subnet-overlap", Stops, "two subnets overlap"},
	{"vlan-twice", Warning, "two subnets have the same VLAN id"},
	{"gateway-missing", Hint, "a subnet has no gateway"},
	{"gateway-outside", Stops, "a gateway is outside its subnet, or its network or broadcast address"},
	{"time-missing", Hint, "a subnet has no time server"},
	{"server-reach", Warning, "a server is outside the subnet, and there is no gateway to reach it"},
	{"kept-outside", Warning, "a kept-free range is outside its subnet"},
	{"range-outside", Warning, "the range for a kind is outside its subnet"},
	{"range-overlap", Warning, "the ranges for two kinds overlap"},
	{"factory-inside", Hint, "a factory address lies in a planned subnet"},
	{"policy-nobody", Hint, "a policy is for a kind or profile that no entry has"},
	{"policy-impossible", Stops, "no password fits all profiles of a kind that are to share one"},
	{"policy-refused", Stops, "a given password is refused by a profile"},
	{"policy-user", Stops, "a user is to be renamed or added where the profile cannot"},
	{"policy-recovery", Hint, "a profile takes a recovery mail address and none is given, or the reverse"},
	{"tag-form", Stops, "a tag is missing or has a form that drawings and addresses cannot hold"},
	{"profile-missing", Stops, "there is no such profile"},
	{"kind-other", Stops, "the kind is not the profile's"},
	{"subnet-unknown", Stops, "the entry names a subnet that does not exist"},
	{"subnet-other", Warning, "the address is not in the subnet that the entry names"},
	{"address-missing", Stops, "no address is given"},
	{"address-outside", Stops, "the address is outside every subnet"},
	{"address-network", Stops, "the address is a network address"},
	{"address-broadcast", Stops, "the address is a broadcast address"},
	{"address-server", Stops, "the address is a gateway's or another server's"},
	{"address-kept", Stops, "the address is kept free"},
	{"address-factory", Stops, "the address is the factory or service address of a profile"},
	{"address-twice", Stops, "the address is used twice"},
	{"address-range", Warning, "the address lies outside the range for its kind"},
	{"address-living", Warning, "another device holds the address now"},
	{"name-refused", Stops, "the profile does not accept the device name"},
	{"name-twice", Stops, "the device name is used twice, perhaps after it was shortened"},
	{"name-description", Hint, "the description looks like the device name that was meant"},
	{"mac-twice", Stops, "the MAC is used twice"},
	{"serial-twice", Stops, "the serial is used twice"},
	{"mac-other", Stops, "the entry is matched with a box of another MAC"},
	{"serial-other", Stops, "the entry is matched with a box that tells another serial"},
	{"switch-port", Warning, "the switch port is not one of a switch in the plan, or another entry has it"},
	{"port-role", Stops, "a port of a switch has a role that the site does not define, or neither a role nor settings"},
	{"port-links", Stops, "links between switches have different untagged VLANs"},
	{"port-management", Stops, "a link between switches does not carry the VLAN on which they are managed, or a switch is managed at a link"},
	{"port-hangs", Warning, "an entry is plugged in at a port whose role is for something else"},
	{"behind", Stops, "an entry hangs behind one that it cannot, or another has its part there"},
	{"part-missing", Hint, "what the box calls something behind it is not known yet"},
	{"setting-missing", Stops, "a setting that the profile needs is not given"},
	{"setting-unknown", Warning, "the profile has no such setting"},
	{"setting-value", Stops, "the value of a setting is refused"},
	{"setting-twice", Stops, "the value of a setting must be unique and is not"},
	{"setting-caution", Hint, "the value of a setting is allowed but unwise"},
	{"file-missing", Stops, "a file is named that the site does not have"},
	{"reference-missing", Stops, "an entry or setting is referred to that does not exist"},
	{"reference-kind", Stops, "an entry of the wrong kind is referred to"},
	{"reference-self", Stops, "an entry refers to itself"},
	{"second-overlap", Stops, "a further port lies in the network of the first"},
	{"second-reserved", Stops, "the address of a further port may not be used"},
	{"second-twice", Stops, "the address of a further port is used twice"},
	{"after-missing", Stops, "an entry comes after one that does not exist"},
	{"after-circle", Stops, "entries come after each other in a circle"},
	{"not-set-yet", Hint, "the profile can be planned with, but does not say how to set the model"},
}

var levels = func() map[string]Level {
	m := map[string]Level{}
	for _, r := range Rules {
		m[r.Code] = r.Level
	}
	return m
}()

// NewFindings gives what is found after a change and was not before. A value
// that is used twice may be found at the other entry, so both are looked through.
func NewFindings(before, after []Finding) []Finding {
	type mark struct{ code, tag, profile, field, reason string }
	markOf := func(f Finding) mark { return mark{f.Code, f.Tag, f.Profile, f.Field, f.Reason} }
	known := map[mark]bool{}
	for _, f := range before {
		known[markOf(f)] = true
	}
	list := []Finding{}
	for _, f := range after {
		if !known[markOf(f)] {
			list = append(list, f)
		}
	}
	return list
}
