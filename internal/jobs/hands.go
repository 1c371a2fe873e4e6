package jobs

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/task"
)

// Hands lists what persons have to do at the devices of runs that have not ended, and what
// was done lately whose window is open, in walking order.
func (s *Site) Hands(ctx context.Context) (api.HandList, error) {
	out := api.HandList{Tasks: []api.HandTask{}}
	runs, err := s.store.OpenRuns(ctx)
	if err != nil {
		return out, err
	}
	profiles := s.all.Plans.Profiles()
	for _, run := range runs {
		for _, d := range run.Devices {
			open := d.State == state.Parked
			if !open && (d.State != state.Running || d.Ends.Before(time.Now())) {
				continue
			}
			e, err := s.store.Entry(ctx, d.Tag)
			if err != nil {
				return out, err
			}
			t := api.HandTask{Tag: d.Tag, Run: run.ID, Area: e.Area, Floor: e.Floor, Place: e.Place, Profile: d.Profile,
				Model: d.Profile, MAC: d.MAC, Serial: e.Serial, Do: d.Do, Look: d.Look, Terms: d.Terms, Who: d.Who,
				Since: d.Since, Within: d.Within, Open: open, WindowEnds: d.Ends, Step: d.Step}
			if p := profiles[d.Profile]; p != nil {
				t.Model = p.Maker + " " + p.Model
			}
			out.Tasks = append(out.Tasks, t)
		}
	}
	slices.SortFunc(out.Tasks, func(x, y api.HandTask) int {
		return cmp.Or(cmp.Compare(x.Area, y.Area), cmp.Compare(x.Floor, y.Floor), cmp.Compare(x.Place, y.Place),
			cmp.Compare(x.Tag, y.Tag))
	})
	accepted, err := s.store.AllAccepted(ctx)
	for _, a := range accepted {
		out.Accepted = append(out.Accepted, api.AcceptedTerms(a))
	}
	return out, err
}

// Did tells a run that a person did what some of its devices wait for, or accepts the terms
// that they wait for.
func (s *Site) Did(ctx context.Context, id int64, in api.Hands, who string) error {
	if len(in.Tags) == 0 {
		return problem.New(problem.Usage, "it is not said for which entries", "give their tags")
	}
	run, err := s.run(ctx, id)
	if err != nil {
		return err
	}
	for _, d := range run.Devices {
		switch {
		case !slices.Contains(in.Tags, d.Tag) || d.State != state.Parked:
		case d.Terms != "" && !in.Accept:
			return problem.New(problem.Conflict, "it waits until somebody accepts terms: "+d.Terms,
				"read them, then: redstart commission accept "+d.Tag).About(d.Tag)
		case d.Terms == "" && in.Accept:
			return problem.New(problem.Conflict, "there are no terms to accept",
				"say that it was done: redstart commission done "+d.Tag).About(d.Tag)
		}
	}
	if in.Accept {
		if who, err = byName(who, in.Name); err != nil {
			return problem.New(problem.Usage, "terms are accepted by a person, and nobody signed in by name",
				"say who accepts them: redstart commission accept "+in.Tags[0]+" --name …")
		}
	}
	s.all.mu.Lock()
	runner := s.all.runners[id]
	s.all.mu.Unlock()
	if runner == nil {
		return problem.New(problem.Conflict, fmt.Sprintf("run %d is not under way", id),
			"go on with it first: redstart commission")
	}
	if err := runner.Did(task.Word{Who: who, Without: in.Without}, in.Tags); err != nil {
		return err
	}
	what := "said that it was done by hand, what its run waited for"
	if in.Without {
		what = "had its run go on without what it waited for"
	}
	if in.Accept {
		what = "accepted the terms that its run waited for"
	}
	for _, tag := range in.Tags {
		if err := s.store.AddNote(ctx, tag, who, what); err != nil {
			return err
		}
	}
	return nil
}

// longestName of a person, in bytes, and longestWord of what one says.
const (
	longestName = 100
	longestWord = 300
)

// byName gives who acts: a person who signed in, or on this computer one who gives a name.
func byName(who, name string) (string, error) {
	if who != account.LocalUser {
		return who, nil
	}
	if name = strings.TrimSpace(name); name == "" || len(name) > longestName {
		return "", problem.New(problem.Usage, "nobody signed in by name", "")
	}
	return name, nil
}

// Say notes that a person says of a check that nothing can look at that it is so, by name.
func (s *Site) Say(ctx context.Context, tag string, in api.Word, who string) error {
	who, err := byName(who, in.Name)
	in.Note = strings.TrimSpace(value.Printable(in.Note)) // it stands in documents and on terminals
	switch {
	case err != nil:
		return problem.New(problem.Usage, "a person says it, and nobody signed in by name",
			"say who: redstart verify say "+tag+" "+in.Check+" --name …").About(tag)
	case len(in.Note) > longestWord:
		return problem.New(problem.Usage, fmt.Sprintf("the note is longer than %d characters", longestWord), "shorten it").About(tag)
	}
	e, err := s.store.Entry(ctx, tag)
	if err != nil {
		return err
	}
	word := "said by " + value.Printable(who)
	if in.Note != "" {
		word += ": " + in.Note
	}
	if err := s.store.Say(ctx, tag, e.Device, in.Check, word, !in.Not, who); err != nil {
		return err
	}
	s.plan.EntryChanged(tag)
	return nil
}

// TakeHands notes that somebody is at what devices of a run wait for, or that nobody is any
// more. Others see it; nobody is kept from doing it all the same.
func (s *Site) TakeHands(ctx context.Context, id int64, in api.TakeHands, who string) error {
	if len(in.Tags) == 0 {
		return problem.New(problem.Usage, "it is not said for which entries", "give their tags")
	}
	if _, err := s.run(ctx, id); err != nil {
		return err
	}
	if in.Drop {
		who = ""
	}
	if err := s.store.TakeHand(ctx, id, in.Tags, who); err != nil {
		return err
	}
	run, err := s.run(ctx, id)
	for _, d := range run.Devices {
		if slices.Contains(in.Tags, d.Tag) {
			s.deviceMoved(d)
		}
	}
	return err
}
