// Package service is the long-running service: the API, the events, sign-in
// and the embedded console, over the records and one segment.
package service

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"path/filepath"
	"sync"
	"time"

	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/lan"
	"redstart/internal/lan/bench"
	"redstart/internal/store"
	"redstart/internal/vault"
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
	s := &Service{config: c, store: records, vault: v, bench: b, profiles: set, log: c.Log, hub: newHub(), signIns: newTries(), resolved: map[int64]plan.Resolver{}}
	s.life, s.end = context.WithCancel(context.Background())
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
