package site

import (
	"bytes"
	"context"
	"slices"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/handover"
	"redstart/internal/store"
)

// Documents lists what a site can be handed over with.
func (s *Service) Documents() []api.Document {
	var list []api.Document
	for _, d := range handover.All {
		list = append(list, api.Document{Name: d.Name, Says: d.Says, File: d.File})
	}
	return list
}

// Document makes one of them.
func (s *Site) Document(ctx context.Context, name string) (Download, error) {
	i := slices.IndexFunc(handover.All, func(d *handover.Document) bool { return d.Name == name })
	if i < 0 {
		return Download{}, problem.New(problem.Missing, "there is no such document",
			"redstart handover lists them").About(name)
	}
	r, err := s.record(ctx)
	if err != nil {
		return Download{}, err
	}
	var out bytes.Buffer
	d := handover.All[i]
	if err := d.Write(&out, r); err != nil {
		return Download{}, err
	}
	return Download{s.store.Key + "-" + d.File, d.Kind, out.Bytes()}, nil
}

// record gathers what documents are made from.
func (s *Site) record(ctx context.Context) (handover.Record, error) {
	p, entries, err := s.bare(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	r := handover.Record{Site: p.Site, At: time.Now().UTC()}
	for _, e := range entries {
		r.Entries = append(r.Entries,
			handover.Entry{Entry: e.Entry, Domain: p.Site.SubnetOf(e.Address).Domain, Stands: stands(e)})
	}
	return r, nil
}

// stands says how far an entry is and since when.
func stands(e store.Entry) string {
	text := e.State
	switch {
	case e.State == store.Attention && e.Reason != "":
		text += ": " + e.Reason
	case e.State == store.Planned && e.NotWired:
		text = "not wired yet"
	}
	if !e.CheckedAt.IsZero() {
		text += ", looked at " + e.CheckedAt.UTC().Format("2006-01-02 15:04 UTC")
	}
	return text
}
