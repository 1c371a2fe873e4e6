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
	"redstart/internal/core/stamp"
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
	keyID  string
	opener string
	lost   error // why nothing here can open it; nil: something can
}

// Login is an opened credential.
type Login struct {
	profile.Login
	ID     int64
	State  string // one of store's states of a credential
	At     stamp.Time
	ToldBy string // what told the state
	Origin string // where it comes from
	Stamp  string // how it was made, as procedure.Values.Login
	MadeAt stamp.Time
}

// Named tells which credential it is without showing it.
func (l Login) Named() string {
	return fmt.Sprintf("credential %d of %s, made %s by %s", l.ID, l.User, l.MadeAt.Format("2006-01-02 15:04"),
		l.Origin)
}

// ErrLocked says that secrets can be neither read nor kept before somebody
// unlocks the vault.
var ErrLocked = problem.New(problem.Conflict, "the vault is locked",
	"unlock it with: redstart vault unlock; or in the console under Settings")

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

// cipher gives the key that seals and opens, and which it is.
func (v *Vault) cipher() (cipher.AEAD, string, error) {
	v.mu.RLock()
	defer v.mu.RUnlock()
	switch {
	case v.aead != nil:
		return v.aead, v.keyID, nil
	case v.lost != nil:
		return nil, "", v.lost
	}
	return nil, "", ErrLocked
}

// Locked reports whether secrets can be neither read nor kept now.
func (v *Vault) Locked() bool {
	_, _, err := v.cipher()
	return err != nil
}

