package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"
)

// Keyring is the vault's key, sealed by what opens it.
type Keyring struct {
	Opener string `db:"opener"` // file or passphrase
	Salt   []byte `db:"salt"`
	Sealed []byte `db:"sealed"`
}

// Keyring gives the sealed key; ok is false before there is one.
func (s *Store) Keyring(ctx context.Context) (k Keyring, ok bool, err error) {
	ok, err = s.one(ctx, &k, `SELECT opener, salt, sealed FROM keyring WHERE id = 1`)
	return k, ok, err
}

// SetKeyring stores the sealed key in place of the one before.
func (s *Store) SetKeyring(ctx context.Context, k Keyring) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return setKeyring(tx, k) })
}

func setKeyring(tx *sqlx.Tx, k Keyring) error {
	_, err := tx.NamedExec(`INSERT INTO keyring (id, opener, salt, sealed) VALUES (1, :opener, :salt, :sealed)
		ON CONFLICT (id) DO UPDATE SET opener = :opener, salt = :salt, sealed = :sealed`, k)
	return err
}

// AddSecret stores a sealed secret of the site under what stands for it.
func (s *Site) AddSecret(ctx context.Context, token string, sealed []byte) error {
	return s.exec(ctx, `INSERT INTO secrets (token, site, sealed, made_at) VALUES (:token, :site, :sealed, :at)
		ON CONFLICT (token) DO UPDATE SET sealed = :sealed`, map[string]any{"token": token, "site": s.ID, "sealed": sealed, "at": Now()})
}

// Secret gives a sealed secret; ok is false when there is none.
func (s *Store) Secret(ctx context.Context, token string) (sealed []byte, ok bool, err error) {
	ok, err = s.one(ctx, &sealed, `SELECT sealed FROM secrets WHERE token = ?`, token)
	return sealed, ok, err
}

// Reseal seals every credential and secret anew, and stores the new key, all
// or nothing. seal is given what a secret is bound to and how it is sealed now.
func (s *Store) Reseal(ctx context.Context, k Keyring, seal func(bound string, sealed []byte) ([]byte, error)) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		var credentials []Credential
		if err := tx.Select(&credentials, `SELECT * FROM credentials`); err != nil {
			return err
		}
		for _, c := range credentials {
			again, err := seal(c.Bound(), c.Sealed)
			if err != nil {
				return fmt.Errorf("credential of %s: %w", c.MAC, err)
			}
			if _, err := tx.Exec(`UPDATE credentials SET sealed = ? WHERE id = ?`, again, c.ID); err != nil {
				return err
			}
		}
		var secrets []struct {
			Token  string
			Sealed []byte
		}
		if err := tx.Select(&secrets, `SELECT token, sealed FROM secrets`); err != nil {
			return err
		}
		for _, x := range secrets {
			again, err := seal(x.Token, x.Sealed)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE secrets SET sealed = ? WHERE token = ?`, again, x.Token); err != nil {
				return err
			}
		}
		return setKeyring(tx, k)
	})
}

// Bound is what a credential is sealed together with, so that a row moved to
// another box or user does not open.
func (c Credential) Bound() string { return c.MAC.String() + "\x00" + c.User }
