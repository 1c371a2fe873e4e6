package handing

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"redstart/internal/api"
	"redstart/internal/check"
	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/handover"
	"redstart/internal/planning"
	"redstart/internal/store"
	"redstart/internal/survey"
)

// days are those of a week, by what they are called.
var days = map[string]time.Weekday{"mon": time.Monday, "tue": time.Tuesday, "wed": time.Wednesday, "thu": time.Thursday,
	"fri": time.Friday, "sat": time.Saturday, "sun": time.Sunday}

// due is the next moment after another at which a lookout looks, by the clock of a zone. A time
// of day that a day has not, when clocks are put forward, is the hour after.
func due(l api.Lookout, after time.Time, zone *time.Location) time.Time {
	at, err := time.Parse("15:04", l.At)
	if err != nil {
		return time.Time{}
	}
	after = after.In(zone)
	for i := range 9 {
		day := time.Date(after.Year(), after.Month(), after.Day()+i, at.Hour(), at.Minute(), 0, 0, zone)
		fits := len(l.Days) == 0 || slices.ContainsFunc(l.Days, func(name string) bool { return days[name] == day.Weekday() })
		if fits && day.After(after) {
			return day
		}
	}
	return time.Time{}
}

// zone is that of the site, or the computer's.
func (s *Site) zone(ctx context.Context) *time.Location {
	if data, err := s.store.Data(ctx); err == nil && data.Zone != "" {
		if zone, err := time.LoadLocation(data.Zone); err == nil {
			return zone
		}
	}
	return time.Local
}

// SetLookout has the service look by itself from now on. It looks once at once: what was not
// handed over is compared with what it sees then.
func (s *Site) SetLookout(ctx context.Context, l api.Lookout) (api.LookoutView, error) {
	for i, day := range l.Days {
		l.Days[i] = strings.ToLower(strings.TrimSpace(day))
		if _, ok := days[l.Days[i]]; !ok {
			return api.LookoutView{}, problem.New(problem.Usage, fmt.Sprintf("%q is no day", day), "give some of mon, tue, wed, thu, fri, sat, sun")
		}
	}
	if _, err := time.Parse("15:04", l.At); err != nil {
		return api.LookoutView{}, problem.New(problem.Usage, fmt.Sprintf("%q is no time of day", l.At), "give one like 02:30")
	}
	if l.Hook != "" {
		if err := handover.CheckHook(l.Hook); err != nil {
			return api.LookoutView{}, err
		}
	}
	if l.Pace < 0 || l.Pace > survey.MostPace {
		return api.LookoutView{}, survey.ErrPace
	}
	all, err := s.store.Entries(ctx)
	if err == nil {
		_, err = planning.Pick(all, l.Tags)
	}
	if err != nil {
		return api.LookoutView{}, err
	}
	doc, err := json.Marshal(l)
	if err != nil {
		return api.LookoutView{}, err
	}
	old, ok, err := s.store.Lookout(ctx)
	if err != nil {
		return api.LookoutView{}, err
	}
	if !ok {
		old = store.Lookout{Seen: "[]", Changed: "[]", Register: []byte{}}
	}
	old.Doc, old.HookSum = string(doc), ""
	if err := s.store.SetLookout(ctx, old); err != nil {
		return api.LookoutView{}, err
	}
	if old.LookedAt.IsZero() {
		s.all.mu.Lock()
		s.all.lookNow[s.store.ID] = true
		s.all.mu.Unlock()
	}
	s.all.nudge()
	s.all.Hub.Publish(s.store.Key, "lookout", struct{}{})
	return s.Lookout(ctx)
}

// EndLookout ends it.
func (s *Site) EndLookout(ctx context.Context) error {
	defer s.all.nudge()
	defer s.all.Hub.Publish(s.store.Key, "lookout", struct{}{})
	return s.store.ForgetLookout(ctx)
}

// LookNow has a lookout look at once: in the background, or while whoever asks waits for what it
// finds.
func (s *Site) LookNow(ctx context.Context, wait bool) (api.LookoutView, error) {
	if _, ok, err := s.store.Lookout(ctx); err != nil || !ok {
		return api.LookoutView{}, errors.Join(err, problem.New(problem.Conflict, "the service does not look at this site by itself",
			"say when: redstart handover lookout --at 02:30"))
	}
	if wait {
		if err := s.look(ctx); err != nil {
			return api.LookoutView{}, err
		}
		return s.Lookout(ctx)
	}
	if err := s.jobs.May(false); err != nil {
		return api.LookoutView{}, err
	}
	s.all.mu.Lock()
	s.all.lookNow[s.store.ID] = true
	s.all.mu.Unlock()
	s.all.nudge()
	return s.Lookout(ctx)
}

