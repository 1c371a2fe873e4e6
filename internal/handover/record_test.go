package handover_test

import (
	"archive/zip"
	"bytes"
	"io"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"redstart/internal/api"
	"redstart/internal/core/address"
	"redstart/internal/core/match"
	"redstart/internal/core/plan"
	"redstart/internal/core/result"
	"redstart/internal/handover"
)

func checked(content []byte) (handover.Checked, error) {
	return handover.Check(bytes.NewReader(content), int64(len(content)))
}

// remade packs an archive again, with each file as change says; what it gives nothing for is
// left out.
func remade(t *testing.T, content []byte, change func(name string, content []byte) []byte, more ...string) []byte {
	t.Helper()
	in, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	put := func(name string, content []byte) {
		f, err := w.Create(name)
		if err == nil {
			_, err = f.Write(content)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range in.File {
		from, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		content, err := io.ReadAll(from)
		if err != nil {
			t.Fatal(err)
		}
		if content = change(f.Name, content); content != nil {
			put(f.Name, content)
		}
	}
	for _, name := range more {
		put(name, []byte("x"))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// A record and a package are verified without the service; whatever was done to them is said
// in one sentence that names the document.
func TestARecordIsCheckedWithoutTheService(t *testing.T) {
	t.Parallel()
	r := quay()
	got, err := checked(written(t, "record", r))
	if err != nil || got.Site != "Heron Quay" || got.Count["run"] != 1 || got.Count["step"] != 1 || got.Count["check"] != 6 ||
		!got.Key.Equal(r.Signer.Public()) {
		t.Errorf("%+v, %v", got, err)
	}
	same := func(_ string, content []byte) []byte { return content }
	whole := written(t, "package", r)
	if got, err = checked(remade(t, whole, same)); err != nil || !slices.Contains(got.Files, "report.pdf") || !slices.Contains(got.Files, "index.html") {
		t.Errorf("%v, %v", got.Files, err)
	}
	other := quay()
	other.Entries[1].State, other.Entries[1].Checks[1].Verdict = "verified", result.Passed
	better := written(t, "register-csv", other)
	for name, c := range map[string]struct {
		content []byte
		want    string
	}{
		"an improved document": {remade(t, whole, func(name string, content []byte) []byte {
			if name == "register.csv" {
				return better
			}
			return content
		}), "register.csv: it was changed after the package was signed"},
		"an improved record": {remade(t, whole, func(name string, content []byte) []byte {
			if name == "record.jsonl" {
				return bytes.Replace(content, []byte(`"verdict":"failed"`), []byte(`"verdict":"passed"`), 1)
			}
			return content
		}), "the record was changed before line"},
		"a document less": {remade(t, whole, func(name string, content []byte) []byte {
			if name == "hosts" {
				return nil
			}
			return content
		}), "hosts: it was taken out"},
		"a document more":  {remade(t, whole, same, "passwords.txt"), "passwords.txt: it was put into the package"},
		"a document twice": {remade(t, whole, same, "register.csv"), "register.csv: it is in the package twice"},
		"no record":        {written(t, "zones", r), "holds no record.jsonl"},
		"damaged":          {whole[:len(whole)/2], "damaged"},
		"another file":     {[]byte("tag,kind"), "no record"},
		"nothing":          {nil, "no record"},
	} {
		if _, err := checked(c.content); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %q", name, err, c.want)
		}
	}
}

// What changed since something was handed over is told value by value, in the order of the
// plan; the time of a check, and the language, are no change.
func TestWhatChangedSince(t *testing.T) {
	t.Parallel()
	r := quay()
	r.Entries[0].Hangs = match.Hangs{At: "SW-1/7"}
	packed, err := handover.Then(r)
	if err != nil {
		t.Fatal(err)
	}
	later := quay()
	later.Site.Language = "nb"
	later.Entries[1].Hangs = match.Hangs{At: "SW-1/4"} // which nobody told before
	for i := range later.Entries {
		later.Entries[i].CheckedAt = later.At
	}
	if list, err := handover.Since(packed, later); err != nil || len(list) != 0 {
		t.Errorf("nothing changed: %v, %v", list, err)
	}
	later.Entries[0].Checks[0].Verdict = result.Failed
	later.Entries[0].Hangs.At = "SW-1/9"
	later.Entries[0].Device = address.MAC{2, 0, 0, 0, 0, 9}
	later.Entries[3] = handover.Entry{Entry: plan.Entry{Tag: "DOOR-2", Address: netip.MustParseAddr("10.1.5.9")}, State: "planned"}
	list, err := handover.Since(packed, later)
	if err != nil {
		t.Fatal(err)
	}
	want := []api.Difference{
		{Tag: "CAM-1", Column: "MAC", Was: "02:00:00:00:00:01", Is: "02:00:00:00:00:09"},
		{Tag: "CAM-1", Column: "Address", Was: "10.0.0.5, verified", Is: "10.0.0.5, not verified"},
		{Tag: "CAM-1", Column: "Seen behind switch port", Was: "SW-1/7", Is: "SW-1/9"},
		{Tag: "CAM-1", Column: "check: address", Was: "passed", Is: "failed: 10.0.0.5"},
		{Tag: "DOOR-2", Is: "it is new in the plan"},
		{Tag: "DOOR-1", Was: "it was in the plan 10.1.5.8", Is: "it is gone from the plan"},
	}
	if !slices.Equal(list, want) {
		t.Errorf("%+v", list)
	}
	if _, err := handover.Since(packed[:20], later); err == nil {
		t.Error("what is cut off is read")
	}
}

// Whoever has the file alone may try passphrases for years.
func TestATryOfAPassphraseCostsMuch(t *testing.T) {
	t.Parallel()
	to, err := handover.Recipients(nil, "a long enough passphrase")
	if err != nil {
		t.Fatal(err)
	}
	var sealed bytes.Buffer
	if err := handover.Credentials(&sealed, nil, to); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(sealed.String(), "\n")
	if len(lines) < 2 || !strings.HasPrefix(lines[1], "-> scrypt ") || !strings.HasSuffix(lines[1], " 18") {
		t.Errorf("%q", lines[:min(2, len(lines))])
	}
}
