// Package tasktest keeps in memory what tasks, runs, checks and verifications ask records, secrets
// and logins for, so that each can be tested by itself.
package tasktest

import (
	"cmp"
	"context"
	"os"
	"slices"
	"sync"
	"time"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/plan"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/profile"
	"redstart/internal/core/result"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/vault"
)

// Memory is the records of one site, and what is kept of boxes. Every method of it may be called
// from several goroutines.
type Memory struct {
	// Fails is asked before each write, by the name of the method; nil: none fails.
	Fails func(what string) error

	mu       sync.Mutex
	entries  map[string]store.Entry
	found    map[address.MAC]*device.Found
	states   map[address.MAC]store.DeviceState
	servers  map[address.MAC]map[string]string
	logins   []login // oldest first
	secrets  map[string]string
	terms    map[[2]string]store.Acceptance
	files    map[string]string // paths by name
	hostIDs  map[address.MAC]string
	runs     map[int64]*store.Run
	lines    []store.Line
	checks   map[string][]result.Check
	writings []string // the methods that wrote, oldest first
}

type login struct {
	mac address.MAC
	vault.Login
}

// New gives records of planned entries, each matched with a box.
func New(entries []plan.Entry, boxes map[string]address.MAC) *Memory {
	m := &Memory{entries: map[string]store.Entry{}, found: map[address.MAC]*device.Found{}, states: map[address.MAC]store.DeviceState{},
		servers: map[address.MAC]map[string]string{}, secrets: map[string]string{}, terms: map[[2]string]store.Acceptance{},
		files: map[string]string{}, hostIDs: map[address.MAC]string{}, runs: map[int64]*store.Run{}, checks: map[string][]result.Check{}}
	for _, e := range entries {
		s := store.Entry{Entry: e, State: state.Planned, Device: boxes[e.Tag]}
		if !s.Device.IsZero() {
			s.State, s.MatchedBy = state.Matched, "hand"
		}
		m.entries[e.Tag] = s
	}
	return m
}

// write does what a method writes, unless that fails.
func (m *Memory) write(what string, do func()) error {
	if m.Fails != nil {
		if err := m.Fails(what); err != nil {
			return err
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.writings = append(m.writings, what)
	do()
	return nil
}

// Writings lists the methods that wrote so far, oldest first.
func (m *Memory) Writings() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.writings)
}

// AddFile has the site hold a file.
func (m *Memory) AddFile(name, path string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.files[name] = path
}

// AddSecret has a token stand for a secret.
func (m *Memory) AddSecret(token, secret string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.secrets[token] = secret
}

// Entry gives an entry.
func (m *Memory) Entry(_ context.Context, tag string) (store.Entry, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	e, ok := m.entries[tag]
	if !ok {
		return e, problem.New(problem.Missing, "there is no such entry in the plan", "").About(tag)
	}
	return e, nil
}

// Entries gives entries by their tags.
func (m *Memory) Entries(tags ...string) (list []store.Entry) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, tag := range tags {
		list = append(list, m.entries[tag])
	}
	return list
}

// Device gives what was seen of a box.
func (m *Memory) Device(_ context.Context, mac address.MAC) (*device.Found, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if f := m.found[mac]; f != nil {
		return f.Clone(), nil
	}
	return &device.Found{}, nil
}

// Sight adds what was seen of a box.
func (m *Memory) Sight(_ context.Context, recognise func(*device.Found), seen ...device.Sighting) error {
	return m.write("Sight", func() {
		for _, s := range seen {
			if m.found[s.MAC] == nil {
				m.found[s.MAC] = &device.Found{}
			}
			f := m.found[s.MAC]
			f.Add(s)
			if recognise != nil {
				recognise(f)
			}
		}
	})
}

// ToldHostID keeps the host id that a box told.
func (m *Memory) ToldHostID(_ context.Context, mac address.MAC, id string, _ stamp.Time) error {
	return m.write("ToldHostID", func() { m.hostIDs[mac] = id })
}

