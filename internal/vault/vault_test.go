package vault_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"redstart/internal/core/address"
	"redstart/internal/core/profile"
	"redstart/internal/store"
	"redstart/internal/vault"
)

var (
	ctx = context.Background()
	one = address.MAC{2, 0, 0, 0, 0, 1}
	two = address.MAC{2, 0, 0, 0, 0, 2}
)

func open(t *testing.T, dir string) (*store.Store, *vault.Vault) {
	t.Helper()
	s, err := store.Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	v, err := vault.Open(dir, s)
	if err != nil {
		t.Fatal(err)
	}
	return s, v
}

func TestCredentialsAreSealedAndComeBackNewestFirst(t *testing.T) {
	dir := t.TempDir()
	s, v := open(t, dir)
	for _, p := range []string{"first-secret", "second-secret"} {
		if err := v.Put(ctx, one, profile.Login{User: "u", Password: p}); err != nil {
			t.Fatal(err)
		}
	}
	logins, err := v.Logins(ctx, one)
	if err != nil || len(logins) != 2 || logins[0].Password != "second-secret" || logins[0].User != "u" || logins[0].Works {
		t.Fatalf("%+v, %v", logins, err)
	}
	if err := v.Works(ctx, logins[0]); err != nil {
		t.Fatal(err)
	}
	if logins, err = v.Logins(ctx, one); err != nil || !logins[0].Works || logins[1].Works {
		t.Errorf("%+v, %v", logins, err)
	}
	if others, err := v.Logins(ctx, two); err != nil || len(others) != 0 {
		t.Errorf("another box has %v, %v", others, err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	files, _ := filepath.Glob(filepath.Join(dir, "*"))
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
	if err := v.Put(ctx, one, profile.Login{User: "u", Password: "p-1"}); err != nil {
		t.Fatal(err)
	}
	rows, err := s.Credentials(ctx, one)
	if err != nil {
		t.Fatal(err)
	}
	moved := rows[0]
	moved.MAC = two
	if err := s.AddCredential(ctx, moved); err != nil {
		t.Fatal(err)
	}
	if _, err := v.Logins(ctx, two); err == nil || !strings.Contains(err.Error(), "does not open") {
		t.Errorf("a credential that was moved to another box: %v", err)
	}
	short := rows[0]
	short.MAC, short.Sealed = address.MAC{2, 0, 0, 0, 0, 3}, []byte{1}
	if err := s.AddCredential(ctx, short); err != nil {
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
		if _, err := vault.Open(dir, s); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", name, err)
		}
	}
}
