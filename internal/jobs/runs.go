package jobs

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

	"redstart/internal/api"
	"redstart/internal/commission"
	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/state"
	"redstart/internal/lan/line"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/works"
)

// runner carries out runs on the plan as it is now.
func (s *Site) runner(p plan.Plan) *commission.Runner {
	return &commission.Runner{Bench: s.segment.Bench(), Records: s.store, Journal: s.all.Store, Boxes: s.all.Store,
		Secrets: s.all.Vault.At(s.store), Logins: s.all.Vault, Plan: p, Log: s.all.Log, Line: line.Open}
}

// LatestRun gives the latest run of the site.
func (s *Site) LatestRun(ctx context.Context) (api.Run, error) {
	run, ok, err := s.store.LastRun(ctx)
	if err == nil && !ok {
		err = problem.New(problem.Missing, "there was no run yet", "start one: redstart commission")
	}
	return told(run), err
}

// OpenRuns lists the runs that have not ended, oldest first.
func (s *Site) OpenRuns(ctx context.Context) ([]api.Run, error) {
	runs, err := s.store.OpenRuns(ctx)
	list := []api.Run{}
	for _, r := range runs {
		list = append(list, told(r))
	}
	return list, err
}

// told is a run as it is told to people.
func told(r store.Run) api.Run {
	run := api.Run{ID: r.ID, State: r.State, Who: r.Who, StartedAt: r.StartedAt, EndedAt: r.EndedAt, Cause: r.Cause,
		Devices: make([]api.RunDevice, len(r.Devices))}
	for i, d := range r.Devices {
		run.Devices[i] = toldDevice(d)
	}
	return run
}

func toldDevice(d store.RunDevice) api.RunDevice {
	return api.RunDevice{Run: d.Run, Tag: d.Tag, MAC: d.MAC, Profile: d.Profile, Serial: d.Serial, Given: d.Given, State: d.State, Step: d.Step,
		Done: d.Done, Steps: d.Steps, Error: d.Error, StartedAt: d.StartedAt, EndedAt: d.EndedAt, FreshSince: d.FreshSince, Line: d.Line,
		OtherServers: d.OtherServers, Hand: api.Hand(d.Hand)}
}

// Commission starts a run over entries; all are those that are not set as planned
// yet. Fresh gives them new passwords, whatever they have.
func (s *Site) Commission(ctx context.Context, who string, in api.RunOptions) (api.Work, error) {
	if err := errors.Join(s.segment.May(true), in.Check()); err != nil {
		return api.Work{}, err
	}
	rehearsal, entries, err := s.Rehearse(ctx, in)
	if err != nil {
		return api.Work{}, err
	}
	if in.Fresh {
		if err := s.all.Plans.Unlocked(); err != nil {
			return api.Work{}, err
		}
		if err := s.plan.TurnPolicies(ctx, entries, who); err != nil {
			return api.Work{}, err
		}
		if rehearsal, entries, err = s.Rehearse(ctx, in); err != nil {
			return api.Work{}, err
		}
	}
	boxes := map[address.MAC]string{}
	for _, e := range entries {
		if slices.ContainsFunc(rehearsal.Devices, func(d api.Rehearsed) bool { return d.Tag == e.Tag }) {
			boxes[e.Device] = e.Tag
		}
	}
	return s.carry(ctx, who, boxes, in.Capture, func(r *commission.Runner) (store.Run, error) {
		return r.Prepare(ctx, who, rehearsal, entries, in.Fresh, in.OtherServers)
	})
}

// knowsLines refuses lines that the service was not told of, that are named twice, or
// for devices that are not in the run.
func (s *Site) knowsLines(lines map[string]string, r api.Rehearsal) error {
	used := map[string]string{}
	for _, tag := range slices.Sorted(maps.Keys(lines)) {
		name := lines[tag]
		switch {
		case !slices.Contains(s.all.Lines, name):
			return problem.New(problem.Usage, fmt.Sprintf("the service was not told of the serial line %s; it knows %s",
				name, cmp.Or(strings.Join(s.all.Lines, ", "), "none")),
				"start it with: redstart serve --line "+name).About(tag)
		case used[name] != "":
			return problem.New(problem.Usage, fmt.Sprintf("the serial line %s is named for %s too", name, used[name]),
				"name one box for each line").About(tag)
		case !slices.ContainsFunc(r.Devices, func(d api.Rehearsed) bool { return d.Tag == tag }) &&
			!slices.ContainsFunc(r.Left, func(l api.LeftOut) bool { return l.Tag == tag }):
			return problem.New(problem.Usage, "a serial line is named for it, but it is not in the run",
				"leave the line out, or name the entry").About(tag)
		}
		used[name] = tag
	}
	return nil
}

