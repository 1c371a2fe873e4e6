package site

import (
	"context"
	"errors"

	"redstart/internal/api"
	"redstart/internal/lan"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// Works lists the works under way and those that ended lately, the latest first.
func (s *Service) Works() []api.Work { return s.works.List() }

// Stop asks a work under way to stop; 0 means the only one there is.
func (s *Service) Stop(id int64) error { return s.works.Stop(id) }

// begin starts a work on the site's segment, unless another has what it needs.
func (s *Site) begin(first api.Work, needs works.Needs, prepare func(*works.Work) error,
	do func(context.Context, *works.Work) error) (api.Work, error) {
	if err := s.may(first.Kind != api.Finding); err != nil {
		return api.Work{}, err
	}
	needs.On = s.segment()
	var noted func(who, what string)
	return s.works.Start(first, needs, prepare, func(ctx context.Context, w *works.Work) error {
		noted = s.noting()
		return do(ctx, w)
	}, func(a api.Work) {
		switch {
		case noted == nil: // a defect stopped it before it began
		case s.works.UnderWay(func(o api.Work) bool { return o.ID != a.ID && o.Site == a.Site && o.Kind != api.Making }):
			noted("", "") // any of them may have taken it away
		default:
			noted(a.Who, did(a))
		}
		s.publishEntries()
	})
}

// cutOffBy gives what cut work off that can go on later; nil for any other error.
func cutOffBy(err error) error {
	switch {
	case errors.Is(err, lan.ErrClosed): // who sends may notice before who looks after the segment
		return errGone
	case errors.Is(err, errGone), errors.Is(err, errDark), errors.Is(err, store.ErrUnwritable),
		errors.Is(err, vault.ErrLocked):
		return err
	}
	return nil
}
