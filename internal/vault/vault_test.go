package vault_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/plan"
	"redstart/internal/core/profile"
	"redstart/internal/core/state"
	"redstart/internal/store"
	"redstart/internal/store/storetest"
	"redstart/internal/vault"
)

var (
	ctx = context.Background()
	one = address.MAC{2, 0, 0, 0, 0, 1}
	two = address.MAC{2, 0, 0, 0, 0, 2}
)

// put stores a credential that nobody tried yet.
func put(v *vault.Vault, mac address.MAC, login profile.Login) error {
	return v.Put(ctx, vault.New{MAC: mac, Login: login, State: state.Pending, Origin: "test"})
}

func open(t *testing.T, dir string) (*store.Store, *vault.Vault) {
	t.Helper()
	storetest.Begin(t, dir)
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	v, err := vault.Open(ctx, dir, s)
	if err != nil {
		t.Fatal(err)
	}
	return s, v
}

func TestCredentialsAreSealedAndComeBackNewestFirst(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	for _, p := range []string{"first-secret", "second-secret"} {
		if err := put(v, one, profile.Login{User: "u", Password: p}); err != nil {
			t.Fatal(err)
		}
	}
	logins, err := v.Logins(ctx, one)
	if err != nil || len(logins) != 2 || logins[0].Password != "second-secret" || logins[0].User != "u" ||
		logins[0].State != state.Pending {
		t.Fatalf("%+v, %v", logins, err)
	}
	if err := s.SetCredential(ctx, one, logins[0].ID, state.Accepted, "run 1"); err != nil {
		t.Fatal(err)
	}
	if logins, err = v.Logins(ctx, one); err != nil || logins[0].State != state.Accepted ||
		logins[0].ToldBy != "run 1" || logins[1].State != state.Pending {
		t.Errorf("%+v, %v", logins, err)
	}
	if others, err := v.Logins(ctx, two); err != nil || len(others) != 0 {
		t.Errorf("another box has %v, %v", others, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "*.*"))
	for _, f := range files {
		content, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		if bytes.Contains(content, []byte("-secret")) {
			t.Errorf("a password is readable in %s", f)
		}
	}
	info, err := os.Stat(filepath.Join(dir, "vault.key"))
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key file has %v, %v", info.Mode(), err)
	}
	_, v = open(t, dir)
	if logins, err = v.Logins(ctx, one); err != nil || logins[1].Password != "first-secret" {
		t.Errorf("after a restart: %+v, %v", logins, err)
	}
}

func TestASealedPasswordOpensOnlyForItsBox(t *testing.T) {
	s, v := open(t, t.TempDir())
	if err := put(v, one, profile.Login{User: "u", Password: "p-1"}); err != nil {
		t.Fatal(err)
	}
	rows, err := s.Credentials(ctx, one)
	if err != nil {
		t.Fatal(err)
	}
	moved := rows[0]
	moved.MAC = two
	if err := s.AddCredentials(ctx, []store.Credential{moved}); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Logins(ctx, two); err == nil || !strings.Contains(err.Error(), "does not open") {
		t.Errorf("a credential that was moved to another box: %v", err)
	}
	short := rows[0]
	short.MAC, short.Sealed = address.MAC{2, 0, 0, 0, 0, 3}, []byte{1}
	if err := s.AddCredentials(ctx, []store.Credential{short}); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Logins(ctx, short.MAC); err == nil {
		t.Error("a cut-off credential opened")
	}
}

