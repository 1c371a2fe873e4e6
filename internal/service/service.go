// Package service is the long-running service: the API, the events, sign-in
// and the embedded console, over the records and one segment.
package service

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"redstart/internal/commission"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/verify"
	"redstart/profiles"
)

// Config says what a service works on.
type Config struct {
	Data    string       // the data folder
	Port    lan.Port     // the segment; nil: none, plan only
	Segment string       // what the segment is called: an interface, "simulated site"
	Log     *slog.Logger // never given a secret
}

// Service is one running service.
type Service struct {
	config   Config
	store    *store.Store
	vault    *vault.Vault
	bench    *bench.Bench // nil without a segment
	profiles profile.Set
	runner   *commission.Runner
	verifier *verify.Verifier
	log      *slog.Logger
	hub      *hub
	signIns  *rate.Limiter

	// life ends when the service does; work under way is bound to it.
	life context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	mu       sync.Mutex
	activity Activity
	stop     chan struct{} // closes to stop the activity under way; nil when there is none
}

// Open opens the data folder and joins the segment. The port belongs to the
// service from then on, even when Open fails.
func Open(ctx context.Context, c Config) (*Service, error) {
	var b *bench.Bench
	if c.Port != nil {
		b = bench.New(c.Port)
	}
	s, err := open(ctx, c, b)
	if err != nil && b != nil {
		err = errors.Join(err, b.Close())
	}
	return s, err
}

func open(ctx context.Context, c Config, b *bench.Bench) (*Service, error) {
	records, err := store.Open(ctx, c.Data)
	if err != nil {
		return nil, err
	}
	set, err := profiles.Load(filepath.Join(c.Data, "profiles"))
	if err != nil {
		err = problem.New(problem.Usage, err.Error(), "mend the profile or move it away").About("profiles")
		return nil, errors.Join(err, records.Close())
	}
	v, err := vault.Open(c.Data, records)
	if err == nil {
		err = records.InterruptRuns(ctx)
	}
	if err == nil {
		// What an earlier service gave to commands on this computer ended with it.
		err = records.EndSessionsOf(ctx, LocalUser)
	}
	if err != nil {
		return nil, errors.Join(err, records.Close())
	}
	s := &Service{config: c, store: records, vault: v, bench: b, profiles: set, log: c.Log, hub: newHub(), signIns: rate.NewLimiter(1, 10)}
	s.life, s.end = context.WithCancel(context.Background())
	if b != nil {
		s.runner = &commission.Runner{Bench: b, Store: records, Vault: v, Profiles: set, Log: c.Log, Notify: s.deviceMoved}
		s.verifier = &verify.Verifier{Bench: b, Store: records, Vault: v, Profiles: set}
	}
	return s, nil
}

// Close ends work under way where it is and closes everything. A run that was
// cut off goes on when it is asked to, with the next service.
func (s *Service) Close() error {
	s.end()
	s.work.Wait()
	s.hub.close()
	var err error
	if s.bench != nil {
		err = s.bench.Close()
	}
	return errors.Join(err, s.store.Close())
}

// Serve answers on a listener until the context ends.
func (s *Service) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return s.life },
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelWarn)}
	unhook := context.AfterFunc(ctx, func() {
		s.end() // event streams end with this
		grace, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		if server.Shutdown(grace) != nil {
			_ = server.Close() // whoever is still connected has had time
		}
	})
	defer unhook()
	err := server.Serve(l)
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// SetSite stores the site's data after checking it.
func (s *Service) SetSite(ctx context.Context, site plan.Site) error {
	if err := site.Check(); err != nil {
		return problem.New(problem.Usage, err.Error(), "").About("site")
	}
	if err := s.store.SetSite(ctx, site); err != nil {
		return err
	}
	s.hub.publish("site", site)
	return nil
}

// planned gives the site and the entries, and which addresses they need.
func (s *Service) planned(ctx context.Context) (site plan.Site, entries []store.Entry, avoid func(netip.Addr) bool, err error) {
	if site, err = s.store.Site(ctx); err != nil {
		return
	}
	if entries, err = s.store.Entries(ctx); err != nil {
		return
	}
	return site, entries, plan.Needs(site, lines(entries)), nil
}

// lines strips entries down to the plan.
func lines(entries []store.Entry) []plan.Entry {
	list := make([]plan.Entry, len(entries))
	for i, e := range entries {
		list[i] = e.Entry
	}
	return list
}

// choose picks entries by tag; no tags mean all.
func choose(entries []store.Entry, tags []string) ([]store.Entry, error) {
	if len(tags) == 0 {
		return entries, nil
	}
	byTag := map[string]store.Entry{}
	for _, e := range entries {
		byTag[e.Tag] = e
	}
	var list []store.Entry
	for _, tag := range tags {
		e, ok := byTag[tag]
		if !ok {
			return nil, problem.New(problem.Missing, "there is no such entry in the plan", "list the entries with: redstart plan list").About(tag)
		}
		list = append(list, e)
	}
	return list, nil
}
