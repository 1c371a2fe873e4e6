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
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/core/value"
	"redstart/internal/inquiry"
	"redstart/internal/store"
	"redstart/internal/survey"
	"redstart/internal/works"
)

// mostSwept bounds the addresses of one survey: a /16 and the plan.
const mostSwept = 1<<17 + 1<<12

// mostRanges bounds how many ranges are asked for besides the plan.
const mostRanges = 64

// sweep lists the addresses to ask for.
func sweep(o api.FindOptions, site plan.Site) ([]netip.Addr, error) {
	if len(o.Ranges) > mostRanges {
		return nil, problem.New(problem.Usage, fmt.Sprintf("%d ranges are too many for one survey; at most %d are taken",
			len(o.Ranges), mostRanges), "put them together")
	}
	var ranges []address.Range
	for _, n := range site.Subnets {
		if n.Prefix.Bits() >= 16 {
			ranges = append(ranges, address.Hosts(n.Prefix))
		}
	}
	for _, text := range o.Ranges {
		r, err := parseRange(text)
		if err != nil {
			return nil, err
		}
		ranges = append(ranges, r)
	}
	var list []netip.Addr
	seen, once := map[netip.Addr]bool{}, map[address.Range]bool{}
	for _, r := range ranges {
		if once[r] {
			continue
		}
		once[r] = true
		for n := uint64(address.Number(r.From)); n <= uint64(address.Number(r.To)); n++ {
			if a := address.FromNumber(uint32(n)); !seen[a] {
				seen[a] = true
				list = append(list, a)
			}
		}
		if len(list) > mostSwept {
			return nil, problem.New(problem.Usage, "the ranges together have too many addresses for one survey",
				"ask for at most a /16 at a time")
		}
	}
	return list, nil
}

func parseRange(text string) (address.Range, error) {
	wrong := problem.New(problem.Usage, "this is no range of addresses of at most a /16",
		"write it like 10.0.0.0/16, 10.0.0.1-10.0.0.99 or 10.0.0.7").About(text)
	if p, err := netip.ParsePrefix(strings.TrimSpace(text)); err == nil {
		if !p.Addr().Is4() || p.Bits() < 16 {
			return address.Range{}, wrong
		}
		if p.Bits() >= 31 {
			return address.Range{From: p.Masked().Addr(), To: address.LastOf(p)}, nil
		}
		return address.Hosts(p), nil
	}
	r, err := address.ParseRange(strings.TrimSpace(text))
	if err != nil || r.Size() > 1<<16 {
		return address.Range{}, wrong
	}
	return r, nil
}

// inquirer asks devices who they are, borrowing no address that the plan needs.
func (s *Site) inquirer(avoid func(netip.Addr) bool) survey.Ask {
	q := inquiry.Inquirer{Bench: s.segment.Bench(), Profiles: s.all.Plans.Profiles(), Avoid: avoid}
	return func(ctx context.Context, f *device.Found) ([]device.Sighting, error) {
		told, err := q.Ask(ctx, f)
		if err != nil && ctx.Err() == nil {
			s.all.Log.Warn("a device did not say who it is", "mac", f.MAC.String(), "error", err)
		}
		return told, err
	}
}

// options are those that surveys and watches share.
func (s *Site) options(ctx context.Context) (survey.Options, plan.Plan, error) {
	p, entries, err := s.plan.Bare(ctx)
	if err != nil {
		return survey.Options{}, p, err
	}
	known, err := s.store.Devices(ctx)
	if err != nil {
		return survey.Options{}, p, err
	}
	for i, f := range known {
		known[i] = f.Clone() // a survey adds to them
	}
	o := survey.Options{Known: known, Keep: map[address.MAC]bool{}, Avoid: p.Needs(), LookOnly: s.all.LookOnly}
	for _, e := range entries {
		o.Keep[e.Device] = true
	}
	for _, n := range p.Site.Subnets {
		o.Subnets = append(o.Subnets, n.Prefix.Masked())
	}
	if !s.all.LookOnly {
		o.Ask = s.inquirer(o.Avoid)
	}
	return o, p, nil
}

