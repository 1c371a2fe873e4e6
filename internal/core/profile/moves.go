package profile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
)

// Driver is a way of talking to devices, as far as a profile needs to know it: its
// name and its words. What it does with them is package driver's.
type Driver interface {
	// Name is its key under talk.
	Name() string
	// Keys are those by which its moves are known: each move has just one of them.
	Keys() []string
	// Shows is what the device's end shows to be known again by: certificate, host
	// key; "" for nothing.
	Shows() string
	// Section reads what the profile says under talk for all moves of the driver; the
	// part is empty where it says nothing.
	Section(Part) (Section, error)
	// Move reads one move.
	Move(Part, Section) (Words, error)
}

// What only some drivers can is an interface of its own. A driver has it by having the method, and
// says so beside it: var _ profile.OverLine = Driver{}.

// OverLine is a driver that can do without a network where a serial line is at hand.
type OverLine interface {
	Driver
	// OnlyLine reports whether what the profile says for it leaves no other way than the line.
	OnlyLine(Section) bool
}

// AsksNobody is a driver at whose end nobody may be asked for a login.
type AsksNobody interface {
	Driver
	// AsksNobody reports whether nobody is, by what the profile says for it.
	AsksNobody(Section) bool
}

// HasPage is a section of a driver that knows the device's own page for people.
type HasPage interface {
	Section
	// Scheme is http or https; "" for no page.
	Scheme() string
}

// HasCaution is a section of a driver whose way of talking is not safe.
type HasCaution interface {
	Section
	// Caution says in words what is not safe about it, for whoever starts a run; "" for nothing.
	Caution() string
}

// HasQuotes are words of which some are read by a shell and some are not.
type HasQuotes interface {
	Words
	// Quotes says in words which values are put in quotes and which are sent as they are; nil where
	// there are none, or where nothing is quoted.
	Quotes(Section) []string
}

// Section is what a profile says for all moves of a driver.
type Section interface {
	// Port is the TCP port at which the device serves the driver; 0 for none.
	Port() uint16
}

// Words are one exchange with a device in the words of a driver.
type Words interface {
	Sends() []string    // the variables that are filled in
	Takes() []string    // the facts that are taken from the answer
	NeedsAddress() bool // it cannot be had with a device that has no address
}

// Uploader is the words of a move that sends files of the site: by the keys of the settings
// that name them.
type Uploader interface{ Uploads() []string }

// uploads lists the settings whose files a move sends.
func (m Move) uploads() (list []string) {
	if u, is := m.Words.(Uploader); is {
		list = slices.Clone(u.Uploads())
	}
	return append(list, m.Whole()...)
}

// filePrefix begins the variables that hold the content of a file of the site, as text.
const filePrefix = "file."

// Whole lists the settings whose files a move sends as the text of a variable, {file.KEY}.
func (m Move) Whole() (list []string) {
	for _, name := range m.Sends() {
		if key, is := strings.CutPrefix(name, filePrefix); is {
			list = append(list, key)
		}
	}
	return list
}

// WholeFile names the variable that holds the content of a file.
func WholeFile(key string) string { return filePrefix + key }

// Move is one exchange with a device.
type Move struct {
	Words
	By Driver

	// If and Unless leave the move out unless all, or if any, of the variables have
	// these values, in any case.
	If, Unless map[string]string
	// Make works out further variables before anything is sent.
	Make []Making
	// Until repeats the move until what it takes has these values, for as long as
	// Within.
	Until  map[string]string
	Within time.Duration
	// Each makes the move once for each row of a table, with {row.COLUMN} in it.
	Each string

	part Part
}

// moveKeys are those of every move, whatever its driver.
type moveKeys struct {
	If     map[string]string `yaml:"if"`
	Unless map[string]string `yaml:"unless"`
	Make   []Making          `yaml:"make"`
	Until  map[string]string `yaml:"until"`
	Within Duration          `yaml:"within"`
	Each   string            `yaml:"each"`
}

