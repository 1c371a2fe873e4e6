package planning

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/secret"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// sealer puts the secrets of one change of the plan into the vault and what stands for
// them into the plan. A preview keeps nothing.
type sealer struct {
	keep    func(ctx context.Context, secret string) (token string, err error)
	plan    plan.Plan
	preview bool
	made    map[string]bool // what it gave out for secrets of this change
}

func (s *Site) sealer(p plan.Plan, preview bool) *sealer {
	keep := func(ctx context.Context, value string) (string, error) {
		return s.all.Vault.At(s.store).Keep(ctx, value)
	}
	return &sealer{keep, p, preview, map[string]bool{}}
}

// setting gives what a setting of an entry is when it holds a secret. Without a known
// profile it is one as soon as any profile calls it one: a profile comes later, and what
// was kept in plain text until then stays readable in the history.
func (k *sealer) setting(id, key string) *profile.Setting {
	if q := k.plan.Profiles[id]; q != nil {
		if s := q.Setting(key); s != nil && s.HasSecret() {
			return s
		}
		return nil
	}
	for _, q := range k.plan.Profiles.Sorted() {
		for i := range q.Settings {
			if s := &q.Settings[i]; strings.EqualFold(s.Key, key) && s.HasSecret() {
				return s
			}
		}
	}
	return nil
}

// ofPatches keeps what the patches hold, as far as the profile is known before they are
// applied: what applying them says never holds it then.
func (k *sealer) ofPatches(ctx context.Context, patches []plan.Patch) ([]plan.Patch, error) {
	now := make(map[string]*plan.Entry, len(patches))
	for _, patch := range patches {
		now[patch.Tag] = &plan.Entry{}
	}
	for i := range k.plan.Entries {
		if e := &k.plan.Entries[i]; now[e.Tag] != nil {
			now[e.Tag] = e
		}
	}
	patches = slices.Clone(patches)
	for i, patch := range patches {
		e := now[patch.Tag]
		id := e.Profile
		if given, ok := patch.Set["profile"]; ok {
			id = strings.TrimSpace(given)
		}
		set, err := k.kept(ctx, cmp.Or(patch.Tag, patch.Set["tag"]), id, patch.Set, e.Settings)
		if err != nil {
			return nil, err
		}
		patches[i].Set = set
	}
	return patches, nil
}

// ofEntries keeps what entries hold after a change, by the profile that they have in the
// end, in the pairs and in the list of all.
func (k *sealer) ofEntries(ctx context.Context, after []plan.Entry, pairs []plan.Pair) error {
	at := make(map[string]int, len(pairs))
	for _, x := range pairs {
		if x.After != nil {
			at[x.After.Tag] = 0
		}
	}
	for i := range after {
		if _, changed := at[after[i].Tag]; changed {
			at[after[i].Tag] = i
		}
	}
	for _, x := range pairs {
		if x.After == nil {
			continue
		}
		var before map[string]string
		if x.Before != nil {
			before = x.Before.Settings
		}
		set, err := k.kept(ctx, x.After.Tag, x.After.Profile, x.After.Settings, before)
		if err != nil {
			return err
		}
		if key := k.misplaced(x.After.Profile, set); key != "" {
			return refusedSecret(x.After.Tag+" "+key, "was kept as a secret while the profile was unknown, and for "+
				x.After.Profile+" it is none")
		}
		x.After.Settings, after[at[x.After.Tag]].Settings = set, set
	}
	return nil
}

// misplaced gives the setting that holds what stands for a secret where the profile has none;
// "" for none. It would be sent to the device as it is.
func (k *sealer) misplaced(id string, set map[string]string) string {
	for _, key := range slices.Sorted(maps.Keys(set)) {
		if k.plan.Profiles[id] != nil && k.setting(id, key) == nil && strings.HasPrefix(set[key], vault.Prefix) {
			return key
		}
	}
	return ""
}

// kept gives settings with what stands for the secrets in them; before are those of the
// same entry now.
func (k *sealer) kept(ctx context.Context, who, id string, set, before map[string]string) (map[string]string, error) {
	out := set
	for _, key := range slices.Sorted(maps.Keys(set)) {
		s := k.setting(id, key)
		if s == nil {
			continue
		}
		at := who + " " + key
		text, err := "", error(nil)
		if s.Type == profile.Rows {
			text, err = k.cells(ctx, at, *s, set[key], before[key])
		} else {
			text, err = k.one(ctx, at, set[key], s.Rules, map[string]bool{before[key]: true})
		}
		if err != nil {
			return nil, err
		}
		if text != set[key] {
			out = maps.Clone(out)
			out[key] = text
		}
	}
	return out, nil
}

// longestSecret is how long a secret may be, in characters.
const longestSecret = 1000

func refusedSecret(at, reason string) error {
	e := problem.New(problem.Usage, "what was given as a secret "+reason+"; nothing was changed", "give it itself, as it is")
	e.Cells = []problem.Cell{{Column: at, Reason: reason}}
	return e
}

