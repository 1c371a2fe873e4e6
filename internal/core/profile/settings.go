package profile

import (
	"cmp"
	"fmt"
	"maps"
	"net/mail"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on any machine

	"redstart/internal/core/address"
	"redstart/internal/core/secret"
	"redstart/internal/core/value"
)

// Types of settings.
const (
	Text         = "text"        // characters, as many as max allows
	Number       = "number"      // a whole number from min to max
	Choice       = "choice"      // one of choices
	YesNo        = "yes-no"      // yes or no
	IPv4         = "address"     // an IPv4 address
	SecondPort   = "second-port" // a further port: an IPv4 address with its prefix length
	Zone         = "time-zone"   // a name of the IANA time zone database
	Numbers      = "numbers"     // whole numbers from min to max and ranges of them: 1-4, 24
	Mail         = "mail"        // a mail address (RFC 5322, 3.4.1)
	Secret       = "secret"      // kept in the vault
	File         = "file"        // a file of the site, by its name
	EntryRef     = "entry"       // another entry, by its tag
	SettingRef   = "setting"     // a setting of another entry: TAG/key
	Rows         = "rows"        // a table with columns of these types
	Computed     = "computed"    // made from other values; nobody writes it
	Listing      = "listing"     // the same of many entries, a line for each; nobody writes it
	EntryLogin   = "login"       // the login of another entry's device; nobody writes it
	maxText      = 200           // longest text, in characters
	maxNumber    = 1<<53 - 1     // what JSON carries exactly
	TrunkSetting = "trunk"       // key of the setting that names what a device's bus hangs on
	PortsSetting = "port-roles"  // key of the table of a switch's ports; its first column is their number
)

// Scopes of uniqueness.
const (
	InDevice = "device"
	InTrunk  = "trunk"
	InSubnet = "subnet"
	InSite   = "site"
)

var (
	settingTypes = []string{Text, Number, Choice, YesNo, IPv4, SecondPort, Numbers, Zone, Mail, Secret, File, EntryRef,
		SettingRef, Rows, Computed, Listing, EntryLogin}
	scopes  = []string{"", InDevice, InTrunk, InSubnet, InSite}
	keyForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	// Reserved are the names of an entry's own fields; no setting may have one.
	Reserved = []string{"tag", "kind", "profile", "area", "floor", "place", "label", "description", "note", "subnet",
		"address", "name", "mac", "serial", "not-wired", "after", "behind", "part"}
	// Placeholder is one value that a computed setting takes in: {key}, or {key.part} of the entry that key refers to.
	Placeholder = regexp.MustCompile(`\{([a-z][a-z0-9-]*)(?:\.([a-z][a-z0-9-]*))?\}`)
)

// IsKey reports whether a text can be the key of a setting.
func IsKey(text string) bool { return keyForm.MatchString(text) }

// Setting is something that a model can be given besides name, address and
// login. Values are written as text; the empty text means "not given".
type Setting struct {
	Key      string `yaml:"key" json:"key"`
	Label    string `yaml:"label" json:"label"`
	Type     string `yaml:"type" json:"type"`
	Help     string `yaml:"help" json:"help,omitempty"`
	Required bool   `yaml:"required" json:"required,omitempty"`
	Default  string `yaml:"default" json:"default,omitempty"`
	Unit     string `yaml:"unit" json:"unit,omitempty"`
	Min      *int64 `yaml:"min" json:"min,omitempty"` // number, numbers
	Max      *int64 `yaml:"max" json:"max,omitempty"` // number, numbers; text: most characters
	// Rules are those of a secret: which the device takes; nil for any.
	Rules   *secret.Rules `yaml:"rules" json:"rules,omitempty"`
	Choices []string      `yaml:"choices" json:"choices,omitempty"` // choice
	Kinds   []string      `yaml:"kinds" json:"kinds,omitempty"`     // entry, setting: the kinds that may be referred to
	Of      []string      `yaml:"of" json:"of,omitempty"`           // setting: the keys that may be referred to
	Many    bool          `yaml:"many" json:"many,omitempty"`       // entry: several, divided by spaces
	Unique  string        `yaml:"unique" json:"unique,omitempty"`   // device, trunk, subnet or site
	// settings of one pool are unique among each other; "": the key
	Pool    string   `yaml:"pool" json:"pool,omitempty"`
	From    string   `yaml:"from" json:"from,omitempty"` // computed: text with {placeholders}
	Caution *Caution `yaml:"caution" json:"caution,omitempty"`
	// Words are what the device calls values of the setting, where it does not call
	// them what the plan does.
	Words map[string]string `yaml:"words" json:"words,omitempty"`
	// Columns are those of a table; the first tells its rows apart. Told is what the device
	// calls a column, where it does not call it by its key.
	// Licence says that the file is a licence: made for the host id that the device tells.
	Licence bool      `yaml:"licence" json:"licence,omitempty"`
	Columns []Setting `yaml:"columns" json:"columns,omitempty"`
	// Parts are the kinds of entries that hang behind the device and have a row each in the
	// table, besides those that are written. Takes is the field or setting of such an entry
	// that a column takes.
	Parts []string `yaml:"parts" json:"parts,omitempty"`
	Takes string   `yaml:"takes" json:"-"`
	Told  string   `yaml:"told" json:"-"`
}

