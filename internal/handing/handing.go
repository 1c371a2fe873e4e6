// Package handing is handing a site over: its documents, what was handed to whom, looking whether
// it is still so, and moving it to another service.
package handing

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"redstart/internal/events"
	"redstart/internal/jobs"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// Config says what is handed over from.
type Config struct {
	Data string // the data folder
	// LookOnly and Pace bound what looking at a site by itself does to its segment, as they do
	// everything else.
	LookOnly bool
	Pace     int

	Store *store.Store
	Vault *vault.Vault
	Hub   *events.Hub
	Log   *slog.Logger
	Works *works.Works
	Plans *planning.Planning
	Jobs  *jobs.Jobs
}

// Handing is the handing over of one service.
type Handing struct {
	Config
	life context.Context // ends when the service does

	rooms  chan struct{} // holds a place for each document that is being made
	nudged chan struct{} // holds one token when it is to be worked out anew when to look
	alone  sync.Mutex    // held by what looks by itself

	mu        sync.Mutex
	took      map[string]time.Duration // how long each document took the last time, by site and document
	lookingAt int64                    // the site at which it looks
	lookNow   map[int64]bool           // sites at which somebody asked it to look
	wrong     map[int64]string         // why looking did not go lately, by site
}

// New gives the handing over of a service that ends with a context. What an earlier one that was
// killed left on its way is taken away.
func New(life context.Context, c Config) (*Handing, error) {
	s := &Handing{Config: c, life: life, rooms: make(chan struct{}, madeAtOnce), nudged: make(chan struct{}, 1),
		took: map[string]time.Duration{}, lookNow: map[int64]bool{}, wrong: map[int64]string{}}
	return s, s.clearAway()
}

// Site is the handing over of one site.
type Site struct {
	all   *Handing
	store *store.Site
	plan  *planning.Site
	jobs  *jobs.Site
}

// At gives the handing over of a site.
func (s *Handing) At(records *store.Site) *Site {
	return &Site{s, records, s.Plans.At(records), s.Jobs.At(records)}
}

// open gives the handing over of a site by its key.
func (s *Handing) open(ctx context.Context, key string) (*Site, error) {
	records, err := s.Store.At(ctx, key)
	return s.At(records), err
}
