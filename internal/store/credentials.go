package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/address"
	"redstart/internal/core/stamp"
	"redstart/internal/core/state"
)

// Credential is a sealed login of a box.
type Credential struct {
	ID      int64       `db:"id"`
	MAC     address.MAC `db:"mac"`
	User    string      `db:"user"`
	Sealed  []byte      `db:"sealed"`
	MadeAt  stamp.Time  `db:"made_at"`
	State   string      `db:"state"`
	StateAt stamp.Time  `db:"state_at"`
	ToldBy  string      `db:"told_by"` // what told the state: run 3, verification
	Origin  string      `db:"origin"`  // where it comes from: run 3, learned by anna
	Stamp   string      `db:"stamp"`   // how it was made, as procedure.Values.Login; "" for elsewhere
	KeyID   string      `db:"key_id"`  // the vault key that sealed it
}

// Bound is what a credential is sealed together with, so that a row moved to
// another box or user does not open.
func (c Credential) Bound() string { return c.MAC.String() + "\x00" + c.User }

const addCredential = `INSERT INTO credentials (mac, user, sealed, made_at, state, state_at, told_by, origin, stamp, key_id)
	VALUES (:mac, :user, :sealed, :made_at, :state, :state_at, :told_by, :origin, :stamp, :key_id)`

// AddCredentials stores credentials, all or none, each with a note for the entry
// of the site that it belongs to, if any. They are on disk when this returns. An
// accepted one takes the place of what was accepted before.
func (s *Store) AddCredentials(ctx context.Context, list []Credential, notes ...CredentialNote) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		for _, c := range list {
			if c.State == state.Accepted {
				if err := supersede(tx, c.MAC, 0, c.StateAt, c.ToldBy); err != nil {
					return err
				}
			}
			if _, err := tx.NamedExec(addCredential, c); err != nil {
				return err
			}
		}
		for _, n := range notes {
			if err := note(tx, n.Site, n.Tag, stamp.Now(), n.Who, n.What); err != nil {
				return err
			}
		}
		return nil
	})
}

// CredentialNote is a line for an entry's history that is written together with
// credentials.
type CredentialNote struct {
	Site           int64
	Tag, Who, What string
}

func supersede(tx *sqlx.Tx, mac address.MAC, but int64, at stamp.Time, by string) error {
	_, err := tx.Exec(`UPDATE credentials SET state = ?, state_at = ?, told_by = ?
			WHERE mac = ? AND id <> ? AND state = ?`, state.Superseded, at, by, mac, but, state.Accepted)
	return err
}

// Credentials lists a box's credentials, newest first.
func (s *Store) Credentials(ctx context.Context, mac address.MAC) ([]Credential, error) {
	var list []Credential
	err := s.all(ctx, &list, `SELECT * FROM credentials WHERE mac = ? ORDER BY id DESC`, mac)
	return list, err
}

// Opening gives what is known of the credential that each box accepted last.
// Nothing of it is opened.
func (s *Store) Opening(ctx context.Context) (map[address.MAC]Credential, error) {
	var list []Credential
	if err := s.all(ctx, &list, `SELECT * FROM credentials WHERE state = ? ORDER BY id`, state.Accepted); err != nil {
		return nil, err
	}
	byMAC := map[address.MAC]Credential{}
	for _, c := range list {
		byMAC[c.MAC] = c
	}
	return byMAC, nil
}

// SetCredential notes that a box accepted or refused a credential, and what told
// so. One that was accepted supersedes what was accepted before.
func (s *Store) SetCredential(ctx context.Context, mac address.MAC, id int64, to, by string) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		now := stamp.Now()
		if to == state.Accepted {
			if err := supersede(tx, mac, id, now, by); err != nil {
				return err
			}
		}
		_, err := tx.Exec(`UPDATE credentials SET state = ?, state_at = ?, told_by = ? WHERE id = ? AND mac = ?`, to,
			now, by, id, mac)
		return err
	})
}

// LoginsByTag tells which login opens the device of each entry of the site: the number of
// the one that it accepted last.
func (s *Site) LoginsByTag(ctx context.Context) (map[string]string, error) {
	var rows []struct{ Tag, ID string }
	err := s.in.all(ctx, &rows, `SELECT e.tag, CAST(MAX(c.id) AS TEXT) AS id FROM entries e
		JOIN credentials c ON c.mac = e.device AND c.state = ? WHERE e.site = ? GROUP BY e.tag`, state.Accepted, s.ID)
	byTag := make(map[string]string, len(rows))
	for _, r := range rows {
		byTag[r.Tag] = r.ID
	}
	return byTag, err
}
