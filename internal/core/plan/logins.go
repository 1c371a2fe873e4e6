package plan

import (
	"slices"

	"redstart/internal/core/profile"
)

// KnownLogin says that the device of one entry is given the login of another's, to sign in
// there.
type KnownLogin struct {
	Of  string // tag of the entry whose login it is
	By  string // tag of the entry whose device is given it
	Key string // of the setting
	Row string // of a table: what its first column holds; "" for a setting
	Now string // what stands for that login now, as LoginOf reads it
}

// KnownLogins lists who is given whose login, in the order of the entries.
func (p Resolver) KnownLogins() (list []KnownLogin) {
	for _, e := range p.Entries {
		prof := p.Profiles[e.Profile]
		if prof == nil {
			continue
		}
		sent := prof.Sent()
		for _, s := range prof.Settings {
			if !slices.Contains(sent, s.Key) {
				continue
			}
			if tag := e.Settings[s.From]; s.Type == profile.EntryLogin && tag != "" {
				list = append(list, KnownLogin{tag, e.Tag, s.Key, "", p.loginOf(tag)})
			}
			list = append(list, p.knownIn(e, s)...)
		}
	}
	return list
}

// knownIn lists the logins that the rows of a table give.
func (p Resolver) knownIn(e Entry, s profile.Setting) (list []KnownLogin) {
	if s.Type != profile.Rows || e.Settings[s.Key] == "" {
		return nil
	}
	rows, err := profile.ParseRows(e.Settings[s.Key])
	if err != nil {
		return nil // it was found before
	}
	for _, c := range s.Columns {
		for _, row := range rows {
			if tag := row[c.From]; c.Type == profile.EntryLogin && tag != "" {
				list = append(list, KnownLogin{tag, e.Tag, s.Key, row[s.Columns[0].Key], p.loginOf(tag)})
			}
		}
	}
	return list
}
