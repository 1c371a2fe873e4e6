package plan

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"redstart/internal/core/profile"
)

// Patch is a change of one entry: fields and settings as text. The words
// "next" as address and "auto" as name are made into values.
type Patch struct {
	Tag    string            `json:"tag"`              // the entry to change; "" for a new one
	Set    map[string]string `json:"set,omitempty"`    // what to change; a new entry needs tag and profile
	Remove bool              `json:"remove,omitempty"` // takes the entry out of the plan
}

// Complaint is a field of a patch that cannot be understood.
type Complaint struct {
	Patch  int    `json:"patch"` // its position
	Field  string `json:"field,omitempty"`
	Value  string `json:"value,omitempty"`
	Reason string `json:"reason"`
}

// Pair is one entry before and after a change; nil where there is none.
type Pair struct{ Before, After *Entry }

// Apply gives the plan's entries with all patches applied, in their order, and
// which of them changed. New entries come last. If anything cannot be
// understood, there are complaints and the plan stays as it was. References
// follow when a tag changes.
func (p Plan) Apply(patches []Patch) ([]Entry, []Pair, []Complaint) {
	a := &applier{Plan: p, entries: slices.Clone(p.Entries), renamed: map[string]string{}, gone: map[int]bool{},
		touched: map[int]bool{}}
	a.byTag = p.index()
	for i, patch := range patches {
		a.patch(i, patch)
	}
	if a.complaints == nil {
		a.makeValues(patches)
	}
	if a.complaints != nil {
		return p.Entries, nil, a.complaints
	}
	list := make([]Entry, 0, len(a.entries))
	var pairs []Pair
	for i := range a.entries {
		if !a.touched[i] && len(a.renamed) == 0 {
			list = append(list, a.entries[i])
			continue
		}
		pair := Pair{}
		if i < len(p.Entries) {
			pair.Before = &p.Entries[i]
		}
		if !a.gone[i] {
			e := a.follow(a.entries[i])
			list, pair.After = append(list, e), &e
		}
		if pair.Before == nil || pair.After == nil || !reflect.DeepEqual(*pair.Before, *pair.After) {
			pairs = append(pairs, pair)
		}
	}
	if len(list) > MaxEntries {
		return p.Entries, nil, []Complaint{{Reason: fmt.Sprintf("a plan has at most %d entries", MaxEntries)}}
	}
	return list, pairs, nil
}

// Pairs compares two lists of entries by tag.
func Pairs(before, after []Entry) []Pair {
	var pairs []Pair
	old := map[string]*Entry{}
	for i := range before {
		old[before[i].Tag] = &before[i]
	}
	for i := range after {
		was := old[after[i].Tag]
		delete(old, after[i].Tag)
		if was == nil || !reflect.DeepEqual(*was, after[i]) {
			pairs = append(pairs, Pair{was, &after[i]})
		}
	}
	for i := range before {
		if old[before[i].Tag] != nil {
			pairs = append(pairs, Pair{&before[i], nil})
		}
	}
	return pairs
}

type applier struct {
	Plan
	entries    []Entry
	byTag      map[string]int
	renamed    map[string]string
	gone       map[int]bool
	touched    map[int]bool // by some patch
	wish       []wish       // values to be made once all else is known
	complaints []Complaint
}

// wish is an entry that asked for a value to be made.
type wish struct{ patch, entry int }

// complain never repeats what may be a secret: the profile may be unknown.
func (a *applier) complain(patch int, field, value, reason string) {
	for _, p := range a.Profiles {
		if s := p.Setting(field); s != nil && s.HasSecret() {
			value = ""
		}
	}
	a.complaints = append(a.complaints, Complaint{patch, field, clip(value), reason})
}

