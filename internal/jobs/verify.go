package jobs

import (
	"context"
	"fmt"
	"sync"
	"time"

	"redstart/internal/api"
	"redstart/internal/check"
	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/result"
	"redstart/internal/core/state"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/verify"
	"redstart/internal/works"
)

// SetByHand marks entries as set by hand, all or none: by a person who did what no
// run can do yet. Verification then looks at all that can be looked at.
func (s *Site) SetByHand(ctx context.Context, in api.Chosen, who string) ([]string, error) {
	if err := in.Check(); err != nil {
		return nil, err
	}
	p, all, err := s.plan.Bare(ctx)
	if err != nil {
		return nil, err
	}
	chosen, err := planning.Pick(all, in.Tags)
	if err != nil {
		return nil, err
	}
	r := p.Resolve()
	var list []store.HandSet
	tags := []string{}
	for _, e := range chosen {
		q := p.Profiles[e.Profile]
		byHand := q != nil && !q.Sets() && e.Behind == ""
		switch {
		case in.All && (!byHand || e.State != state.Matched):
			continue
		case e.Behind != "":
			return nil, problem.New(problem.Conflict, "it hangs behind "+e.Behind+", and is set with that",
				"mark that one").About(e.Tag)
		case e.Device.IsZero():
			return nil, problem.New(problem.Conflict, "no device is matched with it",
				"match it first: redstart match").About(e.Tag)
		case !byHand:
			return nil, problem.New(problem.Conflict, "a run can set it",
				"commission it: redstart commission "+e.Tag).About(e.Tag)
		case e.State == state.Configuring:
			return nil, problem.New(problem.Conflict, "a run is setting its device",
				"wait until it is done").About(e.Tag)
		}
		list = append(list, store.HandSet{Tag: e.Tag, MAC: e.Device, Given: procedure.For(r, e.Entry, q)})
		tags = append(tags, e.Tag)
	}
	if len(list) == 0 {
		return nil, problem.New(problem.Conflict, "no matched entry waits to be set by hand", "")
	}
	defer s.plan.Changed()
	return tags, s.store.SetByHand(ctx, list, who)
}

// Verify starts a verification; all are those that are configured, by a run or by hand.
func (s *Site) Verify(ctx context.Context, who string, in api.VerifyOptions) (api.Work, error) {
	if err := in.Check(); err != nil {
		return api.Work{}, err
	}
	tags, restart := in.Tags, in.Restart
	switch restart {
	case "":
		restart = check.Needed
	case check.Needed, check.Always, check.Never:
	default:
		return api.Work{}, problem.New(problem.Usage, "restart must be needed, always or never", "")
	}
	if err := s.all.Plans.Unlocked(); err != nil {
		return api.Work{}, err
	}
	p, all, err := s.plan.Bare(ctx)
	if err != nil {
		return api.Work{}, err
	}
	avoid, r := p.Needs(), p.Resolve()
	verifier := &verify.Verifier{Bench: s.segment.Bench(), Records: s.store, Boxes: s.all.Store, Secrets: s.all.Vault.At(s.store), Logins: s.all.Vault, Profiles: p.Profiles, Log: s.all.Log}
	chosen, err := planning.Pick(all, tags)
	if err != nil {
		return api.Work{}, err
	}
	held, err := s.busy(ctx)
	if err != nil {
		return api.Work{}, err
	}
	looks, inHand, err := looksAt(all, chosen, held, len(tags) > 0)
	if err != nil {
		return api.Work{}, err
	}
	switch {
	case len(looks) > 0:
	case inHand != "":
		return api.Work{}, problem.New(problem.Conflict, "nothing is configured that nobody has in hand; "+inHand,
			"wait until that is done, or stop it")
	default:
		return api.Work{}, problem.New(problem.Conflict, "nothing is configured yet",
			"commission first: redstart commission")
	}
	boxes := map[address.MAC]string{}
	total := 0
	for _, l := range looks {
		boxes[l.Box.Device] = l.Box.Tag
		total += len(l.Entries())
	}
	first := api.Work{Site: s.store.Key, Kind: api.Verifying, Who: who, Total: total, Text: "looking at the devices afresh"}
	end, err := s.keeping(ctx, in.Capture, who)
	if err != nil {
		return api.Work{}, err
	}
	a, err := s.begin(first, works.Needs{Boxes: boxes}, nil, func(ctx context.Context, w *works.Work) error {
		defer end(api.Verifying)
		side := verifySideBySide
		if in.Gentle {
			side = 2
		}
		slots := make(chan struct{}, side)
		var all sync.WaitGroup
		ctx, cut := context.WithCancelCause(ctx)
		defer cut(nil)
		for _, l := range looks {
			select {
			case slots <- struct{}{}:
			case <-w.Stopping():
				all.Wait()
				return nil
			case <-ctx.Done():
				all.Wait()
				return context.Cause(ctx)
			}
			all.Add(1)
			go func() {
				defer all.Done()
				defer func() { <-slots }()
				lists, err := verifier.At(ctx, r, l, restart, avoid, who)
				w.Free(l.Box.Device)
				if ctx.Err() != nil {
					return
				}
				if err != nil {
					s.all.Log.Error("a device could not be verified", "tag", l.Box.Tag, "error", err)
					if by := CutOffBy(err); by != nil {
						cut(by)
						return
					}
				}
				for _, e := range l.Entries() {
					list, looked := lists[e.Tag]
					s.plan.EntryChanged(e.Tag)
					w.Progress(func(a *api.Work) { judge(a, list, looked && err == nil) })
				}
			}()
		}
		all.Wait()
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return nil
	})
	if err != nil {
		end("")
	}
	return a, err
}

