// Package profile is the description of one device model: how to recognise
// it, its factory state, its rules, and how to talk to it. A profile is data;
// no Go code names a model. The format is described in docs/profiles.md.
package profile

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/evidence"
	"redstart/internal/core/naming"
	"redstart/internal/core/secret"
)

// Format is the value of the first key of every profile document.
const Format = "profile/1"

// Act is one thing that can be done with a device. A profile says how, move by move.
type Act string

const (
	Identify Act = "identify" // ask who it is, without a login; takes model, serial, firmware
	SignIn   Act = "sign-in"  // prove that {user} and {password} are accepted
	// set {user} and {password}; {old-user} and {old-password} are what opens it so far
	Password Act = "password"
	// set {password} where one of its own opens it; without this act, password does both
	Renew    Act = "renew"
	Name     Act = "name"     // set {name}
	Time     Act = "time"     // set the clock, the time zone and time servers
	Settings Act = "settings" // set what the profile declares besides, as {setting.KEY}
	Address  Act = "address"  // set {address}, {mask}, {bits}, {gateway}
	// send the firmware that {setting.firmware} names; a run does so only where the device has
	// an older one than is asked
	Firmware Act = "firmware"
	Keep     Act = "keep" // take its saved configuration, as configuration
	// load the configuration that {setting.configuration} names, of a sibling
	Load    Act = "load"
	Save    Act = "save"    // make the running settings the saved ones
	Restart Act = "restart" // restart, or put staged settings into effect by restarting
	// read back name, address, mask, gateway; uptime or starts where they show a restart
	Read         Act = "read"
	FactoryEntry Act = "factory-entry" // try the way in that a factory-fresh device offers
	Blink        Act = "blink"         // make the device show itself
)

var allActs = []Act{Identify, SignIn, Password, Renew, Name, Time, Settings, Address, Firmware, Keep, Load, Save, Restart, Read,
	FactoryEntry, Blink}

// Keys of the settings that say which firmware is asked for at least, and which file of the
// site holds it.
const (
	FirmwareAsked = "firmware-asked"
	FirmwareFile  = "firmware"
)

// Configuration is the key of the setting that names the file of the site with a sibling's
// configuration.
const Configuration = "configuration"

// Effects that an act may have on the device's presence on the segment.
const (
	Stays    = ""         // nothing happens on the segment
	Moves    = "moves"    // the device answers at its new address at once
	Restarts = "restarts" // the device disappears and comes back
)

// Profile is one parsed and checked document.
type Profile struct {
	Source    []byte       `yaml:"-" json:"-"` // the document that it was read from
	Redstart  string       `yaml:"redstart" json:"-"`
	ID        string       `yaml:"id" json:"id"`
	Maker     string       `yaml:"maker" json:"maker"`
	Model     string       `yaml:"model" json:"model"`
	Kind      string       `yaml:"kind" json:"kind"`
	About     string       `yaml:"about" json:"about"`
	Recognise []Rule       `yaml:"recognise" json:"recognise"`
	Ask       []string     `yaml:"ask" json:"ask,omitempty"`
	Factory   Factory      `yaml:"factory" json:"factory"`
	User      string       `yaml:"user" json:"user"`
	Name      naming.Rules `yaml:"name" json:"name"`
	Password  secret.Rules `yaml:"password" json:"password"`
	Accounts  Accounts     `yaml:"accounts" json:"accounts"`
	Settings  []Setting    `yaml:"settings" json:"settings,omitempty"`
	Restart   RestartTimes `yaml:"restart" json:"restart"`
	Ports     []uint16     `yaml:"ports" json:"ports"`
	Shut      []uint16     `yaml:"shut" json:"shut,omitempty"` // TCP ports that are shut once it is set
	// Networks are the settings that number the BACnet networks behind the device: what
	// hangs there must answer through it.
	Networks []string `yaml:"networks" json:"networks,omitempty"`
	// Behind are the kinds of boxes that the model hangs behind: it has no MAC on the segment,
	// and is set and verified through them.
	Behind []string `yaml:"behind" json:"behind,omitempty"`
	// Parts says what the box tells of what hangs behind it; nil: nothing.
	Parts *Parts `yaml:"parts" json:"-"`
	// Conditions must be so once it is set, besides what it was given.
	Conditions []Condition `yaml:"conditions" json:"-"`
	// Second is a login besides the first that may only look; nil: it has none.
	Second *SecondLogin `yaml:"second-login" json:"-"`
	// Talk is what is said of each way of talking to it, by the driver's name.
	Talk  map[string]Part `yaml:"talk" json:"-"`
	Order []Stage         `yaml:"order" json:"order"`
	Acts  map[Act]Script  `yaml:"acts" json:"-"`

	sections map[string]Section
	ways     []Driver // in use, in their order
}

