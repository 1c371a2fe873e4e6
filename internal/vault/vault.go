// Package vault keeps the secrets of sites and devices: sealed with
// XChaCha20-Poly1305 under one random key, each bound to what it belongs to.
// The key itself is sealed by a key file that only its owner can read, or by a
// passphrase through Argon2id (RFC 9106). While the vault is locked the key is
// nowhere in memory.
package vault

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/crypto/chacha20poly1305"

	"redstart/internal/core/address"
	"redstart/internal/core/problem"
	"redstart/internal/core/profile"
	"redstart/internal/store"
)

// Prefix begins every token that stands for a secret in a plan.
const Prefix = "vault:"

// Vault seals and opens secrets.
type Vault struct {
	store *store.Store
	dir   string

	// writing is held by whoever seals, and wholly by who changes the key: nothing
	// may be sealed with a key that is on its way out.
	writing sync.RWMutex
	shared  sync.Mutex // two devices of a kind must not make two passwords

	mu     sync.RWMutex
	aead   cipher.AEAD // nil while locked
	key    []byte
	opener string
}

// Login is an opened credential.
type Login struct {
	profile.Login
	ID    int64
	Works bool // the box accepted it before
}

var errLocked = problem.New(problem.Conflict, "the vault is locked", "unlock it with: redstart vault unlock; or in the console under Settings")

// seal puts a secret into a box that opens only together with bound.
func seal(aead cipher.AEAD, bound string, secret []byte) []byte {
	nonce := make([]byte, aead.NonceSize())
	rand.Read(nonce)
	return aead.Seal(nonce, nonce, secret, []byte(bound))
}

var errDamaged = errors.New("it does not open with this key")

func unseal(aead cipher.AEAD, bound string, sealed []byte) ([]byte, error) {
	n := aead.NonceSize()
	if len(sealed) < n {
		return nil, errDamaged
	}
	open, err := aead.Open(nil, sealed[:n], sealed[n:], []byte(bound))
	if err != nil {
		return nil, errDamaged
	}
	return open, nil
}

func (v *Vault) cipher() (cipher.AEAD, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	if v.aead == nil {
		return nil, errLocked
	}
	return v.aead, nil
}

// Locked reports whether secrets can be neither read nor kept now.
func (v *Vault) Locked() bool {
	_, err := v.cipher()
	return err != nil
}

// Opener tells what opens the vault: ByFile or ByPassphrase.
func (v *Vault) Opener() string {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.opener
}

// Lock forgets the key until Unlock.
func (v *Vault) Lock() {
	v.mu.Lock()
	defer v.mu.Unlock()
	clear(v.key)
	v.aead, v.key = nil, nil
}

// use takes a key into use.
func (v *Vault) use(key []byte, opener string) error {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.aead, v.key, v.opener = aead, key, opener
	return nil
}

// Put stores a credential of a box. It is on disk when this returns.
func (v *Vault) Put(ctx context.Context, mac address.MAC, login profile.Login) error {
	v.writing.RLock()
	defer v.writing.RUnlock()
	aead, err := v.cipher()
	if err != nil {
		return err
	}
	c := store.Credential{MAC: mac, User: login.User, MadeAt: store.Now()}
	c.Sealed = seal(aead, c.Bound(), []byte(login.Password))
	return v.store.AddCredential(ctx, c)
}

// Logins opens a box's credentials, newest first.
func (v *Vault) Logins(ctx context.Context, mac address.MAC) ([]Login, error) {
	aead, err := v.cipher()
	if err != nil {
		return nil, err
	}
	rows, err := v.store.Credentials(ctx, mac)
	if err != nil {
		return nil, err
	}
	var list []Login
	for _, c := range rows {
		open, err := unseal(aead, c.Bound(), c.Sealed)
		if err != nil {
			return nil, damaged(mac.String())
		}
		list = append(list, Login{profile.Login{User: c.User, Password: string(open)}, c.ID, c.Works})
	}
	return list, nil
}

func damaged(what string) error {
	return problem.New(problem.Machine, "a stored secret does not open with this vault key", "restore vault.key of the data folder that the records came from").About(what)
}

// Works notes that the box accepted a credential.
func (v *Vault) Works(ctx context.Context, login Login) error {
	if login.Works {
		return nil
	}
	return v.store.CredentialWorks(ctx, login.ID)
}

// Keep stores a secret of a site's plan and gives the token that stands for it.
func (v *Vault) Keep(ctx context.Context, site *store.Site, secret string) (token string, err error) {
	token = Prefix + strings.ToLower(rand.Text())
	return token, v.KeepAs(ctx, site, token, secret)
}

// KeepAs stores a secret under a token that the caller chose.
func (v *Vault) KeepAs(ctx context.Context, site *store.Site, token, secret string) error {
	v.writing.RLock()
	defer v.writing.RUnlock()
	aead, err := v.cipher()
	if err != nil {
		return err
	}
	return site.AddSecret(ctx, token, seal(aead, token, []byte(secret)))
}

// Secret opens what a token stands for; ok is false when nothing does.
func (v *Vault) Secret(ctx context.Context, token string) (secret string, ok bool, err error) {
	aead, err := v.cipher()
	if err != nil {
		return "", false, err
	}
	sealed, ok, err := v.store.Secret(ctx, token)
	if err != nil || !ok {
		return "", false, err
	}
	open, err := unseal(aead, token, sealed)
	if err != nil {
		return "", false, damaged(token)
	}
	return string(open), true, nil
}

// Shared gives the one password that all devices of a kind share in a site,
// and makes it when there is none: make is asked for one that fits.
func (v *Vault) Shared(ctx context.Context, site *store.Site, kind string, make func() (string, error)) (string, error) {
	v.shared.Lock()
	defer v.shared.Unlock()
	token := fmt.Sprintf("%s%d/kind/%s", Prefix, site.ID, kind)
	password, ok, err := v.Secret(ctx, token)
	if ok || err != nil {
		return password, err
	}
	if password, err = make(); err != nil {
		return "", err
	}
	return password, v.KeepAs(ctx, site, token, password)
}
