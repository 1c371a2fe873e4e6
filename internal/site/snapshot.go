package site

import (
	"context"
	"slices"
	"sync"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// moment is all that a snapshot rests on, by number: as long as it is the same, so is the snapshot.
type moment struct {
	store.Versions
	presence uint64
	known    *known
	locked   bool // the vault is
}

// snapshot is a site's plan with all that it is checked against, at one moment. It is worked out
// once after a change and shared by all who ask: nothing in it is changed in place.
type snapshot struct {
	at      moment
	plan    plan.Plan
	entries []store.Entry
	devices []*device.Found
	here    []*device.Found // those that are on the segment

	once     sync.Once
	findings []plan.Finding
	notices  []notice.Notice

	asked    sync.Once
	proposed match.Result
}

// proposals are worked out once, when somebody asks for them.
func (s *snapshot) proposals() match.Result {
	s.asked.Do(func() { s.proposed = match.Propose(segmentOf(s.entries, s.here)) })
	return s.proposed
}

// snapshots are those of the sites, the latest of each.
type snapshots struct {
	mu   sync.Mutex
	each map[int64]*sync.Mutex // held by who works one out
	last map[int64]*snapshot
	kept map[int64]*snapshot // those whose findings are kept in the records
}

// of gives the lock under which a site's snapshot is worked out.
func (s *snapshots) of(id int64) *sync.Mutex {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.each == nil {
		s.each, s.last, s.kept = map[int64]*sync.Mutex{}, map[int64]*snapshot{}, map[int64]*snapshot{}
	}
	if s.each[id] == nil {
		s.each[id] = &sync.Mutex{}
	}
	return s.each[id]
}

func (s *snapshots) get(id int64) *snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.last[id]
}

func (s *snapshots) put(id int64, now *snapshot) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last[id] = now
}

// noted reports whether the findings of a snapshot are kept, and notes that they are.
func (s *snapshots) noted(id int64, at *snapshot, now bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now {
		s.kept[id] = at
	}
	return s.kept[id] == at
}

func (s *Site) moment() moment {
	return moment{s.store.Versions(), s.presence.Load(), s.models.Load(), s.vault.Locked()}
}

// snapshot gives the site as it is.
func (s *Site) snapshot(ctx context.Context) (*snapshot, error) {
	alone := s.snapshots.of(s.store.ID)
	alone.Lock()
	defer alone.Unlock()
	at := s.moment() // before anything is read: what is written meanwhile makes the next one
	if last := s.snapshots.get(s.store.ID); last != nil && last.at == at {
		return last, nil
	}
	now := &snapshot{at: at}
	var err error
	if now.plan, now.entries, err = s.read(ctx); err != nil {
		return nil, err
	}
	if now.devices, err = s.store.Devices(ctx); err != nil {
		return nil, err
	}
	now.here = s.here(now.devices)
	now.plan.Known.Boxes = make(map[string]plan.Box, len(now.entries))
	serials := make(map[address.MAC]string, len(now.devices))
	for _, f := range now.devices {
		serials[f.MAC] = f.Value(fact.Serial)
	}
	for _, e := range now.entries {
		if !e.Device.IsZero() {
			now.plan.Known.Boxes[e.Tag] = plan.Box{MAC: e.Device, Serial: serials[e.Device]}
		}
	}
	tags := tagsByDevice(now.entries)
	for _, f := range now.here {
		if a := f.AddressNow(); a.IsValid() {
			now.plan.Known.Living = append(now.plan.Known.Living, plan.Living{Address: a, MAC: f.MAC, Tag: tags[f.MAC],
				Profile: f.Profile, Names: f.Present(fact.Name)})
		}
	}
	if !at.locked {
		now.plan.Known.Refused = func(c plan.Policy, q *profile.Profile) error {
			password, ok, err := s.vault.Secret(context.WithoutCancel(s.life), s.store, c.Given)
			if err != nil || !ok {
				return err
			}
			return q.Password.Check(password)
		}
	}
	s.snapshots.put(s.store.ID, now)
	return now, nil
}

// checked gives the snapshot with what is found in it.
func (s *Site) checked(ctx context.Context) (*snapshot, error) {
	now, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	now.once.Do(func() {
		now.findings = now.plan.Check()
		now.notices = s.notices(now.plan, now.entries, now.here)
	})
	return now, nil
}

// plan gives the plan with all that it is checked against; the lists are the caller's own.
func (s *Site) plan(ctx context.Context) (plan.Plan, []store.Entry, error) {
	now, err := s.snapshot(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	p := now.plan
	p.Entries = slices.Clone(p.Entries)
	return p, slices.Clone(now.entries), nil
}

// bare gives the plan without the boxes that it is checked against.
func (s *Site) bare(ctx context.Context) (plan.Plan, []store.Entry, error) {
	p, entries, err := s.plan(ctx)
	p.Known.Boxes, p.Known.Living, p.Known.Refused = nil, nil, nil
	return p, entries, err
}

// read reads the plan without the boxes that it is checked against.
func (s *Site) read(ctx context.Context) (plan.Plan, []store.Entry, error) {
	data, err := s.store.Data(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	logins, err := s.store.LoginsByTag(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	files, err := s.fileSums(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	p := plan.Plan{Site: data, Entries: make([]plan.Entry, len(entries)), Profiles: s.Profiles(),
		Known: plan.Known{Locked: map[string]bool{}, Logins: logins, Files: files}}
	for i, e := range entries {
		p.Entries[i] = e.Entry
		p.Known.Locked[e.Tag] = e.Set()
	}
	return p, entries, nil
}
