package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"redstart/internal/commission"
	"redstart/internal/core/check"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/store"
	"redstart/internal/verify"
)

// Kinds of activity.
const (
	Finding       = "find"
	Commissioning = "commission"
	Verifying     = "verify"
	HandingOut    = "hand out addresses"
)

// Activity is the long work under way, or the last one. There is one at a time.
type Activity struct {
	Site    string    `json:"site"`
	Kind    string    `json:"kind"`  // "" before the first
	State   string    `json:"state"` // running, done, stopped, failed
	Done    int       `json:"done"`
	Total   int       `json:"total"`
	Failed  int       `json:"failed"`
	Seconds float64   `json:"seconds"` // about how long it still takes; 0: unknown
	Text    string    `json:"text"`    // one line on what is happening or how it ended
	Run     int64     `json:"run,omitempty"`
	Began   time.Time `json:"began"`
}

const verifySideBySide = 100

// Activity gives the work under way or the last one.
func (s *Service) Activity() Activity {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.activity
}

// begin starts an activity in a goroutine of its own, unless one is under way.
// prepare may complete the activity or prevent it; nil does neither. work gets
// a context that ends with the service, and a channel that closes when a
// person stops it.
func (s *Service) begin(a Activity, prepare func(*Activity) error, work func(ctx context.Context, stop <-chan struct{}) error) (Activity, error) {
	if err := s.plugged(a.Kind != Finding); err != nil {
		return Activity{}, err
	}
	s.mu.Lock()
	if s.stop != nil {
		defer s.mu.Unlock()
		return Activity{}, problem.New(problem.Conflict, fmt.Sprintf("a %s is under way", s.activity.Kind), "wait until it is done, or stop it")
	}
	stop := make(chan struct{})
	s.stop = stop
	s.mu.Unlock()
	if prepare != nil {
		if err := prepare(&a); err != nil {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.stop = nil
			return Activity{}, err
		}
	}
	a.State, a.Began = store.Running, time.Now().UTC()
	s.mu.Lock()
	s.activity = a
	s.mu.Unlock()
	s.hub.publish("", "activity", a)
	s.log.Info("work began", "kind", a.Kind, "total", a.Total)
	s.work.Add(1)
	go func() {
		defer s.work.Done()
		err := work(s.life, stop)
		s.progress(func(a *Activity) {
			a.State, a.Seconds = store.Done, 0
			select {
			case <-stop:
				a.State = store.Stopped
			default:
			}
			if err != nil && !errors.Is(err, context.Canceled) {
				a.State, a.Text = store.Failed, err.Error()
			}
			s.stop = nil
		})
		a := s.Activity()
		s.log.Info("work ended", "kind", a.Kind, "state", a.State, "done", a.Done, "failed", a.Failed, "text", a.Text)
	}()
	return a, nil
}

// progress changes the activity and tells everyone.
func (s *Service) progress(change func(*Activity)) {
	s.mu.Lock()
	change(&s.activity)
	a := s.activity
	s.mu.Unlock()
	s.hub.publish("", "activity", a)
}

// Stop asks the activity under way to stop.
func (s *Service) Stop() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stop == nil {
		return problem.New(problem.Conflict, "nothing is under way", "")
	}
	select {
	case <-s.stop:
	default:
		close(s.stop)
	}
	return nil
}

// until gives a context that ends when the channel closes.
func until(ctx context.Context, stop <-chan struct{}) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-stop:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

func plural(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// runner carries out runs on the plan as it is now.
func (s *Site) runner(p plan.Plan) *commission.Runner {
	return &commission.Runner{Bench: s.bench(), Store: s.store, Vault: s.vault, Plan: p, Log: s.log}
}

var errVaultLocked = problem.New(problem.Conflict, "the vault is locked, so no password could be stored or used", "unlock it first: redstart vault unlock")

// LatestRun gives the latest run of the site.
func (s *Site) LatestRun(ctx context.Context) (store.Run, error) {
	run, ok, err := s.store.LastRun(ctx)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there was no run yet", "start one: redstart commission")
	}
	return run, err
}

