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
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/lan"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/profiles"
)

// Config says what a service works on.
type Config struct {
	Data    string   // the data folder
	Port    lan.Port // the segment; nil: none, plan only
	Segment string   // what the segment is called: an interface, "simulated site"
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
	segment  atomic.Pointer[segment] // nil before one was plugged in
	profiles profile.Set
	log      *slog.Logger
	hub      *hub
	signIns  *tries

	// life ends when the service does; work under way is bound to it.
	life context.Context
	end  context.CancelFunc
	work sync.WaitGroup

	// planning is held by whoever changes a plan: from reading it to writing it.
	planning sync.Mutex

	mu       sync.Mutex
	resolved map[int64]plan.Resolver // what plans come to, by site, until they change
	activity Activity
	stop     chan struct{} // closes to stop the activity under way; nil when there is none
	watches  map[string]*watching
	pages    map[address.MAC]*page
}

// Open opens the data folder and joins the segment. The port belongs to the
// service from then on, even when Open fails.
func Open(ctx context.Context, c Config) (*Service, error) {
	s, err := open(ctx, c)
	if err != nil {
		if c.Port != nil {
			err = errors.Join(err, c.Port.Close())
		}
		return nil, err
	}
	if c.Port != nil {
		s.plug(c.Port, c.Segment)
		if err := s.resumeWatches(ctx); err != nil {
			return nil, errors.Join(err, s.Close())
		}
	}
	return s, nil
}

func open(ctx context.Context, c Config) (*Service, error) {
	records, err := store.Open(ctx, c.Data)
	if err != nil {
		return nil, err
	}
	set, err := profiles.Load(filepath.Join(c.Data, "profiles"))
	if err != nil {
		err = problem.New(problem.Usage, err.Error(), "mend the profile or move it away").About("profiles")
		return nil, errors.Join(err, records.Close())
	}
	v, err := vault.Open(ctx, c.Data, records)
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
	s := &Service{config: c, store: records, vault: v, profiles: set, log: c.Log, hub: newHub(), signIns: newTries(), resolved: map[int64]plan.Resolver{}, watches: map[string]*watching{}, pages: map[address.MAC]*page{}}
	s.life, s.end = context.WithCancel(context.Background())
	return s, nil
}

// Close ends work under way where it is and closes everything. A run that was
// cut off goes on when it is asked to, with the next service.
func (s *Service) Close() error {
	s.end()
	s.closePages()
	s.work.Wait()
	s.hub.close()
	var err error
	if b := s.bench(); b != nil {
		err = b.Close()
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
