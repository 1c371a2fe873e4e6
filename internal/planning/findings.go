package planning

import (
	"cmp"
	"context"

	"redstart/internal/core/device"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
	"redstart/internal/core/state"
	"redstart/internal/store"
)

// Findings checks the plan as a whole.
func (s *Site) Findings(ctx context.Context) ([]plan.Finding, error) {
	now, err := s.Checked(ctx)
	if err != nil {
		return nil, err
	}
	return append([]plan.Finding{}, now.Findings...), nil
}

// Noting keeps what is found before something is done, and gives what keeps, after it, that this
// took away what is not found any more. A record of findings that fails is noted in the log, and
// stops nobody's work.
func (s *Site) Noting() (done func(who, what string)) {
	note := func(who, what string) {
		if err := s.NoteFindings(context.WithoutCancel(s.all.life), who, what); err != nil {
			s.all.Log.Error("what was found cannot be kept", "site", s.store.Key, "error", err)
		}
	}
	note("", "")
	return note
}

// NoteFindings keeps what is found now, and that somebody took away what is not found any more.
func (s *Site) NoteFindings(ctx context.Context, who, what string) error {
	at, err := s.Checked(ctx)
	if err != nil {
		return err
	}
	if s.all.snapshots.noted(s.store.ID, at, false) {
		return nil
	}
	var now []store.Finding
	for _, f := range at.Findings {
		now = append(now, store.Finding{Of: cmp.Or(f.Tag, f.Profile), Code: f.Code + " " + f.Field, Level: string(f.Level), Text: f.Reason})
	}
	for _, e := range at.Entries {
		if e.State == state.Attention && e.Reason != "" {
			now = append(now, store.Finding{Of: e.Tag, Code: "device", Level: state.Attention, Text: e.Reason})
		}
	}
	for _, n := range at.Notices {
		if n.Quiet {
			continue
		}
		of := cmp.Or(n.Tag, n.Address)
		if of == "" && len(n.MACs) > 0 {
			of = n.MACs[0].String()
		}
		now = append(now, store.Finding{Of: of, Code: "segment " + n.Kind, Level: "segment", Text: n.Text})
	}
	if err := s.store.NoteFindings(ctx, now, who, what); err != nil {
		return err
	}
	s.all.snapshots.noted(s.store.ID, at, true)
	return nil
}

// notices says what is odd on the segment.
func (s *Site) notices(p plan.Plan, entries []store.Entry, present []*device.Found) []notice.Notice {
	return notice.All(notice.Segment{Found: present, Entries: p.Entries, Matched: TagsByDevice(entries), Subnets: p.Site.Subnets,
		Profiles: s.all.Profiles()})
}
