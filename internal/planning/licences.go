package planning

import (
	"bytes"
	"context"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/licence"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/result"
	"redstart/internal/store"
)

// States of a licence.
const (
	licenceUnread   = "no host id yet"
	licenceToAsk    = "to be asked for"
	licenceAsked    = "asked for"
	licenceGiven    = "to be sent"
	licenceAccepted = "accepted"
	licenceRefused  = "refused"
	licenceChanged  = "host id changed"
)

// Licences lists the devices that take a licence, and how far each is.
func (s *Site) Licences(ctx context.Context) ([]api.Licence, error) {
	list := []api.Licence{}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return nil, err
	}
	hosts, err := s.store.HostIDs(ctx)
	if err != nil {
		return nil, err
	}
	profiles := s.all.Profiles()
	for _, e := range entries {
		p := profiles[e.Profile]
		if p == nil {
			continue
		}
		for _, set := range p.Settings {
			if !set.Licence {
				continue
			}
			h := hosts[e.Device]
			if e.Device.IsZero() {
				h = store.HostID{}
			}
			l := api.Licence{Tag: e.Tag, Maker: p.Maker, Model: p.Model, Serial: e.Serial, MAC: e.Device, Key: set.Key,
				Host: h.ID, ToldAt: h.Seen, Asked: h.Asked, AskedAt: h.AskedAt, File: e.Settings[set.Key]}
			if err := s.judge(ctx, &l, h); err != nil {
				return nil, err
			}
			list = append(list, l)
		}
	}
	return list, nil
}

// judge says how far a licence is.
func (s *Site) judge(ctx context.Context, l *api.Licence, h store.HostID) error {
	switch {
	case h.ID == "":
		l.State, l.Why = licenceUnread, "commission it, or verify it: it tells its host id then"
		return nil
	case h.Asked != "" && h.Asked != h.ID:
		l.State = licenceChanged
		l.Why = fmt.Sprintf("a licence was asked for for %s; it tells %s since %s", h.Asked, h.ID,
			h.At.UTC().Format("2006-01-02 15:04 UTC"))
		if h.Since != "" {
			l.Why += "; done in between: " + h.Since
		}
		return nil
	case h.Asked == "" && (l.File == "" || outdated(*l)):
		l.State = licenceToAsk
		return nil
	case l.File == "" || outdated(*l):
		if l.State = licenceAsked; l.File != "" {
			l.Why = "the one that is planned is for another host id"
		}
		return nil
	}
	l.State = licenceGiven
	checks, err := s.store.Checks(ctx, l.Tag)
	for _, c := range checks {
		switch {
		case c.Name != l.Key:
		case c.Verdict == result.Passed:
			l.State = licenceAccepted
		case c.Verdict == result.Failed:
			l.State, l.Why = licenceRefused, "observed: "+c.Observed
		}
	}
	return err
}

// outdated reports whether the planned file is a licence that was taken in for another host id.
func outdated(l api.Licence) bool {
	given := storedName(licence.Fit{Tag: l.Tag, Host: l.Host})
	return strings.HasPrefix(l.File, storedName(licence.Fit{Tag: l.Tag})) && !strings.HasPrefix(l.File, given)
}

// CollectLicences writes what the supplier needs to make the licences that are not there yet,
// and notes that they were asked for.
func (s *Site) CollectLicences(ctx context.Context, format string) (Download, error) {
	all, err := s.Licences(ctx)
	if err != nil {
		return Download{}, err
	}
	lines := [][]string{{"entry", "maker", "model", "serial", "mac", "host-id", "told"}}
	var macs []address.MAC
	for _, l := range all {
		if l.Host == "" || l.State == licenceAccepted || l.State == licenceGiven {
			continue
		}
		macs = append(macs, l.MAC)
		lines = append(lines, []string{l.Tag, l.Maker, l.Model, l.Serial, l.MAC.String(), l.Host,
			l.ToldAt.UTC().Format(time.RFC3339)})
	}
	if len(macs) == 0 {
		return Download{}, problem.New(problem.Conflict, "no licence is to be asked for",
			"see how far each is: redstart plan licence list")
	}
	content, err := planfile.Table(format, "licences", lines)
	if err != nil {
		return Download{}, err
	}
	return Download{Name: s.store.Key + "-licences." + format, Kind: planfile.Kinds[format], Content: content}, s.store.AskedFor(ctx, macs)
}

// TakeLicences takes back what the supplier sent, a file or an archive: each is matched by the
// host id in it. Those that are nobody's are told and not kept.
func (s *Site) TakeLicences(ctx context.Context, name string, content []byte, preview bool,
	who string) (api.LicencesTaken, error) {
	out := api.LicencesTaken{Files: []licence.Fit{}}
	files, err := licence.Unpack(name, content)
	if err != nil {
		return out, problem.New(problem.Usage, err.Error(), "give the licences as files, or as one ZIP archive").About(name)
	}
	all, err := s.Licences(ctx)
	if err != nil {
		return out, err
	}
	var wanted []licence.Wanted
	for _, l := range all {
		wanted = append(wanted, licence.Wanted{Tag: l.Tag, Key: l.Key, HostID: l.Host})
		if l.Asked != "" && l.Asked != l.Host {
			wanted = append(wanted, licence.Wanted{Tag: l.Tag, Key: old, HostID: l.Asked})
		}
	}
	out.Files = licence.Sort(files, wanted)
	var patches []plan.Patch
	for i := range out.Files {
		fit := &out.Files[i]
		if fit.Key == old {
			fit.Why, fit.Tag, fit.Key = "it is for the host id that "+fit.Tag+" had before", "", ""
		}
		if fit.Tag == "" {
			continue
		}
		stored := storedName(*fit)
		if slices.ContainsFunc(patches, func(p plan.Patch) bool { return p.Tag == fit.Tag }) {
			continue // the same once more
		}
		patches = append(patches, plan.Patch{Tag: fit.Tag, Set: map[string]string{fit.Key: stored}})
		if preview {
			continue
		}
		if _, err := s.store.PutFile(ctx, stored, bytes.NewReader(files[i].Content), who); err != nil {
			return out, err
		}
	}
	if out.Taken = len(patches); preview || len(patches) == 0 {
		return out, nil
	}
	_, err = s.Edit(ctx, api.Edits{What: "licences taken in", Patches: patches, Configured: true}, false, who)
	return out, err
}

// old stands for the setting of a licence for a host id that was another one.
const old = "\x00old"

// storedName is what a licence is called among the files of the site: by its device and host.
func storedName(f licence.Fit) string {
	name := "licence " + f.Tag + " " + f.Host
	name = strings.Map(func(r rune) rune {
		if r == ' ' || r == '-' || r == '.' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' {
			return r
		}
		return '-'
	}, name)
	ending := path.Ext(path.Base(f.File))
	if f.File == "" || len(ending) > 6 || strings.ContainsFunc(ending, func(r rune) bool { return r > 'z' || r == ' ' }) {
		ending = ""
	}
	return name[:min(len(name), 90)] + ending
}