// Find starts a survey.
func (s *Site) Find(ctx context.Context, who string, f api.FindOptions) (api.Work, error) {
	if f.Pace < 0 || f.Pace > survey.MostPace {
		return api.Work{}, survey.ErrPace
	}
	if err := s.segment.May(false); err != nil {
		return api.Work{}, err
	}
	o, p, err := s.options(ctx)
	if err != nil {
		return api.Work{}, err
	}
	if o.Sweep, err = sweep(f, p.Site); err != nil {
		return api.Work{}, err
	}
	o.Pace = cmp.Or(f.Pace, s.all.Pace, survey.Normal)
	if f.LookOnly {
		o.LookOnly, o.Ask = true, nil
	}
	first := api.Work{Site: s.store.Key, Kind: api.Finding, Who: who, Text: "asking the segment who is there"}
	return s.begin(first, works.Needs{Alone: true}, nil, func(ctx context.Context, w *works.Work) error {
		return s.survey(ctx, w, who, o, f.Capture, slices.ContainsFunc(p.Used(), func(q *profile.Profile) bool {
			return q.Factory.DHCP
		}))
	})
}

// survey carries a survey out and keeps it; awaitsAskers says that boxes are planned
// which wait for DHCP.
func (s *Site) survey(ctx context.Context, w *works.Work, who string, o survey.Options, withCapture,
	awaitsAskers bool) error {
	ctx, cancel := w.Until(ctx)
	defer cancel()
	v := store.Survey{Began: stamp.Now(), Who: who, Pace: o.Pace, State: state.Done}
	kept := func() {}
	if withCapture {
		end, name, err := s.capture(ctx)
		if err != nil {
			return err
		}
		defer end()
		v.Capture, kept = name, end
	}
	keep, seen := s.keepDevices(), map[address.MAC]device.Seen{}
	final, err := survey.Run(ctx, s.segment.Bench(), s.all.Plans.Profiles(), o, func(f *device.Found, p survey.Progress) {
		keep.add(f)
		seen[f.MAC] = f.Glance()
		s.arrived(f)
		w.Progress(func(a *api.Work) {
			a.Done, a.Total = p.Probes, p.Planned
			a.Seconds = float64(p.Planned-p.Probes) / float64(o.Pace)
			a.Text = fmt.Sprintf("%s so far, pass %d", value.Count(p.Found, "device"), len(p.Passes))
		})
	})
	unkept := keep.close()
	v.Ended, v.Found, v.Believed, v.Passes = stamp.Now(), final.Found, final.Believed, final.Passes
	if ctx.Err() != nil {
		v.State = state.Stopped
	} else if err != nil {
		v.State = state.Failed
	}
	v.Seen = slices.SortedFunc(maps.Values(seen), func(a, b device.Seen) int {
		return slices.Compare(a.MAC[:], b.MAC[:])
	})
	kept() // whoever reads the survey finds its packets whole
	text, keepErr := s.keepSurvey(v, final, awaitsAskers)
	if unkept = cmp.Or(unkept, keepErr); unkept != nil {
		s.all.Log.Error("the survey could not be kept", "error", unkept)
		return errors.Join(err, unkept) // what is not stored is not found
	}
	w.Progress(func(a *api.Work) { a.Done, a.Total, a.Text = final.Probes, max(final.Planned, final.Probes), text })
	s.plan.Changed()
	return err
}

// withUnheard adds what was there before to what a survey heard in a flood: whoever was not heard
// then is not called gone.
func withUnheard(before, now []device.Seen) []device.Seen {
	all, heard := slices.Clone(now), make(map[address.MAC]bool, len(now))
	for _, n := range now {
		heard[n.MAC] = true
	}
	for _, b := range before {
		if !heard[b.MAC] {
			all = append(all, b)
		}
	}
	return all
}

