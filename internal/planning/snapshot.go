package planning

import (
	"context"
	"reflect"
	"slices"
	"sync"
	"sync/atomic"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/fact"
	"redstart/internal/core/match"
	"redstart/internal/core/notice"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// SegmentOf gives what matching looks at.
func SegmentOf(entries []store.Entry, found []*device.Found) match.Segment {
	seg := match.Segment{Found: found, Matched: TagsByDevice(entries)}
	for _, e := range entries {
		seg.Entries = append(seg.Entries, e.Entry)
	}
	return seg
}

// Moment is all that a snapshot rests on, by number: as long as it is the same, so is the snapshot.
type Moment struct {
	store.Versions
	away   uint64
	known  *known
	locked bool // the vault is
}

// Snapshot is a site's plan with all that it is checked against, at one moment. It is worked out
// once after a change and shared by all who ask: nothing in it is changed in place.
type Snapshot struct {
	At      Moment
	plan    plan.Plan
	Entries []store.Entry
	Devices []*device.Found // all that were found
	here    []*device.Found // those that are on the segment

	once     sync.Once
	checked  atomic.Bool
	Findings []plan.Finding
	Notices  []notice.Notice

	asked    sync.Once
	proposed match.Result
}

// Proposals are worked out once, when somebody asks for them.
func (s *Snapshot) Proposals() match.Result {
	s.asked.Do(func() { s.proposed = match.Propose(SegmentOf(s.Entries, s.here)) })
	return s.proposed
}

// snapshots are those of the sites, the latest of each.
type snapshots struct {
	mu   sync.Mutex
	each map[int64]*sync.Mutex // held by who works one out
	last map[int64]*Snapshot
	kept map[int64]*Snapshot // those whose findings are kept in the records
}

// of gives the lock under which a site's snapshot is worked out.
func (s *snapshots) of(id int64) *sync.Mutex {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.each == nil {
		s.each, s.last, s.kept = map[int64]*sync.Mutex{}, map[int64]*Snapshot{}, map[int64]*Snapshot{}
	}
	if s.each[id] == nil {
		s.each[id] = &sync.Mutex{}
	}
	return s.each[id]
}

func (s *snapshots) get(id int64) *Snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.last[id]
}

func (s *snapshots) put(id int64, now *Snapshot) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.last[id] = now
}

// noted reports whether the findings of a snapshot are kept, and notes that they are.
func (s *snapshots) noted(id int64, at *Snapshot, now bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now {
		s.kept[id] = at
	}
	return s.kept[id] == at
}

func (s *Site) moment() Moment {
	return Moment{s.store.Versions(), s.all.away.number.Load(), s.all.models.Load(), s.all.Vault.Locked()}
}

// Snapshot gives the site as it is.
func (s *Site) Snapshot(ctx context.Context) (*Snapshot, error) {
	alone := s.all.snapshots.of(s.store.ID)
	alone.Lock()
	defer alone.Unlock()
	at := s.moment() // before anything is read: what is written meanwhile makes the next one
	if last := s.all.snapshots.get(s.store.ID); last != nil && last.At == at {
		return last, nil
	}
	if now, err := s.quietly(ctx, s.all.snapshots.get(s.store.ID), at); now != nil || err != nil {
		return now, err
	}
	now := &Snapshot{At: at}
	var err error
	if now.plan, now.Entries, err = s.read(ctx); err != nil {
		return nil, err
	}
	if now.Devices, err = s.store.Devices(ctx); err != nil {
		return nil, err
	}
	now.here = s.Here(now.Devices)
	now.plan.Known.Boxes = make(map[string]plan.Box, len(now.Entries))
	serials := make(map[address.MAC]string, len(now.Devices))
	for _, f := range now.Devices {
		serials[f.MAC] = f.Value(fact.Serial)
	}
	for _, e := range now.Entries {
		if !e.Device.IsZero() {
			now.plan.Known.Boxes[e.Tag] = plan.Box{MAC: e.Device, Serial: serials[e.Device]}
		}
	}
	tags := TagsByDevice(now.Entries)
	for _, f := range now.here {
		if a := f.AddressNow(); a.IsValid() {
			now.plan.Known.Living = append(now.plan.Known.Living, plan.Living{Address: a, MAC: f.MAC, Tag: tags[f.MAC],
				Profile: f.Profile, Names: f.Present(fact.Name)})
		}
	}
	if !at.locked {
		now.plan.Known.Refused = func(c plan.Policy, q *profile.Profile) error {
			password, ok, err := s.all.Vault.At(s.store).Secret(context.WithoutCancel(s.all.life), c.Given)
			if err != nil || !ok {
				return err
			}
			return q.Password.Check(password)
		}
	}
	s.all.snapshots.put(s.store.ID, now)
	return now, nil
}