// judge counts an entry that was verified.
func judge(a *api.Work, list []result.Check, looked bool) {
	a.Done++
	switch {
	case !looked || len(result.Failing(list)) > 0:
		a.Failed++
	case !result.Verified(list):
		a.Unsure++
	}
	// What the rest takes, judged by what this much took.
	a.Seconds = time.Since(a.Began).Seconds() / float64(a.Done) * float64(a.Total-a.Done)
	a.Text = fmt.Sprintf("%d of %d verified", a.Done-a.Failed-a.Unsure, a.Total)
	if a.Unsure > 0 {
		a.Text += fmt.Sprintf(", %d not in everything", a.Unsure)
	}
}

// looksAt works out which boxes are looked at for the chosen entries; each is looked at once
// for itself and for what hangs behind it. Named ones must be there to be looked at; of all,
// those are that are set. inHand names one that somebody has in hand.
func looksAt(all, chosen []store.Entry, held map[address.MAC]string, byName bool) (looks []verify.Look, inHand string,
	err error) {
	byTag, at := map[string]store.Entry{}, map[string]int{}
	for _, e := range all {
		byTag[e.Tag] = e
	}
	for _, e := range chosen {
		box := e
		if e.Behind != "" {
			box = byTag[e.Behind]
		}
		set := box.Set() || box.State == state.Attention && !box.CheckedAt.IsZero()
		if e.Behind != "" {
			set = set && e.Part != "" && !e.NotWired
		}
		switch {
		case held[box.Device] != "" && byName:
			return nil, "", problem.New(problem.Conflict, held[box.Device],
				"wait until that is done, or stop it").About(e.Tag)
		case held[box.Device] != "":
			inHand = e.Tag + ": " + held[box.Device]
			continue
		case byName && box.Device.IsZero():
			cause := "no device is matched with it"
			if e.Behind != "" {
				cause = "no device is matched with what it hangs behind, " + e.Behind
			}
			return nil, "", problem.New(problem.Conflict, cause, "match it first: redstart match").About(e.Tag)
		case byName && !box.Address.IsValid():
			return nil, "", problem.New(problem.Conflict, "it has no planned address",
				"plan one: redstart plan set "+box.Tag+" address=next").About(box.Tag)
		case !byName && !set:
			continue
		}
		i, there := at[box.Tag]
		if !there {
			i = len(looks)
			at[box.Tag], looks = i, append(looks, verify.Look{Box: box})
		}
		if e.Behind == "" {
			looks[i].Own = true
		} else {
			looks[i].Parts = append(looks[i].Parts, e)
		}
	}
	return looks, inHand, nil
}

// verifySideBySide is how many devices are looked at at the same time.
const verifySideBySide = 500
