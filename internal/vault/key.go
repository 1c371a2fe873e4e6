package vault

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/crypto/argon2"
	"golang.org/x/crypto/chacha20poly1305"

	"redstart/internal/core/problem"
	"redstart/internal/store"
)

// What opens the vault.
const (
	ByFile       = "file"
	ByPassphrase = "passphrase"
)

// Argon2id costs (RFC 9106, 4, second recommended option).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
)

// MinPassphrase is the shortest passphrase, in characters.
const MinPassphrase = 12

const keyBound = "vault key" // what the key is sealed together with

func (v *Vault) keyPath() string  { return filepath.Join(v.dir, "vault.key") }
func (v *Vault) nextPath() string { return v.keyPath() + ".next" }

// Open opens the vault of a data folder, and makes its key and key file at
// first start. A vault that a passphrase opens stays locked until Unlock, and one
// whose key file is lost or cannot be used stays locked and says why.
func Open(ctx context.Context, dir string, s *store.Store) (*Vault, error) {
	v := &Vault{store: s, dir: dir}
	ring, ok, err := s.Keyring(ctx)
	if err != nil {
		return nil, err
	}
	if !ok {
		v.opener = ByFile
		v.lost = v.make(ctx, v.store.SetKeyring)
		return v, nil
	}
	v.opener = ring.Opener
	if ring.Opener == ByPassphrase {
		return v, nil
	}
	v.lost = v.openByFile(ring)
	return v, nil
}

// BeginAnew gives a vault that nothing here opens a new key and key file. What
// the old key sealed stays in the records, sealed.
func (v *Vault) BeginAnew(ctx context.Context) error {
	v.writing.Lock()
	defer v.writing.Unlock()
	if v.Lost() == nil && v.Opener() == ByFile {
		return problem.New(problem.Conflict, "the vault opens with its key file; there is no need to begin anew",
			"to give it a new key: redstart vault rekey")
	}
	if !v.Locked() {
		return problem.New(problem.Conflict, "the vault is open; there is no need to begin anew",
			"to give it a new key: redstart vault rekey")
	}
	// An old key file may be one of another data folder: it is kept.
	aside := v.keyPath() + ".unfit-" + strings.ToLower(rand.Text())[:8]
	if err := os.Rename(v.keyPath(), aside); err != nil && !errors.Is(err, os.ErrNotExist) {
		return keyFileError(v.keyPath(), err)
	}
	return v.make(ctx, v.store.BeginAnew)
}

// make makes a key, sealed by the key file, which it makes too unless there is one.
func (v *Vault) make(ctx context.Context, keep func(context.Context, store.Keyring) error) error {
	file, err := readKeyFile(v.keyPath())
	if errors.Is(err, os.ErrNotExist) {
		file = make([]byte, chacha20poly1305.KeySize)
		rand.Read(file)
		err = writeNew(v.keyPath(), file)
	}
	if err != nil {
		return keyFileError(v.keyPath(), err)
	}
	opener, err := chacha20poly1305.NewX(file)
	if err != nil {
		return damagedFile(v.keyPath())
	}
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	ring := store.Keyring{KeyID: rand.Text(), Opener: ByFile, Salt: []byte{}, Sealed: seal(opener, keyBound, key)}
	if err := keep(ctx, ring); err != nil {
		return err
	}
	return v.use(key, ring.KeyID, ByFile)
}

// openByFile opens the key with the key file, or with the one that was to
// replace it when a change was cut off.
func (v *Vault) openByFile(ring store.Keyring) error {
	for _, path := range []string{v.keyPath(), v.nextPath()} {
		file, err := readKeyFile(path)
		if errors.Is(err, os.ErrNotExist) && path == v.keyPath() {
			continue
		}
		if errors.Is(err, os.ErrNotExist) {
			break
		}
		if err != nil {
			return keyFileError(path, err)
		}
		opener, err := chacha20poly1305.NewX(file)
		if err != nil {
			return damagedFile(path)
		}
		key, err := unseal(opener, keyBound, ring.Sealed)
		if err != nil {
			continue
		}
		if path == v.nextPath() {
			if err := errors.Join(os.Rename(path, v.keyPath()), syncFolder(filepath.Dir(path))); err != nil {
				return keyFileError(path, err)
			}
		}
		return v.use(key, ring.KeyID, ByFile)
	}
	return problem.New(problem.Machine, "no key file here opens the vault",
		"restore vault.key of this data folder; without it the stored passwords are lost. To go on without them: redstart vault begin-anew").About(v.keyPath())
}

func damagedFile(path string) error {
	return problem.New(problem.Machine, "the vault's key file is damaged",
		"restore it from a copy; without it the stored passwords are lost. To go on without them: redstart vault begin-anew").About(path)
}

var errOthers = errors.New("others can read it")

func keyFileError(path string, err error) error {
	if errors.Is(err, errOthers) {
		return problem.New(problem.Machine, "the vault's key file can be read by others",
			"run: chmod 600 "+path).About(path)
	}
	return problem.Disk(err, "the vault's key file cannot be used", path)
}