// keepSurvey stores a survey with what it changed, and says it in words.
func (s *Site) keepSurvey(v store.Survey, final survey.Progress, awaitsAskers bool) (string, error) {
	text := value.Count(v.Found, "device") + " on the segment"
	switch {
	case v.State == state.Stopped:
		text = value.Count(v.Found, "device") + " found before it was stopped"
	case final.Flooded > 0:
		text += fmt.Sprintf("; it is being flooded: %d frames came of senders that there was no room for, so nobody can say that these are all; look for a loop, or for somebody who makes senders up", final.Flooded)
	case final.Unquiet:
		text += "; it never went quiet, so the survey was ended: somebody goes on telling something new"
	case v.Believed > v.Found:
		text += fmt.Sprintf("; about %d are believed to be there, so find again", v.Believed)
	case v.Believed > 0:
		text += fmt.Sprintf("; %d passes agree that these are all", len(v.Passes))
	}
	if awaitsAskers && v.State == state.Done && s.watch() == nil && v.Ended.Sub(v.Began.Time) < rareAsker {
		text += fmt.Sprintf("; boxes that wait for DHCP and ask less than every %.0f s may be missing, watch to hear them", v.Ended.Sub(v.Began.Time).Seconds())
	}
	// The service waits for its work before it closes the records.
	ctx := context.WithoutCancel(s.all.life)
	before, any, err := s.store.LastSurvey(ctx)
	if err != nil {
		return text, err
	}
	if final.Flooded > 0 {
		v.Seen = withUnheard(before.Seen, v.Seen)
	}
	v.Changes = []device.Change{}
	if any && v.State == state.Done {
		v.Changes = device.Changes(before.Seen, v.Seen)
		if words := changesText(v.Changes); words != "" {
			text += "; since the last survey: " + words
		}
	}
	_, err = s.store.AddSurvey(ctx, v)
	return text, err
}

// rareAsker is how long to listen to hear a box that asks for an address only now
// and then: clients double their pauses up to 64 s (RFC 2131, 4.1).
const rareAsker = 64 * time.Second

func changesText(list []device.Change) string {
	count := map[string]int{}
	for _, c := range list {
		count[c.Kind]++
	}
	var parts []string
	for _, kind := range []string{device.Came, device.Went, device.Moved, device.Renamed} {
		if count[kind] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[kind], kind))
		}
	}
	return strings.Join(parts, ", ")
}

// mostSurveys are listed.
const mostSurveys = 200

// Surveys lists the surveys with what each changed, latest first.
func (s *Site) Surveys(ctx context.Context) ([]api.Survey, error) {
	kept, err := s.store.Surveys(ctx, mostSurveys)
	list := []api.Survey{}
	for _, v := range kept {
		list = append(list, api.Survey{ID: v.ID, Began: v.Began, Ended: v.Ended, Who: v.Who, Pace: v.Pace, State: v.State, Found: v.Found,
			Believed: v.Believed, Passes: v.Passes, Changes: v.Changes, Capture: v.Capture})
	}
	return list, err
}

// keeper stores devices while a survey runs, each as it was last, without
// making the survey wait for the disk.
type keeper struct {
	mu      sync.Mutex
	pending map[address.MAC]*device.Found
	wake    chan struct{} // holds one token when something is pending
	ended   chan struct{}
	failed  error // the last failure to store; good after close
}

func (s *Site) keepDevices() *keeper {
	k := &keeper{pending: map[address.MAC]*device.Found{}, wake: make(chan struct{}, 1), ended: make(chan struct{})}
	go func() {
		defer close(k.ended)
		for range k.wake {
			k.mu.Lock()
			list := slices.Collect(maps.Values(k.pending))
			clear(k.pending)
			k.mu.Unlock()
			// The service waits for its work before it closes the records.
			err := s.store.SaveDevices(context.WithoutCancel(s.all.life), s.all.Plans.Recognise, list...)
			if err != nil {
				if k.failed == nil { // once is enough until it works again
					s.all.Log.Error("found devices could not be stored", "count", len(list), "error", err)
				}
				k.again(list)
			}
			k.failed = err
		}
	}()
	return k
}

func (k *keeper) add(f *device.Found) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.pending[f.MAC] = f
	select {
	case k.wake <- struct{}{}:
	default:
	}
}

// again keeps what could not be stored for the next time, unless newer is known.
func (k *keeper) again(list []*device.Found) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, f := range list {
		if k.pending[f.MAC] == nil {
			k.pending[f.MAC] = f
		}
	}
}

// close waits until everything is stored, and says what could not be.
func (k *keeper) close() error {
	select {
	case k.wake <- struct{}{}: // one last time, for what could not be stored before
	default:
	}
	close(k.wake)
	<-k.ended
	return k.failed
}
