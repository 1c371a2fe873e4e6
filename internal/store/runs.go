package store

import (
	"context"
	"encoding/json"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/procedure"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Run is one bulk commissioning job.
type Run struct {
	ID        int64       `db:"id"`
	State     string      `db:"state"`
	Who       string      `db:"who"`
	StartedAt stamp.Time  `db:"started_at"`
	EndedAt   stamp.Time  `db:"ended_at"`
	Cause     string      `db:"cause"` // why it was interrupted
	Devices   []RunDevice `db:"-"`
}

// RunDevice is one device of a run with its frozen values.
type RunDevice struct {
	Run       int64            `db:"run"`
	Tag       string           `db:"tag"`
	MAC       address.MAC      `db:"mac"`
	Profile   string           `db:"profile"`
	Serial    string           `db:"serial"` // as planned; "" when not
	Given     procedure.Values `db:"-"`
	State     string           `db:"state"`
	Step      string           `db:"step"`
	Done      int              `db:"done"`
	Steps     int              `db:"steps"`
	Error     string           `db:"error"`
	StartedAt stamp.Time       `db:"started_at"`
	EndedAt   stamp.Time       `db:"ended_at"`
	// FreshSince is set where a new password is wanted: one that was made before
	// is replaced.
	FreshSince stamp.Time `db:"fresh_since"`
	// Line is the serial line over which it is talked to; "" for none.
	Line string `db:"line"`
	// Beside are the addresses of DHCP servers that may go on while it is given its own,
	// divided by spaces.
	OtherServers string `db:"beside"`
	Hand
}

// Hand is what a device waits for a person to do.
type Hand struct {
	Do    string     `db:"hand_do"`
	Look  string     `db:"hand_look"`  // what shows that it is done
	Terms string     `db:"hand_terms"` // what a person must accept; "" for nothing
	Who   string     `db:"hand_who"`   // who is at it; "" for nobody
	Since stamp.Time `db:"parked_at"`  // zero: it does not wait now
	// Within is how many seconds what follows may take once it is done; 0: no limit.
	Within int        `db:"hand_within"`
	Ends   stamp.Time `db:"window_ends"` // when that time is over; zero before
}

// Ended reports whether nothing of the run is left to be done with the device.
func (d RunDevice) Ended() bool {
	return d.State == state.Done || d.State == state.Failed || d.State == state.Stopped
}

type runDeviceRow struct {
	RunDevice
	Given string `db:"given"`
}

// AddRun stores a run with its devices and moves their entries to configuring.
func (s *Site) AddRun(ctx context.Context, who string, devices []RunDevice) (Run, error) {
	r := Run{State: state.Running, Who: who, StartedAt: stamp.Now(), Devices: devices}
	err := s.in.write(ctx, func(tx *sqlx.Tx) error {
		result, err := tx.Exec(`INSERT INTO runs (site, state, who, started_at) VALUES (?, ?, ?, ?)`, s.ID, r.State,
			who, r.StartedAt)
		if err != nil {
			return err
		}
		if r.ID, err = result.LastInsertId(); err != nil {
			return err
		}
		for i := range devices {
			d := &devices[i]
			d.Run, d.State = r.ID, state.Waiting
			given, err := json.Marshal(d.Given)
			if err != nil {
				return err
			}
			if _, err := tx.NamedExec(`INSERT INTO run_devices (run, tag, mac, profile, serial, given, state, steps, fresh_since, line, beside)
				VALUES (:run, :tag, :mac, :profile, :serial, :given, :state, :steps, :fresh_since, :line, :beside)`,
				runDeviceRow{*d, string(given)}); err != nil {
				return err
			}
			if err := touched(d.Tag)(tx.Exec(`UPDATE entries SET state = ?, reason = '', unseen = '[]'
			WHERE site = ? AND tag = ? AND device = ?`, state.Configuring, s.ID, d.Tag, d.MAC)); err != nil {
				return err
			}
			if err := s.unsay(tx, d.Tag); err != nil {
				return err
			}
		}
		return nil
	})
	return r, err
}

// Run gives a run with its devices.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	var r Run
	ok, err := s.one(ctx, &r, `SELECT id, state, who, started_at, ended_at, cause FROM runs WHERE id = ?`, id)
	if err != nil {
		return r, err
	}
	if !ok {
		return r, problem.New(problem.Missing, "there is no such run", "")
	}
	var rows []runDeviceRow
	if err := s.all(ctx, &rows, `SELECT * FROM run_devices WHERE run = ? ORDER BY rowid`, id); err != nil {
		return r, err
	}
	r.Devices = make([]RunDevice, len(rows))
	for i, row := range rows {
		r.Devices[i] = row.RunDevice
		if err := json.Unmarshal([]byte(row.Given), &r.Devices[i].Given); err != nil {
			return r, err
		}
	}
	return r, nil
}