func (a *applier) patch(i int, patch Patch) {
	at, there := a.byTag[patch.Tag]
	switch {
	case patch.Tag == "" && patch.Set["tag"] == "":
		a.complain(i, "tag", "", "a new entry needs a tag")
		return
	case patch.Tag == "":
		at = len(a.entries)
		a.entries = append(a.entries, Entry{})
	case !there:
		a.complain(i, "tag", patch.Tag, "there is no such entry in the plan")
		return
	case patch.Remove:
		a.gone[at], a.touched[at] = true, true
		delete(a.byTag, patch.Tag)
		return
	}
	a.touched[at] = true
	e := &a.entries[at]
	isNew := patch.Tag == ""
	for _, field := range slices.Sorted(maps.Keys(patch.Set)) {
		value := strings.TrimSpace(patch.Set[field])
		if field == "address" && strings.EqualFold(value, Next) || field == "name" && strings.EqualFold(value, Auto) {
			continue
		}
		if err := e.Set(field, value); err != nil {
			a.complain(i, field, value, err.Error())
		}
	}
	a.declared(i, *e, patch.Set)
	if isNew || strings.EqualFold(patch.Set["address"], Next) || strings.EqualFold(patch.Set["name"], Auto) {
		a.wish = append(a.wish, wish{i, at})
	}
	if other, taken := a.byTag[e.Tag]; taken && other != at {
		a.complain(i, "tag", e.Tag, fmt.Sprintf("%s is already in the plan", e.Tag))
		e.Tag = patch.Tag
		return
	}
	if !isNew && e.Tag != patch.Tag {
		if e.Tag == "" {
			a.complain(i, "tag", "", "an entry needs a tag")
			return
		}
		a.renamed[patch.Tag] = e.Tag
		delete(a.byTag, patch.Tag)
	}
	a.byTag[e.Tag] = at
	if p := a.Profiles[e.Profile]; p != nil && e.Kind == "" {
		e.Kind = p.Kind
	}
}

// declared complains about settings that the entry's profile does not declare, with
// the nearest name that there is.
func (a *applier) declared(i int, e Entry, set map[string]string) {
	p := a.Profiles[e.Profile]
	for _, field := range slices.Sorted(maps.Keys(set)) {
		if IsField(field) || strings.TrimSpace(set[field]) == "" && field != "" {
			continue
		}
		if field == "" {
			a.complain(i, field, set[field], "the value has no field's name before the =")
			continue
		}
		if p == nil || p.Setting(field) != nil {
			continue // without a profile nothing is known; that is a finding of its own
		}
		reason := fmt.Sprintf("is no field, and no setting that %s declares", p.ID)
		if near := nearest(field, p); near != "" {
			reason += "; is " + near + " meant?"
		}
		a.complain(i, field, set[field], reason)
	}
}

// nearest gives the field or setting whose name is most like a word; "" when none is.
func nearest(word string, p *profile.Profile) string {
	best, least := "", len(word)/2+1
	try := func(name string) {
		if d := distance(name, strings.ToLower(word)); d < least {
			best, least = name, d
		}
	}
	for _, f := range Fields {
		try(f.Key)
	}
	for _, s := range p.Settings {
		try(s.Key)
	}
	return best
}

// makeValues gives out addresses and names. Addresses that were written are
// taken before any is given out, wherever they stand.
func (a *applier) makeValues(patches []Patch) {
	if len(a.wish) == 0 {
		return
	}
	after := a.Plan
	after.Entries = nil
	for i, e := range a.entries {
		if !a.gone[i] {
			after.Entries = append(after.Entries, e)
		}
	}
	pool := after.pool()
	for _, w := range a.wish {
		e, set := &a.entries[w.entry], patches[w.patch].Set
		isNew := patches[w.patch].Tag == ""
		wants := strings.EqualFold(set["address"], Next) || isNew && set["address"] == "" && set["behind"] == ""
		if wants {
			addr, err := pool.next(*e)
			if err != nil && !(isNew && len(a.Site.Subnets) == 0) {
				a.complain(w.patch, "address", Next, err.Error())
			}
			e.Address = addr
		}
		p := a.Profiles[e.Profile]
		if wants := strings.EqualFold(set["name"], Auto) || isNew && set["name"] == ""; wants && p != nil {
			e.Name = a.Site.NameFor(*e, p)
		}
	}
}

