package service

import (
	"context"
	"fmt"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// Moments is how the plan of one moment became that of another.
type Moments struct {
	From       store.Revision  `json:"from"`
	To         *store.Revision `json:"to"` // nil: now
	Site       []plan.Change   `json:"site"`
	Comparison plan.Comparison `json:"comparison"`
}

// moment gives the plan as it was right after a revision.
func (s *Site) moment(ctx context.Context, id int64) (plan.Plan, map[string]int, error) {
	p, _, err := s.bare(ctx)
	if err != nil {
		return p, nil, err
	}
	edits, err := s.store.EditsAfter(ctx, id, false)
	if err != nil {
		return p, nil, err
	}
	positions := map[string]int{}
	rewind(&p, edits, positions)
	return p, positions, nil
}

// rewind takes edits back, latest first. positions gets where entries stood
// that come back.
func rewind(p *plan.Plan, edits []store.Edit, positions map[string]int) {
	at := map[string]int{}
	entries := make([]*plan.Entry, len(p.Entries))
	for i := range p.Entries {
		entries[i] = &p.Entries[i]
		at[p.Entries[i].Tag] = i
	}
	for _, e := range edits {
		if e.Site != nil {
			if e.WasSite != nil {
				p.Site = *e.WasSite
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
			positions[e.Before.Tag] = e.Position
		}
	}
	p.Entries = nil
	for _, e := range entries {
		if e != nil {
			p.Entries = append(p.Entries, *e)
		}
	}
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
func (s *Site) Compare(ctx context.Context, from, to string) (Moments, error) {
	var out Moments
	id, err := number(from, "revision")
	if err != nil {
		return out, err
	}
	if out.From, err = s.store.Revision(ctx, id); err != nil {
		return out, err
	}
	before, _, err := s.moment(ctx, id)
	if err != nil {
		return out, err
	}
	var after plan.Plan
	if to == "" {
		after, _, err = s.bare(ctx)
	} else {
		if id, err = number(to, "revision"); err != nil {
			return out, err
		}
		var r store.Revision
		if r, err = s.store.Revision(ctx, id); err != nil {
			return out, err
		}
		out.To = &r
		after, _, err = s.moment(ctx, id)
	}
	if err != nil {
		return out, err
	}
	out.Site, out.Comparison = siteChanges(before.Site, after.Site), plan.Compare(before.Entries, after.Entries)
	return out, nil
}

// NameRevision gives a revision a name, like "issued for construction, rev C".
func (s *Site) NameRevision(ctx context.Context, text, name string) (store.Revision, error) {
	id, err := number(text, "revision")
	if err != nil {
		return store.Revision{}, err
	}
	if len([]rune(name)) > 100 {
		return store.Revision{}, problem.New(problem.Usage, "a name has at most 100 characters", "")
	}
	if _, err := s.store.Revision(ctx, id); err != nil {
		return store.Revision{}, err
	}
	if err := s.store.NameRevision(ctx, id, name); err != nil {
		return store.Revision{}, err
	}
	s.publishEntries()
	return s.store.Revision(ctx, id)
}

// Restore makes the plan as it was right after a revision. Nothing is lost:
// restoring is a revision too. Entries whose devices are configured stay.
func (s *Site) Restore(ctx context.Context, text string, preview bool, who string) (Edited, error) {
	id, err := number(text, "revision")
	if err != nil {
		return edited(), err
	}
	s.planning.Lock()
	defer s.planning.Unlock()
	r, err := s.store.Revision(ctx, id)
	if err != nil {
		return edited(), err
	}
	then, positions, err := s.moment(ctx, id)
	if err != nil {
		return edited(), err
	}
	return s.become(ctx, then, positions, preview, who, fmt.Sprintf("restored as of revision %d, %s", id, r.What))
}

// Undo takes the latest revision back.
func (s *Site) Undo(ctx context.Context, text, who string) (Edited, error) {
	id, err := number(text, "revision")
	if err != nil {
		return edited(), err
	}
	s.planning.Lock()
	defer s.planning.Unlock()
	latest, err := s.store.Revisions(ctx, 1)
	if err != nil {
		return edited(), err
	}
	if len(latest) == 0 || latest[0].ID != id {
		return edited(), problem.New(problem.Conflict, "something else was changed since", "look at the history and restore an earlier moment")
	}
	p, _, err := s.bare(ctx)
	if err != nil {
		return edited(), err
	}
	edits, err := s.store.EditsAfter(ctx, id, true)
	if err != nil {
		return edited(), err
	}
	for _, e := range edits {
		if e.Site != nil && e.WasSite == nil {
			return edited(), problem.New(problem.Conflict, "the making of a site cannot be undone", "remove the site")
		}
	}
	positions := map[string]int{}
	rewind(&p, edits, positions)
	return s.become(ctx, p, positions, false, who, "undone: "+latest[0].What)
}

// become makes the plan another one. The caller holds planning.
func (s *Site) become(ctx context.Context, then plan.Plan, positions map[string]int, preview bool, who, what string) (Edited, error) {
	out := edited()
	now, entries, err := s.bare(ctx)
	if err != nil {
		return out, err
	}
	// A device that is configured is not left without its entry.
	there := map[string]bool{}
	for _, e := range then.Entries {
		there[e.Tag] = true
	}
	for _, e := range entries {
		if e.Set() && !there[e.Tag] {
			then.Entries = append(then.Entries, e.Entry)
			out.Kept = append(out.Kept, e.Tag)
		}
	}
	out.Comparison = plan.Compare(now.Entries, then.Entries)
	then.Site.Key = now.Site.Key
	changes := siteChanges(now.Site, then.Site)
	out.Changes = append(out.Changes, changes...)
	pairs := plan.Pairs(now.Entries, then.Entries)
	if preview || len(pairs)+len(changes) == 0 {
		return out, nil
	}
	if err := s.mayTouch(entries, pairs, true); err != nil {
		return out, err
	}
	edits := editsOf(pairs)
	for i := range edits {
		if edits[i].Before == nil {
			edits[i].Position = positions[edits[i].After.Tag]
		}
	}
	if len(changes) > 0 {
		edits = append(edits, store.Edit{Site: &then.Site, WasSite: &now.Site})
	}
	out.Revision, err = s.apply(ctx, who, what, edits)
	if len(changes) > 0 {
		s.hub.publish(s.store.Key, "site", then.Site)
	}
	return out, err
}
