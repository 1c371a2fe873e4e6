package store

import (
	"context"
	"fmt"

	"github.com/jmoiron/sqlx"

	"redstart/internal/core/stamp"
)

// Keyring is the vault's key, sealed by what opens it.
type Keyring struct {
	KeyID  string `db:"key_id"` // which key it is; "" for the first
	Opener string `db:"opener"` // file or passphrase
	Salt   []byte `db:"salt"`
	Sealed []byte `db:"sealed"`
}

// Keyring gives the sealed key; ok is false before there is one.
func (s *Store) Keyring(ctx context.Context) (k Keyring, ok bool, err error) {
	ok, err = s.one(ctx, &k, `SELECT key_id, opener, salt, sealed FROM keyring WHERE id = 1`)
	return k, ok, err
}

// SetKeyring stores the sealed key in place of the one before.
func (s *Store) SetKeyring(ctx context.Context, k Keyring) error {
	return s.write(ctx, func(tx *sqlx.Tx) error { return setKeyring(tx, k) })
}

func setKeyring(tx *sqlx.Tx, k Keyring) error {
	_, err := tx.NamedExec(`INSERT INTO keyring (id, key_id, opener, salt, sealed) VALUES (1, :key_id, :opener, :salt, :sealed)
		ON CONFLICT (id) DO UPDATE SET key_id = :key_id, opener = :opener, salt = :salt, sealed = :sealed`, k)
	return err
}

// BeginAnew puts a new key in the place of one that nothing opens. What that one
// sealed stays as it is, and so does the key itself, sealed as it was.
func (s *Store) BeginAnew(ctx context.Context, k Keyring) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.Exec(`INSERT INTO lost_keys (key_id, opener, salt, sealed, at) SELECT key_id, opener, salt, sealed, ? FROM keyring`, stamp.Now()); err != nil {
			return err
		}
		return setKeyring(tx, k)
	})
}

// SealedByLost counts the credentials and secrets that keys sealed which nothing
// opens any more.
func (s *Store) SealedByLost(ctx context.Context) (n int, err error) {
	_, err = s.one(ctx, &n,
		`SELECT (SELECT COUNT(*) FROM credentials
			WHERE key_id IN (SELECT key_id FROM lost_keys)) + (SELECT COUNT(*) FROM secrets
			WHERE key_id IN (SELECT key_id FROM lost_keys))`)
	return n, err
}

// AddSecret stores a secret of the site, sealed with a key, under what stands for it.
func (s *Site) AddSecret(ctx context.Context, token string, sealed []byte, keyID string) error {
	return s.in.exec(ctx,
		`INSERT INTO secrets (token, site, sealed, made_at, key_id) VALUES (:token, :site, :sealed, :at, :key)
		ON CONFLICT (token) DO UPDATE SET sealed = :sealed, key_id = :key`,
		map[string]any{"token": token, "site": s.ID, "sealed": sealed, "at": stamp.Now(), "key": keyID})
}

// Secret gives a sealed secret of the site and the key that sealed it; ok is false when
// there is none.
func (s *Site) Secret(ctx context.Context, token string) (sealed []byte, keyID string, ok bool, err error) {
	var row struct {
		Sealed []byte
		KeyID  string `db:"key_id"`
	}
	ok, err = s.in.one(ctx, &row, `SELECT sealed, key_id FROM secrets WHERE site = ? AND token = ?`, s.ID, token)
	return row.Sealed, row.KeyID, ok, err
}

// Reseal seals anew every credential and secret that the present key sealed, and
// stores the new key, all or nothing. seal is given what a secret is bound to and
// how it is sealed now.
func (s *Store) Reseal(ctx context.Context, was string, k Keyring,
	seal func(bound string, sealed []byte) ([]byte, error)) error {
	return s.write(ctx, func(tx *sqlx.Tx) error {
		var credentials []Credential
		if err := tx.Select(&credentials, `SELECT * FROM credentials WHERE key_id = ?`, was); err != nil {
			return err
		}
		for _, c := range credentials {
			again, err := seal(c.Bound(), c.Sealed)
			if err != nil {
				return fmt.Errorf("credential of %s: %w", c.MAC, err)
			}
			if _, err := tx.Exec(`UPDATE credentials SET sealed = ?, key_id = ? WHERE id = ?`, again, k.KeyID,
				c.ID); err != nil {
				return err
			}
		}
		var secrets []struct {
			Token  string
			Sealed []byte
		}
		if err := tx.Select(&secrets, `SELECT token, sealed FROM secrets WHERE key_id = ?`, was); err != nil {
			return err
		}
		for _, x := range secrets {
			again, err := seal(x.Token, x.Sealed)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(`UPDATE secrets SET sealed = ?, key_id = ? WHERE token = ?`, again, k.KeyID,
				x.Token); err != nil {
				return err
			}
		}
		return setKeyring(tx, k)
	})
}