// OpenRuns gives the runs of the site that have not ended, oldest first.
func (s *Site) OpenRuns(ctx context.Context) ([]Run, error) {
	var ids []int64
	if err := s.in.all(ctx, &ids, `SELECT id FROM runs WHERE site = ? AND state IN (?, ?, ?) ORDER BY id`, s.ID, state.Running,
		state.Interrupted, state.Parked); err != nil {
		return nil, err
	}
	runs := []Run{}
	for _, id := range ids {
		r, err := s.in.Run(ctx, id)
		if err != nil {
			return nil, err
		}
		runs = append(runs, r)
	}
	return runs, nil
}

// RunSum is a run in short.
type RunSum struct {
	ID        int64      `db:"id"`
	State     string     `db:"state"`
	Who       string     `db:"who"`
	StartedAt stamp.Time `db:"started_at"`
	EndedAt   stamp.Time `db:"ended_at"`
	Devices   int        `db:"devices"`
	Done      int        `db:"done"`
}

// RunSums lists the runs of the site in short, oldest first.
func (s *Site) RunSums(ctx context.Context) (list []RunSum, err error) {
	err = s.in.all(ctx, &list, `SELECT id, state, who, started_at, ended_at,
		(SELECT COUNT(*) FROM run_devices WHERE run = runs.id) AS devices,
		(SELECT COUNT(*) FROM run_devices WHERE run = runs.id AND state = ?) AS done
		FROM runs WHERE site = ? ORDER BY id`, state.Done, s.ID)
	return list, err
}

// LastRun gives the latest run; ok is false before the first.
func (s *Site) LastRun(ctx context.Context) (r Run, ok bool, err error) {
	var id int64
	ok, err = s.in.one(ctx, &id, `SELECT id FROM runs WHERE site = ? ORDER BY id DESC LIMIT 1`, s.ID)
	if ok && err == nil {
		r, err = s.in.Run(ctx, id)
	}
	return r, ok, err
}

// SetRunState notes that a run is running, or has ended in some way.
func (s *Store) SetRunState(ctx context.Context, id int64, to string) error {
	ended := stamp.Now()
	if to == state.Running {
		ended = stamp.Time{}
	}
	return s.exec(ctx, `UPDATE runs SET state = :state, ended_at = :ended, cause = '' WHERE id = :id`,
		map[string]any{"id": id, "state": to, "ended": ended})
}