func readKeyFile(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, errors.New("it is no regular file")
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, errOthers
	}
	return os.ReadFile(path)
}

// writeNew writes a file that must not exist yet, down to the disk.
func writeNew(path string, content []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close(), syncFolder(filepath.Dir(path)))
}

// syncFolder has what is listed in a folder on the disk, after a file came, went or took
// another's place.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	return errors.Join(d.Sync(), d.Close())
}

func byPassphrase(passphrase string, salt []byte) (cipher.AEAD, error) {
	return chacha20poly1305.NewX(argon2.IDKey([]byte(passphrase), salt, argonTime, argonMemory, argonThreads,
		chacha20poly1305.KeySize))
}

// Unlock opens a locked vault, with the passphrase if one opens it.
func (v *Vault) Unlock(ctx context.Context, passphrase string) error {
	ring, ok, err := v.store.Keyring(ctx)
	if err != nil || !ok {
		return errors.Join(err, errors.New("the vault has no key"))
	}
	if ring.Opener == ByFile {
		return v.openByFile(ring)
	}
	if passphrase == "" {
		return problem.New(problem.Usage, "the passphrase is empty", "give the one that opens the vault")
	}
	opener, err := byPassphrase(passphrase, ring.Salt)
	if err != nil {
		return err
	}
	key, err := unseal(opener, keyBound, ring.Sealed)
	if err != nil {
		return problem.New(problem.Usage, "the passphrase does not open the vault",
			"try again; without it the stored passwords are lost. To go on without them: redstart vault begin-anew")
	}
	return v.use(key, ring.KeyID, ByPassphrase)
}

// settle puts the key file that opens the records into its place, if an earlier change could
// not: the next change would take it away.
func (v *Vault) settle(ctx context.Context) error {
	ring, ok, err := v.store.Keyring(ctx)
	if err != nil || !ok || ring.Opener != ByFile {
		return err
	}
	file, err := readKeyFile(v.nextPath())
	if err != nil {
		return nil // there is none to lose
	}
	opener, err := chacha20poly1305.NewX(file)
	if err != nil {
		return nil // it is no key
	}
	if _, err := unseal(opener, keyBound, ring.Sealed); err != nil {
		return nil // it opens nothing
	}
	if err := errors.Join(os.Rename(v.nextPath(), v.keyPath()), syncFolder(filepath.Dir(v.keyPath()))); err != nil {
		return keyFileError(v.keyPath(), err)
	}
	return nil
}

// Change gives the vault a new key and seals everything with it anew. From
// then on the passphrase opens it, or a new key file when it is empty.
func (v *Vault) Change(ctx context.Context, passphrase string) error {
	v.writing.Lock()
	defer v.writing.Unlock()
	old, was, err := v.cipher()
	if err != nil {
		return err
	}
	if err := v.settle(ctx); err != nil {
		return err
	}
	if n := len([]rune(passphrase)); n > 0 && n < MinPassphrase {
		return problem.New(problem.Usage, "the passphrase is too short",
			"take at least 12 characters; four or five words are good")
	}
	key := make([]byte, chacha20poly1305.KeySize)
	rand.Read(key)
	aead, err := chacha20poly1305.NewX(key)
	if err != nil {
		return err
	}
	ring := store.Keyring{KeyID: rand.Text(), Opener: ByPassphrase, Salt: make([]byte, 16)}
	var opener cipher.AEAD
	if passphrase != "" {
		rand.Read(ring.Salt)
		opener, err = byPassphrase(passphrase, ring.Salt)
	} else {
		ring.Opener, ring.Salt = ByFile, []byte{}
		file := make([]byte, chacha20poly1305.KeySize)
		rand.Read(file)
		if err := os.Remove(v.nextPath()); err != nil && !errors.Is(err, os.ErrNotExist) {
			return keyFileError(v.nextPath(), err)
		}
		// Before the records: a change that is cut off finds one of the two.
		if err := writeNew(v.nextPath(), file); err != nil {
			return keyFileError(v.nextPath(), err)
		}
		opener, err = chacha20poly1305.NewX(file)
	}
	if err != nil {
		return err
	}
	ring.Sealed = seal(opener, keyBound, key)
	err = v.store.Reseal(ctx, was, ring, func(bound string, sealed []byte) ([]byte, error) {
		open, err := unseal(old, bound, sealed)
		if err != nil {
			return nil, err
		}
		return seal(aead, bound, open), nil
	})
	if err != nil {
		return err
	}
	if ring.Opener == ByFile {
		err = errors.Join(os.Rename(v.nextPath(), v.keyPath()), syncFolder(filepath.Dir(v.keyPath())))
	} else if err = os.Remove(v.keyPath()); errors.Is(err, os.ErrNotExist) {
		err = nil
	}
	// From here on the records are sealed with the new key, whatever became of the file: it
	// opens them at its other place too.
	used := v.use(key, ring.KeyID, ring.Opener)
	if err != nil {
		return errors.Join(keyFileError(v.keyPath(), err), used)
	}
	return used
}