// Checked gives the snapshot with what is found in it.
func (s *Site) Checked(ctx context.Context) (*Snapshot, error) {
	now, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	now.once.Do(func() {
		now.Findings = now.plan.Check()
		now.Notices = s.notices(now.plan, now.Entries, now.here)
		now.checked.Store(true)
	})
	return now, nil
}

// quietly gives the snapshot of now where nothing came since the last one but words that are
// only for people: it is that one with them. One cell of a large plan costs no whole check then.
// It gives nil where more changed.
func (s *Site) quietly(ctx context.Context, last *Snapshot, at Moment) (*Snapshot, error) {
	if last == nil {
		return nil, nil
	}
	rest := at
	rest.Entries = last.At.Entries
	if rest != last.At {
		return nil, nil
	}
	entries, err := s.store.Entries(ctx)
	if err != nil {
		return nil, err
	}
	before, after, ok := s.store.EntriesSince(last.At.Entries)
	if !ok || len(entries) != len(last.Entries) {
		return nil, nil
	}
	spoken := map[string]bool{}
	for i := range after {
		was, is := before[i], after[i]
		if !plan.Quiet(was.Entry, is.Entry) {
			return nil, nil
		}
		was.Entry, is.Entry = plan.Entry{}, plan.Entry{}
		if !reflect.DeepEqual(was, is) {
			return nil, nil
		}
		spoken[after[i].Tag] = true
	}
	now := &Snapshot{At: at, plan: last.plan, Entries: entries, Devices: last.Devices, here: last.here}
	now.plan.Entries = make([]plan.Entry, len(entries))
	for i, e := range entries {
		now.plan.Entries[i] = e.Entry
	}
	// What is found may be about a name, which is made of such words.
	if last.checked.Load() && !slices.ContainsFunc(last.Findings, func(f plan.Finding) bool { return spoken[f.Tag] }) {
		now.once.Do(func() {
			now.Findings, now.Notices = last.Findings, last.Notices
			now.checked.Store(true)
		})
	}
	s.all.snapshots.put(s.store.ID, now)
	return now, nil
}

// Plan gives the plan with all that it is checked against; the lists are the caller's own.
func (s *Site) Plan(ctx context.Context) (plan.Plan, []store.Entry, error) {
	now, err := s.Snapshot(ctx)
	if err != nil {
		return plan.Plan{}, nil, err
	}
	p := now.plan
	p.Entries = slices.Clone(p.Entries)
	return p, slices.Clone(now.Entries), nil
}

// Bare gives the plan without the boxes that it is checked against.
func (s *Site) Bare(ctx context.Context) (plan.Plan, []store.Entry, error) {
	p, entries, err := s.Plan(ctx)
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
	p := plan.Plan{Site: data, Entries: make([]plan.Entry, len(entries)), Profiles: s.all.Profiles(),
		Known: plan.Known{Locked: map[string]bool{}, Logins: logins, Files: files}}
	for i, e := range entries {
		p.Entries[i] = e.Entry
		p.Known.Locked[e.Tag] = e.Set()
	}
	return p, entries, nil
}
