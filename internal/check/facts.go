package check

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/core/profile"
	"redstart/internal/core/result"
)

// facts reads name and address back.
var facts = &Check{
	Wants: func(s Subject) (list []Want) {
		vars := s.Given.Variables()
		for _, key := range []string{"name", "address", "mask", "gateway"} {
			list = append(list, Want{Name: key, Expected: cmp.Or(vars[key], nothing), Key: key})
		}
		for _, key := range slices.Sorted(maps.Keys(s.Given.SiteWide)) {
			list = append(list, Want{Name: key, Expected: cmp.Or(s.Given.SiteWide[key], nothing), Key: key})
		}
		return list
	},
	Look: readBack,
}

// settings reads each setting back that the profile declares and sends.
var settings = &Check{
	Wants: func(s Subject) (list []Want) {
		for _, key := range slices.Sorted(maps.Keys(s.Given.Settings)) {
			expected := s.Given.Settings[key]
			if len(s.Profile.Acts[profile.Firmware]) > 0 && (key == profile.FirmwareAsked || key == profile.FirmwareFile) {
				continue // the version is compared
			}
			if table(s.Profile, "setting."+key) != nil {
				expected = rowsText(expected)
			}
			if isFile(s.Profile, "setting."+key) {
				if expected == "" {
					continue // whether it has one of its own is its affair
				}
				expected = accepted
			}
			if listing(s.Profile, "setting."+key) != nil && expected != "" {
				expected = fmt.Sprintf("%d lines as planned", 1+strings.Count(expected, "\n"))
			}
			list = append(list, Want{Name: key, Expected: cmp.Or(expected, nothing), Key: "setting." + key})
		}
		return list
	},
	Look: readBack,
}

// accepted is what a device tells of a file that it took.
const accepted = "accepted"

// table gives the setting of the type rows that a fact is about; nil for any other.
func table(p *profile.Profile, fact string) *profile.Setting {
	key, is := strings.CutPrefix(fact, "setting.")
	if s := p.Setting(key); is && s != nil && s.Type == profile.Rows {
		return s
	}
	return nil
}

// listing gives the setting of the type listing that a fact is about; nil for any other.
func listing(p *profile.Profile, fact string) *profile.Setting {
	key, is := strings.CutPrefix(fact, "setting.")
	if s := p.Setting(key); is && s != nil && s.Type == profile.Listing {
		return s
	}
	return nil
}

// isFile reports whether a fact is about a setting of the type file.
func isFile(p *profile.Profile, fact string) bool {
	key, is := strings.CutPrefix(fact, "setting.")
	s := p.Setting(key)
	return is && s != nil && s.Type == profile.File
}

// rowsText says how much a table holds.
func rowsText(value string) string {
	switch rows, err := profile.ParseRows(value); {
	case err != nil || len(rows) == 0:
		return ""
	case len(rows) == 1:
		return "1 row as planned"
	default:
		return fmt.Sprintf("%d rows as planned", len(rows))
	}
}

// nothing is shown for an empty value.
const nothing = "nothing"

// readBack judges what was read of one thing.
func readBack(ctx context.Context, v *Visit, w Want) (result.Look, error) {
	if !slices.Contains(v.Profile.ReadsBack(), w.Key) {
		return result.Untold("its profile does not say how to read it back"), nil
	}
	r, err := v.read(ctx)
	if err != nil {
		return result.Look{}, err
	}
	seen, said := r.facts[w.Key]
	switch {
	case !r.read.Taken:
		return result.Unseen(r.read.Said), nil
	case !r.read.Good:
		return result.Saw(r.read.Said, false), nil
	case !said || seen == "" && w.Expected != nothing:
		return result.Saw("not said", false), nil
	}
	if s := table(v.Profile, w.Key); s != nil {
		differ := s.RowsDiffer(v.Given.Settings[s.Key], seen)
		return result.Look{Taken: true, Good: differ == "", Said: cmp.Or(differ, w.Expected), By: r.read.By}, nil
	}
	if s := listing(v.Profile, w.Key); s != nil && w.Expected != nothing {
		l := result.Saw("other lines", false)
		if s.Same(v.Given.Settings[s.Key], seen) {
			l = result.Look{Taken: true, Good: true, Said: w.Expected, By: r.read.By}
		}
		return l, nil
	}
	if w.Expected == accepted && isFile(v.Profile, w.Key) {
		l := result.Saw("the device did not accept it", false)
		if seen == "yes" {
			l = result.Look{Taken: true, Good: true, Said: accepted, By: r.read.By}
		}
		return l, nil
	}
	seen = cmp.Or(strings.TrimSpace(seen), nothing) // blanks around a value are the page's
	l := result.Saw(seen, seen == w.Expected)
	switch {
	case l.Good:
		l.By = r.read.By
	case strings.EqualFold(strings.Join(strings.Fields(seen), ""), strings.Join(strings.Fields(w.Expected), "")):
		l.Said = strconv.Quote(seen) // they look alike
	}
	return l, nil
}
