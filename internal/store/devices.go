package store

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
	"redstart/internal/core/problem"
	"redstart/internal/core/stamp"
)

// SaveDevices stores found devices, put together with what is known of them
// already: a survey, a watch and a run may all tell of one at a time. What they
// are is judged anew by recognise; nil leaves that as it is.
func (s *Site) SaveDevices(ctx context.Context, recognise func(*device.Found), list ...*device.Found) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		macs := make([]address.MAC, len(list))
		for i, f := range list {
			macs[i] = f.MAC
		}
		known := map[address.MAC]string{}
		if err := ofMACs(tx, `SELECT mac, doc FROM devices WHERE site = ? AND mac IN (SELECT value FROM json_each(?))`, s.ID, macs, func(mac address.MAC, doc string) { known[mac] = doc }); err != nil {
			return err
		}
		for _, f := range list {
			whole := f.Clone()
			if doc := known[f.MAC]; doc != "" {
				var before device.Found
				if err := json.Unmarshal([]byte(doc), &before); err != nil {
					return err
				}
				whole.Merge(&before)
				whole.Chosen = before.Chosen // a person may have taken the choice back since
				if recognise != nil {
					recognise(whole)
				}
			}
			if err := putDevice(tx, s.ID, whole); err != nil {
				return err
			}
		}
		return s.boundDevices(tx, mostDevices)
	})
}

// ofMACs asks for some boxes of a site at once: the statement takes the site and a JSON list of
// MACs, and gives two columns.
func ofMACs(tx *sqlx.Tx, statement string, site int64, macs []address.MAC, each func(mac address.MAC, text string)) error {
	list, err := json.Marshal(macs)
	if err != nil {
		return err
	}
	rows, err := tx.Query(statement, site, string(list))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var mac address.MAC
		var text string
		if err := rows.Scan(&mac, &text); err != nil {
			return err
		}
		each(mac, text)
	}
	return rows.Err()
}

// mostDevices are kept of one site, besides those that entries are matched with.
const mostDevices = 1 << 15

// boundDevices forgets those that were heard the longest ago, where there are too many: what
// makes senders up is not remembered for good.
func (s *Site) boundDevices(tx *sqlx.Tx, most int) error {
	var n int
	if err := tx.Get(&n, `SELECT COUNT(*) FROM devices WHERE site = ?`, s.ID); err != nil || n <= most {
		return err
	}
	_, err := tx.Exec(`DELETE FROM devices WHERE site = ? AND mac IN (SELECT mac FROM devices WHERE site = ?
		AND mac NOT IN (SELECT device FROM entries WHERE site = ?) ORDER BY seen LIMIT ?)`, s.ID, s.ID, s.ID, n-most)
	return err
}

// PutDevice stores a found device as it is given.
func (s *Site) PutDevice(ctx context.Context, f *device.Found) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error { return putDevice(tx, s.ID, f) })
}

