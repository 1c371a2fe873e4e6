package jobs

import (
	"context"
	"errors"
	"fmt"

	"redstart/internal/api"
	"redstart/internal/lan"
	"redstart/internal/segments"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// did says in words what a work was.
func did(a api.Work) string {
	switch {
	case a.Run != 0:
		return fmt.Sprintf("run %d", a.Run)
	case a.Kind == api.Finding:
		return "a survey"
	case a.Kind == api.Verifying:
		return "a verification"
	}
	return a.Kind
}

// begin starts a work on the site's segment, unless another has what it needs.
func (s *Site) begin(first api.Work, needs works.Needs, prepare func(*works.Work) error,
	do func(context.Context, *works.Work) error) (api.Work, error) {
	if err := s.segment.May(first.Kind != api.Finding); err != nil {
		return api.Work{}, err
	}
	needs.On = s.segment.Segment()
	var noted func(who, what string)
	return s.all.Works.Start(first, needs, prepare, func(ctx context.Context, w *works.Work) error {
		noted = s.plan.Noting()
		return do(ctx, w)
	}, func(a api.Work) {
		switch {
		case noted == nil: // a defect stopped it before it began
		case s.all.Works.UnderWay(func(o api.Work) bool { return o.ID != a.ID && o.Site == a.Site && o.Kind != api.Making }):
			noted("", "") // any of them may have taken it away
		default:
			noted(a.Who, did(a))
		}
		s.plan.Changed()
	})
}

// CutOffBy gives what cut work off that can go on later; nil for any other error.
func CutOffBy(err error) error {
	switch {
	case errors.Is(err, lan.ErrClosed): // who sends may notice before who looks after the segment
		return segments.ErrGone
	case errors.Is(err, segments.ErrGone), errors.Is(err, segments.ErrDark), errors.Is(err, store.ErrUnwritable),
		errors.Is(err, vault.ErrLocked):
		return err
	}
	return nil
}