// InterruptRun notes that a run was cut off, and by what. Its devices that are
// not done wait for it to go on.
func (s *Store) InterruptRun(ctx context.Context, id int64, cause string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE run_devices SET state = ?, step = '' WHERE run = ? AND state = ?`, state.Waiting, id,
			state.Running); err != nil {
			return err
		}
		_, err := tx.Exec(`UPDATE runs SET state = ?, cause = ? WHERE id = ?`, state.Interrupted, cause, id)
		return err
	})
}

// EndRun ends a run that was cut off: devices that were not begun are matched as
// before, those that were need attention. All or none.
func (s *Site) EndRun(ctx context.Context, r Run, reason, who string) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		now := stamp.Now()
		for _, d := range r.Devices {
			if d.State != state.Waiting && d.State != state.Parked {
				continue
			}
			to, why := state.Matched, ""
			if !d.StartedAt.IsZero() {
				to, why = state.Attention, reason
			}
			if _, err := tx.Exec(`UPDATE run_devices SET state = ? WHERE run = ? AND tag = ?`, state.Stopped, r.ID,
				d.Tag); err != nil {
				return err
			}
			// Whoever matched the entry anew meanwhile has said what it is.
			if _, err := tx.Exec(`UPDATE entries SET state = ?, reason = ? WHERE site = ? AND tag = ? AND device = ?`,
				to, why, s.ID, d.Tag, d.MAC); err != nil {
				return err
			}
			if err := note(tx, s.ID, d.Tag, now, who, stated(to, why)); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`UPDATE runs SET state = ?, ended_at = ?, cause = '' WHERE id = ?`, state.Stopped, now, r.ID)
		return err
	})
}

// InterruptRuns marks what a service that was killed left running. A run of which nothing
// was in hand but what waits for persons is parked: it goes on by itself.
func (s *Store) InterruptRuns(ctx context.Context) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`UPDATE runs SET state = ? WHERE state = ?
			AND EXISTS (SELECT 1 FROM run_devices d WHERE d.run = runs.id AND d.state = ?)
			AND NOT EXISTS (SELECT 1 FROM run_devices d WHERE d.run = runs.id AND d.state = ?)`, state.Parked, state.Running,
			state.Parked, state.Running); err != nil {
			return err
		}
		if _, err := tx.Exec(`UPDATE run_devices SET state = ?, step = '' WHERE state = ?
			AND run IN (SELECT id FROM runs WHERE state = ?)`, state.Waiting, state.Running, state.Running); err != nil {
			return err
		}
		_, err := tx.Exec(`UPDATE runs SET state = ?, cause = ? WHERE state = ?`, state.Interrupted,
			"the service ended while it ran", state.Running)
		return err
	})
}

// SaveRunDevice stores how far a device is.
func (s *Store) SaveRunDevice(ctx context.Context, d RunDevice) error {
	return s.exec(ctx, `UPDATE run_devices SET state = :state, step = :step, done = :done, error = :error,
		started_at = :started_at, ended_at = :ended_at, hand_do = :hand_do, hand_look = :hand_look, hand_within = :hand_within,
		hand_terms = :hand_terms, hand_who = :hand_who,
		parked_at = :parked_at, window_ends = :window_ends WHERE run = :run AND tag = :tag`, d)
}

// Line is one line of the journal.
type Line struct {
	Run    int64       `db:"run"`
	Tag    string      `db:"tag"`
	MAC    address.MAC `db:"mac"`
	Step   string      `db:"step"`
	Phase  string      `db:"phase"`
	Detail string      `db:"detail"`
	At     stamp.Time  `db:"at"`
}

// AddLine writes to the journal; the line is on disk when this returns.
func (s *Store) AddLine(ctx context.Context, l Line) error {
	l.At = stamp.Now()
	return s.exec(ctx,
		`INSERT INTO journal (run, tag, mac, step, phase, detail, at)
			VALUES (:run, :tag, :mac, :step, :phase, :detail, :at)`, l)
}

// Journal gives the last phase of each step that a device's run has begun.
func (s *Store) Journal(ctx context.Context, run int64, tag string) (map[string]Line, error) {
	var lines []Line
	if err := s.all(ctx, &lines,
		`SELECT run, tag, mac, step, phase, detail, at FROM journal
			WHERE run = ? AND tag = ?
			ORDER BY id`, run,
		tag); err != nil {
		return nil, err
	}
	last := map[string]Line{}
	for _, l := range lines {
		last[l.Step] = l
	}
	return last, nil
}