func TestTheKeyFileIsGuarded(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	key := filepath.Join(dir, "vault.key")
	for name, c := range map[string]struct {
		content string
		mode    os.FileMode
		want    string
	}{
		"readable by others": {strings.Repeat("k", 32), 0o644, "chmod 600"},
		"damaged":            {"short", 0o600, "damaged"},
	} {
		if err := os.WriteFile(key, []byte(c.content), 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(key, c.mode); err != nil {
			t.Fatal(err)
		}
		v, err := vault.Open(ctx, dir, s)
		if err != nil || !v.Locked() || v.Lost() == nil || !strings.Contains(v.Lost().Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func login(t *testing.T, v *vault.Vault) string {
	t.Helper()
	logins, err := v.Logins(ctx, one)
	if err != nil || len(logins) == 0 {
		t.Fatalf("%+v, %v", logins, err)
	}
	return logins[0].Password
}

func TestAPassphraseOpensTheVault(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	site, err := s.AddSite(ctx, plan.Site{Key: "a", Name: "A"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	if err := put(v, one, profile.Login{User: "u", Password: "kept-secret"}); err != nil {
		t.Fatal(err)
	}
	token, err := v.At(site).Keep(ctx, "join-secret")
	if err != nil || !strings.HasPrefix(token, vault.Prefix) {
		t.Fatal(token, err)
	}
	before, err := s.Credentials(ctx, one)
	if err != nil {
		t.Fatal(err)
	}
	if err := v.Change(ctx, "short"); err == nil || v.Opener() != vault.ByFile {
		t.Errorf("a short passphrase: %v", err)
	}
	if err := v.Change(ctx, "four words nobody says"); err != nil {
		t.Fatal(err)
	}
	after, err := s.Credentials(ctx, one)
	if err != nil || bytes.Equal(before[0].Sealed, after[0].Sealed) || login(t, v) != "kept-secret" {
		t.Errorf("not sealed anew, %v", err)
	}
	if _, err := os.Stat(filepath.Join(dir, "vault.key")); !os.IsNotExist(err) {
		t.Errorf("the key file is still there: %v", err)
	}
	v.Lock()
	if _, err := v.Logins(ctx, one); err == nil || !strings.Contains(err.Error(), "locked") {
		t.Errorf("a locked vault: %v", err)
	}
	if err := put(v, one, profile.Login{}); err == nil {
		t.Error("a locked vault took a password")
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s, v = open(t, dir)
	if site, err = s.At(ctx, site.Key); err != nil {
		t.Fatal(err)
	}
	if !v.Locked() || v.Opener() != vault.ByPassphrase {
		t.Fatal("open without the passphrase")
	}
	if err := v.Unlock(ctx, "four words anybody says"); err == nil || !v.Locked() {
		t.Errorf("a wrong passphrase: %v", err)
	}
	if err := v.Unlock(ctx, "four words nobody says"); err != nil || login(t, v) != "kept-secret" {
		t.Fatal(err)
	}
	if got, ok, err := v.At(site).Secret(ctx, token); got != "join-secret" || !ok || err != nil {
		t.Errorf("%q %t %v", got, ok, err)
	}
	if _, ok, err := v.At(site).Secret(ctx, "vault:other"); ok || err != nil {
		t.Errorf("a token of nothing: %t, %v", ok, err)
	}
	other, err := s.AddSite(ctx, plan.Site{Key: "other", Name: "Other"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	if _, ok, err := v.At(other).Secret(ctx, token); ok || err != nil {
		t.Errorf("a token of another site: %t, %v", ok, err)
	}
	// Back to a key file.
	if err := v.Change(ctx, ""); err != nil || v.Opener() != vault.ByFile {
		t.Fatal(err)
	}
	v.Lock()
	if err := v.Unlock(ctx, ""); err != nil || login(t, v) != "kept-secret" {
		t.Fatal(err)
	}
}

// A change of the key that was cut off after the records were written finds
// the new key file beside the old one.
func TestAChangeOfKeyThatWasCutOff(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	if err := put(v, one, profile.Login{Password: "kept-secret"}); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "vault.key")
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := v.Change(ctx, ""); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(file, file+".next"); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, old, 0o600); err != nil {
		t.Fatal(err)
	}
	if v, err = vault.Open(ctx, dir, s); err != nil || login(t, v) != "kept-secret" {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, old, 0o600); err != nil {
		t.Fatal(err)
	}
	if v, err = vault.Open(ctx, dir, s); err != nil || v.Lost() == nil ||
		!strings.Contains(v.Lost().Error(), "no key file here opens") {
		t.Errorf("an older key file: %v, %v", v.Lost(), err)
	}
}

// A change whose file cannot be put into its place has happened all the same: what is stored
// afterwards is sealed with the new key, which is found, and no further change loses it.
func TestAChangeOfKeyWhoseFileCannotBePlaced(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	file := filepath.Join(dir, "vault.key")
	old, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Remove(file), os.MkdirAll(filepath.Join(file, "in-the-way"), 0o700)); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if err := v.Change(ctx, ""); err == nil {
			t.Fatal("the new file cannot be in its place")
		}
		if err := put(v, one, profile.Login{Password: "kept-secret"}); err != nil {
			t.Fatal(err)
		}
	}
	if err := errors.Join(os.RemoveAll(file), os.WriteFile(file, old, 0o600)); err != nil {
		t.Fatal(err)
	}
	if v, err = vault.Open(ctx, dir, s); err != nil || v.Locked() || login(t, v) != "kept-secret" {
		t.Fatalf("locked %v, %v", v.Locked(), err)
	}
	if err := v.Change(ctx, ""); err != nil || login(t, v) != "kept-secret" {
		t.Error(err)
	}
}

// Without its key file a vault is locked and says so; begun anew it keeps what
// the lost key sealed, and takes new secrets.
func TestALostKeyFile(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	site, err := s.AddSite(ctx, plan.Site{Key: "a", Name: "A"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	token, err := v.At(site).Keep(ctx, "old-setting")
	if err := errors.Join(err, put(v, one, profile.Login{User: "u", Password: "old-secret"})); err != nil {
		t.Fatal(err)
	}
	if err := v.BeginAnew(ctx); err == nil {
		t.Error("a vault that is open was begun anew")
	}
	if err := os.Remove(filepath.Join(dir, "vault.key")); err != nil {
		t.Fatal(err)
	}
	if v, err = vault.Open(ctx, dir, s); err != nil || !v.Locked() || v.Lost() == nil ||
		!strings.Contains(v.Lost().Error(), "begin-anew") {
		t.Fatalf("%v, %v", v.Lost(), err)
	}
	if err := put(v, one, profile.Login{}); err == nil || !strings.Contains(err.Error(), "no key file here opens") {
		t.Errorf("a vault without its key: %v", err)
	}
	if err := v.BeginAnew(ctx); err != nil || v.Locked() || v.Lost() != nil {
		t.Fatal(err)
	}
	if err := put(v, one, profile.Login{User: "u", Password: "new-secret"}); err != nil {
		t.Fatal(err)
	}
	logins, err := v.Logins(ctx, one)
	if err != nil || len(logins) != 1 || logins[0].Password != "new-secret" {
		t.Errorf("%d logins, %v", len(logins), err)
	}
	if _, ok, err := v.At(site).Secret(ctx, token); ok || err != nil {
		t.Errorf("what the lost key sealed: %t, %v", ok, err)
	}
	rows, err := s.Credentials(ctx, one)
	if lost, err2 := s.SealedByLost(ctx); err != nil || err2 != nil || len(rows) != 2 || lost != 2 {
		t.Errorf("%d rows, %d sealed by the lost key, %v", len(rows), lost, errors.Join(err, err2))
	}
	if err := v.Change(ctx, "four words nobody says"); err != nil {
		t.Errorf("a new key beside what a lost one sealed: %v", err)
	}
	v.Lock()
	if err := v.Unlock(ctx, ""); err == nil || !strings.Contains(err.Error(), "empty") {
		t.Errorf("an empty passphrase: %v", err)
	}
	if err := v.BeginAnew(ctx); err != nil || v.Opener() != vault.ByFile {
		t.Errorf("a forgotten passphrase: %v", err)
	}
}

func TestDevicesOfAKindShareOnePassword(t *testing.T) {
	s, v := open(t, t.TempDir())
	site, err := s.AddSite(ctx, plan.Site{Key: "a", Name: "A"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	got := make([]string, 20)
	for i := range got {
		all.Add(1)
		go func() {
			defer all.Done()
			p, err := v.At(site).Shared(ctx, "camera", 0, func() (string, error) { return fmt.Sprint("made by ", i), nil })
			if err != nil {
				t.Error(err)
			}
			got[i] = p
		}()
	}
	all.Wait()
	for _, p := range got {
		if p != got[0] || p == "" {
			t.Fatalf("%q", got)
		}
	}
	if p, err := v.At(site).Shared(ctx, "camera", 1, func() (string, error) {
		return "turned", nil
	}); err != nil || p != "turned" {
		t.Errorf("the next turn gives %q, %v", p, err)
	}
	if p, err := v.At(site).Shared(ctx, "clock", 0, func() (string, error) {
		return "", errors.New("impossible")
	}); err == nil {
		t.Errorf("%q without an error", p)
	}
}

// Passwords that are kept while the key changes open with the new key.
func TestKeepingWhileTheKeyChanges(t *testing.T) {
	s, v := open(t, t.TempDir())
	site, err := s.AddSite(ctx, plan.Site{Key: "a", Name: "A"}, "x")
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for i := range 4 {
		all.Add(1)
		go func() {
			defer all.Done()
			for n := range 25 {
				if err := put(v, address.MAC{2, 0, 0, 0, 1, byte(i)},
					profile.Login{User: "u", Password: fmt.Sprint("p-", n)}); err != nil {
					t.Error(err)
				}
				if err := v.At(site).KeepAs(ctx, fmt.Sprint("vault:", i, n), "kept"); err != nil {
					t.Error(err)
				}
			}
		}()
	}
	for range 5 {
		if err := v.Change(ctx, ""); err != nil {
			t.Error(err)
		}
	}
	all.Wait()
	for i := range 4 {
		if logins, err := v.Logins(ctx, address.MAC{2, 0, 0, 0, 1, byte(i)}); err != nil || len(logins) != 25 ||
			logins[0].Password != "p-24" {
			t.Errorf("box %d: %d logins, %v", i, len(logins), err)
		}
		for n := range 25 {
			if got, ok, err := v.At(site).Secret(ctx, fmt.Sprint("vault:", i, n)); got != "kept" || !ok || err != nil {
				t.Errorf("secret %d %d: %q, %v", i, n, got, err)
			}
		}
	}
}
