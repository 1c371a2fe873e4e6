package licence_test

import (
	"archive/zip"
	"bytes"
	"fmt"
	"strings"
	"testing"

	"redstart/internal/core/licence"
)

var wanted = []licence.Wanted{{Tag: "REC-1", Key: "licence", HostID: "A1B2C3"}, {Tag: "REC-2", Key: "licence", HostID: "d4e5f6"},
	{Tag: "VOX", Key: "licence", HostID: "00:1f"}, {Tag: "NEW", Key: "licence"}}

func TestFilesAreSortedByHostID(t *testing.T) {
	for _, c := range []struct {
		files []string // contents
		want  string   // tag or reason, one for each
	}{
		{[]string{"licence a1b2c3"}, "REC-1"},
		{[]string{"for D4E5F6.\nsigned"}, "REC-2"},
		{[]string{"<host>00:1F</host>"}, "VOX"},
		{[]string{"a1b2c3d4"}, "no host id"}, // a part of another word
		{[]string{"a1b2c3 d4e5f6"}, "several devices: REC-1, REC-2"},
		{[]string{"x a1b2c3", "y a1b2c3"}, "another file is for REC-1 too|another file is for REC-1 too"},
		{[]string{"x a1b2c3", "x a1b2c3", "d4e5f6"}, "REC-1|REC-1|REC-2"},
		{[]string{""}, "no host id"},
	} {
		var files []licence.File
		for i, text := range c.files {
			files = append(files, licence.File{Name: fmt.Sprint(i), Content: []byte(text)})
		}
		for i, fit := range licence.Sort(files, wanted) {
			want := strings.Split(c.want, "|")[i]
			if fit.Tag != want && (fit.Tag != "" || !strings.Contains(fit.Why, want)) {
				t.Errorf("%q: %+v, want %s", c.files[i], fit, want)
			}
		}
	}
	twins := append(wanted[:1:1], licence.Wanted{Tag: "REC-9", Key: "licence", HostID: "a1b2c3"})
	if fit := licence.Sort([]licence.File{{Name: "x", Content: []byte("a1b2c3")}}, twins)[0]; fit.Tag != "" ||
		!strings.Contains(fit.Why, "REC-1, REC-9") {
		t.Errorf("two devices with one host id: %+v", fit)
	}
}

func zipped(t testing.TB, files map[string][]byte) []byte {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for name, content := range files {
		f, err := w.Create(name)
		if err == nil {
			_, err = f.Write(content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestArchives(t *testing.T) {
	files, err := licence.Unpack("all.zip", zipped(t, map[string][]byte{"../../a/b.lic": []byte("x")}))
	if err != nil || len(files) != 1 || string(files[0].Content) != "x" {
		t.Errorf("%v, %v", files, err)
	}
	if files, err := licence.Unpack("a.lic", []byte("PK is no archive")); err != nil || len(files) != 1 {
		t.Errorf("%v, %v", files, err)
	}
	many := map[string][]byte{}
	for i := range licence.MostFiles + 1 {
		many[fmt.Sprint(i)] = nil
	}
	for says, content := range map[string][]byte{
		"more than 2000 files": zipped(t, many),
		"larger than 1024 KiB": zipped(t, map[string][]byte{"big": make([]byte, licence.MaxFile+1)}),
		"no licence":           make([]byte, licence.MaxFile+1),
		"damaged":              []byte("PK\x03\x04 and no more"),
	} {
		if _, err := licence.Unpack("x", content); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
}

func FuzzUnpack(f *testing.F) {
	f.Add(zipped(f, map[string][]byte{"a": []byte("a1b2c3")}))
	f.Add([]byte("a1b2c3"))
	f.Fuzz(func(t *testing.T, content []byte) {
		files, err := licence.Unpack("x", content)
		if err == nil && len(licence.Sort(files, wanted)) != len(files) {
			t.Error("a file was lost")
		}
	})
}
