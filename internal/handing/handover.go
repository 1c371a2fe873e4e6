package handing

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/match"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/handover"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Documents lists what a site can be handed over with.
func (s *Handing) Documents() []api.Document {
	var list []api.Document
	for _, d := range handover.All {
		list = append(list, api.Document{Name: d.Name, Says: d.Says, File: d.File})
	}
	return list
}

// Document makes one of them at once, for whoever waits.
func (s *Site) Document(ctx context.Context, in api.ToMake) (planning.Download, error) {
	m, err := s.maker(in)
	if err != nil {
		return planning.Download{}, err
	}
	free, err := s.all.room(ctx)
	if err != nil {
		return planning.Download{}, err
	}
	defer free()
	r, err := s.record(ctx, m.steps)
	if err != nil {
		return planning.Download{}, err
	}
	var out bytes.Buffer
	err = m.write(&out, r)
	return planning.Download{Name: m.file, Kind: m.kind, Content: out.Bytes()}, err
}

// longestTaker is how long the name of somebody who takes something may be, in characters.
const longestTaker = 200

// takerOf reads the name of somebody who takes something.
func takerOf(text string) (string, error) {
	to := value.Printable(strings.TrimSpace(text))
	if to == "" || len([]rune(to)) > longestTaker {
		return "", problem.New(problem.Usage, "it is not said to whom it is handed over, or in more than 200 characters",
			"give their name, and whom they are from: --to \"Ida Holm, Skerry Ferries\"")
	}
	return to, nil
}

// Handovers lists what was handed over, the latest first.
func (s *Site) Handovers(ctx context.Context) ([]api.Handover, error) {
	kept, err := s.store.Handovers(ctx)
	list := []api.Handover{}
	for _, h := range kept {
		list = append(list, handed(h))
	}
	return list, err
}

func handed(h store.Handover) api.Handover {
	return api.Handover{ID: h.ID, At: h.At.Time, Who: h.Who, To: h.Taker, What: h.What, SHA256: h.SHA256}
}

// Since lists what is not as it was when something was handed over; 0 is the latest.
func (s *Site) Since(ctx context.Context, id int64) (api.Since, error) {
	h, err := s.store.Handover(ctx, id)
	if err != nil {
		return api.Since{}, err
	}
	r, err := s.record(ctx, false)
	if err != nil {
		return api.Since{}, err
	}
	list, err := handover.Since(h.Register, r)
	return api.Since{Handover: handed(h), Differences: list}, err
}

// Columns lists the columns that a register can have.
func (s *Handing) Columns() []api.Column {
	var list []api.Column
	for _, c := range handover.Columns {
		list = append(list, api.Column{Key: c.Key, Says: c.Says, Usual: handover.Usual(c.Key)})
	}
	return list
}

// chosenOf reads tags that are divided by commas, each that of an entry.
func chosenOf(r handover.Record, text string) (tags []string, err error) {
	for _, tag := range strings.Split(text, ",") {
		if tag = strings.TrimSpace(tag); tag == "" {
			continue
		}
		if !slices.ContainsFunc(r.Entries, func(e handover.Entry) bool { return e.Tag == tag }) {
			return nil, problem.New(problem.Usage, "there is no such entry", "look: redstart plan list").About(tag)
		}
		tags = append(tags, tag)
	}
	return tags, nil
}