// one keeps one secret. What stands for a secret is taken only where it stands already:
// with what another entry, kind or site has, somebody would get at a secret that is not
// theirs to give.
func (k *sealer) one(ctx context.Context, at, value string, rules *secret.Rules, own map[string]bool) (string, error) {
	switch {
	case value == "" || own[value] && strings.HasPrefix(value, vault.Prefix) || k.made[value]:
		return value, nil
	case strings.HasPrefix(value, vault.Prefix):
		return "", refusedSecret(at, "stands for a secret that is kept elsewhere")
	case utf8.RuneCountInString(value) > longestSecret:
		return "", refusedSecret(at, fmt.Sprintf("is longer than %d characters", longestSecret))
	case strings.ContainsFunc(value, unicode.IsControl):
		return "", refusedSecret(at, "holds a line break or another control character")
	}
	if rules != nil {
		if err := rules.Refuses(value); err != nil {
			return "", refusedSecret(at, err.Error())
		}
	}
	token := vault.Prefix + "new"
	if !k.preview {
		var err error
		if token, err = k.keep(ctx, value); err != nil {
			return "", err
		}
	}
	k.made[token] = true
	return token, nil
}

// cells keeps the secrets of a table. A secret that is left out stays as it was in the row
// of the same name.
func (k *sealer) cells(ctx context.Context, at string, table profile.Setting, value, before string) (string, error) {
	rows, err := profile.ParseRows(value)
	old, err2 := profile.ParseRows(before)
	if err != nil || err2 != nil || value == "" {
		return value, nil // checking says what is wrong with it
	}
	first := table.Columns[0].Key
	was, own := map[string]profile.Row{}, map[string]map[string]bool{}
	for _, row := range old {
		was[row[first]] = row
		for key, cell := range row {
			if own[key] == nil {
				own[key] = map[string]bool{}
			}
			own[key][cell] = true
		}
	}
	changed := false
	for _, row := range rows {
		for _, c := range table.Columns {
			if c.Type != profile.Secret {
				continue
			}
			given := cmp.Or(row[c.Key], was[row[first]][c.Key])
			kept, err := k.one(ctx, at+", "+row[first]+" "+c.Key, given, c.Rules, own[c.Key])
			if err != nil {
				return "", err
			}
			if kept != row[c.Key] {
				row[c.Key], changed = kept, true
			}
		}
	}
	if !changed {
		return value, nil
	}
	return profile.RowsText(rows), nil
}

// SealAnew keeps what the profiles call a secret now and was written in plain text, when they
// did not: a profile may change, or come, after the plan. A locked vault takes nothing; it is
// done when it opens.
func (s *Planning) SealAnew(ctx context.Context) {
	sites, err := s.Store.Sites(ctx)
	if s.Vault.Lost() != nil || s.Vault.Locked() {
		return
	}
	for _, data := range sites {
		at, err2 := s.open(ctx, data.Key)
		if err2 == nil {
			err2 = at.sealAnew(ctx)
		}
		err = errors.Join(err, err2)
	}
	if err != nil && ctx.Err() == nil {
		s.Log.Error("what is a secret by its profile is not sealed yet", "error", err)
	}
}

func (s *Site) sealAnew(ctx context.Context) error {
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	p, _, err := s.Bare(ctx)
	if err != nil {
		return err
	}
	ever, err := s.store.EverPlanned(ctx)
	if err != nil {
		return err
	}
	now := map[string]string{} // profile by tag
	for _, e := range p.Entries {
		now[e.Tag] = e.Profile
	}
	k := s.sealer(p, false)
	var list []store.Concealed
	done := map[store.Concealed]bool{}
	for _, e := range ever {
		id := cmp.Or(now[e.Tag], e.Profile)
		for _, key := range slices.Sorted(maps.Keys(e.Settings)) {
			c := store.Concealed{Tag: e.Tag, Key: key, Was: e.Settings[key]}
			setting := k.setting(id, key)
			if setting == nil || c.Was == "" || strings.HasPrefix(c.Was, vault.Prefix) || done[c] {
				continue
			}
			done[c] = true
			if c.Whole = setting.Type != profile.Rows; c.Whole {
				c.Now, err = k.one(ctx, e.Tag+" "+key, c.Was, nil, nil)
			} else {
				c.Now, err = k.cells(ctx, e.Tag+" "+key, *setting, c.Was, c.Was)
			}
			if err != nil {
				return err
			}
			if c.Now != c.Was {
				list = append(list, c)
			}
		}
	}
	if len(list) == 0 {
		return nil
	}
	if err := s.store.Conceal(ctx, list); err != nil {
		return err
	}
	for was := s.all.models.Load(); !s.all.models.CompareAndSwap(was, &known{was.set, was.broken}); {
		was = s.all.models.Load() // what plans came to holds plain texts: it is worked out anew
	}
	s.all.Log.Warn("what the profiles call secret now was sealed, in the plan and its history", "site", s.store.Key,
		"settings", len(list))
	s.Changed()
	return nil
}