// Script is the list of moves that make up an act.
type Script []Move

// Rule is one sign by which a model is recognised: a fact about a found
// device and what its value must be. Sure is in percent.
type Rule struct {
	Fact   string `yaml:"fact" json:"fact"`
	Is     string `yaml:"is" json:"is,omitempty"`
	Begins string `yaml:"begins" json:"begins,omitempty"`
	Holds  string `yaml:"holds" json:"holds,omitempty"`
	Within string `yaml:"within" json:"within,omitempty"`
	Sure   int    `yaml:"sure" json:"sure"`
}

// Fits reports whether a fact's value satisfies the rule.
func (r Rule) Fits(value string) bool {
	switch {
	case r.Is != "":
		return strings.EqualFold(value, r.Is)
	case r.Begins != "":
		return strings.HasPrefix(strings.ToLower(value), strings.ToLower(r.Begins))
	case r.Holds != "":
		return strings.Contains(strings.ToLower(value), strings.ToLower(r.Holds))
	}
	in, err := address.ParseRange(r.Within)
	a, err2 := netip.ParseAddr(value)
	return err == nil && err2 == nil && in.Contains(a)
}

// Factory is the state in which the model leaves the factory.
type Factory struct {
	Address FactoryAddress `yaml:"address" json:"address"`
	Login   *Login         `yaml:"login" json:"-"` // nil: no password until first use
	// DHCP says that a fresh device asks for an address.
	DHCP bool `yaml:"dhcp" json:"dhcp,omitempty"`
	// Gives says that a fresh device hands out addresses over DHCP until it is set.
	Gives bool `yaml:"gives" json:"gives,omitempty"`
	// Service is where the model answers for maintenance only: never its final address.
	Service FactoryAddress `yaml:"service" json:"service"`
	// Signs tell a fresh device from one that was set: any of them is enough.
	Signs []Rule `yaml:"signs" json:"signs,omitempty"`
}

// Ways in which a device may be asked who it is, besides the act identify.
const (
	AskHTTP  = "http"  // title and server of its page
	AskHTTPS = "https" // the same, and its certificate
	AskSSH   = "ssh"   // the banner
	AskONVIF = "onvif" // device information (ONVIF Core Specification, 8.3)
	AskSNMP  = "snmp"  // description, name, object ID; a switch's tables
)

var allAsks = []string{AskHTTP, AskHTTPS, AskSSH, AskONVIF, AskSNMP}

// Login is a user name with its password.
type Login struct {
	User     string `yaml:"user"`
	Password string `yaml:"password"`
}

// FactoryAddress is the range of addresses that a factory-fresh device may
// have and their prefix length. The zero value means that it has none.
type FactoryAddress struct {
	address.Range
	Bits int
}

// FromSerial stands in the factory login for the serial of the device.
const FromSerial = "{serial}"

// LoginFromSerial reports whether the factory login is made from the serial on the label.
func (p *Profile) LoginFromSerial() bool {
	l := p.Factory.Login
	return l != nil && strings.Contains(l.User+l.Password, FromSerial)
}

// FactoryLogin is the login with which a device of that serial leaves the factory; nil where
// there is none, or where the serial must be known for it and is not.
func (p *Profile) FactoryLogin(serial string) *Login {
	switch {
	case !p.LoginFromSerial():
		return p.Factory.Login
	case serial == "":
		return nil
	}
	fill := strings.NewReplacer(FromSerial, serial)
	return &Login{User: fill.Replace(p.Factory.Login.User), Password: fill.Replace(p.Factory.Login.Password)}
}

// UnmarshalText reads "none", "a.b.c.d/n" or "a.b.c.d-e.f.g.h/n".
func (f *FactoryAddress) UnmarshalText(b []byte) error {
	text := string(b)
	if text == "none" {
		*f = FactoryAddress{}
		return nil
	}
	r, bits, ok := strings.Cut(text, "/")
	if !ok {
		return fmt.Errorf("factory address %q: write none, 192.0.2.1/24 or 192.0.2.1-192.0.2.9/24", text)
	}
	parsed, err := address.ParseRange(r)
	if err != nil {
		return err
	}
	if _, err := fmt.Sscanf(bits, "%d", &f.Bits); err != nil || f.Bits < 8 || f.Bits > 30 {
		return fmt.Errorf("factory address %q: the prefix length must be 8 to 30", text)
	}
	if parsed.Size() > 256 {
		return fmt.Errorf("factory address %q: at most 256 addresses", text)
	}
	f.Range = parsed
	return nil
}