// Lookout tells when the service looks by itself, and what it found.
func (s *Site) Lookout(ctx context.Context) (v api.LookoutView, err error) {
	v.Changed = []api.Difference{}
	l, ok, err := s.store.Lookout(ctx)
	if err != nil || !ok {
		return v, err
	}
	if err := errors.Join(json.Unmarshal([]byte(l.Doc), &v.Lookout), json.Unmarshal([]byte(l.Changed), &v.Changed)); err != nil {
		return v, err
	}
	v.On, v.LookedAt = true, l.LookedAt.Time
	v.Next = due(v.Lookout, time.Now(), s.zone(ctx))
	if _, v.Against, err = s.baseline(ctx, l); err != nil {
		return v, err
	}
	s.all.mu.Lock()
	v.Wrong, v.Looking = s.all.wrong[s.store.ID], s.all.lookNow[s.store.ID] || s.all.lookingAt == s.store.ID
	s.all.mu.Unlock()
	return v, nil
}

// baseline gives what the site is compared with, and says in words what that is.
func (s *Site) baseline(ctx context.Context, l store.Lookout) (register []byte, says string, err error) {
	h, err := s.store.Handover(ctx, 0)
	switch {
	case err == nil:
		return h.Register, "what was handed over to " + h.Taker + ", " + h.At.Format("2 Jan 2006"), nil
	case problem.KindOf(err) != problem.Missing:
		return nil, "", err
	case len(l.Register) > 0:
		return l.Register, "what was seen when it began to look", nil
	}
	return nil, "nothing yet", nil
}

// look looks at the site gently, changes nothing, and keeps what is not as it was.
func (s *Site) look(ctx context.Context) error {
	s.all.alone.Lock()
	defer s.all.alone.Unlock()
	s.setLooking(s.store.ID)
	defer s.setLooking(0)
	carried := func(a api.Work, err error) error {
		if err == nil {
			a, err = s.all.Works.Outcome(ctx, a.ID)
		}
		if err == nil && a.State != state.Done {
			err = problem.New(problem.Conflict, "looking came to no end: "+a.Text, "look again")
		}
		return err
	}
	l, ok, err := s.store.Lookout(ctx)
	if err != nil || !ok {
		return err
	}
	var how api.Lookout
	if err := json.Unmarshal([]byte(l.Doc), &how); err != nil {
		return err
	}
	if err := carried(s.jobs.Find(ctx, store.TheService, api.FindOptions{Pace: cmp.Or(how.Pace, min(survey.Gentle, cmp.Or(s.all.Pace, survey.Normal)))})); err != nil {
		return err
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return err
	}
	set := slices.ContainsFunc(entries, func(e store.Entry) bool { return e.Set() || e.State == state.Attention && !e.CheckedAt.IsZero() })
	if set && !s.all.LookOnly {
		if err := carried(s.jobs.Verify(ctx, store.TheService, api.VerifyOptions{Chosen: api.Chosen{Tags: how.Tags, All: len(how.Tags) == 0},
			Restart: check.Never, Gentle: true})); err != nil {
			return err
		}
	}
	return s.compare(ctx, l, how)
}

// setLooking notes at which site it looks, 0 for none, and tells whoever watches.
func (s *Site) setLooking(at int64) {
	s.all.mu.Lock()
	s.all.lookingAt = at
	delete(s.all.lookNow, at)
	s.all.mu.Unlock()
	s.all.Hub.Publish(s.store.Key, "lookout", struct{}{})
}

// seenNow has what is on the segment compared with what was there when something was handed over.
func (s *Site) seenNow(ctx context.Context) error {
	l, ok, err := s.store.Lookout(ctx)
	if err != nil || !ok {
		return err
	}
	now, ok, err := s.store.LastSurvey(ctx)
	if err != nil || !ok {
		return err
	}
	seen, err := json.Marshal(now.Seen)
	if err != nil {
		return err
	}
	l.Seen = string(seen)
	return s.store.SetLookout(ctx, l)
}

