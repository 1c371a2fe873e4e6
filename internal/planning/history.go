package planning

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// past is a plan as it was, with how its entries became those that it is seen from.
type past struct {
	plan      plan.Plan
	pairs     []plan.Pair    // from the plan that it is seen from to this one; unchanged ones too
	positions map[string]int // where entries stood that come back, by tag
}

// rewind takes edits back, latest first. An entry stays the same one when its tag
// changes.
func rewind(p plan.Plan, edits []store.Edit) past {
	out := past{plan: p, positions: map[string]int{}}
	at := map[string]int{}
	entries := make([]*plan.Entry, len(p.Entries))
	for i := range p.Entries {
		entries[i] = &p.Entries[i]
		at[p.Entries[i].Tag] = i
	}
	for _, e := range edits {
		if e.Site != nil {
			if e.WasSite != nil {
				out.plan.Site = *e.WasSite
			}
			continue
		}
		i, there := 0, false
		if e.After != nil {
			if i, there = at[e.After.Tag]; there {
				delete(at, e.After.Tag)
			}
		}
		switch {
		case e.Before == nil && there:
			entries[i] = nil
		case e.Before != nil && there:
			entries[i] = e.Before
			at[e.Before.Tag] = i
		case e.Before != nil:
			at[e.Before.Tag] = len(entries)
			entries = append(entries, e.Before)
			out.positions[e.Before.Tag] = e.Position
		}
	}
	out.plan.Entries = nil
	for i, e := range entries {
		pair := plan.Pair{After: e}
		if i < len(p.Entries) {
			pair.Before = &p.Entries[i]
		}
		if e != nil {
			out.plan.Entries = append(out.plan.Entries, *e)
		}
		if pair.Before != nil || pair.After != nil {
			out.pairs = append(out.pairs, pair)
		}
	}
	// An entry that went and came back under its tag is the same one.
	gone := map[string]int{}
	for i, x := range out.pairs {
		if x.After == nil {
			gone[x.Before.Tag] = i
		}
	}
	out.pairs = slices.DeleteFunc(out.pairs, func(x plan.Pair) bool {
		if x.Before != nil {
			return false
		}
		i, back := gone[x.After.Tag]
		if back {
			out.pairs[i].After = x.After
		}
		return back
	})
	return out
}

// siteChanges tells what differs in the site's own data, in words.
func siteChanges(before, after plan.Site) []plan.Change {
	list := []plan.Change{}
	compare := func(field string, b, a any) {
		if was, is := words(b), words(a); was != is {
			list = append(list, plan.Change{Field: field, Before: was, After: is})
		}
	}
	compare("name", before.Name, after.Name)
	compare("contact", before.Contact, after.Contact)
	compare("notes", before.Notes, after.Notes)
	compare("zone", before.Zone, after.Zone)
	compare("language", before.Language, after.Language)
	compare("naming", before.Naming, after.Naming)
	compare("register", strings.Join(before.Register, " "), strings.Join(after.Register, " "))
	compare("package", strings.Join(before.Package, " "), strings.Join(after.Package, " "))
	names := map[string]bool{}
	for _, n := range append(append([]plan.Subnet{}, before.Subnets...), after.Subnets...) {
		if names[n.Name] {
			continue
		}
		names[n.Name] = true
		b, _ := before.Subnet(n.Name)
		a, _ := after.Subnet(n.Name)
		compare("subnet "+n.Name, b, a)
	}
	compare("policies", before.Policies, after.Policies)
	return list
}

// words prints a value of the site's data for people.
func words(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case plan.Subnet:
		if !v.Prefix.IsValid() {
			return ""
		}
		return v.Words()
	case []plan.Policy:
		text := ""
		for _, p := range v {
			text += p.Words() + "; "
		}
		return text
	}
	return fmt.Sprint(v)
}

// Compare compares the plans of two moments; an empty to means now.
func (s *Site) Compare(ctx context.Context, from, to string) (api.Moments, error) {
	var out api.Moments
	id, err := Number(from, "revision")
	if err != nil {
		return out, err
	}
	since, err := s.store.Revision(ctx, id)
	if err != nil {
		return out, err
	}
	out.From = api.Revision(since)
	first := id
	after, _, err := s.Bare(ctx)
	if err != nil {
		return out, err
	}
	last := int64(0)
	if to != "" {
		if last, err = Number(to, "revision"); err != nil {
			return out, err
		}
		r, err := s.store.Revision(ctx, last)
		if err != nil {
			return out, err
		}
		until := api.Revision(r)
		out.To = &until
		since, err := s.store.EditsBetween(ctx, last, 0)
		if err != nil {
			return out, err
		}
		after = rewind(after, since).plan
	}
	edits, err := s.store.EditsBetween(ctx, first, last)
	if err != nil {
		return out, err
	}
	if last != 0 && first > last {
		return out, problem.New(problem.Usage, "the first moment is later than the second",
			"give the earlier revision first")
	}
	before := rewind(after, edits)
	for i := range before.pairs {
		before.pairs[i].Before, before.pairs[i].After = before.pairs[i].After, before.pairs[i].Before
	}
	out.Site, out.Comparison = siteChanges(before.plan.Site, after.Site), plan.ComparePairs(before.pairs)
	return out, nil
}