// record gathers what documents are made from, with the steps of all runs if they are needed.
func (s *Site) record(ctx context.Context, steps bool) (handover.Record, error) {
	p, entries, err := s.plan.Bare(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	resolver, err := s.plan.Resolver(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	checks, err := s.store.AllChecks(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	devices, err := s.store.Devices(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	found := map[address.MAC]*device.Found{}
	for _, f := range devices {
		found[f.MAC] = f
	}
	licences, err := s.plan.Licences(ctx)
	if err != nil {
		return handover.Record{}, err
	}
	licence := map[string]string{}
	for _, l := range licences {
		licence[l.Tag] = l.State
	}
	hangs := match.OnPorts(planning.SegmentOf(entries, devices))
	r := handover.Record{Site: p.Site, Columns: p.Site.Register}
	r.Plan = p
	r.Plan.Entries = nil
	for _, e := range entries {
		bare := e.Entry
		bare.Settings = withoutSecrets(bare.Settings)
		if bare.MAC.IsZero() {
			bare.MAC = e.Device
		}
		r.Plan.Entries = append(r.Plan.Entries, bare)
		v := planning.View(resolver, e, nil, api.Whereabouts{})
		x := handover.Entry{Entry: e.Entry, Domain: p.Site.SubnetOf(e.Address).Domain, State: v.State, Device: e.Device,
			CheckedAt: e.CheckedAt.Time, Licence: licence[e.Tag], Checks: checks[e.Tag], Differs: v.Differs}
		if v.Unwired {
			x.State = handover.NotWired
		}
		x.Stands = stands(x.State, e)
		if !e.Device.IsZero() {
			x.Found, x.Hangs = found[e.Device], hangs[e.Device]
		}
		if q := p.Profiles[e.Profile]; q != nil {
			x.Maker, x.Model = q.Maker, q.Model
		}
		r.At = later(r.At, e.CheckedAt.Time)
		r.Entries = append(r.Entries, x)
	}
	if err := s.plan.NoteFindings(ctx, "", ""); err != nil {
		return r, err
	}
	findings, err := s.store.Findings(ctx)
	if err != nil {
		return r, err
	}
	for _, f := range findings {
		r.At = later(later(r.At, f.Since.Time), f.GoneAt.Time)
		r.Findings = append(r.Findings, handover.Finding{Level: f.Level, Of: f.Of, Text: f.Text, Since: f.Since.Time, Gone: f.GoneAt.Time,
			By: strings.TrimPrefix(strings.TrimSuffix(f.Who+": "+f.What, ": "), ": ")})
	}
	revisions, err := s.store.Revisions(ctx, 0)
	if err != nil {
		return r, err
	}
	for _, x := range revisions {
		r.At = later(r.At, x.At.Time)
		r.Acts = append(r.Acts, handover.Act{At: x.At.Time, Who: x.Who, What: strings.TrimSpace(x.What + " " + x.Name)})
	}
	runs, err := s.store.RunSums(ctx)
	if err != nil {
		return r, err
	}
	for _, x := range runs {
		r.At = later(r.At, x.EndedAt.Time)
		r.Acts = append(r.Acts, handover.Act{At: x.StartedAt.Time, Who: x.Who,
			What: fmt.Sprintf("run %d: %d of %d devices set", x.ID, x.Done, x.Devices)})
		r.Runs = append(r.Runs, handover.Run{ID: x.ID, Who: x.Who, State: x.State, Began: x.StartedAt.UTC(), Ended: x.EndedAt.UTC(),
			Set: x.Done, Of: x.Devices})
	}
	acts, err := s.store.Acts(ctx)
	if err != nil {
		return r, err
	}
	for _, d := range acts {
		r.At = later(r.At, d.At.Time)
	}
	r.Acts = append(r.Acts, actsOf(acts)...)
	surveys, err := s.store.Surveys(ctx, math.MaxInt32)
	if err != nil {
		return r, err
	}
	for _, x := range surveys {
		r.At = later(r.At, x.Ended.Time)
		r.Acts = append(r.Acts, handover.Act{At: x.Began.Time, Who: x.Who, What: fmt.Sprintf("survey %d: %s", x.ID, value.Count(x.Found, "device"))})
	}
	last, err := s.store.LastLine(ctx)
	if err != nil {
		return r, err
	}
	r.At = later(r.At, last.Time)
	if steps {
		lines, err := s.store.Lines(ctx)
		if err != nil {
			return r, err
		}
		for _, l := range lines {
			r.Steps = append(r.Steps, handover.Step{Run: l.Run, Tag: l.Tag, MAC: l.MAC.String(), Step: l.Step, Phase: l.Phase,
				Detail: l.Detail, At: l.At.UTC()})
		}
	}
	if r.Signer, err = s.all.Store.SigningKey(ctx); err != nil {
		return r, err
	}
	slices.SortStableFunc(r.Acts, func(a, b handover.Act) int { return a.At.Compare(b.At) })
	return r, nil
}

// actsOf tells what was done about many entries at once as one act.
func actsOf(done []store.Act) (acts []handover.Act) {
	type same struct{ who, minute, kind string }
	type act struct {
		at, count int
		what      string // of all of them, or its kind where they differ
	}
	known := map[same]act{}
	for _, d := range done {
		kind, _, _ := strings.Cut(d.What, ": ")
		kind, _, _ = strings.Cut(kind, " with ")
		k := same{d.Who, d.At.UTC().Format("2006-01-02 15:04"), kind}
		a, more := known[k]
		switch {
		case !more:
			a.at, a.what = len(acts), d.What
			acts = append(acts, handover.Act{At: d.At.UTC(), Who: d.Who, What: d.Tag + ": " + d.What})
		case a.what != d.What:
			a.what = kind
		}
		if a.count++; a.count > 1 {
			acts[a.at].What = fmt.Sprintf("%d entries: %s", a.count, a.what)
		}
		known[k] = a
	}
	return acts
}

// later gives the later of two moments: a document is of the last moment that it tells of, so
// that the same is the same to the byte.
func later(a, b time.Time) time.Time {
	if b.After(a) {
		return b.UTC()
	}
	return a
}

// stands says how far an entry is and since when.
func stands(text string, e store.Entry) string {
	if e.State == state.Attention && e.Reason != "" {
		text += ": " + e.Reason
	}
	if !e.CheckedAt.IsZero() {
		text += ", looked at " + e.CheckedAt.UTC().Format("2006-01-02 15:04 UTC")
	}
	return text
}

// HandCredentials seals all logins and secrets of the site for somebody, and records for whom
// and by whom.
func (s *Site) HandCredentials(ctx context.Context, in api.SealTo, who string) (planning.Download, error) {
	to, err := handover.Recipients(in.Recipients, in.Passphrase)
	if err != nil {
		return planning.Download{}, err
	}
	if err := s.all.Plans.Unlocked(); err != nil {
		return planning.Download{}, err
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return planning.Download{}, err
	}
	var list []handover.Credential
	var tags []string
	for _, e := range entries {
		had := len(list)
		c := handover.Credential{Tag: e.Tag, Name: e.Name}
		if e.Address.IsValid() {
			c.Address = e.Address.String()
		}
		if !e.Device.IsZero() {
			c.MAC = e.Device.String()
			logins, err := s.all.Vault.Logins(ctx, e.Device)
			if err != nil {
				return planning.Download{}, err
			}
			for _, l := range logins {
				x := c
				x.User, x.Password, x.State, x.Since, x.Opens = l.User, l.Password, l.State, l.At.Time, l.ToldBy
				list = append(list, x)
			}
		}
		for _, key := range slices.Sorted(maps.Keys(e.Settings)) {
			for _, token := range tokensIn(key, e.Settings[key]) {
				x := c
				var ok bool
				if x.Password, ok, err = s.all.Vault.At(s.store).Secret(ctx, token.text); err != nil {
					return planning.Download{}, err
				}
				if x.Setting = token.of; ok {
					list = append(list, x)
				}
			}
		}
		if len(list) > had {
			tags = append(tags, e.Tag)
		}
	}
	var out bytes.Buffer
	if err := handover.Credentials(&out, list, to); err != nil {
		return planning.Download{}, err
	}
	// It is recorded before anybody has it.
	if err := s.store.AddNotes(ctx, tags, who, "credentials handed over, "+in.Sealed()); err != nil {
		return planning.Download{}, err
	}
	s.all.Log.Info("credentials were handed over", "site", s.store.Key, "who", who, "count", len(list))
	return planning.Download{Name: s.store.Key + "-credentials.csv.age", Kind: "application/octet-stream", Content: out.Bytes()}, nil
}

// withoutSecrets leaves out what stands for secrets: nobody else can open it.
func withoutSecrets(settings map[string]string) map[string]string {
	out := maps.Clone(settings)
	for key, text := range settings {
		if strings.HasPrefix(text, vault.Prefix) {
			delete(out, key)
			continue
		}
		rows, err := profile.ParseRows(text)
		if err != nil {
			continue // it is no table
		}
		cut := false
		for _, row := range rows {
			for column, cell := range row {
				if strings.HasPrefix(cell, vault.Prefix) {
					delete(row, column)
					cut = true
				}
			}
		}
		if cut {
			out[key] = profile.RowsText(rows)
		}
	}
	return out
}

// token is what stands for a secret, and of which setting: of a cell of a table, its row and
// column too.
type token struct{ of, text string }

func tokensIn(key, text string) (list []token) {
	if strings.HasPrefix(text, vault.Prefix) {
		return []token{{key, text}}
	}
	rows, err := profile.ParseRows(text)
	if err != nil {
		return nil // it is no table
	}
	for i, row := range rows {
		for _, column := range slices.Sorted(maps.Keys(row)) {
			if strings.HasPrefix(row[column], vault.Prefix) {
				list = append(list, token{fmt.Sprintf("%s, row %d, %s", key, i+1, column), row[column]})
			}
		}
	}
	return list
}
