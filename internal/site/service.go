// Package site is the work on sites, by its stages: planning, finding, matching,
// commissioning, verifying; over the records and the segments that the service is on.
package site

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/events"
	"redstart/internal/pages"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// Config says what a service works on.
type Config struct {
	Data  string // the data folder
	Plugs []Plug // the segments; none: plan only
	// Lines are the serial lines that may be used, by the names of their device files.
	Lines []string
	// LookOnly lets nothing out but questions, whatever anybody asks for.
	LookOnly bool
	// Pace is at how many frames per second a survey asks when it is not told another; 0: survey.Normal.
	Pace int
	// Round is how often a standing watch asks each device whether it is there; 0: usualRound.
	Round time.Duration
	Log   *slog.Logger // never given a secret
	// PagesBelow is the name below which each box's page gets one of its own, for other
	// computers than this one, over TLS with Secured; "": they see none.
	PagesBelow string
	Secured    *tls.Config
}

// Service is one running service.
type Service struct {
	config   Config
	store    *store.Store
	vault    *vault.Vault
	models   atomic.Pointer[known] // the device profiles
	log      *slog.Logger
	hub      *events.Hub
	accounts *account.Accounts

	// life ends when the service does; work under way is bound to it.
	life context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	nudged       chan struct{}            // holds one token when it is to be worked out anew when to look
	looking      sync.Mutex               // held by what looks by itself
	looksAt      int64                    // the site at which it looks; under mu
	lookNow      map[int64]bool           // sites at which somebody asked it to look; under mu
	makings      chan struct{}            // holds a place for each document that is being made
	took         map[string]time.Duration // how long each took the last time, by site and document; under mu
	lookoutWrong map[int64]string         // why that did not go lately, by site; under mu

	// planning is held by whoever changes a plan: from reading it to writing it.
	planning sync.Mutex

	works     *works.Works
	telling   *telling
	snapshots snapshots
	presence  atomic.Uint64 // numbers who came and went in watches

	mu       sync.Mutex
	resolved map[int64]resolved           // what plans come to, by site
	segments []*segment                   // in the order in which they were plugged in
	uses     map[int64]string             // the segment that each site names
	runners  map[int64]*commission.Runner // of runs under way, by number
	plugs    chan struct{}                // closes when the segment changes, and is made anew
	watches  map[string]*watching
	pages    *pages.Pages
}

// Open opens the data folder and joins the segment. The port belongs to the
// service from then on, even when Open fails.
func Open(ctx context.Context, c Config) (*Service, error) {
	s, err := open(ctx, c)
	if err != nil {
		for _, p := range c.Plugs {
			err = errors.Join(err, p.Port.Close())
		}
		return nil, err
	}
	for _, p := range c.Plugs {
		s.join(p)
	}
	if err := s.resumeWatches(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.waitWithRuns(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.work.Go(s.keepLooking)
	s.work.Go(s.keepTelling)
	return s, nil
}

func open(ctx context.Context, c Config) (*Service, error) {
	records, err := store.Open(ctx, c.Data)
	if err != nil {
		return nil, err
	}
	v, err := vault.Open(ctx, c.Data, records)
	if err == nil {
		err = records.InterruptRuns(ctx)
	}
	if err == nil {
		// What an earlier service gave to commands on this computer ended with it.
		err = records.EndSessionsOf(ctx, account.LocalUser)
	}
	if err != nil {
		return nil, errors.Join(err, records.Close())
	}
	s := &Service{config: c, store: records, vault: v, log: c.Log, hub: events.New(),
		accounts: account.In(records, c.Log), resolved: map[int64]resolved{}, plugs: make(chan struct{}),
		watches: map[string]*watching{}, runners: map[int64]*commission.Runner{}, nudged: make(chan struct{}, 1), makings: make(chan struct{}, makingsOnce),
		took: map[string]time.Duration{}, lookoutWrong: map[int64]string{}, lookNow: map[int64]bool{}, pages: pages.New(c.Log, c.PagesBelow, c.Secured)}
	s.life, s.end = context.WithCancel(context.Background())
	s.telling = newTelling()
	s.works = works.Under(s.life)
	s.works.Log, s.works.CutOffBy = c.Log, cutOffBy
	s.works.Tell = func(a api.Work) { s.hub.Publish("", "work", a) }
	if err = s.clearAside(); err != nil {
		return nil, errors.Join(err, records.Close())
	}
	if s.uses, err = records.Segments(ctx); err != nil {
		return nil, errors.Join(err, records.Close())
	}
	if err := s.readProfiles(); err != nil {
		return nil, errors.Join(err, records.Close())
	}
	if err := v.Lost(); err != nil {
		s.log.Error("the vault starts locked", "cause", err)
	}
	return s, nil
}

// With gives the service at work on the site of some records.
func (s *Service) With(records *store.Site) *Site { return &Site{s, records} }

// Records are the records.
func (s *Service) Records() *store.Store { return s.store }

// Records are the records of the site.
func (s *Site) Records() *store.Site { return s.store }

// Log is where the service notes what happens.
func (s *Service) Log() *slog.Logger { return s.log }

// Events tells of everything that changes.
func (s *Service) Events() *events.Hub { return s.hub }

// Ended closes when the service ends.
func (s *Service) Ended() <-chan struct{} { return s.life.Done() }

// End ends work under way where it is; Close waits for it.
func (s *Service) End() { s.end() }

// LockVault locks the vault.
func (s *Service) LockVault() {
	s.vault.Lock()
	s.vaultChanged()
}

// Accounts are all who may use the service.
func (s *Service) Accounts() *account.Accounts { return s.accounts }

// Close ends work under way where it is and closes everything. A run that was
// cut off goes on when it is asked to, with the next service.
func (s *Service) Close() error {
	s.end()
	s.pages.CloseAll()
	s.works.Wait()
	s.work.Wait()
	s.hub.Close()
	s.works.Forget(func(api.Work) bool { return true })
	var err error
	for _, at := range s.segments {
		if now := at.live.Load(); now != nil {
			err = errors.Join(err, now.bench.Close())
		}
	}
	return errors.Join(err, s.store.Close())
}