// MarshalText is the opposite of UnmarshalText.
func (f FactoryAddress) MarshalText() ([]byte, error) {
	if f.None() {
		return []byte("none"), nil
	}
	return fmt.Appendf(nil, "%s/%d", f.Range, f.Bits), nil
}

// None reports whether a factory-fresh device has no address.
func (f FactoryAddress) None() bool { return !f.From.IsValid() }

// List gives every factory address.
func (f FactoryAddress) List() []netip.Addr {
	var list []netip.Addr
	for i := range f.Size() {
		list = append(list, address.FromNumber(address.Number(f.From)+uint32(i)))
	}
	return list
}

// RestartTimes say how long the model is away when it restarts, and what shows
// that it did.
type RestartTimes struct {
	Takes  Duration `yaml:"takes" json:"takes"`     // what to expect
	AtMost Duration `yaml:"at-most" json:"at-most"` // after this it is given up
	// Shows are the ways in which the model shows a restart, as package evidence
	// names them; any of them is enough. None given: silence.
	Shows []string `yaml:"shows" json:"shows,omitempty"`
	// Silent is how long it answers nothing at least when it truly restarts; not
	// given: half of Takes.
	Silent Duration `yaml:"silent" json:"silent,omitempty"`
}

// ShownBy reports whether a way shows that the model restarted.
func (r RestartTimes) ShownBy(way string) bool {
	return slices.Contains(r.Shows, way) || len(r.Shows) == 0 && way == evidence.Silence
}

// SilentFor is how long a silence must be to show a restart.
func (r RestartTimes) SilentFor() time.Duration {
	if r.Silent > 0 {
		return time.Duration(r.Silent)
	}
	return time.Duration(r.Takes) / 2
}

// Marks reports whether the model tells its up-time or start counter.
func (r RestartTimes) Marks() bool { return r.ShownBy(evidence.Uptime) || r.ShownBy(evidence.Starts) }

// Duration is a time.Duration written like "4s".
type Duration time.Duration

// UnmarshalText reads Go's duration notation.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = Duration(v)
	return err
}

// MarshalText prints Go's duration notation.
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// Stage is one act in the order of commissioning, with what it does to the
// device's presence, or something that a person does.
type Stage struct {
	Act  Act    `yaml:"act" json:"act"` // one that a person does is given a name of its own: by hand, by hand 2
	Then string `yaml:"then" json:"then,omitempty"`
	// Renews are those things that the device is known again by (certificate, host
	// key) and makes anew after the act.
	Renews []string `yaml:"renews" json:"renews,omitempty"`
	ByHand *Hand    `yaml:"by-hand" json:"byHand,omitempty"`
	// When is the key of a setting that must be planned; else the stage is left out. With it
	// an act may stand in the order once more.
	When string `yaml:"when" json:"when,omitempty"`
}

// Applies reports whether a device with these settings goes through the stage.
func (s Stage) Applies(settings map[string]string) bool {
	return s.When == "" || settings[s.When] != ""
}

// SetsPassword reports whether a run sets a password.
func (p *Profile) SetsPassword() bool {
	return slices.ContainsFunc(p.Order, func(s Stage) bool { return s.Act == Password })
}

// Fresh says by which sign a device with these facts is as it left the
// factory; "" when none says so.
func (p *Profile) Fresh(facts func(key string) []string) string {
	for _, r := range p.Factory.Signs {
		if slices.ContainsFunc(facts(r.Fact), r.Fits) {
			return r.Fact
		}
	}
	return ""
}

// Sure says how certain it is, in percent, that a device with these facts is
// of this model, and why. Independent signs add up; none ever makes it 100.
func (p *Profile) Sure(facts func(key string) []string) (percent int, why []string) {
	doubt := 1.0
	for _, r := range p.Recognise {
		if slices.ContainsFunc(facts(r.Fact), r.Fits) {
			doubt *= 1 - float64(r.Sure)/100
			why = append(why, r.Fact)
		}
	}
	return min(99, int((1-doubt)*100+0.5)), why
}
