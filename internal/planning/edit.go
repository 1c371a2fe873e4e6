package planning

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/planfile"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/store"
)

// Edited is what comes of a change that did nothing.
func Edited() api.Edited {
	return api.Edited{Comparison: plan.Compare(nil, nil), Changes: []plan.Change{}, Kept: []string{},
		Complaints: []plan.Complaint{}}
}

// Edit changes, adds and removes entries, all or none. A preview changes
// nothing and tells what the checks would say.
func (s *Site) Edit(ctx context.Context, in api.Edits, preview bool, who string) (api.Edited, error) {
	return s.EditAndMatch(ctx, in, nil, preview, who)
}

// EditAndMatch edits, and matches entries as they are then.
func (s *Site) EditAndMatch(ctx context.Context, in api.Edits, matches []store.Match, preview bool, who string) (api.Edited, error) {
	if in.What == "" {
		in.What = summary(in.Patches)
	}
	if len(in.What) > 200 {
		return Edited(), problem.New(problem.Usage, "the description of the change is longer than 200 characters", "")
	}
	return s.edit(ctx, in, matches, preview, who, func(p plan.Plan) ([]plan.Patch, api.Edited, error) {
		return in.Patches, Edited(), nil
	})
}

func summary(patches []plan.Patch) string {
	count := map[string]int{}
	for _, x := range patches {
		switch {
		case x.Remove:
			count["removed"]++
		case x.Tag == "":
			count["added"]++
		default:
			count["changed"]++
		}
	}
	var parts []string
	for _, what := range []string{"added", "changed", "removed"} {
		if count[what] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[what], what))
		}
	}
	return "entries " + strings.Join(parts, ", ")
}

// edit applies the patches that make gives for the plan as it is now.
func (s *Site) edit(ctx context.Context, in api.Edits, matches []store.Match, preview bool, who string,
	make func(plan.Plan) ([]plan.Patch, api.Edited, error)) (api.Edited, error) {
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	now, err := s.Snapshot(ctx)
	if err != nil {
		return Edited(), err
	}
	p, entries := now.plan, now.Entries // which nothing here changes in place
	patches, out, err := make(p)
	if err != nil {
		return out, err
	}
	secrets := s.sealer(p, preview)
	if patches, err = secrets.ofPatches(ctx, patches); err != nil {
		return out, err
	}
	after, pairs, complaints := p.Apply(patches)
	if complaints != nil {
		out.Complaints = complaints
		if preview {
			out.Findings = p.Check()
			return out, nil
		}
		return out, refusedEdits(patches, complaints)
	}
	if err := secrets.ofEntries(ctx, after, pairs); err != nil {
		return out, err
	}
	out.Comparison = plan.ComparePairs(pairs)
	if err := s.mayTouch(entries, pairs, in.Configured); err != nil {
		return out, err // a preview says so too: nothing else would happen
	}
	if preview {
		was := p.Check()
		p.Entries = after
		out.Findings = append([]plan.Finding{}, p.Check()...)
		out.New = plan.NewFindings(was, out.Findings)
		return out, nil
	}
	if len(pairs) == 0 {
		return out, nil
	}
	out.Revision, err = s.Apply(ctx, who, in.What, store.Changes{Edits: editsOf(pairs), Matches: matches})
	return out, err
}

func editsOf(pairs []plan.Pair) []store.Edit {
	list := make([]store.Edit, len(pairs))
	for i, x := range pairs {
		list[i] = store.Edit{Before: x.Before, After: x.After}
	}
	return list
}

// Apply stores changes and tells everyone. The caller holds the planning.
func (s *Site) Apply(ctx context.Context, who, what string, c store.Changes) (int64, error) {
	noted := s.Noting()
	r, err := s.store.Revise(ctx, who, what, c)
	noted(who, what)
	s.Changed()
	return r.ID, err
}

// refusedEdits tells each complaint with its entry.
func refusedEdits(patches []plan.Patch, complaints []plan.Complaint) error {
	var cells []problem.Cell
	for _, c := range complaints {
		who := ""
		if c.Patch < len(patches) {
			who = cmp.Or(patches[c.Patch].Tag, patches[c.Patch].Set["tag"])
		}
		cells = append(cells, problem.Cell{Column: strings.TrimSpace(who + " " + c.Field), Value: c.Value,
			Reason: c.Reason})
	}
	e := problem.New(problem.Usage, "the change was refused; nothing was changed",
		"mend it and try again").About("plan")
	e.Cells = cells
	return e
}

// mayTouch refuses to remove entries whose devices a run is setting, and,
// unless it is asked for, those whose devices are configured.
func (s *Site) mayTouch(entries []store.Entry, pairs []plan.Pair, configured bool) error {
	to := make(map[string]string, len(pairs))
	for _, x := range pairs {
		if x.Before != nil {
			to[x.Before.Tag] = ""
		}
	}
	for i := range entries {
		if _, changed := to[entries[i].Tag]; changed {
			to[entries[i].Tag] = entries[i].State
		}
	}
	for _, x := range pairs {
		if x.Before == nil {
			continue
		}
		switch now := to[x.Before.Tag]; {
		case now == state.Configuring:
			return problem.New(problem.Conflict, "a run is setting its device",
				"wait until it is done, or give the run up").About(x.Before.Tag)
		case x.After == nil && !configured && (now == state.Configured || now == state.Verified):
			return problem.New(problem.Conflict,
				"its device is configured; without the entry nobody would know what it is",
				"to remove it all the same, say so: --also-configured").About(x.Before.Tag)
		}
	}
	return nil
}

