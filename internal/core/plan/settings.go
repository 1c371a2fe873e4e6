package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"

	"redstart/internal/core/profile"
)

// settings checks what the profile declares.
func (c *checker) settings(e Entry, p *profile.Profile) {
	pools := map[string]string{} // values of this device that must differ
	for i := range p.Settings {
		s := &p.Settings[i]
		value := e.Settings[s.Key]
		if value == "" {
			if s.Required && s.Default == "" {
				c.find("setting-missing", e.Tag, s.Key, s.Label+" is not given; the "+p.Model+" needs it", nil)
			}
			value = s.Default
		}
		if value == "" {
			continue
		}
		if err := c.value(s, value); err != nil {
			c.find("setting-value", e.Tag, s.Key, fmt.Sprintf("%s: %q %s", s.Label, value, err), mendValue(s, value))
			continue
		}
		if s.Caution != nil && s.Caution.Value == value {
			c.find("setting-caution", e.Tag, s.Key, fmt.Sprintf("%s %s: %s", s.Label, value, s.Caution.Text), nil)
		}
		switch s.Type {
		case profile.EntryRef, profile.SettingRef:
			c.references(e, s, value)
		case profile.SecondPort:
			c.second(e, s, value)
		case profile.Rows:
			c.rows(e, s, value)
		case profile.File:
			if c.Known.Files != nil && c.Known.Files[value] == "" {
				c.find("file-missing", e.Tag, s.Key, fmt.Sprintf("%s: the site has no file %q", s.Label, value), nil)
			}
		}
		c.uniqueSetting(e, s, value, pools)
	}
	for _, key := range slices.Sorted(maps.Keys(e.Settings)) {
		if p.Setting(key) == nil {
			c.find("setting-unknown", e.Tag, key, fmt.Sprintf("the %s has no setting %q", p.Model, key),
				&Mend{key, "", false})
		}
	}
}

// value checks a value for itself; looking up time zones is remembered.
func (c *checker) value(s *profile.Setting, value string) error {
	if s.Type == profile.Zone && c.zones[value] {
		return nil
	}
	err := s.Check(value)
	if s.Type == profile.Zone && err == nil {
		c.zones[value] = true
	}
	return err
}

// mendValue gives the default, or the choice that differs only in its case.
func mendValue(s *profile.Setting, value string) *Mend {
	for _, choice := range s.Choices {
		if strings.EqualFold(choice, value) {
			return &Mend{s.Key, choice, true}
		}
	}
	if s.Type == profile.YesNo {
		if lower := strings.ToLower(value); s.Check(lower) == nil {
			return &Mend{s.Key, lower, true}
		}
	}
	if s.Default != "" {
		return &Mend{s.Key, s.Default, false}
	}
	return nil
}

func (c *checker) references(e Entry, s *profile.Setting, value string) {
	for _, ref := range s.List(value) {
		tag, key, _ := strings.Cut(ref, "/")
		i, there := c.byTag[tag]
		if !there {
			c.find("reference-missing", e.Tag, s.Key, fmt.Sprintf("%s: there is no entry %s in the plan", s.Label, tag),
				nil)
			continue
		}
		other := c.Entries[i]
		switch {
		case tag == e.Tag:
			c.find("reference-self", e.Tag, s.Key, s.Label+" refers to the entry itself", nil)
		case len(s.Kinds) > 0 && !slices.Contains(s.Kinds, other.Kind):
			c.find("reference-kind", e.Tag, s.Key, fmt.Sprintf("%s: %s is %s, not %s", s.Label, tag,
				article(other.Kind), article(strings.Join(s.Kinds, " or "))), nil)
		case s.Type == profile.SettingRef && (!slices.Contains(s.Of, key) || c.Profiles[other.Profile] == nil ||
			c.Profiles[other.Profile].Setting(key) == nil):
			c.find("reference-missing", e.Tag, s.Key, fmt.Sprintf("%s: %s has no %q; write %s/%s", s.Label, tag, key,
				tag, s.Of[0]), nil)
		}
	}
}