// Resume goes on with a run that was cut off.
func (s *Site) Resume(ctx context.Context, id int64, who string) (api.Work, error) {
	const next = "start a new one: redstart commission"
	run, err := s.cutOff(ctx, id, next)
	if err != nil {
		return api.Work{}, err
	}
	boxes := map[address.MAC]string{}
	for _, d := range run.Devices {
		if !d.Ended() {
			boxes[d.MAC] = d.Tag
		}
	}
	return s.carry(ctx, who, boxes, false, func(r *commission.Runner) (store.Run, error) {
		run, err := s.cutOff(ctx, id, next)
		r.Awaits(run)
		return run, err
	})
}

// cutOff gives a run of the site that was cut off, or waits for a person since before the
// service began.
func (s *Site) cutOff(ctx context.Context, id int64, next string) (store.Run, error) {
	run, err := s.run(ctx, id)
	if err == nil && run.State != state.Interrupted && run.State != state.Parked {
		err = problem.New(problem.Conflict, fmt.Sprintf("run %d was not cut off; it is %s", id, run.State), next)
	}
	return run, err
}

// Run gives a run of the site.
func (s *Site) Run(ctx context.Context, id int64) (api.Run, error) {
	run, err := s.run(ctx, id)
	return told(run), err
}

func (s *Site) run(ctx context.Context, id int64) (store.Run, error) {
	of, err := s.all.Store.Of(ctx, id)
	if err == nil && of.ID != s.store.ID {
		err = problem.New(problem.Missing, "there is no such run on this site", "")
	}
	if err != nil {
		return store.Run{}, err
	}
	return s.all.Store.Run(ctx, id)
}

// GiveUp ends a run that was cut off; its unfinished devices need attention.
func (s *Site) GiveUp(ctx context.Context, id int64, who string) error {
	run, err := s.cutOff(ctx, id, "")
	if err != nil {
		return err
	}
	if s.all.Works.UnderWay(func(w api.Work) bool { return w.Run == id }) {
		return problem.New(problem.Conflict, fmt.Sprintf("run %d is on its way again", id), "stop it instead")
	}
	defer s.plan.Changed()
	return s.store.EndRun(ctx, run, "its run was given up half way; commission it again", who)
}

// WaitWithRuns goes on with the runs of which nothing was in hand when the service ended
// but what waits for persons.
func (s *Jobs) WaitWithRuns(ctx context.Context) error {
	sites, err := s.Store.Sites(ctx)
	if err != nil {
		return err
	}
	for _, data := range sites {
		site, err := s.open(ctx, data.Key)
		if err != nil {
			return err
		}
		runs, err := site.store.OpenRuns(ctx)
		if err != nil {
			return err
		}
		for _, run := range runs {
			if run.State != state.Parked {
				continue
			}
			s.work.Add(1)
			go func() {
				defer s.work.Done()
				site.goOn(run.ID)
			}()
		}
	}
	return nil
}

// comeBackTo goes on with a run that was cut off, once it is noted that it was.
func (s *Site) comeBackTo(id int64, cause error) {
	s.all.Log.Warn("a run was cut off", "run", id, "cause", cause)
	for s.all.Store.InterruptRun(s.all.life, id, cause.Error()) != nil { // the disk takes nothing
		if !s.all.waitForChange() {
			return
		}
	}
	s.plan.Changed()
	s.goOn(id)
}