// Generate adds entries from quantities.
func (s *Site) Generate(ctx context.Context, list []plan.Quantity, preview bool, who string) (api.Edited, error) {
	total := 0
	for _, q := range list {
		total += q.Count * max(1, len(q.Areas))
	}
	return s.edit(ctx, api.Edits{What: fmt.Sprintf("%d entries from quantities", total)}, nil, preview, who,
		func(p plan.Plan) ([]plan.Patch, api.Edited, error) {
			patches, err := p.Generate(list)
			return patches, Edited(), err
		})
}

// Allocate gives out addresses to a selection.
func (s *Site) Allocate(ctx context.Context, a api.Allocation, preview bool, who string) (api.Edited, error) {
	if err := (api.Chosen{Tags: a.Tags, All: a.All}).Check(); err != nil {
		return Edited(), err
	}
	return s.edit(ctx, api.Edits{What: "addresses given out: " + a.Way}, nil, preview, who,
		func(p plan.Plan) ([]plan.Patch, api.Edited, error) {
			patches, kept, err := p.Allocate(a.Allocation)
			out := Edited()
			out.Kept = append(out.Kept, kept...)
			return patches, out, err
		})
}

// Mend applies all safe mends, of the given entries or of all.
func (s *Site) Mend(ctx context.Context, in api.Chosen, preview bool, who string) (api.Edited, error) {
	if err := in.Check(); err != nil {
		return Edited(), err
	}
	tags := in.Tags
	return s.edit(ctx, api.Edits{What: "safe mends"}, nil, preview, who,
		func(p plan.Plan) ([]plan.Patch, api.Edited, error) {
			patches, changes := p.Mends(tags)
			out := Edited()
			out.Changes = append(out.Changes, changes...)
			return patches, out, nil
		})
}

// Import takes a file into the plan, whole or not at all. Entries that are
// there already are changed only with Apply, and never those whose devices are
// configured, unless that is asked for too.
func (s *Site) Import(ctx context.Context, content []byte, o api.ImportOptions, who string) (planfile.Result, error) {
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	p, entries, err := s.Plan(ctx)
	if err != nil {
		return planfile.Result{}, err
	}
	remembered, err := s.store.Columns(ctx)
	if err != nil {
		return planfile.Result{}, err
	}
	r, err := planfile.Read(ctx, content, p, remembered, o.Options)
	if err != nil || o.Preview {
		return r, err
	}
	if err := r.Refusal(); err != nil {
		return r, err
	}
	if c := r.Comparison; len(c.Changed)+len(c.Removed) > 0 && !o.Apply {
		return r,
			problem.New(problem.Conflict, fmt.Sprintf("the file changes %d entries and removes %d that are in the plan",
				c.Entries(), len(c.Removed)), "look at what changes, then import it with --apply").About("plan file")
	}
	secrets := s.sealer(p, false)
	if r.Patches, err = secrets.ofPatches(ctx, r.Patches); err != nil {
		return r, err
	}
	var edits []store.Edit
	if r.Site != nil {
		site := *r.Site
		site.Key, site.Policies = p.Site.Key, p.Site.Policies
		was := p.Site
		edits = append(edits, store.Edit{Site: &site, WasSite: &was})
		p.Site = site
	}
	p.Known.Asked = r.Asked
	after, pairs, complaints := p.Apply(r.Patches)
	if complaints != nil {
		return r, refusedEdits(r.Patches, complaints)
	}
	if err := secrets.ofEntries(ctx, after, pairs); err != nil {
		return r, err
	}
	if err := s.mayTouch(entries, pairs, o.Configured); err != nil {
		return r, err
	}
	edits = append(edits, editsOf(pairs)...)
	if len(edits) == 0 {
		return r, nil
	}
	_, err = s.Apply(ctx, who, fmt.Sprintf("imported from a %s file: %d added, %d changed, %d removed",
		strings.ToUpper(r.Format), len(r.Comparison.Added), r.Comparison.Entries(), len(r.Comparison.Removed)),
		store.Changes{Edits: edits, Columns: r.Mapping})
	if r.Site != nil {
		s.all.Hub.Publish(s.store.Key, "site", p.Site)
	}
	return r, err
}

// CheckFile checks a file for itself, with the site that it holds or else this one.
func (s *Site) CheckFile(ctx context.Context, content []byte) (planfile.Result, error) {
	p, _, err := s.Plan(ctx)
	if err != nil {
		return planfile.Result{}, err
	}
	p.Entries, p.Known.Locked, p.Known.Living = nil, nil, nil
	return planfile.Read(ctx, content, p, nil, planfile.Options{})
}

// Export gives the plan as a file.
func (s *Site) Export(ctx context.Context, format, rows string) (Download, error) {
	p, _, err := s.Bare(ctx)
	if err != nil {
		return Download{}, err
	}
	if rows != "" {
		if format != planfile.CSV {
			return Download{}, problem.New(problem.Usage, "the rows of one setting are written as CSV",
				"in the other formats they are in the plan's own file")
		}
		content, err := planfile.TableCSV(p, rows)
		return Download{Name: s.store.Key + "-" + rows + ".csv", Kind: planfile.Kinds[planfile.CSV], Content: content}, err
	}
	content, err := planfile.Write(p, format)
	return Download{Name: s.store.Key + "." + format, Kind: planfile.Kinds[format], Content: content}, err
}

// Template gives an empty workbook with drop-downs.
func (s *Site) Template(ctx context.Context) (Download, error) {
	p, _, err := s.Bare(ctx)
	if err != nil {
		return Download{}, err
	}
	content, err := planfile.Template(p)
	return Download{Name: s.store.Key + "-template.xlsx", Kind: planfile.Kinds[planfile.XLSX], Content: content}, err
}