// Commission starts a run over entries; no tags mean all that are matched and
// not yet verified.
func (s *Site) Commission(ctx context.Context, who string, tags []string) (Activity, error) {
	if err := s.plugged(true); err != nil {
		return Activity{}, err
	}
	if last, ok, err := s.store.LastRun(ctx); err != nil {
		return Activity{}, err
	} else if ok && last.State == store.Interrupted {
		return Activity{}, problem.New(problem.Conflict, fmt.Sprintf("run %d was cut off", last.ID), "go on with it, or give it up")
	}
	rehearsal, entries, err := s.Rehearse(ctx, tags)
	if err != nil {
		return Activity{}, err
	}
	return s.carry(ctx, func(r *commission.Runner) (store.Run, error) { return r.Prepare(ctx, who, rehearsal, entries) })
}

// Resume goes on with a run that was cut off.
func (s *Site) Resume(ctx context.Context, id int64) (Activity, error) {
	return s.carry(ctx, func(*commission.Runner) (store.Run, error) {
		return s.cutOff(ctx, id, "start a new one: redstart commission")
	})
}

// cutOff gives a run of the site that was cut off.
func (s *Site) cutOff(ctx context.Context, id int64, next string) (store.Run, error) {
	of, err := s.store.Of(ctx, id)
	if err == nil && of.ID != s.store.ID {
		err = problem.New(problem.Missing, "there is no such run on this site", "")
	}
	if err != nil {
		return store.Run{}, err
	}
	run, err := s.store.Run(ctx, id)
	if err == nil && run.State != store.Interrupted {
		err = problem.New(problem.Conflict, fmt.Sprintf("run %d was not cut off; it is %s", id, run.State), next)
	}
	return run, err
}

// GiveUp ends a run that was cut off; its unfinished devices need attention.
func (s *Site) GiveUp(ctx context.Context, id int64, who string) error {
	run, err := s.cutOff(ctx, id, "")
	if err != nil {
		return err
	}
	for _, d := range run.Devices {
		if d.State != store.Waiting {
			continue
		}
		d.State = store.Stopped
		state, reason := store.Matched, ""
		if !d.StartedAt.IsZero() {
			state, reason = store.Attention, "its run was given up half way; commission it again"
		}
		if err := errors.Join(s.store.SaveRunDevice(ctx, d), s.store.SetState(ctx, d.Tag, state, reason, who)); err != nil {
			return err
		}
	}
	defer s.publishEntries()
	return s.store.SetRunState(ctx, id, store.Stopped)
}

// carry carries out the run that prepare gives.
func (s *Site) carry(ctx context.Context, prepare func(*commission.Runner) (store.Run, error)) (Activity, error) {
	if s.vault.Locked() {
		return Activity{}, errVaultLocked
	}
	p, _, err := s.bare(ctx)
	if err != nil {
		return Activity{}, err
	}
	avoid, runner := p.Needs(), s.runner(p)
	ended := make(chan struct{}, 1) // holds one token when a device came to an end
	runner.Notify = func(d store.RunDevice) {
		s.deviceMoved(d)
		if d.State == store.Done || d.State == store.Failed {
			select {
			case ended <- struct{}{}:
			default:
			}
		}
	}
	var run store.Run
	a, err := s.begin(Activity{Site: s.store.Key, Kind: Commissioning, Text: "setting the devices"}, func(a *Activity) (err error) {
		if run, err = prepare(runner); err == nil {
			a.Run, a.Total = run.ID, len(run.Devices)
			a.Seconds = commission.Left(run, s.profiles, time.Now()).Seconds()
		}
		return err
	}, func(ctx context.Context, stop <-chan struct{}) error {
		ticking, cancel := context.WithCancel(ctx)
		var ticker sync.WaitGroup
		ticker.Add(1)
		go func() {
			defer ticker.Done()
			s.countDown(ticking, run.ID, ended)
		}()
		err := runner.Carry(ctx, run, avoid, stop)
		cancel()
		ticker.Wait()
		s.count(s.life, run.ID)
		return err
	})
	if err == nil {
		s.publishEntries()
	}
	return a, err
}

// countDown tells once a second, and whenever a device came to an end, how far a
// run is and how long it still takes.
func (s *Site) countDown(ctx context.Context, run int64, ended <-chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			s.count(ctx, run)
		case <-ended:
			s.count(ctx, run)
		case <-ctx.Done():
			return
		}
	}
}