// File opens a file of the site.
func (m *Memory) File(ctx context.Context, name string) (store.File, *os.File, error) {
	f, err := m.FileNamed(ctx, name)
	if err != nil {
		return f, nil, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	content, err := os.Open(m.files[name])
	return f, content, err
}

// FileNamed tells of a file of the site. Its sum is its name.
func (m *Memory) FileNamed(_ context.Context, name string) (store.File, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	path, ok := m.files[name]
	if !ok {
		return store.File{}, problem.New(problem.Missing, "the site has no such file", "").About(name)
	}
	info, err := os.Stat(path)
	if err != nil {
		return store.File{}, err
	}
	return store.File{Name: name, Size: info.Size(), SHA256: name}, nil
}

// Accepted gives who accepted terms.
func (m *Memory) Accepted(_ context.Context, profile, terms string) (store.Acceptance, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	a, ok := m.terms[[2]string{profile, terms}]
	return a, ok, nil
}

// Accept notes that somebody accepted terms.
func (m *Memory) Accept(_ context.Context, a store.Acceptance) error {
	return m.write("Accept", func() { m.terms[[2]string{a.Profile, a.Terms}] = a })
}

// DeviceState gives what is known of a box.
func (m *Memory) DeviceState(_ context.Context, mac address.MAC) (store.DeviceState, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.state(mac), nil
}

func (m *Memory) state(mac address.MAC) store.DeviceState {
	if s, ok := m.states[mac]; ok {
		return s
	}
	return store.DeviceState{MAC: mac, Starts: -1}
}

// SetDeviceState keeps the parts of c that are not zero.
func (m *Memory) SetDeviceState(_ context.Context, c store.DeviceState) error {
	return m.write("SetDeviceState", func() {
		s := m.state(c.MAC)
		s.Serial = cmp.Or(c.Serial, s.Serial)
		if !c.ChangedAt.IsZero() {
			s.ChangedAt, s.Starts, s.Written, s.RestartedAt, s.Evidence = c.ChangedAt, -1, time.Now(), stamp.Time{}, ""
		}
		if !c.RestartedAt.IsZero() {
			s.RestartedAt = c.RestartedAt
		}
		s.Evidence = cmp.Or(c.Evidence, s.Evidence)
		m.states[c.MAC] = s
	})
}

// SetStarts keeps the start counter of a box.
func (m *Memory) SetStarts(_ context.Context, mac address.MAC, starts int64) error {
	return m.write("SetStarts", func() {
		s := m.state(mac)
		s.Starts = starts
		m.states[mac] = s
	})
}

// Servers gives what the servers of a box showed, by kind.
func (m *Memory) Servers(_ context.Context, mac address.MAC) (map[string]string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	sums := map[string]string{}
	for kind, sum := range m.servers[mac] {
		sums[kind] = sum
	}
	return sums, nil
}

// SetServer keeps what a server of a box showed.
func (m *Memory) SetServer(_ context.Context, mac address.MAC, kind, sum string) error {
	return m.write("SetServer", func() {
		if m.servers[mac] == nil {
			m.servers[mac] = map[string]string{}
		}
		m.servers[mac][kind] = sum
	})
}

// Secret gives what a token stands for.
func (m *Memory) Secret(_ context.Context, token string) (string, bool, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	s, ok := m.secrets[token]
	return s, ok, nil
}

// Shared gives the password that a kind shares, and makes it when there is none.
func (m *Memory) Shared(_ context.Context, kind string, _ int, make func() (string, error)) (string, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if s, ok := m.secrets["kind "+kind]; ok {
		return s, nil
	}
	s, err := make()
	m.secrets["kind "+kind] = s
	return s, err
}

// Logins lists the logins of a box, newest first.
func (m *Memory) Logins(_ context.Context, mac address.MAC) (list []vault.Login, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, l := range slices.Backward(m.logins) {
		if l.mac == mac {
			list = append(list, l.Login)
		}
	}
	return list, nil
}

// Put keeps logins.
func (m *Memory) Put(_ context.Context, list ...vault.New) error {
	return m.write("Put", func() {
		for _, n := range list {
			l := vault.Login{Login: n.Login, ID: int64(len(m.logins) + 1), State: n.State, At: stamp.Now(), ToldBy: n.ToldBy, Origin: n.Origin,
				Stamp: n.Stamp, MadeAt: stamp.Now()}
			if n.State == state.Accepted {
				m.supersede(n.MAC, l.ID)
			}
			m.logins = append(m.logins, login{n.MAC, l})
		}
	})
}

func (m *Memory) supersede(mac address.MAC, but int64) {
	for i, l := range m.logins {
		if l.mac == mac && l.ID != but && l.State == state.Accepted {
			m.logins[i].State = state.Superseded
		}
	}
}

// Try begins to try logins at a box.
func (m *Memory) Try(mac address.MAC, accounts profile.Accounts, by string) *vault.Tries {
	return vault.Try(m, m, mac, accounts, by)
}

// SetCredential notes that a box took or refused a login.
func (m *Memory) SetCredential(_ context.Context, mac address.MAC, id int64, to, by string) error {
	return m.write("SetCredential", func() {
		for i, l := range m.logins {
			if l.mac == mac && l.ID == id {
				m.logins[i].State, m.logins[i].ToldBy, m.logins[i].At = to, by, stamp.Now()
			}
		}
		if to == state.Accepted {
			m.supersede(mac, id)
		}
	})
}

// AddWrong counts a login that a box refused.
func (m *Memory) AddWrong(_ context.Context, mac address.MAC) error {
	return m.write("AddWrong", func() {
		s := m.state(mac)
		s.Wrong, s.WrongAt = s.Wrong+1, stamp.Now()
		m.states[mac] = s
	})
}

// ClearWrong has them counted anew.
func (m *Memory) ClearWrong(_ context.Context, mac address.MAC) error {
	return m.write("ClearWrong", func() {
		s := m.state(mac)
		s.Wrong = 0
		m.states[mac] = s
	})
}

// ForgiveWrong takes some of them back.
func (m *Memory) ForgiveWrong(_ context.Context, mac address.MAC, times int) error {
	return m.write("ForgiveWrong", func() {
		s := m.state(mac)
		s.Wrong = max(0, s.Wrong-times)
		m.states[mac] = s
	})
}

// AddRun keeps a run.
func (m *Memory) AddRun(_ context.Context, who string, devices []store.RunDevice) (store.Run, error) {
	var r store.Run
	err := m.write("AddRun", func() {
		r = store.Run{ID: int64(len(m.runs) + 1), State: state.Running, Who: who, StartedAt: stamp.Now(), Devices: slices.Clone(devices)}
		for i := range r.Devices {
			r.Devices[i].Run, r.Devices[i].State = r.ID, state.Waiting
			e := m.entries[r.Devices[i].Tag]
			e.State, e.Reason = state.Configuring, ""
			m.entries[e.Tag] = e
		}
		kept := r
		kept.Devices = slices.Clone(r.Devices)
		m.runs[r.ID] = &kept
	})
	return r, err
}

// Run gives a run as it is kept.
func (m *Memory) Run(id int64) store.Run {
	m.mu.Lock()
	defer m.mu.Unlock()
	r := *m.runs[id]
	r.Devices = slices.Clone(r.Devices)
	return r
}

// SetRunState keeps how far a run is.
func (m *Memory) SetRunState(_ context.Context, run int64, to string) error {
	return m.write("SetRunState", func() { m.runs[run].State = to })
}

// SaveRunDevice keeps how far a device of a run is.
func (m *Memory) SaveRunDevice(_ context.Context, d store.RunDevice) error {
	return m.write("SaveRunDevice", func() {
		for i, o := range m.runs[d.Run].Devices {
			if o.Tag == d.Tag {
				m.runs[d.Run].Devices[i] = d
			}
		}
	})
}

// AddLine writes to the journal.
func (m *Memory) AddLine(_ context.Context, l store.Line) error {
	return m.write("AddLine", func() {
		l.At = stamp.Now()
		m.lines = append(m.lines, l)
	})
}

// Journal gives the last phase of each step of a device.
func (m *Memory) Journal(_ context.Context, run int64, tag string) (map[string]store.Line, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	last := map[string]store.Line{}
	for _, l := range m.lines {
		if l.Run == run && l.Tag == tag {
			last[l.Step] = l
		}
	}
	return last, nil
}

// SetState moves an entry to a state, unless it has another box.
func (m *Memory) SetState(_ context.Context, tag string, mac address.MAC, to, reason, _ string) error {
	return m.change("SetState", tag, mac, func(e *store.Entry) { e.State, e.Reason = to, reason })
}

// SetConfigured keeps what a device was given.
func (m *Memory) SetConfigured(_ context.Context, tag string, mac address.MAC, given procedure.Values, _ string) error {
	return m.change("SetConfigured", tag, mac, func(e *store.Entry) { e.State, e.Reason, e.Given = state.Configured, "", &given })
}

// Checks are those of an entry's last verification.
func (m *Memory) Checks(_ context.Context, tag string) ([]result.Check, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.checks[tag]), nil
}