// compare keeps what is not as it was, and tells whoever wants to know.
func (s *Site) compare(ctx context.Context, l store.Lookout, how api.Lookout) error {
	r, err := s.record(ctx, false)
	if err != nil {
		return err
	}
	now, _, err := s.store.LastSurvey(ctx)
	if err != nil {
		return err
	}
	register, _, err := s.baseline(ctx, l)
	if err != nil {
		return err
	}
	if l.LookedAt.IsZero() {
		if l.Register, err = handover.Then(r); err != nil {
			return err
		}
		seen, err := json.Marshal(now.Seen)
		if err != nil {
			return err
		}
		l.Seen = string(seen)
	}
	if register == nil {
		register = l.Register
	}
	changed, err := handover.Since(register, r)
	if err != nil {
		return err
	}
	if len(how.Tags) > 0 {
		changed = slices.DeleteFunc(changed, func(d api.Difference) bool { return !slices.Contains(how.Tags, d.Tag) })
	}
	var before []device.Seen
	if err := json.Unmarshal([]byte(l.Seen), &before); err != nil {
		return err
	}
	tags, there := map[address.MAC]string{}, map[address.MAC]bool{}
	for _, e := range r.Entries {
		if !e.Device.IsZero() {
			tags[e.Device] = e.Tag
			there[e.Device] = e.State == state.Verified && e.CheckedAt.After(now.Ended.Time)
		}
	}
	for _, c := range device.Changes(before, now.Seen) {
		if c.Kind == device.Went && there[c.MAC] {
			continue // the survey missed it, and the verification after it did not
		}
		if len(how.Tags) == 0 || slices.Contains(how.Tags, tags[c.MAC]) {
			changed = append(changed, api.Difference{Tag: cmp.Or(tags[c.MAC], c.MAC.String()), Column: "on the segment: " + c.Kind, Was: c.From, Is: c.To})
		}
	}
	doc, err := json.Marshal(changed)
	if err != nil {
		return err
	}
	l.Changed, l.LookedAt = string(doc), stamp.Now()
	// What a check did not pass may be told in other words each time: what was refused is not tried again.
	var same strings.Builder
	for _, d := range changed {
		if strings.HasPrefix(d.Column, handover.CheckKey) {
			d.Is = ""
		}
		fmt.Fprintf(&same, "%q %q %q %q\n", d.Tag, d.Column, d.Was, d.Is)
	}
	sum := sha256.Sum256([]byte(same.String()))
	told := hex.EncodeToString(sum[:])
	var hookErr error
	if how.Hook != "" && told != l.HookSum && (len(changed) > 0 || l.HookSum != "") {
		if err := s.tell(ctx, how.Hook, r, changed); err == nil {
			l.HookSum = told
		} else {
			hookErr = problem.New(problem.Conflict, "it looked, but "+err.Error(), "look after the hook; it is told with the next look")
		}
	}
	// Whoever changed when it looks meanwhile has said how it is.
	if is, ok, err := s.store.Lookout(ctx); err != nil || !ok {
		return err
	} else if is.Doc != l.Doc {
		l.Doc = is.Doc
	}
	if err := s.store.SetLookout(ctx, l); err != nil {
		return err
	}
	if len(changed) > 0 {
		s.all.Log.Warn("the site is not as it was", "site", s.store.Key, "differences", len(changed))
	}
	s.all.Hub.Publish(s.store.Key, "lookout", struct{}{})
	return hookErr
}

// tell tells the hook what changed.
func (s *Site) tell(ctx context.Context, hook string, r handover.Record, changed []api.Difference) error {
	doc, err := json.Marshal(map[string]any{"site": r.Site.Name, "key": s.store.Key, "at": time.Now().UTC(), "changed": changed})
	if err != nil {
		return err
	}
	return handover.Tell(ctx, hook, r.Signer, doc, time.Now())
}

// nudge has keepLooking work out anew when to look.
func (s *Handing) nudge() {
	select {
	case s.nudged <- struct{}{}:
	default: // it was nudged already
	}
}

// lookAgainIn is after what time it looks again where that did not go.
const lookAgainIn = 10 * time.Minute

// KeepLooking looks at each site when its time has come, one after another, until the service
// ends. A time that passed while the service was not there is made up for.
func (s *Handing) KeepLooking() {
	again := map[int64]time.Time{} // not before, by site
	for {
		now, first := time.Now(), time.Time{}
		var next *Site
		sites, err := s.Store.Sites(s.life)
		if err != nil && s.life.Err() == nil {
			s.Log.Error("it cannot be seen when to look at sites", "error", err)
		}
		for _, data := range sites {
			site, err := s.open(s.life, data.Key)
			if err != nil {
				continue // it went meanwhile
			}
			l, ok, err := site.store.Lookout(s.life)
			var how api.Lookout
			if err != nil || !ok || json.Unmarshal([]byte(l.Doc), &how) != nil {
				continue
			}
			at := now
			s.mu.Lock()
			asked := s.lookNow[site.store.ID]
			s.mu.Unlock()
			if !l.LookedAt.IsZero() && !asked {
				at = due(how, l.LookedAt.Time, site.zone(s.life))
			}
			if at = maxTime(at, again[site.store.ID]); first.IsZero() || at.Before(first) {
				first, next = at, site
			}
		}
		if next != nil && !first.After(now) {
			err := next.look(s.life)
			s.mu.Lock()
			delete(s.wrong, next.store.ID)
			delete(s.lookNow, next.store.ID)
			if err != nil {
				s.wrong[next.store.ID] = err.Error()
				again[next.store.ID] = time.Now().Add(lookAgainIn)
			}
			s.mu.Unlock()
			s.Hub.Publish(next.store.Key, "lookout", struct{}{})
			if err != nil && s.life.Err() == nil {
				s.Log.Warn("the service could not look by itself", "site", next.store.Key, "error", err)
			}
			if s.life.Err() != nil {
				return
			}
			continue
		}
		wait := time.Hour // clocks are set, and computers sleep
		if next != nil {
			wait = min(wait, first.Sub(now))
		}
		timer := time.NewTimer(wait)
		select {
		case <-timer.C:
		case <-s.nudged:
			clear(again)
		case <-s.life.Done():
			timer.Stop()
			return
		}
		timer.Stop()
	}
}

func maxTime(a, b time.Time) time.Time {
	if b.After(a) {
		return b
	}
	return a
}