// NameRevision gives a revision a name, like "issued for construction, rev C".
func (s *Site) NameRevision(ctx context.Context, text, name string) (api.Revision, error) {
	id, err := Number(text, "revision")
	if err != nil {
		return api.Revision{}, err
	}
	if len([]rune(name)) > 100 {
		return api.Revision{}, problem.New(problem.Usage, "a name has at most 100 characters", "")
	}
	if _, err := s.store.Revision(ctx, id); err != nil {
		return api.Revision{}, err
	}
	if err := s.store.NameRevision(ctx, id, name); err != nil {
		return api.Revision{}, err
	}
	s.Changed()
	named, err := s.store.Revision(ctx, id)
	return api.Revision(named), err
}

// Restore makes the plan as it was right after a revision. Nothing is lost:
// restoring is a revision too. Entries whose devices are configured stay.
func (s *Site) Restore(ctx context.Context, text string, preview bool, who string) (api.Edited, error) {
	id, err := Number(text, "revision")
	if err != nil {
		return Edited(), err
	}
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	r, err := s.store.Revision(ctx, id)
	if err != nil {
		return Edited(), err
	}
	edits, err := s.store.EditsBetween(ctx, id, 0)
	if err != nil {
		return Edited(), err
	}
	return s.takeBack(ctx, edits, preview, 0, who, fmt.Sprintf("restored as of revision %d, %s", id, r.What))
}

// mostRevisions are listed.
const mostRevisions = 500

// Revisions lists what was changed, latest first, with the next step back and forward.
func (s *Site) Revisions(ctx context.Context) ([]api.RevisionView, error) {
	all, err := s.store.Revisions(ctx, 0)
	if err != nil {
		return nil, err
	}
	undo, redo := store.Steps(all)
	list := []api.RevisionView{}
	for _, r := range all[:min(len(all), mostRevisions)] {
		v := api.RevisionView{Revision: api.Revision(r)}
		switch {
		case r.ID == undo && r.What != store.SiteMade:
			v.May = "undo"
		case r.ID == redo:
			v.May = "redo"
		}
		list = append(list, v)
	}
	return list, nil
}

// Undo goes one step back: it takes back the last revision that is in force.
func (s *Site) Undo(ctx context.Context, text string, preview bool, who string) (api.Edited, error) {
	return s.step(ctx, text, preview, who, "undone: ", func(list []store.Revision) int64 {
		undo, _ := store.Steps(list)
		return undo
	})
}

// Redo goes one step forward: it takes back the last undoing, as long as nothing
// else was changed since.
func (s *Site) Redo(ctx context.Context, text string, preview bool, who string) (api.Edited, error) {
	return s.step(ctx, text, preview, who, "done again: ", func(list []store.Revision) int64 {
		_, redo := store.Steps(list)
		return redo
	})
}

// step takes a revision back, if it is the one whose turn it is.
func (s *Site) step(ctx context.Context, text string, preview bool, who, words string,
	turn func([]store.Revision) int64) (api.Edited, error) {
	id, err := Number(text, "revision")
	if err != nil {
		return Edited(), err
	}
	s.all.editing.Lock()
	defer s.all.editing.Unlock()
	list, err := s.store.Revisions(ctx, 0)
	if err != nil {
		return Edited(), err
	}
	if turn(list) != id {
		return Edited(), problem.New(problem.Conflict, "something else was changed since",
			"look at the history, and restore an earlier moment if that is meant")
	}
	r, err := s.store.Revision(ctx, id)
	if err != nil {
		return Edited(), err
	}
	edits, err := s.store.EditsBetween(ctx, id-1, id)
	if err != nil {
		return Edited(), err
	}
	for _, e := range edits {
		if e.Site != nil && e.WasSite == nil {
			return Edited(), problem.New(problem.Conflict, "the making of a site cannot be undone", "remove the site")
		}
	}
	what := r.What
	if r.Undoes != 0 {
		what = strings.TrimPrefix(what, "undone: ")
	}
	return s.takeBack(ctx, edits, preview, id, who, words+what)
}

// takeBack applies the opposite of edits, latest first. The caller holds the planning.
func (s *Site) takeBack(ctx context.Context, taken []store.Edit, preview bool, undoes int64, who,
	what string) (api.Edited, error) {
	out := Edited()
	now, entries, err := s.Bare(ctx)
	if err != nil {
		return out, err
	}
	then := rewind(now, taken)
	set := map[string]bool{}
	for _, e := range entries {
		set[e.Tag] = e.Set()
	}
	var pairs []plan.Pair
	for _, x := range then.pairs {
		switch {
		case x.After == nil && set[x.Before.Tag]:
			out.Kept = append(out.Kept, x.Before.Tag) // a device that is configured is not left without its entry
		case x.Before == nil || x.After == nil || len(plan.Differences(*x.Before, *x.After)) > 0:
			pairs = append(pairs, x)
		}
	}
	out.Comparison = plan.ComparePairs(pairs)
	then.plan.Site.Key = now.Site.Key
	changes := siteChanges(now.Site, then.plan.Site)
	out.Changes = append(out.Changes, changes...)
	if err := s.mayTouch(entries, pairs, true); err != nil {
		return out, err
	}
	if preview || len(pairs)+len(changes) == 0 && undoes == 0 {
		return out, nil
	}
	edits := editsOf(pairs)
	for i := range edits {
		if edits[i].Before == nil {
			edits[i].Position = then.positions[edits[i].After.Tag]
		}
	}
	if len(changes) > 0 {
		edits = append(edits, store.Edit{Site: &then.plan.Site, WasSite: &now.Site})
	}
	out.Revision, err = s.Apply(ctx, who, what, store.Changes{Edits: edits, Undoes: undoes})
	if len(changes) > 0 {
		s.all.Hub.Publish(s.store.Key, "site", then.plan.Site)
	}
	return out, err
}