// Caution is a hint against a value that is allowed.
type Caution struct {
	Value string `yaml:"value" json:"value"`
	Text  string `yaml:"text" json:"text"`
}

// Accounts say what can be done with the user of a model's login.
type Accounts struct {
	Rename bool `yaml:"rename" json:"rename"` // the factory user can be given another name
	Add    bool `yaml:"add" json:"add"`       // a further user can be added
	// Recovery says that the model takes a mail address for a lost password.
	Recovery bool `yaml:"recovery" json:"recovery"`
	// Tries is how many wrong logins in a row it takes before it blocks; 0: it never blocks.
	Tries int `yaml:"tries" json:"tries,omitempty"`
	// BlocksFor is how long it then refuses everybody; 0: UsualBlock.
	BlocksFor Duration `yaml:"blocks-for" json:"blocksFor,omitempty"`
}

// UsualBlock is how long a family that blocks is taken to do so where its profile does not say.
const UsualBlock = 10 * time.Minute

// BlockTime is how long the model remembers wrong logins.
func (a Accounts) BlockTime() time.Duration {
	if a.BlocksFor > 0 {
		return time.Duration(a.BlocksFor)
	}
	return UsualBlock
}

// InPool names the pool in which the setting is unique.
func (s Setting) InPool() string {
	if s.Pool != "" {
		return s.Pool
	}
	return s.Key
}

// Derived reports whether values of the setting come from the plan or the vault alone:
// nobody writes them.
func (s Setting) Derived() bool {
	return s.Type == Computed || s.Type == Listing || s.Type == EntryLogin
}

// Sealed reports whether the value is secret as a whole.
func (s Setting) Sealed() bool { return s.Type == Secret || s.Type == EntryLogin }

// Refers reports whether values of the setting name other entries.
func (s Setting) Refers() bool { return s.Type == EntryRef || s.Type == SettingRef }

// ByHand reports whether a person sets a setting, since none of the acts does: what names another entry or
// comes of the plan alone is no value of the device, nor is from which firmware on it needs none.
func (p *Profile) ByHand(s Setting) bool {
	return p.Sets() && !p.Reaches(s.Key) && !s.Refers() && !s.Derived() && s.Key != FirmwareAsked
}

// List splits a value that may name several entries.
func (s Setting) List(value string) []string {
	if !s.Many {
		if value == "" {
			return nil
		}
		return []string{value}
	}
	return strings.FieldsFunc(value, func(r rune) bool { return r == ' ' || r == ',' || r == ';' })
}

// Check says why a value is refused for itself, without looking at other
// entries; nil when it is accepted. The empty value is accepted.
func (s Setting) Check(value string) error {
	if value == "" {
		return nil
	}
	switch s.Type {
	case Number:
		return s.checkNumber(value)
	case Text:
		if most := s.maxText(); len([]rune(value)) > most {
			return fmt.Errorf("has %d characters; the device takes %d", len([]rune(value)), most)
		}
	case Choice:
		if !slices.Contains(s.Choices, value) {
			return fmt.Errorf("is not one of %s", strings.Join(s.Choices, ", "))
		}
	case YesNo:
		if value != "yes" && value != "no" {
			return fmt.Errorf("is neither yes nor no")
		}
	case IPv4:
		if _, err := address.ParseIPv4(value); err != nil {
			return fmt.Errorf("is not an IPv4 address: four numbers from 0 to 255 divided by dots")
		}
	case SecondPort:
		p, err := netip.ParsePrefix(value)
		if err != nil || !p.Addr().Is4() || p.Bits() < 8 || p.Bits() > 30 {
			return fmt.Errorf("is not an address with its prefix length, like 10.41.0.7/24")
		}
		if !address.Hosts(p).Contains(p.Addr()) {
			return fmt.Errorf("is the network or broadcast address of %s", p.Masked())
		}
	case Numbers:
		return s.checkNumbers(value)
	case Zone:
		if !IsZone(value) {
			return fmt.Errorf("is not a time zone like Europe/Oslo")
		}
	case Mail:
		if a, err := mail.ParseAddress(value); err != nil || a.Address != value {
			return fmt.Errorf("is not a mail address like duty@example.org")
		}
	case Rows:
		return s.checkRows(value)
	case Computed, Listing, EntryLogin:
		return fmt.Errorf("is computed and cannot be written")
	}
	return nil
}