// rows checks the references that a table holds; its cells were checked before.
func (c *checker) rows(e Entry, s *profile.Setting, value string) {
	rows, err := profile.ParseRows(value)
	if err != nil {
		return // it was checked before
	}
	for i := range s.Columns {
		column := &s.Columns[i]
		if column.Type != profile.EntryRef {
			continue
		}
		in := *column // shown with its table
		in.Key, in.Label = s.Key, s.Label+", "+column.Label
		for _, row := range rows {
			if row[column.Key] != "" {
				c.references(e, &in, row[column.Key])
			}
		}
	}
}

// second checks a further port: its network must not be the first one's, or
// the device sends its answers out of the wrong port.
func (c *checker) second(e Entry, s *profile.Setting, value string) {
	port := netip.MustParsePrefix(value) // the value was checked before
	a := port.Addr()
	first := c.Site.SubnetOf(e.Address)
	if first.Prefix.IsValid() && first.Prefix.Overlaps(port.Masked()) {
		c.find("second-overlap", e.Tag, s.Key, fmt.Sprintf("%s: %s lies in %s, the network of the first port", s.Label,
			value, first.Prefix), nil)
		return
	}
	n := c.Site.SubnetOf(a)
	if !n.Prefix.IsValid() {
		n = Subnet{Prefix: port.Masked()} // a network of its own, unknown to the site
	}
	if _, why := c.pool.reserved(n, a); why != "" {
		c.find("second-reserved", e.Tag, s.Key, fmt.Sprintf("%s: %s %s", s.Label, a, why), nil)
		return
	}
	if c.ports[a] {
		c.find("second-twice", e.Tag, s.Key, fmt.Sprintf("%s: %s is the address of another entry", s.Label, a), nil)
		return
	}
	c.unique("second-twice", e.Tag, s.Key, "", a.String(), nil)
}

func (c *checker) uniqueSetting(e Entry, s *profile.Setting, value string, pools map[string]string) {
	scope := ""
	switch s.Unique {
	case "":
		return
	case profile.InDevice:
		key := s.InPool() + "\x00" + value
		if other, used := pools[key]; used {
			c.find("setting-twice", e.Tag, s.Key, fmt.Sprintf("%s %s is already used by %s of the same device", s.Label,
				value, other), nil)
		}
		pools[key] = s.Label
		return
	case profile.InTrunk:
		if scope = e.Settings[profile.TrunkSetting]; scope == "" {
			return // a device that hangs on nothing meets nobody
		}
	case profile.InSubnet:
		scope = c.Site.SubnetOf(e.Address).Name
	}
	c.unique("setting-twice", e.Tag, s.Key, s.InPool()+"\x00"+scope, value, func() *Mend {
		return c.freeNumber(s, scope)
	})
}

// freeNumber proposes the next number that nobody has.
func (c *checker) freeNumber(s *profile.Setting, scope string) *Mend {
	if s.Type != profile.Number || s.Min == nil || s.Max == nil {
		return nil
	}
	kind := once{code: "setting-twice", scope: s.InPool() + "\x00" + scope}
	from := once{s.Key, kind.scope, strconv.FormatInt(*s.Min, 10)}
	// What is used stays used: the search goes on where the last one ended.
	for n := max(*s.Min, c.nextFree[from]); n <= *s.Max && n-*s.Min < 1<<16; n++ {
		c.nextFree[from] = n
		value := strconv.FormatInt(n, 10)
		if s.Caution != nil && s.Caution.Value == value {
			continue
		}
		if _, used := c.first[once{kind.code, kind.scope, value}]; !used {
			return &Mend{s.Key, value, false}
		}
	}
	return nil
}

// Value is a setting with what it comes to.
type Value struct {
	Key   string `json:"key"`
	Label string `json:"label"`
	Value string `json:"value"`
	From  string `json:"from"` // where it comes from, in words
}

// Resolver works out what settings come to. It sees the plan as it was when it
// was made.
type Resolver struct {
	Plan
	byTag    map[string]int
	behind   map[string][]int // entries that hang behind one, by its tag
	listings *sync.Map        // worked out once, by kinds and form
}

// Resolve makes a Resolver.
func (p Plan) Resolve() Resolver {
	behind := map[string][]int{}
	for i, e := range p.Entries {
		if e.Behind != "" {
			behind[e.Behind] = append(behind[e.Behind], i)
		}
	}
	return Resolver{p, p.index(), behind, &sync.Map{}}
}

