package site

import (
	"context"
	"os"
	"slices"

	"redstart/internal/api"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/handing"
	"redstart/internal/jobs"
	"redstart/internal/planning"
	"redstart/internal/segments"
	"redstart/internal/store"
)

// Site is the service at work on one site.
type Site struct {
	Records *store.Site
	Segment *segments.Site
	Plan    *planning.Site
	Jobs    *jobs.Site
	Handing *handing.Site
	all     *Service
}

// With gives the service at work on the site of some records.
func (s *Service) With(records *store.Site) *Site {
	return &Site{records, s.Segments.At(records.ID, records.Key), s.Plans.At(records), s.Jobs.At(records), s.Handing.At(records), s}
}

// At gives the service at work on a site.
func (s *Service) At(ctx context.Context, key string) (*Site, error) {
	records, err := s.Records.At(ctx, key)
	return s.With(records), err
}

// Sites lists the sites; unless brief, with how far they are.
func (s *Service) Sites(ctx context.Context, brief bool) ([]api.Summary, error) {
	sites, err := s.Records.Sites(ctx)
	if err != nil {
		return nil, err
	}
	list := []api.Summary{}
	for _, data := range sites {
		if brief {
			list = append(list, api.Summary{Site: data})
			continue
		}
		at, err := s.At(ctx, data.Key)
		if err != nil {
			return nil, err
		}
		entries, err := at.Plan.Entries(ctx)
		if err != nil {
			return nil, err
		}
		sum := api.Summary{Site: data, Entries: len(entries), States: map[string]int{}}
		for _, e := range entries {
			sum.States[e.State]++
		}
		list = append(list, sum)
	}
	return list, nil
}

// AddSite makes a site. Its key may be left to be made from its name.
func (s *Service) AddSite(ctx context.Context, data plan.Site, who string) (plan.Site, error) {
	if data.Key == "" {
		data.Key = plan.KeyFrom(data.Name)
	}
	// A given password comes with a policy's own call.
	data.Policies = slices.DeleteFunc(slices.Clone(data.Policies), func(c plan.Policy) bool {
		return c.Mode == plan.Given
	})
	if err := data.Check(); err != nil {
		return data, problem.New(problem.Usage, err.Error(), "").About("site")
	}
	if err := planning.CheckAsked(data); err != nil {
		return data, err
	}
	if _, err := s.Records.AddSite(ctx, data, who); err != nil {
		return data, err
	}
	s.Events.Publish("", "sites", struct{}{})
	return data, nil
}

// Remove forgets the site. sure must be its key: nothing of it can be restored.
func (s *Site) Remove(ctx context.Context, sure string) error {
	if sure != s.Records.Key {
		return problem.New(problem.Usage, "a site is removed with its plan, devices, runs and history, for good",
			"to be sure, give its key").About(s.Records.Key)
	}
	if s.all.Works.UnderWay(func(w api.Work) bool { return w.Site == s.Records.Key }) {
		return problem.New(problem.Conflict, "work on this site is under way",
			"wait until it is done, or stop it").About(s.Records.Key)
	}
	s.Jobs.EndWatch()
	packets, err := s.Jobs.CaptureFiles(ctx)
	if err != nil {
		return err
	}
	defer s.all.Plans.Hold()()
	defer s.all.Events.Publish("", "sites", struct{}{})
	if err := s.Records.Remove(ctx); err != nil {
		return err
	}
	s.all.Handing.ForgetMadeOf(s.Records.Key)
	for _, path := range packets {
		_ = os.Remove(path) // it may have been taken away before
	}
	return nil
}
