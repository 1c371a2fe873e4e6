package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/lan"
	"redstart/internal/lan/line"
	"redstart/internal/shield"
	"redstart/internal/store"
	"redstart/internal/vault"
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
	State   string    `json:"state"` // running, done, stopped, interrupted, failed
	Done    int       `json:"done"`
	Total   int       `json:"total"`
	Failed  int       `json:"failed"`
	Unsure  int       `json:"unsure"`  // verified only in part: some could not be looked at
	Seconds float64   `json:"seconds"` // about how long it still takes; 0: unknown
	Text    string    `json:"text"`    // one line on what is happening or how it ended
	Run     int64     `json:"run,omitempty"`
	Began   time.Time `json:"began"`
}

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
	ctx, cut := context.WithCancelCause(s.life)
	s.stop, s.cut = stop, cut
	s.mu.Unlock()
	free := func() {
		cut(nil)
		s.mu.Lock()
		defer s.mu.Unlock()
		s.stop, s.cut = nil, nil
	}
	if prepare != nil {
		if err := prepare(&a); err != nil {
			free()
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
		err := shield.Do(s.log, a.Kind, func() error { return work(ctx, stop) })
		by := cutOffBy(context.Cause(ctx))
		if by == nil {
			by = cutOffBy(err)
		}
		free()
		s.progress(func(a *Activity) {
			a.State, a.Seconds = store.Done, 0
			select {
			case <-stop:
				a.State = store.Stopped
			default:
			}
			switch {
			case by != nil:
				a.State, a.Text = store.Interrupted, by.Error()
			case err != nil && !errors.Is(err, context.Canceled):
				a.State, a.Text = store.Failed, err.Error()
			}
		})
		a := s.Activity()
		s.log.Info("work ended", "kind", a.Kind, "state", a.State, "done", a.Done, "failed", a.Failed, "text", a.Text)
	}()
	return a, nil
}

// cutOffBy gives what cut work off that can go on later; nil for any other error.
func cutOffBy(err error) error {
	switch {
	case errors.Is(err, lan.ErrClosed): // who sends may notice before who looks after the segment
		return errGone
	case errors.Is(err, errGone), errors.Is(err, errDark), errors.Is(err, store.ErrUnwritable), errors.Is(err, vault.ErrLocked):
		return err
	}
	return nil
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
	return &commission.Runner{Bench: s.bench(), Store: s.store, Vault: s.vault, Plan: p, Log: s.log, Line: line.Open}
}

// unlocked says why no password can be stored or used, if so.
func (s *Service) unlocked() error {
	if err := s.vault.Lost(); err != nil {
		return err
	}
	if s.vault.Locked() {
		return errVaultLocked
	}
	return nil
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

// Commission starts a run over entries; all are those that are not set as planned
// yet. Fresh gives them new passwords, whatever they have.
func (s *Site) Commission(ctx context.Context, who string, in RunOptions) (Activity, error) {
	if err := errors.Join(s.plugged(true), in.check()); err != nil {
		return Activity{}, err
	}
	if last, ok, err := s.store.LastRun(ctx); err != nil {
		return Activity{}, err
	} else if ok && last.State == store.Interrupted {
		return Activity{}, problem.New(problem.Conflict, fmt.Sprintf("run %d was cut off", last.ID), "go on with it, or give it up")
	}
	rehearsal, entries, err := s.Rehearse(ctx, in)
	if err != nil {
		return Activity{}, err
	}
	if in.Fresh {
		if err := s.unlocked(); err != nil {
			return Activity{}, err
		}
		if err := s.turn(ctx, entries, who); err != nil {
			return Activity{}, err
		}
		if rehearsal, entries, err = s.Rehearse(ctx, in); err != nil {
			return Activity{}, err
		}
	}
	return s.carry(ctx, func(r *commission.Runner) (store.Run, error) {
		return r.Prepare(ctx, who, rehearsal, entries, in.Fresh)
	})
}

// knowsLines refuses lines that the service was not told of, that are named twice, or
// for devices that are not in the run.
func (s *Site) knowsLines(lines map[string]string, r commission.Rehearsal) error {
	used := map[string]string{}
	for _, tag := range slices.Sorted(maps.Keys(lines)) {
		name := lines[tag]
		switch {
		case !slices.Contains(s.config.Lines, name):
			return problem.New(problem.Usage, fmt.Sprintf("the service was not told of the serial line %s; it knows %s", name, cmp.Or(strings.Join(s.config.Lines, ", "), "none")), "start it with: redstart serve --line "+name).About(tag)
		case used[name] != "":
			return problem.New(problem.Usage, fmt.Sprintf("the serial line %s is named for %s too", name, used[name]), "name one box for each line").About(tag)
		case !slices.ContainsFunc(r.Devices, func(d commission.Rehearsed) bool { return d.Tag == tag }):
			return problem.New(problem.Usage, "a serial line is named for it, but it is not in the run", "leave the line out, or name the entry").About(tag)
		}
		used[name] = tag
	}
	return nil
}

// Chosen says which entries are meant: tags, or all of them that the request is
// for. Nothing is ever taken for all.
type Chosen struct {
	Tags []string `json:"tags,omitempty"`
	All  bool     `json:"all,omitempty"`
}

func (c Chosen) check() error {
	switch {
	case c.All && len(c.Tags) > 0:
		return problem.New(problem.Usage, "both tags and all are given", "give one of them")
	case !c.All && len(c.Tags) == 0:
		return problem.New(problem.Usage, "it is not said which entries are meant", "give their tags, or all")
	}
	return nil
}

// RunOptions say what is commissioned.
type RunOptions struct {
	Chosen
	// Lines are serial lines at which consoles of devices hang, by tag.
	Lines map[string]string `json:"lines,omitempty"`
	Fresh bool              `json:"fresh,omitempty"` // give new passwords, whatever they have
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
	defer s.publishEntries()
	return s.store.EndRun(ctx, run, "its run was given up half way; commission it again", who)
}

// goOn goes on with a run that was cut off, once the segment and the records are
// there again. It ends when somebody gives the run up.
func (s *Site) goOn(id int64, cause error) {
	s.log.Warn("a run was cut off", "run", id, "cause", cause)
	again := time.NewTicker(lookAgainAfter)
	defer again.Stop()
	noted := false
	for {
		s.mu.Lock()
		plugs := s.plugs
		s.mu.Unlock()
		select {
		case <-plugs:
		case <-again.C:
		case <-s.life.Done():
			return
		}
		if !noted {
			if noted = s.store.InterruptRun(s.life, id, cause.Error()) == nil; !noted {
				continue // the disk still takes nothing
			}
			s.publishEntries()
		}
		if s.plugged(true) != nil || s.vault.Locked() {
			continue
		}
		if _, err := s.cutOff(s.life, id, ""); err != nil {
			return // given up, or on its way again
		}
		if _, err := s.Resume(s.life, id); err == nil {
			s.log.Info("a run goes on", "run", id)
			return
		}
	}
}

// lookAgainAfter is how often it is tried whether work that was cut off can go on.
const lookAgainAfter = time.Second

// carry carries out the run that prepare gives.
func (s *Site) carry(ctx context.Context, prepare func(*commission.Runner) (store.Run, error)) (Activity, error) {
	if err := s.unlocked(); err != nil {
		return Activity{}, err
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
			a.Seconds = commission.Left(run, p, time.Now()).Seconds()
		}
		return err
	}, func(ctx context.Context, stop <-chan struct{}) error {
		ticking, cancel := context.WithCancel(ctx)
		var ticker sync.WaitGroup
		ticker.Add(1)
		go func() {
			defer ticker.Done()
			s.countDown(ticking, p, run.ID, ended)
		}()
		err := runner.Carry(ctx, run, avoid, stop)
		cancel()
		ticker.Wait()
		s.count(s.life, p, run.ID)
		if by := cutOffBy(err); by != nil {
			s.work.Add(1)
			go func() {
				defer s.work.Done()
				s.goOn(run.ID, by)
			}()
		}
		return err
	})
	if err == nil {
		s.publishEntries()
	}
	return a, err
}