// goOn goes on with a run once the segment and the records are there again. It ends when
// somebody gives the run up.
func (s *Site) goOn(id int64) {
	for {
		if s.segment.May(true) == nil && !s.all.Vault.Locked() {
			if _, err := s.cutOff(s.all.life, id, ""); err != nil {
				return // given up, or on its way again
			}
			if _, err := s.Resume(s.all.life, id, store.TheService); err == nil {
				s.all.Log.Info("a run goes on", "run", id)
				return
			}
		}
		if !s.all.waitForChange() {
			return
		}
	}
}

// waitForChange waits until the segment changed or some time passed; false: the service ends.
func (s *Jobs) waitForChange() bool {
	changed := s.Segments.Change()
	again := time.NewTimer(lookAgainAfter)
	defer again.Stop()
	select {
	case <-changed:
	case <-again.C:
	case <-s.life.Done():
		return false
	}
	return true
}

// lookAgainAfter is how often it is tried whether work that was cut off can go on.
const lookAgainAfter = time.Second

// carry carries out the run that prepare gives, over boxes with their tags.
func (s *Site) carry(ctx context.Context, who string, boxes map[address.MAC]string, capture bool,
	prepare func(*commission.Runner) (store.Run, error)) (api.Work, error) {
	if err := s.all.Plans.Unlocked(); err != nil {
		return api.Work{}, err
	}
	p, _, err := s.plan.Bare(ctx)
	if err != nil {
		return api.Work{}, err
	}
	avoid, runner := p.Needs(), s.runner(p)
	moved := make(chan struct{}, 1) // holds one token when a device came to an end, or was parked
	runner.Notify = func(d store.RunDevice) {
		s.deviceMoved(d)
		if d.Ended() || d.State == state.Parked {
			select {
			case moved <- struct{}{}:
			default:
			}
		}
	}
	var run store.Run
	first := api.Work{Site: s.store.Key, Kind: api.Commissioning, Who: who, Text: "setting the devices"}
	end, err := s.keeping(ctx, capture, who)
	if err != nil {
		return api.Work{}, err
	}
	a, err := s.begin(first, works.Needs{Boxes: boxes}, func(w *works.Work) (err error) {
		if run, err = prepare(runner); err == nil {
			runner.Free = w.Free
			s.all.mu.Lock()
			s.all.runners[run.ID] = runner
			s.all.mu.Unlock()
			w.Progress(func(a *api.Work) {
				a.Run, a.Total = run.ID, len(run.Devices)
				a.Seconds = commission.Left(run, p, time.Now()).Seconds()
			})
		}
		return err
	}, func(ctx context.Context, w *works.Work) error {
		defer func() {
			s.all.mu.Lock()
			if s.all.runners[run.ID] == runner { // it may be on its way again
				delete(s.all.runners, run.ID)
			}
			s.all.mu.Unlock()
		}()
		ticking, cancel := context.WithCancel(ctx)
		var ticker sync.WaitGroup
		ticker.Add(1)
		go func() {
			defer ticker.Done()
			s.countDown(ticking, w, p, moved)
		}()
		err := runner.Carry(ctx, run, avoid, w.Stopping())
		end(fmt.Sprintf("run %d", run.ID))
		cancel()
		ticker.Wait()
		s.count(s.all.life, w, p)
		if by := CutOffBy(err); by != nil {
			s.all.work.Add(1)
			go func() {
				defer s.all.work.Done()
				s.comeBackTo(run.ID, by)
			}()
		}
		return err
	})
	if err != nil {
		end("")
		return a, err
	}
	s.plan.Changed()
	return a, nil
}

// countDown tells once a second, and when devices came to an end, how far a run is
// and how long it still takes. Of a large run it spends a tenth of its time on that
// at most.
func (s *Site) countDown(ctx context.Context, w *works.Work, p plan.Plan, moved <-chan struct{}) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-moved:
		case <-ctx.Done():
			return
		}
		began := time.Now()
		s.count(ctx, w, p)
		select {
		case <-time.After(9 * time.Since(began)):
		case <-ctx.Done():
			return
		}
	}
}

