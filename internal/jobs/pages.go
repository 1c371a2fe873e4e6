package jobs

import (
	"context"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/pages"
)

// OpenPage opens the page of a box for a guest who reached the console at an address.
func (s *Site) OpenPage(ctx context.Context, mac address.MAC, who pages.Guest, consoleHost string) (api.PageView, error) {
	if err := s.segment.May(true); err != nil {
		return api.PageView{}, err
	}
	f, err := s.plan.Found(ctx, mac)
	if err != nil {
		return api.PageView{}, err
	}
	scheme, port, ok := s.all.Plans.PagePort(f)
	if !ok {
		return api.PageView{}, problem.New(problem.Conflict, "no page of this box is known",
			"it has no address, or no web server that its profile names").About(mac.String())
	}
	p, _, err := s.plan.Bare(ctx)
	if err != nil {
		return api.PageView{}, err
	}
	at, err := s.all.pages.Open(pages.Target{
		Box: pages.Box{Bench: s.segment.Bench(), MAC: mac}, Scheme: scheme, Address: f.AddressNow(), Port: port,
		Avoid: p.Needs(),
	}, who, consoleHost)
	return api.PageView{URL: at}, err
}

// ClosePage closes the page of a box.
func (s *Site) ClosePage(mac address.MAC) {
	s.all.pages.Close(pages.Box{Bench: s.segment.Bench(), MAC: mac})
}