var everyMove = []string{"if", "unless", "make", "until", "within", "each"}

// UsualWithin is how long a move is repeated that does not say it.
const UsualWithin = 30 * time.Second

const maxWithin = time.Hour

// Part is a part of a document that a driver reads in its own words. The zero Part
// is empty.
type Part struct{ node ast.Node }

// UnmarshalYAML keeps the part for later.
func (p *Part) UnmarshalYAML(node ast.Node) error {
	p.node = node
	return nil
}

// Empty reports whether there is nothing to read.
func (p Part) Empty() bool { return p.node == nil }

// Into reads the part; an unknown key is an error with its place.
func (p Part) Into(v any) error {
	if p.node == nil {
		return nil
	}
	return read(func() error { return yaml.NodeToValue(p.node, v, yaml.Strict()) })
}

// fields are the keys of a part with their values.
func (p Part) fields() []*ast.MappingValueNode {
	switch n := p.node.(type) {
	case *ast.MappingNode:
		return n.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{n}
	}
	return nil
}

func keyOf(f *ast.MappingValueNode) string { return f.Key.String() }

// only is the part with the keys that keep wants.
func (p Part) only(keep func(key string) bool) Part {
	fields := slices.DeleteFunc(slices.Clone(p.fields()), func(f *ast.MappingValueNode) bool { return !keep(keyOf(f)) })
	if len(fields) == 0 {
		return Part{}
	}
	return Part{ast.Mapping(fields[0].GetToken(), false, fields...)}
}

// UnmarshalYAML keeps a move for the driver that knows its words.
func (m *Move) UnmarshalYAML(node ast.Node) error {
	m.part = Part{node}
	return nil
}

// Quotes says, act by act, which values are put in quotes for a shell and which are sent as they are.
func (p *Profile) Quotes() (list []string) {
	for _, act := range allActs {
		for _, m := range p.Acts[act] {
			if w, has := m.Words.(HasQuotes); has {
				for _, line := range w.Quotes(p.Section(m.By.Name())) {
					list = append(list, string(act)+": "+line)
				}
			}
		}
	}
	return list
}

// bind has the drivers read their sections and moves.
func (p *Profile) bind(drivers []Driver) error {
	p.sections = map[string]Section{}
	var names, keys []string
	for _, d := range drivers {
		section, err := d.Section(p.Talk[d.Name()])
		if err != nil {
			return fmt.Errorf("talk, %s: %w", d.Name(), err)
		}
		p.sections[d.Name()] = section
		names, keys = append(names, d.Name()), append(keys, d.Keys()...)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Talk)) {
		if p.sections[name] == nil {
			return fmt.Errorf("talk: there is no way of talking %q; there are %s", name, strings.Join(names, ", "))
		}
	}
	for _, act := range slices.Sorted(maps.Keys(p.Acts)) {
		for i := range p.Acts[act] {
			if err := p.bindMove(&p.Acts[act][i], drivers, keys); err != nil {
				return fmt.Errorf("act %s, move %d: %w", act, i+1, err)
			}
			if m := &p.Acts[act][i]; act.handAct() && m.Within == UsualWithin {
				m.Within = 0 // a run looks again by itself, until a person has done it
			}
		}
	}
	for _, d := range drivers {
		if p.Uses(d.Name()) {
			p.ways = append(p.ways, d)
		}
	}
	return nil
}

// Over names the way of talking that the moves of an act go, the first that needs an address
// where there are several; "" for no moves.
func (p *Profile) Over(a Act) string {
	name := ""
	for _, m := range p.Acts[a] {
		if name == "" || m.Words.NeedsAddress() {
			name = m.By.Name()
		}
		if m.Words.NeedsAddress() {
			break
		}
	}
	return name
}

// Drivers are the ways of talking that the profile uses.
func (p *Profile) Drivers() []Driver { return p.ways }