// followRows changes references in a table.
func (a *applier) followRows(s profile.Setting, value string) string {
	rows, err := profile.ParseRows(value)
	if err != nil {
		return value
	}
	changed := false
	for _, row := range rows {
		for _, c := range s.Columns {
			if to := a.renamed[row[c.Key]]; c.Type == profile.EntryRef && to != "" {
				row[c.Key], changed = to, true
			}
		}
	}
	if !changed {
		return value
	}
	return profile.RowsText(rows)
}

// follow changes references to entries whose tag changed.
func (a *applier) follow(e Entry) Entry {
	if len(a.renamed) == 0 {
		return e
	}
	for i, tag := range e.After {
		if to := a.renamed[tag]; to != "" {
			e.After = slices.Clone(e.After)
			e.After[i] = to
		}
	}
	if tag, port, _ := strings.Cut(e.SwitchPort, "/"); a.renamed[tag] != "" {
		e.SwitchPort = a.renamed[tag] + "/" + port
	}
	if to := a.renamed[e.Behind]; to != "" {
		e.Behind = to
	}
	p := a.Profiles[e.Profile]
	if p == nil {
		return e
	}
	for _, s := range p.Settings {
		if s.Type == profile.Rows && e.Settings[s.Key] != "" {
			if text := a.followRows(s, e.Settings[s.Key]); text != e.Settings[s.Key] {
				e.Settings = maps.Clone(e.Settings)
				e.Settings[s.Key] = text
			}
		}
		if !s.Refers() || e.Settings[s.Key] == "" {
			continue
		}
		var refs []string
		for _, ref := range s.List(e.Settings[s.Key]) {
			tag, key, slash := strings.Cut(ref, "/")
			if to := a.renamed[tag]; to != "" {
				tag = to
			}
			if slash {
				tag += "/" + key
			}
			refs = append(refs, tag)
		}
		if joined := strings.Join(refs, " "); joined != e.Settings[s.Key] {
			e.setSetting(s.Key, joined)
		}
	}
	return e
}

// Mends applies every safe mend, again and again until none is left, and gives
// the patches that do it with what they change. Only the entries with the
// given tags are mended; nil means all.
func (p Plan) Mends(tags []string) ([]Patch, []Change) {
	var patches []Patch
	var changes []Change
	chosen := make(map[string]bool, len(tags))
	for _, tag := range tags {
		chosen[tag] = true
	}
	for range 4 { // a mend may uncover another; four levels are more than there are
		var round []Patch
		before := p.index()
		for _, f := range p.Check() {
			if f.Mend == nil || !f.Mend.Safe || f.Tag == "" || tags != nil && !chosen[f.Tag] {
				continue
			}
			round = append(round, Patch{Tag: f.Tag, Set: map[string]string{f.Mend.Field: f.Mend.Value}})
			changes = append(changes, Change{f.Tag, f.Mend.Field, p.Entries[before[f.Tag]].Get(f.Mend.Field),
				f.Mend.Value, f.Reason})
		}
		entries, _, complaints := p.Apply(round)
		if len(round) == 0 || complaints != nil {
			break
		}
		p.Entries = entries
		patches = append(patches, round...)
	}
	return patches, changes
}

// Kinds lists the kinds that profiles know.
func Kinds(profiles profile.Set) []string {
	var list []string
	for _, p := range profiles.Sorted() {
		if !slices.Contains(list, p.Kind) {
			list = append(list, p.Kind)
		}
	}
	slices.Sort(list)
	return list
}

// clip shortens a hostile value before it is repeated in a complaint.
func clip(s string) string {
	if r := []rune(s); len(r) > 40 {
		return string(r[:40]) + "…"
	}
	return s
}