// countDown tells once a second, and when devices came to an end, how far a run is
// and how long it still takes. Of a large run it spends a tenth of its time on that
// at most.
func (s *Site) countDown(ctx context.Context, p plan.Plan, run int64, ended <-chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ended:
		case <-ctx.Done():
			return
		}
		began := time.Now()
		s.count(ctx, p, run)
		select {
		case <-time.After(9 * time.Since(began)):
		case <-ctx.Done():
			return
		}
	}
}

func (s *Site) count(ctx context.Context, p plan.Plan, id int64) {
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
		a.Seconds = commission.Left(run, p, time.Now()).Seconds()
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
func (s *Site) Rehearse(ctx context.Context, in RunOptions) (commission.Rehearsal, []store.Entry, error) {
	if err := in.check(); err != nil {
		return commission.Rehearsal{}, nil, err
	}
	p, all, err := s.plan(ctx)
	if err != nil {
		return commission.Rehearsal{}, nil, err
	}
	entries, err := choose(all, in.Tags)
	if err != nil {
		return commission.Rehearsal{}, nil, err
	}
	known := commission.Known{Holds: map[address.MAC]netip.Addr{}, Fresh: in.Fresh}
	if known.Opens, err = s.opens(ctx); err != nil {
		return commission.Rehearsal{}, nil, err
	}
	for _, l := range p.Known.Living {
		if l.Tag == "" {
			continue // who else is there is found out right before the address is given
		}
		known.Holds[l.MAC] = l.Address
	}
	known.Set = map[string]bool{}
	for _, e := range all {
		known.Set[e.Tag] = e.Set()
	}
	if in.All {
		r := p.Resolve()
		var open []store.Entry
		for _, e := range entries {
			if !e.NotWired && (!e.Set() || in.Fresh || view(r, e, nil, whereabouts{}).Differs != nil) {
				open = append(open, e)
			}
		}
		entries = open
	}
	known.Lines = in.Lines
	rehearsal := commission.Rehearse(p, entries, known)
	return rehearsal, entries, s.knowsLines(in.Lines, rehearsal)
}

// opens tells what opens each box, without opening the vault.
func (s *Site) opens(ctx context.Context) (map[address.MAC]procedure.Login, error) {
	credentials, err := s.store.Opening(ctx)
	if err != nil {
		return nil, err
	}
	opens := map[address.MAC]procedure.Login{}
	for mac, c := range credentials {
		opens[mac] = procedure.Login{Known: true, User: c.User, Stamp: c.Stamp}
	}
	return opens, nil
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
