package store

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// HostID is what the licence of a box is made for, as the box told it.
type HostID struct {
	MAC  address.MAC `db:"mac"`
	ID   string      `db:"id"`
	At   stamp.Time  `db:"at"`   // told first, since it changed last
	Seen stamp.Time  `db:"seen"` // told last
	// Asked is for which a licence was asked for, and when; "" for none yet.
	Asked   string     `db:"asked"`
	AskedAt stamp.Time `db:"asked_at"`
	// Since are the acts that were done between the telling before and this one: one of them
	// changed it. "" for a first telling.
	Since string `db:"since"`
}

// HostIDs gives what boxes told, by MAC.
func (s *Site) HostIDs(ctx context.Context) (map[address.MAC]HostID, error) {
	var list []HostID
	err := s.in.all(ctx, &list, `SELECT mac, id, at, seen, asked, asked_at, since FROM host_ids WHERE site = ?`, s.ID)
	out := map[address.MAC]HostID{}
	for _, h := range list {
		out[h.MAC] = h
	}
	return out, err
}

// ToldHostID notes what a box told as its host id.
func (s *Site) ToldHostID(ctx context.Context, mac address.MAC, id string, at stamp.Time) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		var was []HostID
		if err := tx.Select(&was, `SELECT mac, id, at, seen, asked, asked_at, since FROM host_ids
			WHERE site = ? AND mac = ?`, s.ID, mac); err != nil {
			return err
		}
		switch {
		case len(was) == 0:
			_, err := tx.Exec(`INSERT INTO host_ids (site, mac, id, at, seen) VALUES (?, ?, ?, ?, ?)`, s.ID, mac, id, at, at)
			return err
		case was[0].ID == id:
			_, err := tx.Exec(`UPDATE host_ids SET seen = ? WHERE site = ? AND mac = ?`, at, s.ID, mac)
			return err
		}
		var acts []string
		if err := tx.Select(&acts, `SELECT DISTINCT step FROM journal WHERE mac = ? AND phase = ? AND at > ? AND at <= ?
			AND step IN ('name', 'address', 'settings', 'password', 'save', 'restart') ORDER BY id`, mac, state.Done,
			was[0].Seen, at); err != nil {
			return err
		}
		_, err := tx.Exec(`UPDATE host_ids SET id = ?, at = ?, seen = ?, since = ? WHERE site = ? AND mac = ?`, id, at, at,
			strings.Join(acts, ", "), s.ID, mac)
		return err
	})
}

// AskedFor notes that licences were asked for, for the host ids that the boxes tell now.
func (s *Site) AskedFor(ctx context.Context, macs []address.MAC) error {
	return s.in.write(ctx, func(tx *sqlx.Tx) error {
		for _, mac := range macs {
			if _, err := tx.Exec(`UPDATE host_ids SET asked = id, asked_at = ? WHERE site = ? AND mac = ?`, stamp.Now(), s.ID,
				mac); err != nil {
				return err
			}
		}
		return nil
	})
}
