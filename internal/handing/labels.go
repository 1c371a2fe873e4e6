package handing

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/planning"
	"redstart/internal/vault"
)

// usualLabel is the size of labels where none is given: 24 of them are on a sheet of A4.
const usualLabel = "70x37"

// writeLabels lays out the labels of entries in walking order, and writes them.
func writeLabels(out io.Writer, r handover.Record, sheet handover.LabelSheet, o api.LabelOptions) error {
	tags, err := chosenOf(r, o.Tags)
	if err != nil {
		return err
	}
	labels, err := handover.LayOut(r, sheet, tags)
	if err != nil {
		return err
	}
	if o.Format == "svg" {
		return labels.SVG(out)
	}
	return labels.PDF(out)
}

// LoginLabels prints labels of named entries that have what opens each, for somebody, and
// records for whom.
func (s *Site) LoginLabels(ctx context.Context, in api.LoginLabels, who string) (planning.Download, error) {
	p, err := s.toPrint(ctx, in.Tags, in.To)
	if err != nil {
		return planning.Download{}, err
	}
	for i := range p.record.Entries {
		for _, l := range p.logins {
			if e := &p.record.Entries[i]; l.Tag == e.Tag {
				e.Login = strings.TrimSpace(l.User + " " + l.Password)
			}
		}
	}
	m, err := s.maker(api.ToMake{Document: api.LabelsDocument, Labels: &in.LabelOptions})
	if err != nil {
		return planning.Download{}, err
	}
	var out bytes.Buffer
	if err := m.write(&out, p.record); err != nil {
		return planning.Download{}, err
	}
	return s.printed(ctx, planning.Download{Name: m.file, Kind: m.kind, Content: out.Bytes()}, p, who, "a label")
}

// LoginSheet prints a sheet with what opens named entries, for somebody, and records for whom.
func (s *Site) LoginSheet(ctx context.Context, in api.LoginsFor, who string) (planning.Download, error) {
	p, err := s.toPrint(ctx, strings.Join(in.Tags, ","), in.To)
	if err != nil {
		return planning.Download{}, err
	}
	var out bytes.Buffer
	if err := handover.Logins(&out, p.record, p.logins, p.to); err != nil {
		return planning.Download{}, err
	}
	return s.printed(ctx, planning.Download{Name: s.store.Key + "-logins.pdf", Kind: "application/pdf", Content: out.Bytes()}, p, who, "a sheet")
}

// toBePrinted are logins of named entries that are to be printed for somebody.
type toBePrinted struct {
	to     string
	tags   []string
	record handover.Record
	logins []handover.Credential
}

func (s *Site) toPrint(ctx context.Context, tags, to string) (p toBePrinted, err error) {
	if p.to, err = takerOf(to); err != nil {
		return p, err
	}
	if p.record, err = s.record(ctx, false); err != nil {
		return p, err
	}
	if p.tags, err = chosenOf(p.record, tags); err != nil {
		return p, err
	}
	p.logins, err = s.loginsOf(ctx, p.record, p.tags)
	return p, err
}

// printed records for whom logins were printed, before anybody has them.
func (s *Site) printed(ctx context.Context, out planning.Download, p toBePrinted, who, on string) (planning.Download, error) {
	if err := s.store.AddNotes(ctx, p.tags, who, "login printed on "+on+" for "+p.to); err != nil {
		return planning.Download{}, err
	}
	return out, nil
}

// loginsOf gives what opens the devices of named entries now: each must have something.
func (s *Site) loginsOf(ctx context.Context, r handover.Record, tags []string) (list []handover.Credential, err error) {
	if len(tags) == 0 {
		return nil, problem.New(problem.Usage, "it is not said of which entries logins are printed", "name each by its tag")
	}
	if err := s.all.Plans.Unlocked(); err != nil {
		return nil, err
	}
	for _, tag := range tags {
		e := r.Entries[slices.IndexFunc(r.Entries, func(e handover.Entry) bool { return e.Tag == tag })]
		var logins []vault.Login
		if !e.Device.IsZero() {
			if logins, err = s.all.Vault.Logins(ctx, e.Device); err != nil {
				return nil, err
			}
		}
		i := slices.IndexFunc(logins, func(l vault.Login) bool { return l.State == state.Accepted })
		if i < 0 {
			return nil, problem.New(problem.Conflict, "no stored login is known to open it", "commission it, or learn its login: redstart vault learn").About(tag)
		}
		l := logins[i]
		c := handover.Credential{Tag: tag, MAC: e.Device.String(), Name: e.Name, User: l.User, Password: l.Password, State: l.State}
		if e.Address.IsValid() {
			c.Address = e.Address.String()
		}
		list = append(list, c)
	}
	return list, nil
}

func labelSheet(o api.LabelOptions) (sheet handover.LabelSheet, err error) {
	if sheet.Width, sheet.Height, err = lengths(cmp.Or(o.Size, usualLabel)); err != nil {
		return sheet, err
	}
	if o.Gap != "" {
		if sheet.GapX, sheet.GapY, err = lengths(o.Gap); err != nil {
			return sheet, err
		}
	}
	page, known := handover.Pages[cmp.Or(o.Page, "A4")]
	if !known {
		return sheet, problem.New(problem.Usage, fmt.Sprintf("there is no page %q", o.Page), "choose A4, letter or roll").About("label")
	}
	sheet.PageWidth, sheet.PageHeight, sheet.Start = page[0], page[1], 1
	if o.Start != "" {
		if sheet.Start, err = strconv.Atoi(o.Start); err != nil {
			return sheet, problem.New(problem.Usage, "the label to start at is no number", "count from the top left, row by row").About("label")
		}
	}
	for _, key := range strings.Split(o.Fields, ",") {
		if key = strings.TrimSpace(key); key != "" {
			sheet.Fields = append(sheet.Fields, key)
		}
	}
	return sheet, nil
}

// lengths reads two lengths in millimetres: 63.5x38.1.
func lengths(text string) (a, b float64, err error) {
	left, right, two := strings.Cut(strings.ToLower(text), "x")
	a, err1 := strconv.ParseFloat(strings.TrimSpace(left), 64)
	b, err2 := strconv.ParseFloat(strings.TrimSpace(right), 64)
	if !two || err1 != nil || err2 != nil {
		return 0, 0, problem.New(problem.Usage, fmt.Sprintf("%q is not width and height in millimetres", text),
			"write it like 70x37, or 63.5x38.1").About("label")
	}
	return a, b, nil
}