func (p *Profile) bindMove(m *Move, drivers []Driver, keys []string) (err error) {
	var led []string
	for _, f := range m.part.fields() {
		for _, d := range drivers {
			if slices.Contains(d.Keys(), keyOf(f)) {
				led, m.By = append(led, keyOf(f)), d
			}
		}
	}
	if len(led) != 1 {
		return fmt.Errorf("a move is just one of %s; this one has %s", strings.Join(keys, ", "), orNone(led))
	}
	var every moveKeys
	if err := m.part.only(func(key string) bool { return slices.Contains(everyMove, key) }).Into(&every); err != nil {
		return err
	}
	m.If, m.Unless, m.Make, m.Until, m.Within, m.Each = every.If, every.Unless, every.Make, every.Until, time.Duration(every.Within), every.Each
	for i := range m.Make {
		if err := m.Make[i].check(); err != nil {
			return fmt.Errorf("make: %w", err)
		}
	}
	switch {
	case m.Within != 0 && m.Until == nil:
		return fmt.Errorf("within belongs to until")
	case m.Within < 0 || m.Within > maxWithin:
		return fmt.Errorf("within is at most an hour")
	case m.Until != nil && m.Within == 0:
		m.Within = UsualWithin
	}
	m.Words, err = m.By.Move(m.part.only(func(key string) bool {
		return !slices.Contains(everyMove, key)
	}), p.sections[m.By.Name()])
	if err != nil {
		return err
	}
	for _, fact := range slices.Sorted(maps.Keys(m.Until)) {
		if !slices.Contains(m.Takes(), fact) {
			return fmt.Errorf("until: the move does not take %s", fact)
		}
	}
	return nil
}

