// Package sitetest is a service at work on a simulated site, without anybody who reaches it over a
// network: for tests of the work on a site by its stages.
package sitetest

import (
	"context"
	"log/slog"
	"testing"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/state"
	"redstart/internal/lan"
	"redstart/internal/segments"
	"redstart/internal/sim/skerry"
	"redstart/internal/site"
	"redstart/internal/store/storetest"
	"redstart/internal/survey"
)

// quick has boxes restart ten times as fast as they do.
const quick = 0.1

// round is how often a watch asks.
const round = 200 * time.Millisecond

// Rig is the service with the simulated site that it is plugged into.
type Rig struct {
	*site.Site
	T        testing.TB
	Service  *site.Service
	Terminal *skerry.Site
	// Wire is the port to it; once it is closed another takes its place.
	Wire lan.Port
}

// Open opens a service that ends with the test.
func Open(t testing.TB, o skerry.Options) *Rig {
	t.Helper()
	o.Pace = quick
	terminal := skerry.Start(o)
	t.Cleanup(terminal.Close)
	r := &Rig{T: t, Terminal: terminal, Wire: terminal.Attach()}
	plug := segments.Plug{Name: "simulated site", Port: r.Wire, Reopen: func() (lan.Port, error) { return terminal.Attach(), nil }}
	dir := t.TempDir()
	storetest.Begin(t, dir)
	s, err := site.Open(t.Context(), site.Config{Data: dir, Plugs: []segments.Plug{plug},
		Round: round, Pace: survey.MostPace, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	data, err := s.AddSite(t.Context(), terminal.Data(), "owner")
	if err != nil {
		t.Fatal(err)
	}
	at, err := s.At(t.Context(), data.Key)
	if err != nil {
		t.Fatal(err)
	}
	r.Site, r.Service = at, s
	return r
}

// Must fails the test at an error.
func (r *Rig) Must(errs ...error) {
	r.T.Helper()
	for _, err := range errs {
		if err != nil {
			r.T.Fatal(err)
		}
	}
}

// Work waits until a work has ended, and gives it as it is then.
func (r *Rig) Work(a api.Work, err error) api.Work {
	r.T.Helper()
	r.Must(err)
	ctx, cancel := context.WithTimeout(r.T.Context(), 5*time.Minute)
	defer cancel()
	a, err = r.Service.Works.Outcome(ctx, a.ID)
	r.Must(err)
	if a.State != state.Done {
		r.T.Fatalf("%s is %s: %s", a.Kind, a.State, a.Text)
	}
	return a
}

// Import imports a plan; of the site itself without a text.
func (r *Rig) Import(text string) {
	r.T.Helper()
	if text == "" {
		text = string(r.Terminal.Plan())
	}
	_, err := r.Plan.Import(r.T.Context(), []byte(text), api.ImportOptions{}, "owner")
	r.Must(err)
}

// Find finds what stands there.
func (r *Rig) Find() api.Work {
	r.T.Helper()
	return r.Work(r.Jobs.Find(r.T.Context(), "owner", api.FindOptions{}))
}

// Matched imports the plan of the site, finds and matches.
func (r *Rig) Matched() {
	r.T.Helper()
	r.Import("")
	r.Find()
	accepted, err := r.Jobs.Accept(r.T.Context(), api.Acceptance{Reasons: match.Reasons}, "owner")
	r.Must(err)
	if len(accepted) != len(r.Terminal.Boxes) {
		r.T.Fatalf("%d of %d matched", len(accepted), len(r.Terminal.Boxes))
	}
}

// Entries gives the plan by tag.
func (r *Rig) Entries() map[string]api.EntryView {
	r.T.Helper()
	list, err := r.Plan.Entries(r.T.Context())
	r.Must(err)
	byTag := map[string]api.EntryView{}
	for _, e := range list {
		byTag[e.Tag] = e
	}
	return byTag
}

// Tags lists the tags of the plan in its order.
func (r *Rig) Tags() (tags []string) {
	r.T.Helper()
	list, err := r.Plan.Entries(r.T.Context())
	r.Must(err)
	for _, e := range list {
		tags = append(tags, e.Tag)
	}
	return tags
}

// Set is a change of one entry, field by field.
func Set(tag string, fields ...string) []plan.Patch {
	set := map[string]string{}
	for i := 0; i < len(fields); i += 2 {
		set[fields[i]] = fields[i+1]
	}
	return []plan.Patch{{Tag: tag, Set: set}}
}

// In opens a service on a data folder, plugged into nothing; the caller closes it.
func In(ctx context.Context, t testing.TB, dir string) *site.Service {
	t.Helper()
	s, err := site.Open(ctx, site.Config{Data: dir, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	return s
}
