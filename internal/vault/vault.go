// Package vault keeps device credentials: sealed with XChaCha20-Poly1305 under
// a key file that only its owner can read, each bound to the box it opens.
package vault

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"golang.org/x/crypto/chacha20poly1305"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// Vault seals and opens credentials.
type Vault struct {
	store *store.Store
	aead  cipher.AEAD
}

// Login is an opened credential.
type Login struct {
	profile.Login
	ID    int64
	Works bool // the box accepted it before
}

// Open reads the key file of a data folder, and makes it at first start.
func Open(dir string, s *store.Store) (*Vault, error) {
	path := filepath.Join(dir, "vault.key")
	key, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		key = make([]byte, chacha20poly1305.KeySize)
		rand.Read(key)
		err = writeNew(path, key)
	}
	if err != nil {
		return nil, problem.New(problem.Machine, "the vault's key file cannot be used", "check its rights").About(path).Because(err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm()&0o077 != 0 {
		return nil, problem.New(problem.Machine, "the vault's key file can be read by others", "run: chmod 600 "+path).About(path).Because(err)
	}
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return nil, problem.New(problem.Machine, "the vault's key file is damaged", "restore it from a copy; without it the stored passwords are lost").About(path)
	}
	return &Vault{s, aead}, nil
}

// writeNew writes a file that must not exist yet, down to the disk.
func writeNew(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

// bound ties a sealed password to its box and user, so that a row moved to
// another box does not open.
func bound(mac address.MAC, user string) []byte { return fmt.Appendf(nil, "%s\x00%s", mac, user) }

// Put stores a credential of a box. It is on disk when this returns.
func (v *Vault) Put(ctx context.Context, mac address.MAC, login profile.Login) error {
	nonce := make([]byte, v.aead.NonceSize())
	rand.Read(nonce)
	sealed := v.aead.Seal(nonce, nonce, []byte(login.Password), bound(mac, login.User))
	return v.store.AddCredential(ctx, store.Credential{MAC: mac, User: login.User, Sealed: sealed, MadeAt: store.Now()})
}

// Logins opens a box's credentials, newest first.
func (v *Vault) Logins(ctx context.Context, mac address.MAC) ([]Login, error) {
	rows, err := v.store.Credentials(ctx, mac)
	if err != nil {
		return nil, err
	}
	var list []Login
	for _, c := range rows {
		if len(c.Sealed) < v.aead.NonceSize() {
			return nil, damaged(mac)
		}
		nonce, box := c.Sealed[:v.aead.NonceSize()], c.Sealed[v.aead.NonceSize():]
		open, err := v.aead.Open(nil, nonce, box, bound(c.MAC, c.User))
		if err != nil {
			return nil, damaged(mac)
		}
		list = append(list, Login{profile.Login{User: c.User, Password: string(open)}, c.ID, c.Works})
	}
	return list, nil
}

func damaged(mac address.MAC) error {
	return problem.New(problem.Machine, "a stored credential does not open with this vault key", "restore vault.key of the data folder that the records came from").About(mac.String())
}

// Works notes that the box accepted a credential.
func (v *Vault) Works(ctx context.Context, login Login) error {
	if login.Works {
		return nil
	}
	return v.store.CredentialWorks(ctx, login.ID)
}
