package archive_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"

	"redstart/internal/archive"
)

const form = "redstart/site/1"

// sealed packs two files for a key.
func sealed(t testing.TB, key *age.X25519Identity) []byte {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "a.yaml"), []byte("a"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "odd name"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w, err := archive.Seal(&out, form, key.Recipient())
	if err != nil {
		t.Fatal(err)
	}
	w.Add("site.json", strings.Repeat("secret ", 30_000))
	w.Folder("profiles", dir)
	w.Folder("nothing", filepath.Join(dir, "nothing"))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func newKey(t testing.TB) *age.X25519Identity {
	t.Helper()
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestAnArchiveComesOutAsItWentIn(t *testing.T) {
	key := newKey(t)
	whole := sealed(t, key)
	if bytes.Contains(whole, []byte("secret")) {
		t.Error("it is not sealed")
	}
	dir := filepath.Join(t.TempDir(), "out")
	unpack := func(content []byte, key *age.X25519Identity, form string) error {
		open, err := archive.Open(bytes.NewReader(content), key)
		if err != nil {
			return err
		}
		return archive.Unpack(open, form, dir)
	}
	for name, c := range map[string]struct {
		content []byte
		key     *age.X25519Identity
		form    string
		want    string
	}{
		"another's":    {whole, newKey(t), form, "does not open the file"},
		"another form": {whole, key, "redstart/backup/1", "this is a site, and a backup is needed"},
		"cut off":      {whole[:len(whole)-1], key, form, "damaged or cut off"},
		"half":         {whole[:len(whole)/2], key, form, "damaged or cut off"},
		"plain":        {[]byte("tag,kind"), key, form, "not sealed with age"},
		"nothing":      {nil, key, form, "not sealed with age"},
	} {
		if err := unpack(c.content, c.key, c.form); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
		if _, err := os.Stat(dir); !errors.Is(err, os.ErrNotExist) {
			t.Fatalf("%s: something half made is left", name)
		}
	}
	if err := unpack(whole, key, form); err != nil {
		t.Fatal(err)
	}
	if content, err := os.ReadFile(filepath.Join(dir, "profiles", "a.yaml")); err != nil || string(content) != "a" {
		t.Errorf("%q, %v", content, err)
	}
	if err := unpack(whole, key, form); err == nil {
		t.Error("it goes into a folder that is there already")
	}
}

// packed is a plain archive of members that somebody chose.
func packed(members ...*tar.Header) []byte {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, m := range members {
		content := m.Linkname
		if m.Typeflag != tar.TypeSymlink {
			m.Linkname, m.Size = "", int64(len(content))
		}
		_ = w.WriteHeader(m)
		_, _ = io.WriteString(w, content)
	}
	_ = w.Close()
	return out.Bytes()
}

// Nothing that an archive holds is written anywhere but into its folder.
func TestAnArchiveStaysInItsFolder(t *testing.T) {
	first := func() *tar.Header { return &tar.Header{Name: "redstart.form", Linkname: form} }
	last := func() *tar.Header { return &tar.Header{Name: "redstart.end", Linkname: "1"} }
	root := t.TempDir()
	dir := filepath.Join(root, "out")
	for _, m := range []*tar.Header{
		{Name: "../out.txt", Linkname: "x"}, {Name: "/tmp/x", Linkname: "x"}, {Name: "a/../../b", Linkname: "x"}, {Name: "a/b/c", Linkname: "x"},
		{Name: "..", Linkname: "x"}, {Name: ".hidden", Linkname: "x"}, {Name: "a\x00b", Linkname: "x"}, {Name: "", Linkname: "x"},
		{Name: "link", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, {Name: "folder/", Typeflag: tar.TypeDir},
	} {
		if err := archive.Unpack(bytes.NewReader(packed(first(), m, last())), form, dir); err == nil {
			t.Errorf("%q is taken", m.Name)
		}
		if list, err := os.ReadDir(root); err != nil || len(list) > 0 {
			t.Fatalf("%q leaves %v, %v", m.Name, list, err)
		}
	}
	for name, text := range map[string][]byte{
		"twice the same":     packed(first(), &tar.Header{Name: "a", Linkname: "x"}, &tar.Header{Name: "a", Linkname: "y"}, &tar.Header{Name: "redstart.end", Linkname: "2"}),
		"a file too few":     packed(first(), last()),
		"no end":             packed(first(), &tar.Header{Name: "a", Linkname: "x"}),
		"two forms":          packed(first(), first(), last()),
		"without a form":     packed(&tar.Header{Name: "a", Linkname: "x"}, last()),
		"a folder as a file": packed(first(), &tar.Header{Name: "a", Linkname: "x"}, &tar.Header{Name: "a/b", Linkname: "y"}, &tar.Header{Name: "redstart.end", Linkname: "2"}),
	} {
		if err := archive.Unpack(bytes.NewReader(text), form, dir); err == nil {
			t.Errorf("%s is taken", name)
		}
	}
	if err := archive.Unpack(bytes.NewReader(packed(first(), &tar.Header{Name: "a", Linkname: "x"}, last())), form, dir); err != nil {
		t.Error(err)
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(packed(&tar.Header{Name: "redstart.form", Linkname: form}, &tar.Header{Name: "a", Linkname: "x"}, &tar.Header{Name: "redstart.end", Linkname: "1"}))
	f.Add([]byte("no tar"))
	f.Fuzz(func(t *testing.T, text []byte) {
		root := t.TempDir()
		err := archive.Unpack(bytes.NewReader(text), form, filepath.Join(root, "out"))
		list, _ := os.ReadDir(root)
		if err != nil && len(list) > 0 || len(list) > 1 {
			t.Errorf("%v, and %v is left", err, list)
		}
	})
}
