// Package service is the long-running service: the API, the events, sign-in
// and the embedded console, over the records and one segment.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/account"
	"redstart/internal/events"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Config says what a service works on.
type Config struct {
	Data  string // the data folder
	Plugs []Plug // the segments; none: plan only
	// Lines are the serial lines that may be used, by the names of their device files.
	Lines []string
	// LookOnly lets nothing out but questions, whatever anybody asks for.
	LookOnly bool
	// Round is how often a standing watch asks each device whether it is there; 0: usualRound.
	Round time.Duration
	TLS   *tls.Config  // that the console is served with; nil: without, on loopback
	Log   *slog.Logger // never given a secret
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

	// planning is held by whoever changes a plan: from reading it to writing it.
	planning sync.Mutex

	mu       sync.Mutex
	resolved map[int64]resolved // what plans come to, by site
	segments []*segment         // in the order in which they were plugged in
	uses     map[int64]string   // the segment that each site names
	works    []*working         // oldest first
	lastWork int64              // number of the latest
	plugs    chan struct{}      // closes when the segment changes, and is made anew
	watches  map[string]*watching
	pages    map[boxAt]*page
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
	s := &Service{config: c, store: records, vault: v, log: c.Log, hub: events.New(), accounts: account.In(records, c.Log), resolved: map[int64]resolved{}, plugs: make(chan struct{}), watches: map[string]*watching{}, pages: map[boxAt]*page{}}
	s.life, s.end = context.WithCancel(context.Background())
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

// Accounts are all who may use the service.
func (s *Service) Accounts() *account.Accounts { return s.accounts }

// Close ends work under way where it is and closes everything. A run that was
// cut off goes on when it is asked to, with the next service.
func (s *Service) Close() error {
	s.end()
	s.closePages()
	s.work.Wait()
	s.hub.Close()
	var err error
	for _, at := range s.segments {
		if now := at.live.Load(); now != nil {
			err = errors.Join(err, now.bench.Close())
		}
	}
	return errors.Join(err, s.store.Close())
}

// Serve answers on a listener until the context ends.
func (s *Service) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: s.Handler(), ReadHeaderTimeout: 10 * time.Second, BaseContext: func(net.Listener) context.Context { return s.life },
		ErrorLog: slog.NewLogLogger(s.log.Handler(), slog.LevelWarn)}
	drained := make(chan struct{})
	unhook := context.AfterFunc(ctx, func() {
		defer close(drained)
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
		<-drained // Serve returns when the shutdown begins
		return nil
	}
	return err
}