func (s *Site) count(ctx context.Context, w *works.Work, p plan.Plan) {
	run, err := s.all.Store.Run(ctx, w.Now().Run)
	if err != nil {
		return // the service is ending
	}
	count := map[string]int{}
	for _, d := range run.Devices {
		count[d.State]++
	}
	w.Progress(func(a *api.Work) {
		a.Done, a.Failed, a.Parked = count[state.Done], count[state.Failed], count[state.Parked]
		a.Seconds = commission.Left(run, p, time.Now()).Seconds()
		a.Text = fmt.Sprintf("%d of %d configured", a.Done, a.Total)
		switch a.Parked {
		case 0:
		case 1:
			a.Text += ", 1 waits for a hand"
		default:
			a.Text += fmt.Sprintf(", %d wait for a hand", a.Parked)
		}
	})
}

// deviceMoved tells everyone that a device of a run moved on.
func (s *Site) deviceMoved(d store.RunDevice) {
	s.all.Hub.Publish(s.store.Key, "run", toldDevice(d))
	if d.Ended() {
		s.plan.EntryChanged(d.Tag)
	}
}

// Rehearse works out what a run would do.
func (s *Site) Rehearse(ctx context.Context, in api.RunOptions) (api.Rehearsal, []store.Entry, error) {
	if err := in.Check(); err != nil {
		return api.Rehearsal{}, nil, err
	}
	p, all, err := s.plan.Plan(ctx)
	if err != nil {
		return api.Rehearsal{}, nil, err
	}
	entries, err := planning.Pick(all, in.Tags)
	if err != nil {
		return api.Rehearsal{}, nil, err
	}
	entries = s.withBoxes(p.Resolve(), all, entries, in.All)
	known := commission.Known{Holds: map[address.MAC]netip.Addr{}, Fresh: in.Fresh}
	if known.Opens, err = s.plan.Opens(ctx); err != nil {
		return api.Rehearsal{}, nil, err
	}
	for _, l := range p.Known.Living {
		if l.Tag == "" {
			continue // who else is there is found out right before the address is given
		}
		known.Holds[l.MAC] = l.Address
	}
	if known.Busy, err = s.busy(ctx); err != nil {
		return api.Rehearsal{}, nil, err
	}
	known.Set = map[string]bool{}
	for _, e := range all {
		known.Set[e.Tag] = e.Set()
	}
	if in.All {
		r := p.Resolve()
		var open []store.Entry
		for _, e := range entries {
			if e.Behind != "" {
				open = append(open, e)
				continue
			}
			if !e.NotWired && (!e.Set() || in.Fresh || planning.View(r, e, nil, api.Whereabouts{}).Differs != nil) {
				open = append(open, e)
			}
		}
		entries = open
	}
	known.Lines = in.Lines
	rehearsal := commission.Rehearse(p, entries, known)
	rehearsal.Lines = append(rehearsal.Lines, s.all.Lines...)
	return rehearsal, entries, s.knowsLines(in.Lines, rehearsal)
}

// withBoxes adds the boxes through which chosen entries behind them are set. Of all entries,
// those behind others follow from these: only what is not known yet is worth a word.
func (s *Site) withBoxes(r plan.Resolver, all, chosen []store.Entry, everything bool) []store.Entry {
	if everything {
		return slices.DeleteFunc(slices.Clone(chosen), func(e store.Entry) bool {
			return e.Behind != "" && (e.Part != "" || e.NotWired)
		})
	}
	list := slices.Clone(chosen)
	for _, e := range chosen {
		row, known := r.PartRow(e.Entry)
		if !known || row.Setting == nil || slices.ContainsFunc(list, func(o store.Entry) bool { return o.Tag == e.Behind }) {
			continue
		}
		for _, box := range all {
			if box.Tag == e.Behind {
				list = append(list, box)
			}
		}
	}
	return list
}

// busy tells in whose hands boxes are: of work under way, or of a run that was cut off.
func (s *Site) busy(ctx context.Context) (map[address.MAC]string, error) {
	held := s.all.Works.Held(s.segment.Segment())
	runs, err := s.store.OpenRuns(ctx)
	for _, run := range runs {
		for _, d := range run.Devices {
			if held[d.MAC] == "" && !d.Ended() {
				held[d.MAC] = fmt.Sprintf("run %d, which was cut off, has it in hand; go on with that, or give it up",
					run.ID)
			}
		}
	}
	return held, err
}