func (s *Site) count(ctx context.Context, id int64) {
	run, err := s.store.Run(ctx, id)
	if err != nil {
		return // the service is ending
	}
	done, failed := 0, 0
	for _, d := range run.Devices {
		switch d.State {
		case store.Done:
			done++
		case store.Failed:
			failed++
		}
	}
	s.progress(func(a *Activity) {
		a.Done, a.Failed = done, failed
		a.Seconds = commission.Left(run, s.profiles, time.Now()).Seconds()
		a.Text = fmt.Sprintf("%d of %d configured", done, len(run.Devices))
	})
}

// deviceMoved tells everyone that a device of a run moved on.
func (s *Site) deviceMoved(d store.RunDevice) {
	s.hub.publish(s.store.Key, "run", d)
	if d.State == store.Done || d.State == store.Failed || d.State == store.Stopped {
		s.publishEntry(d.Tag)
	}
}

// Rehearse works out what a run would do.
func (s *Site) Rehearse(ctx context.Context, tags []string) (commission.Rehearsal, []store.Entry, error) {
	p, all, err := s.plan(ctx)
	if err != nil {
		return commission.Rehearsal{}, nil, err
	}
	entries, err := choose(all, tags)
	if err != nil {
		return commission.Rehearsal{}, nil, err
	}
	if len(tags) == 0 {
		r := p.Resolve()
		var open []store.Entry
		for _, e := range entries {
			if !e.NotWired && (!e.Set() || view(r, e, nil).Differs != nil) {
				open = append(open, e)
			}
		}
		entries = open
	}
	return commission.Rehearse(p, entries), entries, nil
}

// Verify starts a verification; no tags mean all that a run has configured.
func (s *Site) Verify(ctx context.Context, who string, tags []string, restart string) (Activity, error) {
	switch restart {
	case "":
		restart = verify.Needed
	case verify.Needed, verify.Always, verify.Never:
	default:
		return Activity{}, problem.New(problem.Usage, "restart must be needed, always or never", "")
	}
	if s.vault.Locked() {
		return Activity{}, errVaultLocked
	}
	p, all, err := s.bare(ctx)
	if err != nil {
		return Activity{}, err
	}
	avoid, r := p.Needs(), p.Resolve()
	verifier := &verify.Verifier{Bench: s.bench(), Store: s.store, Vault: s.vault, Profiles: s.profiles}
	chosen, err := choose(all, tags)
	if err != nil {
		return Activity{}, err
	}
	var entries []store.Entry
	for _, e := range chosen {
		switch {
		case len(tags) > 0 && e.Device.IsZero():
			return Activity{}, problem.New(problem.Conflict, "no device is matched with it", "match it first: redstart match").About(e.Tag)
		case len(tags) > 0, e.State == store.Configured, e.State == store.Verified, e.State == store.Attention && !e.CheckedAt.IsZero():
			entries = append(entries, e)
		}
	}
	if len(entries) == 0 {
		return Activity{}, problem.New(problem.Conflict, "nothing is configured yet", "commission first: redstart commission")
	}
	return s.begin(Activity{Site: s.store.Key, Kind: Verifying, Total: len(entries), Text: "looking at the devices afresh"}, nil, func(ctx context.Context, stop <-chan struct{}) error {
		slots := make(chan struct{}, verifySideBySide)
		var all sync.WaitGroup
		for _, e := range entries {
			select {
			case slots <- struct{}{}:
			case <-stop:
				all.Wait()
				return nil
			case <-ctx.Done():
				all.Wait()
				return ctx.Err()
			}
			all.Add(1)
			go func() {
				defer all.Done()
				defer func() { <-slots }()
				list, err := verifier.Entry(ctx, r, e, restart, avoid, who)
				if err != nil && ctx.Err() == nil {
					s.log.Error("a device could not be verified", "tag", e.Tag, "error", err)
				}
				s.publishEntry(e.Tag)
				s.progress(func(a *Activity) {
					a.Done++
					if !check.Passed(list) {
						a.Failed++
					}
					// What the rest takes, judged by what this much took.
					a.Seconds = time.Since(a.Began).Seconds() / float64(a.Done) * float64(a.Total-a.Done)
					a.Text = fmt.Sprintf("%d of %d verified", a.Done-a.Failed, a.Total)
				})
			}()
		}
		all.Wait()
		return nil
	})
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