// compare puts two values of the setting in order.
func (s Setting) compare(a, b string) int {
	if s.Type == Number {
		x, err := strconv.ParseInt(a, 10, 64)
		y, err2 := strconv.ParseInt(b, 10, 64)
		if err == nil && err2 == nil {
			return cmp.Compare(x, y)
		}
	}
	return cmp.Compare(a, b)
}

func (s Setting) maxText() int {
	if s.Max != nil {
		return int(*s.Max)
	}
	return maxText
}

func (s Setting) checkNumber(value string) error {
	n, err := strconv.ParseInt(value, 10, 64)
	switch {
	case err != nil:
		return fmt.Errorf("is not a whole number")
	case s.Min != nil && n < *s.Min, s.Max != nil && n > *s.Max:
		return fmt.Errorf("is outside %s", s.Range())
	}
	return nil
}

func (s Setting) checkNumbers(text string) error {
	list, err := value.Numbers(text)
	if err != nil {
		return err
	}
	for _, n := range list {
		if s.Min != nil && int64(n) < *s.Min || s.Max != nil && int64(n) > *s.Max {
			return fmt.Errorf("has %d, which is outside %s", n, s.Range())
		}
	}
	return nil
}

// Range prints what a number may be, with its unit.
func (s Setting) Range() string {
	low, high := "…", "…"
	if s.Min != nil {
		low = strconv.FormatInt(*s.Min, 10)
	}
	if s.Max != nil {
		high = strconv.FormatInt(*s.Max, 10)
	}
	return strings.TrimSpace(low + " to " + high + " " + s.Unit)
}

// IsZone reports whether a name is in the IANA time zone database.
func IsZone(name string) bool {
	if name == "" || name == "Local" {
		return false
	}
	_, err := time.LoadLocation(name)
	return err == nil
}

// Setting finds a setting by its key; nil when the model has none.
func (p *Profile) Setting(key string) *Setting {
	i := slices.IndexFunc(p.Settings, func(s Setting) bool { return s.Key == key })
	if i < 0 {
		return nil
	}
	return &p.Settings[i]
}

// Sets reports whether the profile says how its model is set. One that does
// not can be planned with, but not commissioned.
func (p *Profile) Sets() bool { return len(p.Order) > 0 }

// Sent lists the keys of the settings that the acts send to the device, each once.
func (p *Profile) Sent() []string {
	keys := map[string]bool{}
	for _, script := range p.Acts {
		for _, m := range script {
			if m.Each != "" {
				keys[m.Each] = true
			}
			for _, key := range m.uploads() {
				keys[key] = true
			}
			for _, name := range m.needs() {
				if key, setting := strings.CutPrefix(name, "setting."); setting {
					keys[key] = true
				}
			}
		}
	}
	if len(p.Acts[Firmware]) > 0 {
		keys[FirmwareAsked] = true
	}
	return slices.Sorted(maps.Keys(keys))
}

// Reaches reports whether the value of a setting gets to the device: it is sent,
// or what is made from it is.
func (p *Profile) Reaches(key string) bool {
	for _, k := range p.Sent() {
		if k == key {
			return true
		}
		if s := p.Setting(k); s.Type == EntryLogin && s.From == key {
			return true
		}
		for _, m := range Placeholder.FindAllStringSubmatch(p.Setting(k).From, -1) {
			if m[1] == key {
				return true
			}
		}
	}
	return false
}

func (p *Profile) checkSettings() error {
	seen := map[string]bool{}
	for i := range p.Settings {
		s := &p.Settings[i]
		if err := p.checkSetting(s); err != nil {
			return fmt.Errorf("settings, %q: %w", s.Key, err)
		}
		if s.Told != "" || s.Takes != "" {
			return fmt.Errorf("settings, %q: told and takes belong to columns of a table", s.Key)
		}
		if seen[s.Key] {
			return fmt.Errorf("settings, %q: is declared twice", s.Key)
		}
		seen[s.Key] = true
	}
	for _, key := range p.Networks {
		if s := p.Setting(key); s == nil || s.Type != Number {
			return fmt.Errorf("networks: %q is no setting of the type number", key)
		}
	}
	return nil
}

