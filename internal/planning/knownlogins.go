package planning

import (
	"context"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// KnownLogins tells which devices are given whose login, and whether what they have is the
// present one.
func (s *Site) KnownLogins(ctx context.Context) ([]api.KnownLogin, error) {
	_, entries, err := s.Bare(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.Resolver(ctx)
	if err != nil {
		return nil, err
	}
	byTag := map[string]store.Entry{}
	for _, e := range entries {
		byTag[e.Tag] = e
	}
	list := []api.KnownLogin{}
	for _, k := range r.KnownLogins() {
		state := api.LoginNotGiven
		if e := byTag[k.By]; e.Given != nil {
			p := r.Profiles[e.Profile]
			switch was := given(e, p, k); {
			case was == "":
			case was == k.Now:
				state = api.LoginCurrent
			default:
				state = api.LoginEarlier
			}
		}
		list = append(list, api.KnownLogin{Of: k.Of, By: k.By, Setting: k.Key, Row: k.Row, State: state})
	}
	return list, nil
}

// given is what stood for the login that a device was given last; "" for none.
func given(e store.Entry, p *profile.Profile, k plan.KnownLogin) string {
	if k.Row == "" {
		return e.Given.Secrets[k.Key]
	}
	s := p.Setting(k.Key)
	rows, err := profile.ParseRows(e.Given.Settings[k.Key])
	if s == nil || err != nil {
		return ""
	}
	for _, row := range rows {
		if row[s.Columns[0].Key] != k.Row {
			continue
		}
		for _, c := range s.Columns {
			if c.Type == profile.EntryLogin {
				return row[c.Key]
			}
		}
	}
	return ""
}
