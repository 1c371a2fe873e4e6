// Package jobs is the work on a site with its boxes: finding them, matching, commissioning and
// verifying, and what goes with these.
package jobs

import (
	"context"
	"crypto/tls"
	"log/slog"
	"sync"
	"time"

	"redstart/internal/commission"
	"redstart/internal/events"
	"redstart/internal/pages"
	"redstart/internal/planning"
	"redstart/internal/segments"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// Config says what jobs are done with.
type Config struct {
	Data string // the data folder
	// Lines are the serial lines that may be used, by the names of their device files.
	Lines []string
	// LookOnly lets nothing out but questions, whatever anybody asks for.
	LookOnly bool
	// Pace is at how many frames per second a survey asks when it is not told another; 0: survey.Normal.
	Pace int
	// Round is how often a standing watch asks each device whether it is there; 0: usualRound.
	Round time.Duration
	// PagesBelow is the name below which each box's page gets one of its own, for other
	// computers than this one, over TLS with Secured; "": they see none.
	PagesBelow string
	Secured    *tls.Config

	Store    *store.Store
	Vault    *vault.Vault
	Hub      *events.Hub
	Log      *slog.Logger
	Works    *works.Works
	Segments *segments.Segments
	Plans    *planning.Planning
}

// Jobs are those of one service.
type Jobs struct {
	Config
	life  context.Context // ends when the service does
	work  sync.WaitGroup  // watches, and runs that wait for the segment
	pages *pages.Pages

	mu      sync.Mutex
	runners map[int64]*commission.Runner // of runs under way, by number
	watches map[string]*watching         // by the keys of their sites
}

// New gives the jobs of a service that ends with a context.
func New(life context.Context, c Config) *Jobs {
	return &Jobs{Config: c, life: life, pages: pages.New(c.Log, c.PagesBelow, c.Secured), runners: map[int64]*commission.Runner{},
		watches: map[string]*watching{}}
}

// Close ends what stands, once the service has ended, and waits for it.
func (s *Jobs) Close() {
	s.pages.CloseAll()
	s.work.Wait()
}

// Leave ends what stands on a segment that is left: by one site, or with no key by all.
func (s *Jobs) Leave(at *segments.Segment, site string) {
	s.mu.Lock()
	var left []*watching
	for key, w := range s.watches {
		if w.on == at && (site == "" || site == key) {
			left = append(left, w)
		}
	}
	s.mu.Unlock()
	for _, w := range left {
		w.end()
	}
	s.pages.CloseAll()
}

// Site is the jobs of one site.
type Site struct {
	all     *Jobs
	store   *store.Site
	plan    *planning.Site
	segment *segments.Site
}

// At gives the jobs of a site.
func (s *Jobs) At(records *store.Site) *Site {
	return &Site{s, records, s.Plans.At(records), s.Segments.At(records.ID, records.Key)}
}

// May gives the error of a site without a segment, or of a service that only looks where
// something is to be set.
func (s *Site) May(sets bool) error { return s.segment.May(sets) }

// open gives the jobs of a site by its key.
func (s *Jobs) open(ctx context.Context, key string) (*Site, error) {
	records, err := s.Store.At(ctx, key)
	return s.At(records), err
}
