// Package planning is the plan of a site: what it is checked against, changing it, its history,
// the profiles and the secrets that it uses.
package planning

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"

	"redstart/internal/core/address"
	"redstart/internal/events"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Config says what plans are kept in, and whom changes are told.
type Config struct {
	Data  string // the data folder
	Store *store.Store
	Vault *vault.Vault
	Hub   *events.Hub
	Log   *slog.Logger
	// Changed has everyone told, soon, what changed at a site.
	Changed func(site int64, key string)
}

// Planning is the planning of one service.
type Planning struct {
	Config
	life context.Context // ends when the service does
	work sync.WaitGroup  // that follows the folder of profiles

	models  atomic.Pointer[known] // the device profiles
	editing sync.Mutex            // held by whoever changes a plan: from reading it to writing it

	snapshots snapshots
	away      away

	mu       sync.Mutex
	resolved map[int64]resolved // what plans come to, by site
}

// New gives the planning of a service that ends with a context.
func New(life context.Context, c Config) (*Planning, error) {
	s := &Planning{Config: c, life: life, resolved: map[int64]resolved{}, away: away{gone: map[string]map[address.MAC]bool{}}}
	return s, s.readProfiles()
}

// Wait waits until what follows the profiles has ended, once the service has.
func (s *Planning) Wait() { s.work.Wait() }

// Hold keeps everybody else from changing plans until done is called.
func (s *Planning) Hold() (done func()) {
	s.editing.Lock()
	return s.editing.Unlock
}

// Site is the planning of one site.
type Site struct {
	all   *Planning
	store *store.Site
}

// At gives the planning of a site.
func (s *Planning) At(records *store.Site) *Site { return &Site{s, records} }

// open gives the planning of a site by its key.
func (s *Planning) open(ctx context.Context, key string) (*Site, error) {
	records, err := s.Store.At(ctx, key)
	return s.At(records), err
}

// Changed tells everyone, soon, what changed at the site.
func (s *Site) Changed() { s.all.Changed(s.store.ID, s.store.Key) }