func (p *Profile) checkSetting(s *Setting) error { return p.checkIn(s, p.Setting, Reserved) }

// checkIn checks a setting or a column; of finds those beside it, fields are the names of
// what else computed values may take in.
func (p *Profile) checkIn(s *Setting, of func(key string) *Setting, fields []string) error {
	switch {
	case !keyForm.MatchString(s.Key):
		return fmt.Errorf("key must be 1 to 40 small letters, digits and dashes, beginning with a letter")
	case slices.Contains(Reserved, s.Key):
		return fmt.Errorf("key is the name of a field of every entry; none of these may be taken: %s",
			strings.Join(Reserved, ", "))
	case s.Label == "":
		return fmt.Errorf("label is missing")
	case !slices.Contains(settingTypes, s.Type):
		return fmt.Errorf("type must be one of %s", strings.Join(settingTypes, ", "))
	case !slices.Contains(scopes, s.Unique):
		return fmt.Errorf("unique must be device, trunk, subnet or site")
	case s.Unique == InTrunk && p.Setting(TrunkSetting) == nil:
		return fmt.Errorf("unique: trunk needs a setting with the key trunk")
	case (s.Type == Choice) != (len(s.Choices) > 0):
		return fmt.Errorf("choices belong to the type choice, which needs them")
	case (s.Type == SettingRef) != (len(s.Of) > 0):
		return fmt.Errorf("of belongs to the type setting, which needs it")
	case s.Type != Number && s.Type != Numbers && (s.Min != nil || s.Max != nil && s.Type != Text):
		return fmt.Errorf("min and max belong to numbers, max also to text")
	case s.Min != nil && s.Max != nil && *s.Min > *s.Max:
		return fmt.Errorf("max is less than min")
	case s.Max != nil && *s.Max > maxNumber:
		return fmt.Errorf("max is too large; the largest is %d", int64(maxNumber))
	case s.Max != nil && s.Type == Text && (*s.Max < 1 || *s.Max > maxText):
		return fmt.Errorf("max is too large or too small for text; it may be 1 to %d characters", maxText)
	case s.Many && s.Type != EntryRef:
		return fmt.Errorf("many belongs to the type entry")
	case len(s.Kinds) > 0 && !s.Refers() && s.Type != Listing:
		return fmt.Errorf("kinds belong to the types entry, setting and listing")
	case s.Derived() != (s.From != ""):
		return fmt.Errorf("from belongs to the types computed, listing and login, which need it")
	case s.Type == EntryLogin && (of(s.From) == nil || of(s.From).Type != EntryRef || of(s.From).Many):
		return fmt.Errorf("from is the key of a setting that names the entry whose login it is")
	case s.Type == Listing && len(s.Kinds) == 0:
		return fmt.Errorf("kinds say of which entries a listing is; it needs them")
	case s.Words != nil && (s.Sealed() || s.Type == File || s.Derived() || s.Type == Rows || s.Refers()):
		return fmt.Errorf("words belong to settings whose values are words or numbers")
	case s.Licence && s.Type != File:
		return fmt.Errorf("licence belongs to the type file")
	case s.Type == Secret && s.Default != "":
		return fmt.Errorf("a secret has no default")
	case s.Rules != nil && s.Type != Secret:
		return fmt.Errorf("rules belong to the type secret")
	case s.Rules != nil && s.Rules.Possible() != nil:
		return fmt.Errorf("rules: %w", s.Rules.Possible())
	}
	if err := p.checkColumns(s); err != nil {
		return err
	}
	for _, v := range slices.Sorted(maps.Keys(s.Words)) {
		if err := s.Check(v); err != nil {
			return fmt.Errorf("words: %q %w", v, err)
		}
	}
	if err := s.Check(s.Default); err != nil {
		return fmt.Errorf("default: %q %w", s.Default, err)
	}
	for _, m := range Placeholder.FindAllStringSubmatch(s.From, -1) {
		if s.Type == Listing {
			continue // of entries of any profile
		}
		by := of(m[1])
		if m[2] != "" && (by == nil || by.Type != EntryRef) {
			return fmt.Errorf("from: %s needs a setting %q that refers to an entry", m[0], m[1])
		}
		if m[2] == "" && by == nil && !slices.Contains(fields, m[1]) {
			return fmt.Errorf("from: there is no field or setting %q", m[1])
		}
	}
	return nil
}
