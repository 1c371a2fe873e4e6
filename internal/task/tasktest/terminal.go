package tasktest

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net/netip"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/profile"
	"redstart/internal/lan/bench"
	"redstart/internal/lan/line"
	"redstart/internal/sim/box"
	"redstart/internal/sim/skerry"
	"redstart/internal/survey"
	"redstart/internal/task"
	"redstart/profiles"
)

// Terminal is a simulated site whose boxes were found and matched, with records in memory.
type Terminal struct {
	*Memory
	Site  *skerry.Site
	Bench *bench.Bench
	Plan  plan.Plan
	Lines map[string]string // serial lines of what cannot be set without one, by tag
	boxes map[string]*box.Box
}

// Find starts a simulated site and finds what stands there, until the test ends.
func Find(t testing.TB, o skerry.Options) *Terminal {
	t.Helper()
	ctx := t.Context()
	site := skerry.Start(o)
	t.Cleanup(site.Close)
	set, _, err := profiles.Load("")
	if err != nil {
		t.Fatal(err)
	}
	p := plan.Plan{Site: site.Data(), Profiles: set}
	r, err := planfile.Read(ctx, site.Plan(), p, nil, planfile.Options{})
	if err == nil {
		err = r.Refusal()
	}
	if err != nil {
		t.Fatal(err)
	}
	entries, _, complaints := p.Apply(r.Patches)
	if complaints != nil {
		t.Fatalf("%+v", complaints)
	}
	x := &Terminal{Site: site, Lines: map[string]string{}, boxes: map[string]*box.Box{}}
	macs, secrets := map[string]address.MAC{}, map[string]string{}
	for i, e := range entries {
		b := site.Boxes[i]
		macs[e.Tag], x.boxes[e.Tag] = b.MAC, b
		entries[i].MAC, entries[i].Serial = b.MAC, b.Label
		for key, value := range e.Settings {
			entries[i].Settings[key] = sealed(*set[e.Profile].Setting(key), value, secrets)
		}
	}
	p.Entries = entries
	p.Known.Locked = map[string]bool{}
	x.Plan, x.Memory = p, New(entries, macs)
	for token, secret := range secrets {
		x.AddSecret(token, secret)
	}
	x.Bench = bench.New(site.Attach())
	t.Cleanup(func() { x.Bench.Close() })
	lines, err := site.PlugLines()
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range lines {
		for tag, mac := range macs {
			if l.Only && mac == l.MAC {
				x.Lines[tag] = l.Name
			}
		}
	}
	var subnets []netip.Prefix
	for _, n := range p.Site.Subnets {
		subnets = append(subnets, n.Prefix)
	}
	_, err = survey.Run(ctx, x.Bench, set, survey.Options{Subnets: subnets, Avoid: p.Needs(), Pace: survey.MostPace, Known: []*device.Found{}},
		func(f *device.Found, _ survey.Progress) { x.found[f.MAC] = f.Clone() })
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// sealed puts the secrets of a setting aside, and gives what stands for them.
func sealed(s profile.Setting, value string, secrets map[string]string) string {
	token := func(secret string) string {
		token := fmt.Sprintf("vault:%d", len(secrets)+1)
		secrets[token] = secret
		return token
	}
	switch {
	case value == "":
	case s.Type == profile.Secret:
		return token(value)
	case s.Type == profile.Rows && s.HasSecret():
		rows, err := profile.ParseRows(value)
		if err != nil {
			return value
		}
		for _, row := range rows {
			for _, c := range s.Columns {
				if c.Type == profile.Secret && row[c.Key] != "" {
					row[c.Key] = token(row[c.Key])
				}
			}
		}
		return profile.RowsText(rows)
	}
	return value
}

// Add plans more entries, such as what hangs behind a box.
func (x *Terminal) Add(entries ...plan.Entry) {
	x.Plan.Entries = append(x.Plan.Entries, entries...)
	for tag, e := range New(entries, nil).entries {
		x.entries[tag] = e
	}
}

// Want plans a setting of an entry.
func (x *Terminal) Want(tag, key, value string) {
	for i, e := range x.Plan.Entries {
		if e.Tag != tag {
			continue
		}
		set := maps.Clone(e.Settings)
		if set == nil {
			set = map[string]string{}
		}
		set[key] = sealed(*x.Plan.Profiles[e.Profile].Setting(key), value, x.secrets)
		x.Plan.Entries[i].Settings = set
		kept := x.entries[tag]
		kept.Settings = set
		x.entries[tag] = kept
	}
}

// Box gives the box of an entry.
func (x *Terminal) Box(tag string) *box.Box { return x.boxes[tag] }

// Hand does with the box of an entry what a person would who reads an instruction.
func (x *Terminal) Hand(tag, instruction string) bool { return x.boxes[tag].Hand(instruction) }

// Tags lists the entries of models, by their names; of all without any.
func (x *Terminal) Tags(models ...string) (tags []string) {
	for _, e := range x.Plan.Entries {
		if x.boxes[e.Tag] != nil && (len(models) == 0 || strings.Contains(" "+strings.Join(models, " ")+" ", " "+x.boxes[e.Tag].Model.Name+" ")) {
			tags = append(tags, e.Tag)
		}
	}
	return tags
}

// Tools are what tasks at the terminal work with; parked is told what waits for a hand.
func (x *Terminal) Tools(park func(context.Context, profile.Hand) (*task.Parking, error)) task.Tools {
	return task.Tools{Bench: x.Bench, Records: x, Boxes: x, Secrets: x, Logins: x, Plan: x.Plan, Log: slog.New(slog.DiscardHandler),
		Avoid: x.Plan.Needs(), Line: line.Open, Park: park}
}