func orNone(list []string) string {
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// needs lists the variables that a move needs, each once, sorted.
func (m Move) needs() []string {
	names := map[string]bool{}
	for _, name := range m.Sends() {
		names[name] = true
	}
	for _, made := range slices.Backward(m.Make) {
		delete(names, made.Name)
		for _, name := range made.sends() {
			names[name] = true
		}
	}
	for _, conditions := range []map[string]string{m.If, m.Unless} {
		for name := range conditions {
			names[name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}

// SendsSecret reports whether an act sends a password, or something else that is secret, in
// what it says: not merely to sign in.
func (p *Profile) SendsSecret(a Act) bool {
	return slices.ContainsFunc(p.Acts[a], func(m Move) bool {
		return slices.ContainsFunc(m.needs(), func(name string) bool {
			s := p.settingOf(name)
			return name == "password" || name == "old-password" || s != nil && s.HasSecret() ||
				strings.HasPrefix(name, rowPrefix) && !p.Public(name)
		})
	})
}

// Secrets lists the secrets among the values of variables.
func (p *Profile) Secrets(vars map[string]string) (list []string) {
	for name, v := range vars {
		switch s := p.settingOf(name); {
		case v == "":
		case name == "password", name == "old-password", s != nil && s.Sealed(),
			strings.HasPrefix(name, rowPrefix) && !p.Public(name):
			list = append(list, v)
		case s != nil && s.HasSecret():
			rows, _ := ParseRows(v) // what is no table holds none
			for _, row := range rows {
				for _, c := range s.Columns {
					if c.Sealed() && row[c.Key] != "" {
						list = append(list, row[c.Key])
					}
				}
			}
		}
	}
	return list
}

// Wanted reports whether the move is to be made, by the values of variables. One that sends
// a file is not where none is planned.
func (m Move) Wanted(vars map[string]string) bool {
	for _, key := range m.uploads() {
		if vars[settingPrefix+key] == "" {
			return false
		}
	}
	for name, value := range m.If {
		if !strings.EqualFold(vars[name], value) {
			return false
		}
	}
	for name, value := range m.Unless {
		if strings.EqualFold(vars[name], value) {
			return false
		}
	}
	return true
}

// Enough reports whether what a move took ends its repeating; if not, waiting says
// for what.
func (m Move) Enough(taken map[string]string) (waiting string, ok bool) {
	for _, fact := range slices.Sorted(maps.Keys(m.Until)) {
		if !strings.EqualFold(taken[fact], m.Until[fact]) {
			return fmt.Sprintf("%s is %q and not %q", fact, taken[fact], m.Until[fact]), false
		}
	}
	return "", true
}

// Uses reports whether any act is in the words of a driver.
func (p *Profile) Uses(driver string) bool {
	for _, moves := range p.Acts {
		if slices.ContainsFunc(moves, func(m Move) bool { return m.By.Name() == driver }) {
			return true
		}
	}
	return p.Talk[driver].node != nil
}

// Section is what the profile says for all moves of a driver.
func (p *Profile) Section(driver string) Section { return p.sections[driver] }

// Port is the TCP port at which the device is talked to; 0 when it has none.
func (p *Profile) Port() uint16 {
	for _, d := range p.ways {
		if port := p.sections[d.Name()].Port(); port != 0 {
			return port
		}
	}
	return 0
}

// Page tells how the device's own page for people is reached, if it has one that a
// driver knows.
func (p *Profile) Page() (scheme string, port uint16, ok bool) {
	for _, d := range p.ways {
		if s, has := p.sections[d.Name()].(HasPage); has && s.Scheme() != "" {
			return s.Scheme(), p.sections[d.Name()].Port(), true
		}
	}
	return "", 0, false
}

// AtLine is the variable that is "yes" where a serial line is named for the device.
const AtLine = "line"

// atLine reports whether the move is made only where a serial line is named.
func (m Move) atLine() bool { return strings.EqualFold(m.If[AtLine], "yes") }

// NeedsAddress reports whether an act can only be had with a device that has an address, or
// a serial line.
func (p *Profile) NeedsAddress(a Act) bool {
	return slices.ContainsFunc(p.Acts[a], func(m Move) bool { return m.Words.NeedsAddress() && !m.atLine() })
}

// NeedsLine reports whether something in the order can only be told over a serial line.
func (p *Profile) NeedsLine() bool {
	return slices.ContainsFunc(p.Order, func(s Stage) bool {
		return slices.ContainsFunc(p.Acts[s.Act], func(m Move) bool {
			by, can := m.By.(OverLine)
			return can && !m.atLine() && by.OnlyLine(p.Section(m.By.Name()))
		})
	})
}

// NeedsLogin reports whether an act is carried out by who is signed in: whatever needs an
// address, and is no console at which nobody is asked for a login.
func (p *Profile) NeedsLogin(a Act) bool {
	return slices.ContainsFunc(p.Acts[a], func(m Move) bool {
		by, can := m.By.(AsksNobody)
		return m.Words.NeedsAddress() && !m.atLine() && !(can && by.AsksNobody(p.Section(m.By.Name())))
	})
}

// TellsMoreAt reports whether some moves of an act can be had without an address and others
// only with one.
func (p *Profile) TellsMoreAt(a Act) bool {
	return p.NeedsAddress(a) && slices.ContainsFunc(p.Acts[a], func(m Move) bool { return !m.Words.NeedsAddress() })
}

// TellsWithoutAddress reports whether the device answers questions without having
// an address.
func (p *Profile) TellsWithoutAddress() bool {
	for _, moves := range p.Acts {
		if slices.ContainsFunc(moves, func(m Move) bool { return !m.Words.NeedsAddress() && len(m.Takes()) > 0 }) {
			return true
		}
	}
	return false
}

// implied are the facts that others stand for, as value.Addressing has them.
var implied = map[string][]string{"bits": {"mask"}, "cidr": {"address", "mask"}}

// ReadsBack lists the facts that the act read takes, as check and record know them.
func (p *Profile) ReadsBack() []string {
	var list []string
	for _, m := range p.Acts[Read] {
		for _, fact := range m.Takes() {
			list = append(list, fact)
			list = append(list, implied[fact]...)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}