// SayDone notes by whose word something was done.
func (m *Memory) SayDone(_ context.Context, tag string, mac address.MAC, c result.Check) error {
	return m.change("SayDone", tag, mac, func(*store.Entry) { m.checks[tag] = append(m.checks[tag], c) })
}

// SetChecks keeps the checks of a verification.
func (m *Memory) SetChecks(_ context.Context, tag string, mac address.MAC, list []result.Check, to, reason, _ string) error {
	return m.change("SetChecks", tag, mac, func(e *store.Entry) {
		e.State, e.Reason, e.CheckedAt, e.Unseen = to, reason, stamp.Now(), result.NotLooked(list)
		m.checks[tag] = list
	})
}

// change changes an entry that has a box.
func (m *Memory) change(what, tag string, mac address.MAC, do func(*store.Entry)) (err error) {
	return cmp.Or(m.write(what, func() {
		e := m.entries[tag]
		if e.Device != mac {
			err = problem.New(problem.Conflict, "the entry has another box by now", "").About(tag)
			return
		}
		do(&e)
		m.entries[tag] = e
	}), err)
}

// Rematch has an entry be another box.
func (m *Memory) Rematch(tag string, mac address.MAC) {
	m.mu.Lock()
	defer m.mu.Unlock()
	e := m.entries[tag]
	e.Device = mac
	m.entries[tag] = e
}
