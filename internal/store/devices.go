package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/device"
)

// SaveDevices stores found devices, put together with what is known of them
// already: a survey, a watch and a run may all tell of one at a time. What they
// are is judged anew by recognise; nil leaves that as it is.
func (s *Site) SaveDevices(ctx context.Context, recognise func(*device.Found), list ...*device.Found) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		for _, f := range list {
			whole := f.Clone()
			var known string
			switch err := tx.Get(&known, `SELECT doc FROM devices WHERE site = ? AND mac = ?`, s.ID, f.MAC); {
			case errors.Is(err, sql.ErrNoRows):
			case err != nil:
				return err
			default:
				var before device.Found
				if err := json.Unmarshal([]byte(known), &before); err != nil {
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
		return nil
	})
}

// PutDevice stores a found device as it is given.
func (s *Site) PutDevice(ctx context.Context, f *device.Found) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return putDevice(tx, s.ID, f) })
}

func putDevice(tx *sqlx.Tx, site int64, f *device.Found) error {
	doc, err := json.Marshal(f)
	if err != nil {
		return err
	}
	_, err = tx.Exec(`INSERT INTO devices (site, mac, seen, doc) VALUES (?, ?, ?, ?) ON CONFLICT (site, mac) DO UPDATE SET seen = excluded.seen, doc = excluded.doc`,
		site, f.MAC, Stamp{f.Last}, string(doc))
	return err
}

// ForgetDevices forgets found devices, all or none.
func (s *Site) ForgetDevices(ctx context.Context, macs []address.MAC) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		for _, mac := range macs {
			if _, err := tx.Exec(`DELETE FROM devices WHERE site = ? AND mac = ?`, s.ID, mac); err != nil {
				return err
			}
		}
		return nil
	})
}

// Devices lists every device ever found, by MAC.
func (s *Site) Devices(ctx context.Context) ([]*device.Found, error) {
	var docs []string
	if err := s.db.SelectContext(ctx, &docs, `SELECT doc FROM devices WHERE site = ? ORDER BY mac`, s.ID); err != nil {
		return nil, err
	}
	list := make([]*device.Found, len(docs))
	for i, doc := range docs {
		list[i] = &device.Found{}
		if err := json.Unmarshal([]byte(doc), list[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Device gives a found device; a zero one when it was never found.
func (s *Site) Device(ctx context.Context, mac address.MAC) (*device.Found, error) {
	f := &device.Found{}
	var doc string
	ok, err := s.one(ctx, &doc, `SELECT doc FROM devices WHERE site = ? AND mac = ?`, s.ID, mac)
	if !ok || err != nil {
		return f, err
	}
	return f, json.Unmarshal([]byte(doc), f)
}

// Sight adds what was seen of a device outside a survey.
func (s *Site) Sight(ctx context.Context, sighting device.Sighting) error {
	f, err := s.Device(ctx, sighting.MAC)
	if err != nil {
		return err
	}
	f.Add(sighting)
	return s.SaveDevices(ctx, nil, f)
}

// Conduct is what we did to a box and what it showed since.
type Conduct struct {
	MAC         address.MAC `db:"mac"`
	Serial      string      `db:"serial"`       // as it told itself
	Certificate string      `db:"certificate"`  // SHA-256 of the one it showed us
	ChangedAt   Stamp       `db:"changed_at"`   // last write to it
	RestartedAt Stamp       `db:"restarted_at"` // last time it was seen to come back
}

// Conduct gives what is known of a box; the zero value when nothing is.
func (s *Store) Conduct(ctx context.Context, mac address.MAC) (Conduct, error) {
	c := Conduct{MAC: mac}
	_, err := s.one(ctx, &c, `SELECT * FROM conduct WHERE mac = ?`, mac)
	return c, err
}

// SetConduct stores the parts of c that are not zero.
func (s *Store) SetConduct(ctx context.Context, c Conduct) error {
	return s.exec(ctx, `INSERT INTO conduct (mac, serial, certificate, changed_at, restarted_at)
		VALUES (:mac, :serial, :certificate, :changed_at, :restarted_at)
		ON CONFLICT (mac) DO UPDATE SET
			serial = CASE :serial WHEN '' THEN serial ELSE :serial END,
			certificate = CASE :certificate WHEN '' THEN certificate ELSE :certificate END,
			changed_at = MAX(changed_at, :changed_at), restarted_at = MAX(restarted_at, :restarted_at)`, c)
}

// Credential is a sealed login of a box.
type Credential struct {
	ID     int64       `db:"id"`
	MAC    address.MAC `db:"mac"`
	User   string      `db:"user"`
	Sealed []byte      `db:"sealed"`
	MadeAt Stamp       `db:"made_at"`
	Works  bool        `db:"works"` // the box accepted it
}

// AddCredential stores a credential; it is on disk when this returns.
func (s *Store) AddCredential(ctx context.Context, c Credential) error {
	return s.exec(ctx, `INSERT INTO credentials (mac, user, sealed, made_at) VALUES (:mac, :user, :sealed, :made_at)`, c)
}

// Credentials lists a box's credentials, newest first.
func (s *Store) Credentials(ctx context.Context, mac address.MAC) ([]Credential, error) {
	var list []Credential
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM credentials WHERE mac = ? ORDER BY id DESC`, mac)
	return list, err
}

// CredentialWorks notes that the box accepted a credential.
func (s *Store) CredentialWorks(ctx context.Context, id int64) error {
	return s.exec(ctx, `UPDATE credentials SET works = 1 WHERE id = :id`, map[string]any{"id": id})
}

// TagOf gives the entry that a box is matched with; "" when none is.
func (s *Site) TagOf(ctx context.Context, mac address.MAC) (tag string, err error) {
	_, err = s.one(ctx, &tag, `SELECT tag FROM entries WHERE site = ? AND device = ?`, s.ID, mac)
	return tag, err
}