func (p Plan) index() map[string]int {
	byTag := make(map[string]int, len(p.Entries))
	for i, e := range p.Entries {
		byTag[e.Tag] = i
	}
	return byTag
}

// Settings gives every setting of an entry with its value: written, by
// default, or computed from other entries. What is missing has an empty value.
func (p Resolver) Settings(e Entry) []Value {
	prof := p.Profiles[e.Profile]
	if prof == nil {
		return nil
	}
	var list []Value
	for _, s := range prof.Settings {
		v := Value{Key: s.Key, Label: s.Label}
		switch {
		case s.Type == profile.Computed:
			v.Value, v.From = p.compute(e, prof, s)
		case s.Type == profile.Listing:
			v.Value, v.From = p.listing(s), "all entries of the kinds "+strings.Join(s.Kinds, ", ")
		case s.Type == profile.EntryLogin:
			if tag := e.Settings[s.From]; tag != "" {
				v.Value, v.From = p.loginOf(tag), "the vault: the login of "+tag
			}
		case s.Type == profile.Rows && (e.Settings[s.Key] != "" || len(s.Parts) > 0):
			v.Value, v.From = p.table(s, p.withParts(e.Tag, s, e.Settings[s.Key])), "the plan"
			if rows, err := profile.ParseRows(v.Value); s.Key == profile.PortsSetting && err == nil {
				v.Value = profile.RowsText(p.Site.withRoles(rows))
			}
		case e.Settings[s.Key] != "":
			v.Value, v.From = e.Settings[s.Key], "the plan"
		case s.Default != "":
			v.Value, v.From = s.Default, "the profile"
		}
		list = append(list, v)
	}
	return list
}

// EntryLogin begins what stands for the login of another entry's device.
const EntryLogin = "login:"

// loginOf gives what stands for the login of an entry's device: its tag, and which of its
// logins it is.
func (p Resolver) loginOf(tag string) string {
	return strings.TrimSpace(EntryLogin + tag + " " + p.Known.Logins[tag])
}

// LoginOf reads what stands for the login of an entry's device.
func LoginOf(value string) (tag, which string, ok bool) {
	if value, ok = strings.CutPrefix(value, EntryLogin); ok {
		tag, which, _ = strings.Cut(value, " ")
	}
	return tag, which, ok
}

// Before lists the tags of the entries that are set before one: those that it comes after,
// and those whose login its device is given.
func (p Plan) Before(e Entry) []string {
	prof := p.Profiles[e.Profile]
	if prof == nil {
		return e.After
	}
	list := slices.Clone(e.After)
	for _, s := range prof.Settings {
		list = append(list, rowsBefore(s, prof, e.Settings[s.Key], list)...)
		if tag := e.Settings[s.From]; s.Type == profile.EntryLogin && tag != "" && !slices.Contains(list, tag) &&
			slices.Contains(prof.Sent(), s.Key) {
			list = append(list, tag)
		}
	}
	return list
}

// rowsBefore lists the tags of the entries whose login a table gives, besides some.
func rowsBefore(s profile.Setting, prof *profile.Profile, value string, besides []string) (list []string) {
	i := slices.IndexFunc(s.Columns, func(c profile.Setting) bool { return c.Type == profile.EntryLogin })
	if i < 0 || value == "" || !slices.Contains(prof.Sent(), s.Key) {
		return nil
	}
	rows, err := profile.ParseRows(value)
	if err != nil {
		return nil
	}
	for _, row := range rows {
		if tag := row[s.Columns[i].From]; tag != "" && !slices.Contains(besides, tag) && !slices.Contains(list, tag) {
			list = append(list, tag)
		}
	}
	return list
}

// listing gives one line for each entry of the listing's kinds that has all it takes, in the
// order of their tags: it is the same for every device that is given it.
func (p Resolver) listing(s profile.Setting) string {
	key := strings.Join(s.Kinds, "\x00") + "\x00\x00" + s.From
	if known, ok := p.listings.Load(key); ok {
		return known.(string)
	}
	var lines []string
	for _, e := range p.Entries {
		complete := slices.Contains(s.Kinds, e.Kind)
		line := profile.Placeholder.ReplaceAllStringFunc(s.From, func(part string) string {
			v := p.partOf(e, profile.Placeholder.FindStringSubmatch(part)[1])
			complete = complete && v != ""
			return v
		})
		if complete {
			lines = append(lines, e.Tag+"\x00"+line)
		}
	}
	slices.Sort(lines)
	for i, line := range lines {
		_, lines[i], _ = strings.Cut(line, "\x00")
	}
	text := strings.Join(lines, "\n")
	p.listings.Store(key, text)
	return text
}