// Lost tells why nothing here opens the vault; nil when something does.
func (v *Vault) Lost() error {
	v.mu.RLock()
	defer v.mu.RUnlock()
	return v.lost
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
func (v *Vault) use(key []byte, keyID, opener string) error {
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return err
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	v.aead, v.key, v.keyID, v.opener, v.lost = aead, key, keyID, opener, nil
	return nil
}

// New is a credential that is to be stored.
type New struct {
	MAC    address.MAC
	Login  profile.Login
	Origin string
	Stamp  string
	State  string // Pending, or Accepted when the box has just accepted it
	ToldBy string
	Note   store.CredentialNote // for the entry's history; a zero Tag for none
}

// Put stores credentials, all or none. They are on disk when this returns.
func (v *Vault) Put(ctx context.Context, list ...New) error {
	v.writing.RLock()
	defer v.writing.RUnlock()
	aead, keyID, err := v.cipher()
	if err != nil {
		return err
	}
	var rows []store.Credential
	var notes []store.CredentialNote
	for _, n := range list {
		c := store.Credential{MAC: n.MAC, User: n.Login.User, MadeAt: stamp.Now(), State: n.State, StateAt: stamp.Now(),
			ToldBy: n.ToldBy, Origin: n.Origin, Stamp: n.Stamp, KeyID: keyID}
		c.Sealed = seal(aead, c.Bound(), []byte(n.Login.Password))
		rows = append(rows, c)
		if n.Note.Tag != "" {
			notes = append(notes, n.Note)
		}
	}
	return v.store.AddCredentials(ctx, rows, notes...)
}

// Logins opens a box's credentials, newest first. Those that a lost key sealed
// are left out.
func (v *Vault) Logins(ctx context.Context, mac address.MAC) ([]Login, error) {
	aead, keyID, err := v.cipher()
	if err != nil {
		return nil, err
	}
	rows, err := v.store.Credentials(ctx, mac)
	if err != nil {
		return nil, err
	}
	var list []Login
	for _, c := range rows {
		if c.KeyID != keyID {
			continue
		}
		open, err := unseal(aead, c.Bound(), c.Sealed)
		if err != nil {
			return nil, damaged(mac.String())
		}
		list = append(list, Login{profile.Login{User: c.User, Password: string(open)}, c.ID, c.State, c.StateAt,
			c.ToldBy, c.Origin, c.Stamp, c.MadeAt})
	}
	return list, nil
}

func damaged(what string) error {
	return problem.New(problem.Machine, "a stored secret does not open with this vault key",
		"restore vault.key of the data folder that the records came from").About(what)
}

// Site is the secrets of one site.
type Site struct {
	vault   *Vault
	records *store.Site
}

// At gives the secrets of a site.
func (v *Vault) At(records *store.Site) *Site { return &Site{v, records} }

// Keep stores a secret of a site's plan and gives the token that stands for it.
func (s *Site) Keep(ctx context.Context, secret string) (token string, err error) {
	token = Prefix + strings.ToLower(rand.Text())
	return token, s.KeepAs(ctx, token, secret)
}

// KeepAs stores a secret under a token that the caller chose.
func (s *Site) KeepAs(ctx context.Context, token, secret string) error {
	s.vault.writing.RLock()
	defer s.vault.writing.RUnlock()
	aead, keyID, err := s.vault.cipher()
	if err != nil {
		return err
	}
	return s.records.AddSecret(ctx, token, seal(aead, token, []byte(secret)), keyID)
}

// Secrets opens all secrets of a site, by what stands for them. Those that a lost key sealed are
// left out.
func (s *Site) Secrets(ctx context.Context) (map[string]string, error) {
	tokens, err := s.records.SecretTokens(ctx)
	if err != nil {
		return nil, err
	}
	all := map[string]string{}
	for _, token := range tokens {
		secret, ok, err := s.Secret(ctx, token)
		if err != nil {
			return nil, err
		}
		if ok {
			all[token] = secret
		}
	}
	return all, nil
}

// Sealer gives what seals secrets, each bound to something, and which key it does that with. The
// key stays that until done is called.
func (v *Vault) Sealer() (seals func(bound, secret string) []byte, keyID string, done func(), err error) {
	v.writing.RLock()
	aead, keyID, err := v.cipher()
	if err != nil {
		v.writing.RUnlock()
		return nil, "", nil, err
	}
	return func(bound, secret string) []byte { return seal(aead, bound, []byte(secret)) }, keyID, v.writing.RUnlock, nil
}

// Secret opens what a token of a site stands for; ok is false when nothing does.
func (s *Site) Secret(ctx context.Context, token string) (secret string, ok bool, err error) {
	aead, keyID, err := s.vault.cipher()
	if err != nil {
		return "", false, err
	}
	sealed, by, ok, err := s.records.Secret(ctx, token)
	if err != nil || !ok || by != keyID {
		return "", false, err
	}
	open, err := unseal(aead, token, sealed)
	if err != nil {
		return "", false, damaged(token)
	}
	return string(open), true, nil
}

// Renamed gives what stands for a secret when its site moves from one number to another: names of
// the service's own hold the number, the others are made anew, so that the site may be there
// twice. ok is false for what stands for no secret.
func Renamed(token string, from, to int64) (fresh string, ok bool) {
	rest, ok := strings.CutPrefix(token, Prefix)
	if !ok || rest == "" || strings.ContainsFunc(rest, func(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }) {
		return "", false
	}
	if name, own := strings.CutPrefix(rest, fmt.Sprintf("%d/", from)); own {
		return fmt.Sprintf("%s%d/%s", Prefix, to, name), true
	}
	return Prefix + strings.ToLower(rand.Text()), true
}

// Shared gives the one password that all devices of a kind share in a site, in
// one turn of it, and makes it when there is none: make is asked for one that fits.
func (s *Site) Shared(ctx context.Context, kind string, turn int,
	make func() (string, error)) (string, error) {
	name := "kind/" + kind
	if turn > 0 {
		name += fmt.Sprintf("/%d", turn)
	}
	return s.once(ctx, name, make)
}

// once gives a secret of a site by a name of the service's own, and makes it when there is none.
func (s *Site) once(ctx context.Context, name string, make func() (string, error)) (string, error) {
	s.vault.shared.Lock()
	defer s.vault.shared.Unlock()
	token := fmt.Sprintf("%s%d/%s", Prefix, s.records.ID, name)
	secret, ok, err := s.Secret(ctx, token)
	if ok || err != nil {
		return secret, err
	}
	if secret, err = make(); err != nil {
		return "", err
	}
	return secret, s.KeepAs(ctx, token, secret)
}
