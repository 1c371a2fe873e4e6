// Package site ties the work on sites together: the records, the segments, planning, the jobs and
// handing over; and tells what changes.
package site

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"sync"
	"time"

	"redstart/internal/account"
	"redstart/internal/api"
	"redstart/internal/events"
	"redstart/internal/handing"
	"redstart/internal/jobs"
	"redstart/internal/planning"
	"redstart/internal/segments"
	"redstart/internal/store"
	"redstart/internal/vault"
	"redstart/internal/works"
)

// Config says what a service works on.
type Config struct {
	Data  string          // the data folder
	Plugs []segments.Plug // the segments; none: plan only
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
	Records  *store.Store
	Accounts *account.Accounts // all who may use the service
	Events   *events.Hub       // of everything that changes
	Works    *works.Works
	Segments *segments.Segments
	Plans    *planning.Planning
	Jobs     *jobs.Jobs
	Handing  *handing.Handing
	Log      *slog.Logger

	vault   *vault.Vault
	telling *telling

	// life ends when the service does; work under way is bound to it.
	life context.Context
	end  context.CancelFunc
	work sync.WaitGroup
}

// Open opens the data folder and joins the segments. Their ports belong to the
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
		s.Segments.Join(p)
	}
	if err := errors.Join(s.Jobs.ResumeWatches(ctx), s.Jobs.WaitWithRuns(ctx)); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	s.work.Go(s.Handing.KeepLooking)
	s.work.Go(s.keepTelling)
	return s, nil
}

func open(ctx context.Context, c Config) (s *Service, err error) {
	records, err := store.Open(ctx, c.Data)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, records.Close())
		}
	}()
	v, err := vault.Open(ctx, c.Data, records)
	if err == nil {
		err = records.InterruptRuns(ctx)
	}
	if err == nil {
		// What an earlier service gave to commands on this computer ended with it.
		err = records.EndSessionsOf(ctx, account.LocalUser)
	}
	if err != nil {
		return nil, err
	}
	s = &Service{Records: records, Accounts: account.In(records, c.Log), Events: events.New(), Log: c.Log, vault: v, telling: newTelling()}
	s.life, s.end = context.WithCancel(context.Background())
	s.Works = works.Under(s.life)
	s.Works.Log, s.Works.CutOffBy = c.Log, jobs.CutOffBy
	s.Works.Tell = func(a api.Work) { s.Events.Publish("", "work", a) }
	s.Segments, err = segments.New(ctx, s.life, segments.Config{LookOnly: c.LookOnly, Records: records, Works: s.Works, Hub: s.Events, Log: c.Log,
		Ends:    func(at *segments.Segment, site string) { s.Jobs.Leave(at, site) },
		Resumes: func(ctx context.Context) error { return s.Jobs.ResumeWatches(ctx) }})
	if err != nil {
		return nil, err
	}
	s.Plans, err = planning.New(s.life, planning.Config{Data: c.Data, Store: records, Vault: v, Hub: s.Events, Log: c.Log, Changed: s.telling.changed})
	if err != nil {
		return nil, err
	}
	s.Jobs = jobs.New(s.life, jobs.Config{Data: c.Data, Lines: c.Lines, LookOnly: c.LookOnly, Pace: c.Pace, Round: c.Round, PagesBelow: c.PagesBelow,
		Secured: c.Secured, Store: records, Vault: v, Hub: s.Events, Log: c.Log, Works: s.Works, Segments: s.Segments, Plans: s.Plans})
	s.Handing, err = handing.New(s.life, handing.Config{Data: c.Data, LookOnly: c.LookOnly, Pace: c.Pace, Store: records, Vault: v, Hub: s.Events,
		Log: c.Log, Works: s.Works, Plans: s.Plans, Jobs: s.Jobs})
	if err != nil {
		return nil, err
	}
	if err := v.Lost(); err != nil {
		s.Log.Error("the vault starts locked", "cause", err)
	}
	return s, nil
}

// Ended closes when the service ends.
func (s *Service) Ended() <-chan struct{} { return s.life.Done() }

// End ends work under way where it is; Close waits for it.
func (s *Service) End() { s.end() }

// Close ends work under way where it is and closes everything. A run that was
// cut off goes on when it is asked to, with the next service.
func (s *Service) Close() error {
	s.end()
	s.Works.Wait()
	s.Jobs.Close()
	s.work.Wait()
	s.Plans.Wait()
	s.Events.Close()
	s.Works.Forget(func(api.Work) bool { return true })
	return errors.Join(s.Segments.Close(), s.Records.Close())
}