// Hanging counts the entries that refer to settings of an entry, by the key: what hangs on
// its trunks.
func (p Plan) Hanging(tag string) map[string]int {
	count := map[string]int{}
	for _, e := range p.Entries {
		prof := p.Profiles[e.Profile]
		if prof == nil {
			continue
		}
		for _, s := range prof.Settings {
			if of, key, ok := strings.Cut(e.Settings[s.Key], "/"); ok && s.Type == profile.SettingRef && of == tag {
				count[key]++
			}
		}
	}
	return count
}

// table fills in what the rows of a table do not say: defaults, and what is made from the
// entries that they refer to.
func (p Resolver) table(s profile.Setting, value string) string {
	rows, err := profile.ParseRows(value)
	if err != nil {
		return value
	}
	for _, row := range rows {
		for _, c := range s.Columns {
			switch {
			case row[c.Key] == "" && c.Default != "":
				row[c.Key] = c.Default
			case c.Type == profile.EntryLogin:
				if tag := row[c.From]; tag != "" {
					row[c.Key] = p.loginOf(tag)
				}
			case c.Type == profile.Computed:
				if v := p.fromRow(s, c, row); v != "" {
					row[c.Key] = v
				}
			}
		}
	}
	return profile.RowsText(rows)
}

// fromRow makes a computed cell; it is empty while any part is missing.
func (p Resolver) fromRow(s, c profile.Setting, row profile.Row) string {
	complete := true
	value := profile.Placeholder.ReplaceAllStringFunc(c.From, func(part string) string {
		m := profile.Placeholder.FindStringSubmatch(part)
		v := row[m[1]]
		if m[2] != "" {
			i, there := p.byTag[v]
			if v = ""; there {
				v = p.partOf(p.Entries[i], m[2])
			}
		}
		complete = complete && v != ""
		return v
	})
	if !complete {
		return ""
	}
	return value
}

// compute fills a computed setting; it is empty while any part is missing.
func (p Resolver) compute(e Entry, prof *profile.Profile, s profile.Setting) (value, from string) {
	complete := true
	var sources []string
	value = profile.Placeholder.ReplaceAllStringFunc(s.From, func(part string) string {
		m := profile.Placeholder.FindStringSubmatch(part)
		of, key := e, m[1]
		if m[2] != "" {
			refs := prof.Setting(m[1]).List(e.Settings[m[1]])
			if len(refs) == 0 {
				complete = false
				return ""
			}
			i, there := p.byTag[refs[0]]
			if !there {
				complete = false
				return ""
			}
			of, key = p.Entries[i], m[2]
		}
		v := p.partOf(of, key)
		if own := p.Profiles[of.Profile]; own != nil && own.Setting(key) != nil &&
			own.Setting(key).Type == profile.SettingRef {
			tag, its, _ := strings.Cut(v, "/")
			v = ""
			if i, there := p.byTag[tag]; there {
				of, key = p.Entries[i], its
				v = p.partOf(of, key)
			}
		}
		complete = complete && v != ""
		sources = append(sources, of.Tag+" "+key+" "+v)
		return v
	})
	if !complete {
		return "", "waits for what it is made from"
	}
	return value, strings.Join(sources, ", ")
}

// partOf gives what a placeholder may ask of an entry: a field, a setting, or
// the user or port of its profile.
func (p Plan) partOf(e Entry, key string) string {
	prof := p.Profiles[e.Profile]
	switch {
	case IsField(key):
		return e.Get(key)
	case prof == nil:
		return e.Settings[key]
	case key == "user":
		return p.Site.PolicyFor(prof).LoginName(prof)
	case key == "port":
		return strconv.Itoa(int(prof.Port()))
	case e.Settings[key] == "" && prof.Setting(key) != nil:
		return prof.Setting(key).Default
	}
	return e.Settings[key]
}