func putDevice(tx *sqlx.Tx, site int64, f *device.Found) error {
	doc, err := json.Marshal(f)
	if err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO devices (site, mac, seen, doc)
			VALUES (?, ?, ?, ?)
			ON CONFLICT (site, mac)
			DO UPDATE SET seen = excluded.seen, doc = excluded.doc`,
		site, f.MAC, stamp.Time{Time: f.Last}, string(doc))
	return err
}

// ForgetDevices forgets found devices that no entry is matched with, all or none.
func (s *Site) ForgetDevices(ctx context.Context, macs []address.MAC) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		tags := map[address.MAC]string{}
		if err := ofMACs(tx, `SELECT device, tag FROM entries WHERE site = ? AND device <> '' AND device IN (SELECT value FROM json_each(?))`, s.ID, macs, func(mac address.MAC, tag string) { tags[mac] = tag }); err != nil {
			return err
		}
		for _, mac := range macs {
			if tags[mac] != "" {
				return problem.New(problem.Conflict, "it is matched with "+tags[mac],
					"undo the match first").About(mac.String())
			}
			r, err := tx.Exec(`DELETE FROM devices WHERE site = ? AND mac = ?`, s.ID, mac)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 {
				return errors.Join(err, problem.New(problem.Missing, "no such box was found",
					"find first: redstart find").About(mac.String()))
			}
		}
		return nil
	})
}

// Devices lists every device ever found, by MAC. They are shared with other readers: whoever
// changes one changes a clone.
func (s *Site) Devices(ctx context.Context) ([]*device.Found, error) {
	return s.decoded().devices.all(ctx)
}

func (s *Site) deviceRows() *rows[*device.Found] {
	return &rows[*device.Found]{order: func(a, b *device.Found) int { return slices.Compare(a.MAC[:], b.MAC[:]) },
		read: func(ctx context.Context, ids []int64) ([]row[*device.Found], error) {
			query, args := `SELECT rowid, doc FROM devices WHERE site = ?`, []any{s.ID}
			if ids != nil {
				query, args = query+` AND rowid IN (SELECT value FROM json_each(?))`, append(args, named(ids))
			}
			var list []struct {
				ID  int64 `db:"rowid"`
				Doc string
			}
			if err := s.in.all(ctx, &list, query, args...); err != nil {
				return nil, err
			}
			out := make([]row[*device.Found], len(list))
			for i, r := range list {
				f := &device.Found{}
				if err := json.Unmarshal([]byte(r.Doc), f); err != nil {
					return nil, err
				}
				out[i] = row[*device.Found]{r.ID, f.Settle()}
			}
			return out, nil
		}}
}

// Device gives a found device; a zero one when it was never found.
func (s *Site) Device(ctx context.Context, mac address.MAC) (*device.Found, error) {
	f := &device.Found{}
	var doc string
	ok, err := s.in.one(ctx, &doc, `SELECT doc FROM devices WHERE site = ? AND mac = ?`, s.ID, mac)
	if !ok || err != nil {
		return f, err
	}
	return f, json.Unmarshal([]byte(doc), f)
}

// Sight adds what was seen of one device, and of what hangs behind it, outside a survey;
// what it is, is judged anew by recognise. nil leaves that as it is.
func (s *Site) Sight(ctx context.Context, recognise func(*device.Found), seen ...device.Sighting) error {
	if len(seen) == 0 {
		return nil
	}
	f, err := s.Device(ctx, seen[0].MAC)
	if err != nil {
		return err
	}
	for _, one := range seen {
		f.Add(one)
	}
	return s.SaveDevices(ctx, recognise, f)
}

// DeviceState is what we did to a box and what it showed since.
type DeviceState struct {
	MAC         address.MAC `db:"mac"`
	Serial      string      `db:"serial"`       // as it told itself
	ChangedAt   stamp.Time  `db:"changed_at"`   // last write to it
	RestartedAt stamp.Time  `db:"restarted_at"` // when it was seen to come back after that; zero: it was not
	Evidence    string      `db:"evidence"`     // what showed that restart
	Starts      int64       `db:"starts"`       // its start counter at the last write; negative: never read
	Wrong       int         `db:"wrong"`        // logins that it refused since it last accepted one
	WrongAt     stamp.Time  `db:"wrong_at"`     // the last of them
	// Written is the last write by a clock that nobody sets, where this run of the service made it; else zero.
	Written time.Time `db:"-"`
}

// DeviceState gives what is known of a box; nothing when nothing is.
func (s *Store) DeviceState(ctx context.Context, mac address.MAC) (DeviceState, error) {
	c := DeviceState{MAC: mac, Starts: -1}
	_, err := s.one(ctx, &c, `SELECT * FROM device_states WHERE mac = ?`, mac)
	if at, here := s.written.Load(mac); here {
		c.Written = at.(time.Time)
	}
	return c, err
}

// SetDeviceState stores the parts of c that are not zero.
func (s *Store) SetDeviceState(ctx context.Context, c DeviceState) error {
	if !c.ChangedAt.IsZero() {
		s.written.Store(c.MAC, time.Now())
	}
	return s.exec(ctx, setState, c)
}

// setState keeps the order of writes and restarts by which came after which, not by their times: our clock may
// have been set in between.
const setState = `INSERT INTO device_states (mac, serial, changed_at, restarted_at, evidence)
	VALUES (:mac, :serial, :changed_at, :restarted_at, :evidence)
	ON CONFLICT (mac) DO UPDATE SET
		serial = CASE :serial WHEN '' THEN serial ELSE :serial END,
		evidence = CASE WHEN :evidence <> '' THEN :evidence WHEN :changed_at <> 0 THEN '' ELSE evidence END,
		restarted_at = CASE WHEN :restarted_at <> 0 THEN :restarted_at WHEN :changed_at <> 0 THEN 0 ELSE restarted_at END,
		starts = CASE WHEN :changed_at <> 0 THEN -1 ELSE starts END, -- read before the last write, it shows nothing
		changed_at = CASE WHEN :changed_at <> 0 THEN :changed_at ELSE changed_at END`

// Servers gives what a box's servers showed to be known again by: SHA-256 in
// hexadecimal by kind.
func (s *Store) Servers(ctx context.Context, mac address.MAC) (map[string]string, error) {
	var rows []struct{ Kind, Sum string }
	if err := s.all(ctx, &rows, `SELECT kind, sum FROM servers WHERE mac = ?`, mac); err != nil {
		return nil, err
	}
	sums := map[string]string{}
	for _, r := range rows {
		sums[r.Kind] = r.Sum
	}
	return sums, nil
}

// SetServer notes what a box's server showed.
func (s *Store) SetServer(ctx context.Context, mac address.MAC, kind, sum string) error {
	return s.exec(ctx, `INSERT INTO servers (mac, kind, sum, at) VALUES (:mac, :kind, :sum, :at)
		ON CONFLICT (mac, kind) DO UPDATE SET sum = :sum, at = :at`,
		map[string]any{"mac": mac, "kind": kind, "sum": sum, "at": stamp.Now()})
}

// SetStarts keeps a box's start counter as it was before a write.
func (s *Store) SetStarts(ctx context.Context, mac address.MAC, starts int64) error {
	return s.exec(ctx,
		`INSERT INTO device_states (mac, starts)
			VALUES (:mac, :starts)
			ON CONFLICT (mac)
			DO UPDATE SET starts = :starts`, map[string]any{"mac": mac, "starts": starts})
}

// AddWrong counts a login that a box refused.
func (s *Store) AddWrong(ctx context.Context, mac address.MAC) error {
	return s.exec(ctx,
		`INSERT INTO device_states (mac, wrong, wrong_at)
			VALUES (:mac, 1, :at)
			ON CONFLICT (mac)
			DO UPDATE SET wrong = wrong + 1, wrong_at = :at`, map[string]any{"mac": mac, "at": stamp.Now()})
}

// ClearWrong notes that a box accepted a login: it counts anew.
func (s *Store) ClearWrong(ctx context.Context, mac address.MAC) error {
	return s.exec(ctx, `UPDATE device_states SET wrong = 0 WHERE mac = :mac AND wrong > 0`, map[string]any{"mac": mac})
}

// ForgiveWrong takes back some of the logins that a box refused.
func (s *Store) ForgiveWrong(ctx context.Context, mac address.MAC, times int) error {
	return s.exec(ctx, `UPDATE device_states SET wrong = max(0, wrong - :times) WHERE mac = :mac`,
		map[string]any{"mac": mac, "times": times})
}

// TagOf gives the entry that a box is matched with; "" when none is.
func (s *Site) TagOf(ctx context.Context, mac address.MAC) (tag string, err error) {
	// as its index says
	_, err = s.in.one(ctx, &tag, `SELECT tag FROM entries WHERE site = ? AND device = ? AND device <> ''`, s.ID, mac)
	return tag, err
}
