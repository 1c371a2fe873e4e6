package site

import (
	"context"
	"slices"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/problem"
	"redstart/internal/pages"
)

// pagePort tells how a device's page is reached, as far as it is known.
func (s *Service) pagePort(f *device.Found) (scheme string, port uint16, ok bool) {
	if !f.AddressNow().IsValid() {
		return "", 0, false
	}
	if p := s.Profiles()[f.Profile]; p != nil {
		if scheme, port, ok = p.Page(); ok {
			return scheme, port, true
		}
		switch {
		case slices.Contains(p.Ports, 443):
			return "https", 443, true
		case slices.Contains(p.Ports, 80):
			return "http", 80, true
		}
	}
	open := f.Values(fact.Open)
	switch {
	case slices.Contains(open, "443/tcp"):
		return "https", 443, true
	case slices.Contains(open, "80/tcp"):
		return "http", 80, true
	}
	return "", 0, false
}

// OpenPage opens the page of a box for a guest who reached the console at an address.
func (s *Site) OpenPage(ctx context.Context, mac address.MAC, who pages.Guest, consoleHost string) (api.PageView, error) {
	if err := s.may(true); err != nil {
		return api.PageView{}, err
	}
	f, err := s.found(ctx, mac)
	if err != nil {
		return api.PageView{}, err
	}
	scheme, port, ok := s.pagePort(f)
	if !ok {
		return api.PageView{}, problem.New(problem.Conflict, "no page of this box is known",
			"it has no address, or no web server that its profile names").About(mac.String())
	}
	p, _, err := s.bare(ctx)
	if err != nil {
		return api.PageView{}, err
	}
	at, err := s.pages.Open(pages.Target{
		Box: pages.Box{Bench: s.bench(), MAC: mac}, Scheme: scheme, Address: f.AddressNow(), Port: port,
		Avoid: p.Needs(),
	}, who, consoleHost)
	return api.PageView{URL: at}, err
}

// ClosePage closes the page of a box.
func (s *Site) ClosePage(mac address.MAC) { s.pages.Close(pages.Box{Bench: s.bench(), MAC: mac}) }
